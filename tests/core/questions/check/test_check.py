"""Findings: each proved by a request, each with a mend that takes it away, and none where nothing is wrong."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from jsonschema import Draft4Validator
from ruamel.yaml import YAML

from conftest import DEMO, ROOT, Outcome, described, make_pipeline
from patient_usher import Pipeline, Trace, check, load, replay
from patient_usher.core.decisions.scenario import Scenario
from patient_usher.core.questions.check.rule import shared_out
from patient_usher.core.questions.check.rules import rules
from patient_usher.core.questions.check.search import Checked
from patient_usher.output.findings import explained, manual, proof
from patient_usher.output.terminal import plain

Usher = Callable[..., Outcome]
BY_CODE = {rule.code: rule for rule in rules()}


def loaded(text: str) -> Pipeline:
    return described(text)


def in_sequence(text: str) -> str:
    """The example as a sequential pipeline: the routes stand last, and error handlers behind them."""
    yaml = YAML(typ="safe")
    doc = yaml.load(text)
    kinds = [(entry if isinstance(entry, str) else entry["kind"], entry) for entry in doc.get("stages", [])]
    last = [entry for kind, entry in kinds if kind == "error-handler"]
    doc["stages"] = [entry for kind, entry in kinds if kind != "error-handler"] + ["routes", *last]
    return json.dumps({**doc, "flow": "sequential"})


def found(checked: Checked) -> list[str]:
    return [finding.rule.code for finding in checked.findings]


NOT_IN_SEQUENCE = {
    "net-too-far-in": "an error that skips past the handler is found by what runs",
    "errors-uncaught": "an error handler behind the routes catches it",
    "marks-overwritten": "whoever writes last stands in front there: it has a row of its own",
    "errors-without-cors": "fields stand on the draft, wherever the error handler stands",
    "error-handler-idle": "has a row of its own",
    "cached-for-another-origin": "a hit is answered before the fields are dropped, and Vary is stored",
    "coded-twice": "fields are dropped at once, and codings come when the answer is sent",
}
SEQUENTIAL = {
    "marks-overwritten": """
patient-usher: pipeline/1
flow: sequential
stages:
  - {id: browsers, kind: cors, allow-origins: ["https://boaters.example"]}
  - {id: lax, kind: header-fields, on-answer: {put: {Access-Control-Allow-Origin: "https://quay.example"}}}
  - routes
routes: [{id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}]
""",
    "errors-uncaught": """
patient-usher: pipeline/1
flow: sequential
refuse: raise
stages:
  - {id: safety-net, kind: error-handler}
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
  - routes
routes: [{id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}]
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    "errors-without-cors": """
patient-usher: pipeline/1
flow: sequential
stages:
  - {id: browsers, kind: cors, allow-origins: ["https://boaters.example"]}
  - routes
  - {id: safety-net, kind: error-handler, keeps-headers: false}
routes: [{id: berths, at: GET /berths, access: everyone, handler: {answer: {text: seven}}}]
""",
    "error-handler-idle": """
patient-usher: pipeline/1
flow: sequential
stages: [{id: first-net, kind: error-handler}, routes, {id: last-net, kind: error-handler}]
routes: [{id: berths, at: GET /berths, access: everyone, handler: {answer: {text: seven}}}]
""",
}
CASES = [
    *((rule.code, rule.example) for rule in rules()),
    *((rule.code, in_sequence(rule.example)) for rule in rules() if rule.code not in NOT_IN_SEQUENCE),
    *SEQUENTIAL.items(),
]


@pytest.mark.parametrize(("code", "text"), CASES, ids=lambda value: value if len(value) < 40 else "")
def test_each_mistake_is_found_proved_and_mended(code: str, text: str) -> None:
    """Exactly the finding; its witness fails as it is and holds as mended; and the mended twin has none."""
    pipeline = loaded(text)
    checked = check(pipeline)
    assert found(checked) == [code]
    finding = checked.findings[0]
    assert finding.suspicion.happens
    assert finding.mend.words
    shown = proof(checked, finding)
    if finding.suspicion.proof is not None:
        assert shown is not None
        assert shown.compared.comparison.changed
        trace = Trace.of(*shown.trace["requests"], **{k: v for k, v in shown.trace.items() if k in ("base", "callers")})
        assert [sent.id for sent in replay(pipeline, trace) if sent.failed], "the witness fails"
        assert not [sent.id for sent in replay(Pipeline(finding.cure), trace) if sent.failed], "mended, it holds"
    assert found(check(Pipeline(finding.cure))) == []


def test_a_call_that_never_came_is_proved_by_what_kept_it_away(usher: Usher) -> None:
    """The preflight on both sides, parting at a marked step; then what became of the call."""
    out = usher("check", "p.yaml", p__yaml=BY_CODE["preflight-refused"].example).out
    preflight, call = (out.index(words) for words in ("/preflight  OPTIONS https://", "  - browser: blocked"))
    assert preflight < out.index(" ≠ ") < call
    assert out.count(" ≠ ") == 1
    assert "  - log" not in out[call:], "what is the same on both sides isn't told"


def innermost_first(doc: Any) -> Any:
    """The same stages, listed the other way round."""
    if isinstance(doc, list):
        return [innermost_first(part) for part in doc]
    if not isinstance(doc, dict):
        return doc
    inner = {key: innermost_first(value) if key in ("groups", "routes") else value for key, value in doc.items()}
    return {**inner, **({"stages": doc["stages"][::-1]} if "stages" in doc else {})}


OTHER_ROUTES = [
    {"id": "another", "at": "GET /another/place", "access": "everyone", "handler": {"answer": {"text": "another"}}},
    {"id": "one-more", "at": "POST /one/more", "access": "everyone", "handler": {"answer": {"status": 204}}},
]
OTHERWISE: dict[str, Callable[[dict[str, Any]], dict[str, Any]]] = {
    "listed the other way round": lambda doc: {**innermost_first(doc), "listed": "innermost-first"},
    "in a group": lambda doc: {**doc, "routes": [], "groups": [{"id": "whole", "routes": doc["routes"]}, *doc.get("groups", [])]},
    "among other routes": lambda doc: {**doc, "routes": [*OTHER_ROUTES, *doc["routes"]]},
    "among other stages": lambda doc: {**doc, "stages": ["request-id", *doc.get("stages", []), {"id": "off", "kind": "request-id", "enabled": False}]},
}  # fmt: skip


@pytest.mark.parametrize("otherwise", OTHERWISE)
@pytest.mark.parametrize("code", BY_CODE)
def test_a_mistake_is_found_however_the_file_tells_it(code: str, otherwise: str) -> None:
    doc = YAML(typ="safe", pure=True).load(BY_CODE[code].example)
    if "routes" not in doc:
        pytest.skip("its routes stand in groups already")
    if code == "stage-idle" and otherwise == "among other stages":
        pytest.skip("another stage that runs for no request is a finding too")
    if code in ("identity-too-late", "tier-unreachable") and otherwise == "among other routes":
        pytest.skip("a limit by identity where strangers come is a finding too")
    checked = check(loaded(json.dumps(OTHERWISE[otherwise](doc))))
    assert found(checked) == [code]
    assert found(check(Pipeline(checked.findings[0].cure))) == []


WHO = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}]}
BOTH = {
    "maren": {"api-keys": ["a-made-up-key"], "roles": ["skipper"]},
    "odile": {"api-keys": ["another-made-up-key"], "roles": ["harbour-master"]},
}
CORS = {"id": "pages", "kind": "cors", "allow-origins": ["https://boaters.example"]}


def route(at: str, access: Any = "everyone", **more: Any) -> dict[str, Any]:
    return {"id": at.rpartition("/")[2], "at": at, "access": access, "handler": {"answer": {"text": "seven"}}, **more}


LEDGER, TAKEN = route("GET /ledger", {"role": "harbour-master"}), {"errors": {"BerthTaken": {"is-a": "Conflict"}}}
RAISES = route("GET /r", handler={"raise": {"type": "BerthTaken"}})
DESK: dict[str, Any] = {
    "accounts": {"maren": {"password": "made-up"}},
    "signing-keys": {"main": {"algorithm": "HS256", "secret": "made-up-and-at-least-32-octets-long"}},
    "stages": ["read-body", {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "bearer", "keys": "main"}]}],
    "routes": [],
    "groups": [{"id": "v", "desk": {"at": "/desk", "gives": "token", "keys": "main"}, "routes": [route("GET /me", "signed-in")]}],
}  # fmt: skip
MARKS = {"id": "marks", "kind": "header-fields", "on-answer": {"put": {"X-Tenant": "${context.tenant}"}}}
MENDS: list[tuple[str, dict[str, Any], str]] = [
    ("access-unenforced", {"accounts": BOTH, "stages": [WHO, {"id": "may", "kind": "authorize", "except": ["/ledger"]}], "routes": [LEDGER]}, "let may meet /ledger too"),
    ("access-unenforced", {"accounts": BOTH, "stages": [WHO, {"id": "may", "kind": "authorize", "only": ["/berths"]}], "routes": [LEDGER, route("GET /berths", {"role": "skipper"})]}, "let may meet GET /ledger too"),
    ("access-unenforced", {"accounts": BOTH, "stages": [{**WHO, "except": ["GET /ledger"]}], "routes": [route("GET /ledger", "signed-in"), route("GET /berths", "signed-in")]}, "let who meet GET /ledger too"),
    ("access-unenforced", {"accounts": BOTH, "stages": [WHO], "routes": [LEDGER]}, "add an authorize stage, may, behind who"),
    ("access-unenforced", {"accounts": BOTH, "routes": [LEDGER]}, "add an authenticate stage, who, and an authorize stage, may"),
    ("access-unenforced", {"routes": [route("GET /ledger", "signed-in")]}, "add an authenticate stage, who, and an authorize stage, may"),
    ("access-unenforced", {"accounts": {"maren": {"password": "${env:MAREN|not-a-real-one}"}}, "routes": [route("GET /ledger", "signed-in")]}, "add an authenticate stage, who, and an authorize stage, may"),
    ("pattern-fits-nothing", {"stages": [{"id": "log", "kind": "access-log", "only": ["/nowhere/at/all"]}]}, "take /nowhere/at/all out"),
    ("pattern-fits-nothing", {"stages": [{"id": "log", "kind": "access-log", "only": ["/nowhere/at/all", "/r"]}]}, "take /nowhere/at/all out"),
    ("pattern-fits-nothing", {"stages": [{"id": "log", "kind": "access-log", "except": ["/nowhere/at/all"]}]}, "take /nowhere/at/all out"),
    ("pattern-fits-nothing", {"stages": [{"id": "log", "kind": "access-log", "only": ["POST /r"]}]}, "write GET /r"),
    ("pattern-fits-nothing", {"stages": [{"id": "log", "kind": "access-log", "only": ["/r/"]}]}, "write /r"),
    ("pattern-fits-nothing", {"stages": [{"id": "log", "kind": "access-log", "only": ["/berth"]}], "routes": [route("GET /berths")]}, "write /berths"),
    ("error-type-unknown", {"stages": [{"id": "net", "kind": "error-handler", "answers": [{"raised": "Zzzzzz", "status": 409}]}]}, "take Zzzzzz out"),
    ("error-type-unknown", {**TAKEN, "stages": [{"id": "net", "kind": "error-handler", "answers": [{"raised": ["BerthTaken", "Zzzzzz"], "status": 409}]}], "routes": [RAISES]}, "take Zzzzzz out"),
    ("error-type-unknown", {**TAKEN, "stages": [{"id": "net", "kind": "error-handler", "answers": [{"raised": "BerthTakn", "status": 409}]}], "routes": [RAISES]}, "write BerthTaken"),
    ("answer-shared", {"accounts": BOTH, "stages": [WHO, {"id": "shelf", "kind": "cache"}], "routes": [route("GET /r", "signed-in", cache={"shared": "1m", "same-for": "everyone"}, handler={"answer": {"json": {"for": "${identity.name}"}}})]}, "don't call r the same for everyone"),
    ("answer-shared", {"accounts": BOTH, "stages": [{"id": "shelf", "kind": "cache"}, WHO], "routes": [route("GET /r", "signed-in", cache="1m", handler={"answer": {"json": {"for": "${identity.name}"}}})]}, "move shelf behind who"),
    ("value-unset", {"accounts": BOTH, "refuse": "raise", "stages": [MARKS, "error-handler", WHO, {"id": "tenant", "kind": "decide", "cases": [{"set": {"tenant": "blue"}}]}]}, "move marks behind tenant"),
    ("value-unset", {"stages": [{**MARKS, "on-request": MARKS["on-answer"], "on-answer": {}}, {"id": "tenant", "kind": "decide", "cases": [{"set": {"tenant": "blue"}}]}]}, "move tenant in front of marks"),
    ("limit-key-chosen", {"stages": ["access-log", {"id": "fair", "kind": "rate-limit", "quota": 3, "window": "1m", "per": ["address", "query.session"]}]}, "let fair count by address"),
    ("limit-key-chosen", {"stages": ["access-log", {"id": "fair", "kind": "rate-limit", "quota": 3, "window": "1m", "per": ["route", "header.X-Client"]}]}, "let fair count by address and route"),
    ("copy-key-too-narrow", {"stages": ["read-cookies", {"id": "shelf", "kind": "cache"}], "routes": [route("GET /r", cache="1m", handler={"answer": {"text": "theme ${cookie.theme}"}})]}, "let header.Cookie make a copy of its own on r"),
    ("tier-unreachable", {"accounts": BOTH, "stages": ["access-log", WHO, {"id": "t", "kind": "rate-limit", "quota": 2, "window": "10s", "tiers": [{"when": {"identity": "present"}, "quota": 3}, {"when": {"role": "skipper"}, "quota": 6}]}], "routes": [route("GET /r", "signed-in")]}, "move tier 2 in front of tier 1"),
    ("failures-unseen", {"accounts": BOTH, "refuse": "raise", "stages": [{"id": "guard", "kind": "rate-limit", "quota": 3, "window": "10m", "counts": "failures"}, {"id": "net", "kind": "error-handler", "answers": [{"raised": "Unauthenticated", "status": 404}]}, WHO], "routes": [route("GET /r", "signed-in")]}, "move net in front of guard"),
    ("marks-overwritten", {"stages": [{"id": "slim", "kind": "header-fields", "on-answer": {"drop": ["Vary"]}}, {**CORS, "allow-origins": ["https://a.example", "https://b.example"]}, "cache"], "routes": [route("GET /r", cache={"shared": "60s", "private": "60s"})]}, "let slim leave Vary alone"),
    ("cors-by-hand", {"stages": ["access-log", {"id": "by-hand", "kind": "decide", "way-out": [{"put": {"Access-Control-Allow-Origin": "https://boaters.example"}}]}], "routes": [route("DELETE /r")]}, "put a cors stage, browsers, in front of all that answers, and let by-hand leave these fields alone"),
    ("cors-by-hand", {"stages": ["access-log", {"id": "by-hand", "kind": "header-fields", "on-request": {"put": {"Access-Control-Allow-Origin": "*"}}}]}, "put a cors stage, browsers, in front of all that answers, and let by-hand leave these fields alone"),
    ("net-too-far-in", {"accounts": BOTH, "stages": ["access-log", WHO, "error-handler"], "routes": [route("GET /r", "signed-in")]}, "move error-handler in front of who"),
    ("value-matches-nothing", {"accounts": BOTH, "stages": ["access-log", {"id": "gate", "kind": "decide", "cases": [{"when": {"scheme": "htps"}, "then": {"answer": {"status": 400}}}]}]}, "write https"),
    ("value-matches-nothing", {"accounts": BOTH, "stages": ["access-log", {"id": "gate", "kind": "decide", "cases": [{"when": {"route": "rr"}, "then": {"answer": {"status": 400}}}]}]}, "write r"),
    ("public-route-refused", DESK, "let who take it for none there"),
    ("role-unknown", {"accounts": BOTH, "stages": [WHO, {"id": "may", "kind": "authorize"}], "routes": [route("GET /r", {"role": "skiper"})]}, "write skipper"),
    ("tier-unreachable", {"stages": ["access-log", {"id": "t", "kind": "rate-limit", "quota": 3, "window": "1m", "tiers": [{"when": {"method": "GET"}, "quota": 5}, {"when": {"method": "GET", "path": "/r"}, "quota": 9}]}]}, "move tier 2 in front of tier 1"),
    ("limit-per-instance", {"deployment": {"instances": 3}, "stages": ["access-log", {"id": "t", "kind": "rate-limit", "quota": 3, "window": "1m"}]}, "let the instances share what t counted"),
    ("call-unlisted", {"stages": [CORS], "routes": [route("DELETE /r"), route("PUT /s")]}, "list DELETE, PUT under allow-methods"),
    ("call-unlisted", {"stages": [CORS, "read-body"], "routes": [route("PUT /r", handler={"echo": True})]}, "list PUT under allow-methods; list content-type under allow-headers"),
    ("call-unlisted", {"accounts": BOTH, "stages": [CORS, WHO, "read-body"], "routes": [route("GET /s", "signed-in"), route("POST /r", "signed-in", handler={"echo": True})]}, "list content-type, x-api-key under allow-headers"),
]  # fmt: skip


@pytest.mark.parametrize(("code", "doc", "words"), MENDS, ids=[f"{code}: {words}" for code, _, words in MENDS])
def test_a_mistake_is_mended_where_it_is_made(code: str, doc: dict[str, Any], words: str) -> None:
    checked = check(loaded(json.dumps({"patient-usher": "pipeline/1", "routes": [route("GET /r")], **doc})))
    assert [(finding.rule.code, finding.mend.words) for finding in checked.findings] == [(code, words)]
    assert found(check(Pipeline(checked.findings[0].cure))) == []


ADM: dict[str, Any] = {
    "id": "adm",
    "kind": "decide",
    "cases": [{"when": {"not": {"role": "skipper"}}, "then": {"raise": "Forbidden"}}],
}
GUARDS: list[list[Any]] = [
    [{**ADM, "cases": [{"when": {"path": "/open/private/**"}, "then": {"raise": "Forbidden"}}]}],
    [{**ADM, "only": ["/open/private/**"]}],
    [WHO, "authorize", {**ADM, "only": ["GET /open/private/**"]}],
]


@pytest.mark.parametrize("stages", GUARDS)
def test_a_guard_that_another_spelling_passes_by_is_found(stages: list[Any]) -> None:
    known = {"access": "signed-in"} if len(stages) > 1 else {}
    files = route("GET /open/{+rest}", handler={"answer": {"text": "kept from some"}}, **known)
    doc = {"patient-usher": "pipeline/1", "accounts": BOTH, "stages": stages, "routes": [files | {"id": "file"}]}
    (finding,) = check(loaded(json.dumps(doc))).findings
    assert (finding.rule.code, "yours to say" in (finding.withheld or "")) == ("guard-passed-by", True)


MISSING: dict[str, Any] = {"when": {"header": {"X-Key": "missing"}}}
TWICE = {"answer-and-continue": {"status": 401}}
CHOICES: list[tuple[list[dict[str, Any]], list[str]]] = [
    ([{"log": "seen", "then": "nothing"}], ["let case 1 of gate pass on", "let case 1 of gate refuse with 403"]),
    ([{**MISSING, "then": "nothing"}], ["let case 1 of gate refuse with 403", "let case 1 of gate pass on"]),
    ([{**MISSING, "set": {"key": "none"}, "then": "nothing"}], ["let case 1 of gate pass on", "let case 1 of gate refuse with 403"]),
    ([{**MISSING, "then": "continue"}, {"then": "nothing"}], ["let case 2 of gate refuse with 403", "let case 2 of gate pass on"]),
    ([{**MISSING, "then": TWICE}], ["let case 1 of gate answer, and not pass on", "let case 1 of gate pass on"]),
    ([{**MISSING, "then": TWICE}, {"then": TWICE}], ["let cases 1 and 2 of gate answer, and not pass on", "let cases 1 and 2 of gate pass on"]),
]  # fmt: skip


@pytest.mark.parametrize(("cases", "words"), CHOICES)
def test_two_intents_are_two_mends_to_choose_from(
    usher: Usher, tmp_path: Path, cases: list[dict[str, Any]], words: list[str]
) -> None:
    doc = {
        "patient-usher": "pipeline/1",
        "stages": [{"id": "gate", "kind": "decide", "cases": cases}],
        "routes": [route("GET /r")],
    }
    (tmp_path / "p.json").write_text(json.dumps(doc))
    (finding,) = json.loads(usher("check", "p.json", "--format", "json").out)["findings"]
    assert [choice["mend"] for choice in finding["choices"]] == words
    for number, each in enumerate(words, 1):
        written = usher("check", "p.json", "--mend", f"{finding['code']}@gate={number}", "--into", f"{number}.yaml")
        assert (written.status, each in written.out) == (0, True)
        assert finding["code"] not in usher("check", f"{number}.yaml", "--format", "json").out
    wrong = usher("check", "p.json", "--mend", f"{finding['code']}=3", "--into", "3.yaml")
    assert (wrong.status, "mends 1 to 2" in wrong.err) == (2, True)


IN_ENVIRONMENTS: list[tuple[dict[str, Any], dict[str, Any], list[tuple[str, str | None]]]] = [
    ({}, {"staging": {"stages": {"net": {"reveal": "everything"}}}}, [("errors-revealed@net/staging", "staging")]),
    ({}, {"development": {"stages": {"net": {"reveal": "everything"}}}}, []),
    ({}, {"staging": {"stages": {"net": {"log": "nothing"}}}}, [("errors-unlogged@net/staging", "staging")]),
    ({"environment": "staging"}, {"staging": {"stages": {"net": {"log": "nothing"}}}}, [("errors-unlogged@net", None)]),
    ({"environment": "calm"}, {"calm": {"stages": {"net": {"enabled": True}}}, "loud": {}}, []),
    ({"environment": "calm", "net": {"enabled": False}}, {"calm": {"stages": {"net": {"enabled": True}}}}, [("errors-uncaught@r/production", "production")]),
    ({"known": [{"finding": "errors-unlogged", "stage": "net", "why": "on purpose"}]}, {"staging": {"stages": {"net": {"log": "nothing"}}}}, [("errors-unlogged@net/staging", "staging")]),
    ({"known": [{"finding": "errors-unlogged", "stage": "net", "why": "on purpose"}]}, {"staging": {}}, [("known-stale", None)]),
]  # fmt: skip


@pytest.mark.parametrize(("doc", "environments", "expected"), IN_ENVIRONMENTS)
def test_every_environment_is_looked_at(
    usher: Usher,
    tmp_path: Path,
    doc: dict[str, Any],
    environments: dict[str, Any],
    expected: list[tuple[str, str | None]],
) -> None:
    net = {"id": "net", "kind": "error-handler", **doc.get("net", {})}
    parts = {key: value for key, value in doc.items() if key != "net"}
    fails = route("GET /r", handler={"raise": {"type": "Leak", "message": "a line of the log"}})
    whole = {"patient-usher": "pipeline/1", "stages": ["access-log", net], "routes": [fails], "errors": {"Leak": {}}}
    (tmp_path / "p.json").write_text(json.dumps({**whole, **parts, "environments": environments}))
    checked = check(load(tmp_path / "p.json"))
    assert [(one.where, one.environment) for one in checked.findings] == expected
    for one in checked.findings if expected != [("known-stale", None)] and not parts.get("known") else ():
        written = usher("check", "p.json", "--mend", one.where, "--into", "mended.yaml")
        assert (written.status, usher("check", "mended.yaml").status) == (0, 0)


GOOD_PARTS: dict[str, dict[str, Any]] = {
    "nothing but a route": {},
    "a log and a net": {"stages": ["access-log", {"kind": "error-handler"}], "refuse": "raise"},
    "guarded": {"stages": ["access-log", {"kind": "error-handler"}, {"kind": "authenticate", "schemes": [{"scheme": "api-key"}]}, {"kind": "authorize"}],
                "routes": [{"id": "r", "at": "GET /", "access": {"role": "boss"}, "handler": {"answer": {"text": "ok"}}}]},
    "for pages": {"stages": ["access-log", {"kind": "cors", "allow-origins": ["https://boaters.example"], "allow-headers": ["content-type"], "allow-methods": ["GET", "PUT"]}, "error-handler", "read-body"],
                  "routes": [{"id": "r", "at": "PUT /", "access": "everyone", "handler": {"echo": True}}]},
    "limited": {"stages": ["access-log", {"kind": "rate-limit", "quota": 5, "window": "1m"}, {"kind": "authenticate", "schemes": [{"scheme": "basic"}]}]},
    "guesses counted": {"stages": ["access-log", {"kind": "rate-limit", "quota": 3, "window": "1m", "counts": "failures"}, {"kind": "authenticate", "schemes": [{"scheme": "basic"}]}],
                        "routes": [{"id": "r", "at": "GET /", "access": "signed-in", "handler": {"answer": {"text": "ok"}}}]},
    "cached": {"stages": ["access-log", {"kind": "authenticate", "schemes": [{"scheme": "api-key"}]}, "cache"],
               "routes": [{"id": "r", "at": "GET /", "access": "signed-in", "cache": {"shared": "1m", "per": ["query.q"]}, "handler": {"answer": {"json": {"q": "${query.q}", "for": "${identity.name}"}}}}]},
    "coded, with validators": {"stages": ["access-log", "error-handler", {"kind": "compress", "from-size": 1}, "conditional"]},
    "secure": {"stages": ["access-log", {"kind": "https-only", "hsts": {"max-age": "180d"}}],
               "deployment": {"in-front": {"ends-tls": True, "sends": "forwarded"}, "trusts-forwarded": ["192.0.2.10"]}},
    "by cookie": {"stages": ["access-log", "read-body", "read-cookies", {"kind": "authenticate", "schemes": [{"scheme": "session-cookie", "cookie": "deck"}]}],
                  "groups": [{"id": "g", "desk": {"at": "/session", "gives": "cookie", "cookie": "deck"}, "routes": [{"id": "go", "at": "POST /go", "access": "signed-in", "handler": {"answer": {"text": "gone"}}}]}]},
    "validated": {"stages": ["access-log", "error-handler", "read-body", "validate"],
                  "routes": [{"id": "r", "at": "POST /", "access": "everyone", "input": {"json": {"type": "object", "required": ["n"], "properties": {"n": {"type": "integer", "minimum": 3}}}}, "handler": {"answer": {"json": {"n": "${body.n}"}}}}]},
    "closed, slow and tidy": {"stages": ["access-log", "error-handler", {"kind": "maintenance", "enabled": False}, "request-id", {"kind": "timeout", "after": "1s"}]},
}  # fmt: skip


@pytest.mark.parametrize("flow", ["nested", "sequential"])
@pytest.mark.parametrize("name", GOOD_PARTS)
def test_nothing_is_found_where_nothing_is_wrong(name: str, flow: str) -> None:
    doc = {
        "patient-usher": "pipeline/1",
        "routes": [{"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": {"text": "ok"}}}],
        "accounts": {
            "ann": {"password": "not-a-real-password", "api-keys": ["a-made-up-key"], "roles": ["boss"]},
            "bob": {"password": "not-a-real-password", "api-keys": ["another-made-up-key"]},
        },
        **GOOD_PARTS[name],
    }
    text = in_sequence(json.dumps(doc)) if flow == "sequential" else json.dumps(doc)
    assert [finding.where for finding in check(loaded(text)).findings if finding.rule.level != "advice"] == []


DEMOS = {
    "harbour": [], "quay": [], "boaters": [], "limits": [], "shelf": [], "return": [], "front-believed": [], "recorded": [], "sequential": [], "busy": [],
    "mistaken": ["errors-uncaught@who"], "sequential-mistaken": ["errors-uncaught@who"], "leaking": ["errors-uncaught@who", "errors-revealed"], "front": ["https-loop@tls"],
    "boaters-blocked-1": ["preflight-refused@who"], "boaters-blocked-2": ["preflight-unrouted@page-rules"], "boaters-blocked-3": ["errors-without-cors@browsers"],
    "boaters-blocked-5": ["call-unlisted@browsers"], "limits-instances": ["limit-per-instance"], "limits-misplaced": ["identity-too-late@fair"],
    "shelf-leaking": ["answer-shared@shelf"], "return-none": ["form-forged@deck.sign-in"],
}  # fmt: skip


@pytest.mark.parametrize("name", DEMOS)
def test_the_harbours_pipelines_have_what_their_chapters_teach(name: str) -> None:
    checked = check(load(DEMO / f"{name}.yaml"))
    assert [finding.where for finding in checked.findings if finding.known is None] == DEMOS[name]


# The command.

STAR = ("check", str(DEMO / "boaters-blocked-4.yaml"), str(DEMO / "boaters-story.yaml"))
MISTAKEN = str(DEMO / "mistaken.yaml")


def test_a_traces_requests_are_tried_too(usher: Usher) -> None:
    outcome = usher(*STAR, "--format", "json")
    assert (outcome.status, [entry["code"] for entry in outcome.json["findings"]]) == (1, ["call-unlisted"])


def test_a_mend_that_would_make_a_trace_worse_is_not_offered(usher: Usher) -> None:
    """Whoever expects the bare 500 keeps it: the finding stays, its mend is withheld, and it says what it would change."""
    trace = {
        "patient-usher": "trace/1",
        "requests": [{"id": "a", "send": "GET /v1/berths/T07", "expect": {"outcome": "crashed"}}],
    }
    worse = usher("check", MISTAKEN, "t.json", "--format", "json", t__json=json.dumps(trace))
    (entry,) = (entry for entry in worse.json["findings"] if entry["known"] is None)
    assert (worse.status, entry["code"], entry["change"]) == (1, "errors-uncaught", None)
    assert "would change the outcome of a" in entry["withheld"]
    mended = usher("check", MISTAKEN, "t.json", "--mend", "all", "--into", "m.yaml")
    assert (mended.status, "none is safe" in mended.err) == (1, True)


def test_the_document_is_as_designed(usher: Usher) -> None:
    outcome = usher("check", MISTAKEN, "--format", "json")
    document = outcome.json
    assert (outcome.status, document["patient-usher"], document["pipeline"]) == (
        1,
        "findings/1",
        "Tern Harbour berths, safety net too far in",
    )
    entry = next(entry for entry in document["findings"] if entry["known"] is None)
    assert (entry["code"], entry["level"], entry["stage"], entry["route"]) == ("errors-uncaught", "error", "who", None)
    assert entry["at"]["file"].endswith("mistaken.yaml")
    assert (entry["at"]["line"], entry["change"]) == (
        6,
        {"order": ["access-log", "marks", "safety-net", "who", "watch"]},
    )
    assert entry["witness"]["patient-usher"] == "trace/1"
    assert {"id": "errors-uncaught-who", "what": "status", "now": 500, "mended": 401} in entry["differs"]
    assert sum(entry["known"] is not None for entry in document["findings"]) == 2


def test_the_text_leads_from_the_finding_to_its_mend(usher: Usher) -> None:
    outcome = usher("check", MISTAKEN)
    told = outcome.out
    assert outcome.status == 1
    for words in (
        "✗ errors-uncaught@who",
        "mistaken.yaml:6:28",
        "move safety-net in front of who",
        "--mend errors-uncaught@who",
        "as it is",
        "≠",
        "accepted on purpose",
    ):
        assert words in told
    assert all(len(row) <= 100 for row in told.splitlines() if "usher check" not in row)


def test_sarif_is_sarif(usher: Usher) -> None:
    schema = json.loads(Path(__file__).with_name("sarif-2.1.0.json").read_text())
    document = usher("check", MISTAKEN, "--format", "sarif").json
    assert [error.message for error in Draft4Validator(schema).iter_errors(document)] == []
    run = document["runs"][0]
    assert {rule["id"] for rule in run["tool"]["driver"]["rules"]} == {*BY_CODE, "expectation-fails"}
    results = {result["ruleId"]: result for result in run["results"]}
    assert results["errors-uncaught"]["locations"][0]["physicalLocation"]["region"] == {
        "startLine": 6,
        "startColumn": 28,
    }
    assert results["errors-uncaught"]["fixes"]
    assert "shows" in results["stalls"]["suppressions"][0]["justification"]


def test_what_a_trace_expects_and_does_not_get_is_a_result_too(usher: Usher, tmp_path: Path) -> None:
    limit = {"id": "slow", "kind": "rate-limit", "quota": 5, "window": "1m"}
    doc = {"patient-usher": "pipeline/1", "stages": ["access-log", limit], "routes": [route("GET /r")]}
    sends = {"id": "many", "send": "GET /r", "times": 7, "every": "1ms", "expect": {"tally": {"200": 7}}}
    (tmp_path / "p.json").write_text(json.dumps(doc))
    (tmp_path / "t.json").write_text(json.dumps({"patient-usher": "trace/1", "requests": [sends]}))
    run = usher("check", "p.json", "t.json", "--format", "sarif").json["runs"][0]
    (result,) = run["results"]
    assert run["tool"]["driver"]["rules"][result["ruleIndex"]]["id"] == result["ruleId"] == "expectation-fails"
    assert all(words in result["message"]["text"] for words in ("many", "slow"))


def test_annotations_are_a_line_a_finding(usher: Usher, tmp_path: Path) -> None:
    """Each with its place; what would end the command is escaped."""
    gate = {"id": "gate", "kind": "decide", "cases": [{"log": "seen", "then": "nothing"}]}
    doc = {"patient-usher": "pipeline/1", "stages": [gate], "routes": [route("GET /r")]}
    (tmp_path / "odd,name%1.json").write_text(json.dumps(doc))
    done = usher("check", "odd,name%1.json", "--format", "annotations")
    (told,) = done.out.splitlines()
    command, place, text = re.fullmatch(r"::(\w+) (\S+)::(.*)", told).groups()  # type: ignore[union-attr]
    properties = dict(part.split("=", 1) for part in place.split(","))
    assert (done.status, command, properties["title"]) == (1, "error", "stalls@gate")
    assert properties["file"] == "odd%2Cname%251.json"
    assert properties["line"].isdigit()
    assert "pass on" in text
    (tmp_path / "pipeline.yaml").write_text(json.dumps({**doc, "stages": []}))
    assert (usher("check", "--format", "annotations").out, usher("check").status) == ("", 0)


def test_a_mend_is_written_as_a_variant_that_has_it(usher: Usher, tmp_path: Path) -> None:
    for name in ("harbour.yaml", "mistaken.yaml"):
        (tmp_path / name).write_text((DEMO / name).read_text())
    written = usher("check", "mistaken.yaml", "--mend", "errors-uncaught@who")
    assert (written.status, "mistaken-mended.yaml" in written.out) == (0, True)
    assert usher("check", "mistaken-mended.yaml").status == 0
    again = usher("check", "mistaken.yaml", "--mend", "all")
    assert (again.status, "there already" in again.err) == (2, True)
    assert usher("check", "mistaken.yaml", "--mend", "all", "--into", "all.yaml").status == 0
    assert usher("check", "all.yaml").status == 0


@pytest.mark.parametrize("code", BY_CODE)
def test_every_finding_has_a_page_of_the_manual(code: str) -> None:
    rule = BY_CODE[code]
    page = "\n".join(plain(pieces) for pieces in explained(rule, check(loaded(rule.example))))
    for words in (code, rule.level, "For example:", rule.example.strip().splitlines()[-1].strip(), "  mend   "):
        assert words in page


def test_the_manual_is_a_command_away(usher: Usher) -> None:
    page = usher("check", "--explain", "preflight-counts")
    assert (page.status, page.err) == (0, "")
    assert "Preflights use up a quota." in page.out
    assert "preflight-counts@throttle" in page.out


def test_the_manual_lists_every_finding_and_is_made_of_the_rules(usher: Usher) -> None:
    page = usher("check", "--explain")
    assert [rule.code for rule in rules() if f"  {rule.code} " not in page.out] == []
    assert max(map(len, page.out.splitlines())) <= 100
    assert (ROOT / "docs/findings.md").read_text() == manual(rules()), "make docs/findings.md anew: see CONTRIBUTING.md"


def test_a_caller_who_gives_up_before_the_timeout_does(usher: Usher) -> None:
    pipeline = {"patient-usher": "pipeline/1", "stages": [{"id": "slow", "kind": "timeout", "after": "10s"}],
                "routes": [route("GET /r", handler={"answer": {"text": "seven"}, "busy-for": "8s"})]}  # fmt: skip
    trace = {
        "patient-usher": "trace/1",
        "callers": {"hasty": {"patience": "2s"}},
        "requests": [{"id": "a", "send": "GET /r", "caller": "hasty"}],
    }
    outcome = usher(
        "check", "p.json", "t.json", "--format", "json", p__json=json.dumps(pipeline), t__json=json.dumps(trace)
    )
    (entry,) = outcome.json["findings"]
    assert (outcome.status, entry["code"], entry["stage"]) == (1, "timeout-inside-out", "slow")
    assert "gives up after 2 s, before slow does" in entry["happens"]
    assert "yours to say" in entry["withheld"]


def large(routes: int) -> str:
    """Many routes, the net outside cors: a mistake that only the calls of pages show."""
    sorts = [{"access": "signed-in"}, {"access": "everyone", "cache": "60s"}, {"access": {"role": "skipper"}}]
    doc = {
        "patient-usher": "pipeline/1",
        "refuse": "raise",
        "accounts": BOTH,
        "stages": ["access-log", "error-handler", {**CORS, "allow-headers": ["content-type", "x-api-key"]}, WHO, "authorize", "read-body", "cache"],
        "routes": [route(f"GET /places/r{at}", **sorts[at % 3]) for at in range(routes)],
    }  # fmt: skip
    return json.dumps(doc)


@pytest.mark.parametrize("budget", [20_000, 500])
def test_many_routes_leave_every_rule_its_turn(budget: int) -> None:
    """Within its budget; what was left out is said, and what is left out of a large pipeline is what is alike."""
    checked = check(loaded(large(300)), budget=budget)
    assert found(checked) == ["errors-without-cors"]
    assert checked.tried <= budget
    assert (checked.whole, bool(checked.left)) == (budget > 500, budget == 500)


def test_fair_shares_leave_no_sort_out() -> None:
    probes = [
        Scenario(sort, ({"send": "GET /"},))
        for sort, count in (("call", 1000), ("burst", 30), ("page", 5))
        for _ in range(count)
    ]
    kept = shared_out(probes, 100)
    counts = {sort: sum(one.sort == sort for one in kept) for sort in ("call", "burst", "page")}
    assert counts == {"page": 5, "burst": 30, "call": 65}
    assert shared_out(probes, 2000) == probes


ARGUMENTS = [
    (["check"], 2, "no pipeline is named"),
    (["check", "--explain", "preflight-refusd"], 2, "did you mean 'preflight-refused'?"),
    (["check", MISTAKEN, "--mend", "errors-uncaugt"], 2, "did you mean 'errors-uncaught'?"),
    (["check", MISTAKEN, "--budget", "3"], 0, ""),
    (["check", MISTAKEN, "--level", "error"], 1, ""),
    (["check", str(DEMO / "limits-instances.yaml"), "--level", "error"], 0, ""),
    (["check", str(DEMO / "limits-instances.yaml")], 1, ""),
    (["check", str(DEMO / "harbour.yaml")], 0, ""),
    (["check", "nowhere.yaml"], 2, "nowhere.yaml"),
]


@pytest.mark.parametrize(("arguments", "status", "words"), ARGUMENTS)
def test_exit_status_and_words(usher: Usher, arguments: list[str], status: int, words: str) -> None:
    outcome = usher(*arguments)
    assert (outcome.status, words in outcome.err) == (status, True)
    assert "Traceback" not in outcome.err


def test_a_budget_that_is_used_up_is_told(usher: Usher) -> None:
    assert "--budget N tries more" in usher("check", MISTAKEN, "--budget", "3").out


@pytest.mark.parametrize("command", [["replay", MISTAKEN, str(DEMO / "story.yaml")], ["show", MISTAKEN]])
def test_other_commands_mention_the_count(usher: Usher, command: list[str]) -> None:
    assert "✗ usher check: 1 finding (errors-uncaught@who)" in usher(*command).out


@pytest.mark.parametrize(("routes", "told"), [(20, True), (2_001, False)])
def test_more_routes_than_would_be_tried_are_not_checked_for_a_mention(usher: Usher, routes: int, told: bool) -> None:
    each = "".join(f"  - {{id: r{at}, at: GET /r{at}, handler: {{raise: Error}}}}\n" for at in range(routes))
    text = "patient-usher: pipeline/1\nstages: [access-log]\nroutes:\n" + each
    assert ("usher check" in usher("show", "p.yaml", p__yaml=text).out) == told


def test_the_same_check_prints_the_same(usher: Usher) -> None:
    assert usher("check", MISTAKEN, "--format", "json").out == usher("check", MISTAKEN, "--format", "json").out


def test_nothing_of_the_environment_is_told(usher: Usher) -> None:
    text = "patient-usher: pipeline/1\nstages: [read-cookies, {id: who, kind: authenticate, schemes: [{scheme: basic}]}]\ngroups:\n  - {id: g, desk: {at: /in, gives: cookie}, routes: [{id: r, at: POST /x, access: signed-in, handler: {echo: true}}]}\naccounts: {ann: {password: '${env:ANNS_PASSWORD}'}}\n"
    outcome = usher("check", "p.yaml", "--format", "json", p__yaml=text, env={"ANNS_PASSWORD": "sesame-of-ann"})
    assert outcome.json["findings"]
    assert "sesame-of-ann" not in outcome.out


def test_a_login_limit_on_the_desk_itself_sees_the_failures_that_it_counts() -> None:
    found = {finding.rule.code for finding in check(load(DEMO / "workshop.yaml")).findings}
    assert (found, "failures-unseen" in found) == ({"errors-uncaught", "hsts-missing"}, False)


@pytest.mark.parametrize(
    ("entry", "codes"),
    [
        ({"raised": "any", "message": "ours"}, []),
        ({"raised": "any", "message": "ours: ${error.detail}"}, ["errors-revealed"]),
        ({"raised": "any", "reveal": "message"}, ["errors-revealed"]),
        ({"raised": "Odd", "message": "not this: ${error.detail}"}, []),
    ],
)
def test_what_is_said_of_any_error(entry: dict[str, Any], codes: list[str]) -> None:
    """A type's own private message may be shown on purpose; that of every error may not."""
    net = {"id": "net", "kind": "error-handler", "answers": [{"status": 500, **entry}]}
    raising = {"raise": {"type": "Odd", "message": "no answer from 192.0.2.77"}}
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "handler": raising}]
    pipeline = make_pipeline([net], routes=routes, errors={"Odd": {}})
    assert [finding.rule.code for finding in check(pipeline).findings] == codes


@pytest.mark.parametrize(
    ("cases", "found"),
    [
        (
            "[{when: {header: {X-Plan: free}}, log: free}, {set: {plan: paid}}]",
            "which plan has not set for this request",
        ),
        ("[{when: {header: {X-Plan: free}}, set: {plan: free}}]", "which plan has not set for this request"),
        ("[{when: {header: {X-Plan: free}}, set: {plan: free}}, {set: {plan: paid}}]", ""),
    ],
)
def test_a_value_that_is_set_for_some_requests_only(usher: Usher, cases: str, found: str) -> None:
    """What a request that was tried shows is a finding; which value it should have is for the author to say."""
    text = f"""patient-usher: pipeline/1
stages:
  - {{id: net, kind: error-handler}}
  - {{id: plan, kind: decide, cases: {cases}}}
  - {{id: mk, kind: header-fields, on-answer: {{put: {{X-Plan: "${{context.plan}}"}}}}}}
routes: [{{id: tides, at: GET /tides, access: everyone, handler: {{answer: {{text: high}}}}}}]
"""
    outcome = usher("check", "p.yaml", p__yaml=text)
    assert (outcome.status, "value-unset@mk" in outcome.out) == (bool(found), bool(found))
    assert found in outcome.out


KNOWS = "{id: who, kind: authenticate, schemes: [{scheme: api-key}]}"
SWITCHED_OFF = "{id: who, kind: authenticate, enabled: false, schemes: [{scheme: api-key}]}"
GUARD = "{id: may, kind: authorize}"
FAIR = "{id: fair, kind: rate-limit, quota: 9, window: 1m, per: [identity-or-address], tiers: [{when: {role: %s}, quota: 99}]}"


@pytest.mark.parametrize(
    ("flow", "stages", "found"),
    [
        ("nested", [GUARD], ["handler-unreached@may: add an authenticate stage, who, in front of may"]),
        ("nested", [SWITCHED_OFF, GUARD], ["handler-unreached@may: switch who on"]),
        ("nested", [GUARD, SWITCHED_OFF], ["handler-unreached@may: switch who on, in front of may"]),
        ("nested", [KNOWS, GUARD], []),
        ("nested", [KNOWS, GUARD, FAIR % "Gold"], ["role-unknown@fair: write gold"]),
        ("nested", [KNOWS, GUARD, FAIR % "gold"], []),
        ("sequential", [KNOWS, GUARD, "routes", "{id: marks, kind: header-fields, on-answer: {put: {X-A: b}}}"], ["stage-idle@marks: move marks in front of the routes"]),
        ("sequential", [KNOWS, GUARD, "{id: marks, kind: header-fields, on-answer: {put: {X-A: b}}}", "routes"], []),
        ("sequential", [KNOWS, GUARD, "routes", "error-handler"], []),
    ],
)  # fmt: skip
def test_what_is_there_for_nobody(usher: Usher, flow: str, stages: list[str], found: list[str]) -> None:
    """Handlers behind a stage that refuses strangers, where everybody is one; stages and tiers that nothing comes to."""
    text = f"""patient-usher: pipeline/1
flow: {flow}
stages: [{", ".join(stages)}]
routes: [{{id: tides, at: GET /tides, access: signed-in, handler: {{answer: {{text: high}}}}}}]
accounts: {{cy: {{roles: [gold], api-keys: [a-made-up-key]}}}}
"""
    document = usher("check", "p.yaml", "--format", "json", p__yaml=text).json
    codes = ("handler-unreached", "role-unknown", "stage-idle")
    told = [f"{one['code']}@{one['stage']}: {one['mend']}" for one in document["findings"] if one["code"] in codes]
    assert told == found
