"""What services do beside the textbook: connections that close, log lines of one's own, a stage in several places."""

from __future__ import annotations

import json
from typing import Any

import pytest

from conftest import described, header, make_pipeline, records, replay, steps, text, walk
from patient_usher import Trace
from patient_usher.core.model.document import Unusable

BOOM = {"id": "r", "at": "GET /", "access": "everyone", "handler": {"raise": "Boom"}}
PAGE = {"page": {"kind": "browser", "origin": "https://boaters.example"}}


# A server that closes the connection, or tells in HTML.


@pytest.mark.parametrize("flow", ["nested", "sequential"])
def test_a_connection_that_closes_without_an_answer_is_a_network_error(flow: str) -> None:
    stages: list[Any] = [{"id": "browsers", "kind": "cors", "allow-origins": ["https://boaters.example"]}]
    stages += ["routes"] if flow == "sequential" else []
    pipeline = make_pipeline(stages, routes=[BOOM], uncaught={"answer": "nothing"}, flow=flow)
    script, page = replay(pipeline, {"send": "GET /"}, {"caller": "page", "send": "GET /"}, callers=PAGE)
    for record in (script, page):
        assert (record["response"], record["outcome"], record["answered_by"]) == (None, "crashed", None)
        assert [line["stage"] for line in record["log"]] == ["server"]
    assert (page["browser"]["verdict"], page["browser"]["why"]) == ("blocked", "no-answer")
    assert "nobody caught Boom" in page["browser"]["reason"]


@pytest.mark.parametrize(
    ("write_as", "media", "body"),
    [("text", "text/plain; charset=utf-8", "type: Boom"), ("html", "text/html; charset=utf-8", "<pre>type: Boom")],
)
def test_what_the_server_reveals_has_a_form(write_as: str, media: str, body: str) -> None:
    record = walk([], routes=[BOOM], uncaught={"reveal": "message", "write-as": write_as})
    assert (header(record, "content-type"), body in record["response"]["body"]) == (media, True)


# Log lines of cases and handlers.

LINES = [{"level": "warning", "message": "odd ${query.x}"}, "plain"]
WRITTEN: list[tuple[str, dict[str, Any]]] = [
    ("handler", {"handler": {"answer": {"text": "ok"}, "log": LINES}}),
    ("handler", {"handler": {"raise": "Boom", "log": LINES}}),
    ("handler", {"handler": {"answer": {"text": "ok"}, "fails-every": 1, "log": LINES}}),
    ("handler", {"handler": {"cases": [{"raise": "Boom", "log": LINES}]}}),
    ("gate", {"stages": [{"id": "gate", "kind": "decide", "cases": [{"log": LINES, "then": {"raise": "Boom"}}]}]}),
    ("gate", {"stages": [{"id": "gate", "kind": "decide", "way-out": [{"log": LINES}]}]}),
]


@pytest.mark.parametrize(("who", "part"), WRITTEN)
def test_lines_are_in_the_log_though_what_wrote_them_fails(who: str, part: dict[str, Any]) -> None:
    route = {"id": "r", "at": "GET /", "access": "everyone", "handler": text(), **part}
    lines = [line for line in walk([], "GET /?x=7", routes=[route])["log"] if line["stage"] == who]
    assert [(line["level"], line["message"]) for line in lines] == [("warning", "odd 7"), ("info", "plain")]


# Both kinds of session from one desk.

KEYS = {"main": {"algorithm": "HS256", "secret": "a-made-up-secret-of-more-than-32-octets"}}
DESK = make_pipeline(
    [
        "read-body",
        {"id": "jar", "kind": "read-cookies", "signed-with": "main"},
        {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "bearer", "keys": "main"}, {"scheme": "session-cookie"}]},
    ],
    groups=[
        {
            "id": "g",
            "prefix": "/v1",
            "desk": {"at": "/session", "gives": ["token", "cookie"], "keys": "main", "lasts": "15m"},
            "routes": [{"id": "me", "at": "GET /me", "access": "signed-in", "handler": {"answer": {"text": "${identity.name}"}}}],
        }
    ],
    signing_keys=KEYS,
    accounts={"maren": {"password": "not-a-real-password"}},
)  # fmt: skip
SIGN_IN = {
    "send": "POST /v1/session",
    "caller": "jar",
    "json": {"name": "maren", "password": "not-a-real-password"},
    "keep": {"token": "/token"},
}
BY_COOKIE = {"send": "GET /v1/me", "caller": "jar"}
BY_TOKEN = {"send": "GET /v1/me", "bearer": "${kept.token}"}
FRESH = {"send": "POST /v1/session/refresh", "json": {"token": "${kept.token}"}, "keep": {"fresh": "/token"}}
BOTH: list[tuple[list[dict[str, Any]], list[int]]] = [
    ([SIGN_IN, BY_COOKIE, BY_TOKEN], [200, 200, 200]),
    ([SIGN_IN, {"send": "DELETE /v1/session", "caller": "jar"}, BY_COOKIE, BY_TOKEN], [200, 204, 401, 401]),
    ([SIGN_IN, {"send": "DELETE /v1/session", "bearer": "${kept.token}"}, BY_COOKIE, BY_TOKEN], [200, 204, 401, 401]),
    ([SIGN_IN, {**FRESH, "caller": "jar"}, BY_COOKIE, {**BY_TOKEN, "bearer": "${kept.fresh}"}, BY_TOKEN], [200, 200, 200, 200, 401]),
    ([SIGN_IN, FRESH, BY_COOKIE], [200, 200, 401]),
    ([SIGN_IN, {"send": "POST /v1/session/refresh", "caller": "jar"}, BY_COOKIE, BY_TOKEN], [200, 200, 200, 401]),
]  # fmt: skip


@pytest.mark.parametrize(("requests", "statuses"), BOTH)
def test_a_desk_that_gives_both_ends_and_renews_both(requests: list[dict[str, Any]], statuses: list[int]) -> None:
    found = replay(DESK, *requests, callers={"jar": {"kind": "script", "cookies": "keep"}})
    assert [record["response"]["status"] for record in found] == statuses


def test_one_sign_in_leaves_the_other_session_of_the_same_account_alone() -> None:
    other = {**BY_COOKIE, "caller": "second"}
    out = {"send": "DELETE /v1/session", "caller": "jar"}
    keeps = {name: {"kind": "script", "cookies": "keep"} for name in ("jar", "second")}
    found = replay(DESK, SIGN_IN, {**SIGN_IN, "caller": "second"}, out, BY_COOKIE, other, callers=keeps)
    assert [record["response"]["status"] for record in found] == [200, 200, 204, 401, 200]


# Answers of one's own.

OWN_ANSWERS: list[tuple[dict[str, Any], str, int, str, str]] = [
    ({"kind": "https-only", "reads": {"answer": {"text": "moved"}}}, "GET http://api.example/?a=b", 308, "moved", "https://api.example/?a=b"),
    ({"kind": "https-only", "others": {"status": 426, "answer": {"json": {"e": "${query.a}"}}}}, "POST http://api.example/?a=b", 426, '{"e": "b"}', ""),
    ({"kind": "maintenance", "answer": {"headers": {"Content-Type": "text/html"}, "text": "<p>noon"}}, "GET /", 503, "<p>noon", ""),
]  # fmt: skip


@pytest.mark.parametrize(("stage", "line", "status", "body", "location"), OWN_ANSWERS)
def test_https_and_maintenance_answer_in_ones_own_words(
    stage: dict[str, Any], line: str, status: int, body: str, location: str
) -> None:
    record = walk([{"id": "own", **stage}], line)
    assert (record["response"]["status"], record["response"]["body"], header(record, "location") or "") == (
        status,
        body,
        location,
    )
    assert (record["answered_by"], record["outcome"]) == ("own", "short-circuited")


# Words with placeholders: filled in, or refused.

NET = {"id": "net", "kind": "error-handler", "write-as": "text"}
WHO = {
    "id": "who",
    "kind": "authenticate",
    "schemes": [
        {"scheme": "api-key", "absent": {"message": "no key for ${query.x}", "headers": {"X-Hint": "${query.x}"}}}
    ],
}
FILLED: list[tuple[list[Any], str, str]] = [
    ([{**NET, "answers": [{"raised": "Boom", "status": 409, "message": "slip ${query.x} is taken", "headers": {"X-Hint": "${query.x}"}}]}], "slip 7 is taken", "7"),
    ([{**NET, "otherwise": {"message": "no ${query.x}"}}], "no 7", ""),
    ([WHO], "no key for 7", "7"),
]  # fmt: skip


@pytest.mark.parametrize(("stages", "body", "hint"), FILLED)
def test_messages_are_filled_in(stages: list[Any], body: str, hint: str) -> None:
    record = walk(stages, "GET /?x=7", routes=[{**BOOM, "access": "signed-in"}])
    assert (record["response"]["body"], header(record, "x-hint") or "") == (body, hint)


REFUSED: list[tuple[dict[str, Any], str]] = [
    ({"errors": {"Boom": {"message": "slip ${query.x}"}}}, "the same for every request"),
    ({"stages": [{**NET, "answers": [{"raised": "Boom", "message": "${nonsense}"}]}]}, "there is no value 'nonsense'"),
    ({"stages": [{**NET, "answers": [{"raised": "Boom", "message": "${error.value}"}]}]}, "an error has status, title, message"),
    ({"stages": [{**NET, "shape": {"e": "${error.value}"}}]}, "an error has status, title, message, fields and, if revealed"),
    ({"uncaught": {"answer": "nothing", "reveal": "message"}}, "reveals nothing"),
    ({"routes": [{**BOOM, "handler": {"answer": {"text": "x", "of": "noise"}}}]}, "write size: 20KiB beside it"),
    ({"stages": [{"id": "tls", "kind": "https-only", "others": {"answer": {"status": 400}}}]}, "the status stands beside the answer"),
    ({"errors": {"Own": {"is-a": "Unauthorized"}}}, "did you mean 'Unauthenticated'?"),
    ({"errors": {"Own": {"is-a": "UnprocessableEntityError"}}}, "did you mean 'InvalidInput'?"),
    ({"records": {"r": {"unique": {"a": "Payload Too Large"}}}}, "did you mean 'TooLarge'?"),
    ({"stages": [{"id": "a", "same-as": "b"}]}, "there is no stage 'b'"),
    ({"stages": [{"id": "a", "same-as": {}}]}, "same-as must name a stage"),
    ({"stages": [{"id": "a", "same-as": "b"}, {"id": "b", "same-as": "a"}]}, "is the same as itself"),
    ({"stages": [{"same-as": "b"}, {"id": "b", "kind": "read-body"}]}, "write {id: NAME, same-as: STAGE}"),
    ({"stages": [{"id": "a", "kind": "cors", "same-as": "b"}, {"id": "b", "kind": "read-body"}]}, "and no kind"),
    ({"stages": [{"id": "a", "same-as": "b", "quota": 2}, {"id": "b", "kind": "read-body"}]}, "unknown key 'quota'"),
    ({"groups": [{"id": "g", "prefix": "/g", "desk": {"at": "/s", "gives": []}}]}, "a token, a cookie, or one of each"),
]  # fmt: skip


@pytest.mark.parametrize(("part", "said"), REFUSED)
def test_what_is_refused_and_what_would_be_right(part: dict[str, Any], said: str) -> None:
    doc = {"stages": [], "routes": [BOOM], **part}
    with pytest.raises(Unusable) as error:
        make_pipeline(doc.pop("stages"), **doc)
    assert said in str(error.value)


def test_phrases_of_statuses_lead_to_the_type_wherever_one_is_named() -> None:
    pipeline = make_pipeline([], routes=[{**BOOM, "handler": {"raise": "Unauthorized"}}])
    assert any("did you mean 'Unauthenticated'?" in str(warning) for warning in pipeline.warnings)
    with pytest.raises(Unusable, match="did you mean 'Unauthenticated'"):
        replay(make_pipeline([], routes=[BOOM]), {"send": "GET /", "expect": {"raised": "Unauthorized"}})


# One stage in several places; stages that a variant adds.

LIMIT = {"id": "gate", "kind": "rate-limit", "quota": 1, "window": "1m", "enabled": False, "only": ["/b"]}
TWICE = """
patient-usher: pipeline/1
stages: [{id: gate, kind: rate-limit, quota: 1, window: 1m, only: [/a]}, {id: v2-gate, same-as: gate, only: [/b, /c]}, {id: wide, same-as: v2-gate, quota: 5}]
routes: [{id: a, at: GET /a, access: everyone, handler: {answer: {text: a}}}, {id: b, at: GET /b, access: everyone, handler: {answer: {text: b}}}]
environments: {wider: {stages: {gate: {quota: 2}}}}
"""


def test_the_same_stage_elsewhere_has_a_state_of_its_own_and_follows_what_is_laid_on() -> None:
    lines = [{"send": f"GET /{path}"} for path in "aabb"]
    assert [r["response"]["status"] for r in replay(described(TWICE), *lines)] == [200, 429, 200, 429]
    wider = described(TWICE.replace("stages:", "environment: wider\nstages:", 1))
    assert [r["response"]["status"] for r in replay(wider, *lines)] == [200, 200, 200, 200]
    assert {rate["stage"]: rate["quota"] for rate in replay(wider, lines[2])[0]["rates"]} == {"v2-gate": 2, "wide": 5}


def test_the_same_as_a_stage_that_is_switched_off_stands_for_itself() -> None:
    record = walk([LIMIT, {"id": "on", "same-as": "gate"}])
    assert [rate["stage"] for rate in record["rates"]] == ["on"]


ADDED: list[tuple[list[dict[str, Any]], list[str]]] = [
    ([{"before": "b", "stage": "read-body"}], ["a", "read-body", "b"]),
    ([{"after": "b", "stage": {"id": "x", "same-as": "a"}}, {"after": "x", "stage": {"id": "y", "kind": "read-cookies"}}], ["a", "b", "x", "y"]),
    ([{"before": "g", "stage": "request-id"}], ["a", "b", "router", "request-id", "g"]),
]  # fmt: skip
PLACES = make_pipeline(
    [{"id": "a", "kind": "access-log"}, {"id": "b", "kind": "header-fields", "on-answer": {"put": {"X": "1"}}}],
    routes=[
        {
            "id": "r",
            "at": "GET /",
            "access": "everyone",
            "handler": text(),
            "stages": [{"id": "g", "kind": "read-cookies"}],
        }
    ],
)


@pytest.mark.parametrize(("add", "order"), ADDED)
def test_a_variant_adds_stages_beside_others(add: list[dict[str, Any]], order: list[str]) -> None:
    ran = [step.split()[1] for step in steps(replay(PLACES.variant(add=add), {"send": "GET /"})[0], "in")]
    assert ran[: len(order)] == order


@pytest.mark.parametrize(
    ("add", "said"),
    [
        ([{"before": "c", "stage": "read-body"}], "there is no stage 'c'"),
        ([{"before": "a", "after": "b", "stage": "read-body"}], "write add: "),
        ([{"stage": "read-body"}], "write add: "),
        ({"before": "a"}, "add must be a list"),
        ([{"before": "a", "stage": {"id": "a", "kind": "read-body"}}], "the stage id 'a' is taken"),
    ],
)
def test_what_a_variant_cannot_add(add: Any, said: str) -> None:
    with pytest.raises(Unusable, match=said):
        PLACES.variant(add=add)


# Made-up content.


@pytest.mark.parametrize(("of", "smaller"), [("text", True), ("noise", False)])
def test_made_up_content_compresses_as_it_says(of: str, smaller: bool) -> None:
    answer = {"size": "20KiB", "of": of, "headers": {"Content-Type": "text/plain"}}
    pipeline = make_pipeline(
        ["compress"], routes=[{"id": "r", "at": "GET /", "access": "everyone", "handler": text(**answer)}]
    )
    record = replay(pipeline, {"send": "GET /", "headers": {"Accept-Encoding": "gzip"}})[0]
    assert (header(record, "content-encoding"), record["response"]["body_size"] < 20_000) == ("gzip", smaller)
    trace = Trace.of({"send": "GET /", "headers": {"Accept-Encoding": "gzip"}})
    assert json.dumps(records(pipeline, trace)) == json.dumps(records(pipeline, trace))


def test_savings_of_filler_say_so(usher: Any) -> None:
    """What is made up says nothing of what real content saves."""
    file = "patient-usher: pipeline/1\nstages: [compress]\nroutes: [{id: r, at: GET /, access: everyone, handler: {answer: {size: 20KiB}}}]\n"
    trace = "patient-usher: trace/1\nrequests: [{id: a, send: GET /, headers: {Accept-Encoding: gzip}}]\n"
    said = usher("replay", "p.yaml", "t.yaml", p__yaml=file, t__yaml=trace).out
    assert "all of it filler, which says nothing of what real content saves" in " ".join(said.split())


# What a page and a journey say of it.


def test_a_closed_connection_names_the_last_error() -> None:
    net = {"id": "net", "kind": "error-handler", "answers": [{"raised": "Boom", "message": "${context.none}"}]}
    pipeline = make_pipeline([net], routes=[BOOM], uncaught={"answer": "nothing"})
    record = replay(pipeline, {"caller": "page", "send": "GET /"}, callers=PAGE)[-1]
    assert [error["type"] for error in record["errors"]] == ["Boom", "MissingValue"]
    assert "nobody caught MissingValue" in record["browser"]["reason"]


@pytest.mark.parametrize(
    ("write_as", "there"),
    [("problem-json", '"errors"'), ("json", '"fields"'), ("html", "<ul>"), ("text", "/json/a: is missing")],
)
@pytest.mark.parametrize("invalid", [True, False])
def test_field_errors_are_told_where_there_are_any(write_as: str, there: str, invalid: bool) -> None:
    route = {"id": "r", "at": "POST /", "access": "everyone", "handler": {"raise": "Boom"}}
    route |= {"input": {"json": {"type": "object", "required": ["a"]}}} if invalid else {}
    net = {"id": "net", "kind": "error-handler", "write-as": write_as}
    record = walk(
        [net, "read-body", {"id": "v", "kind": "validate", "refuse": "raise"}],
        {"send": "POST /", "json": {}},
        routes=[route],
    )
    assert (there in record["response"]["body"]) is invalid


@pytest.mark.parametrize(("cut", "status"), [(None, 200), (-1, 400), (-12, 400), (3, 400)])
@pytest.mark.parametrize("coding", ["gzip", "deflate"])
def test_a_coded_body_is_read_to_its_end_or_not_at_all(coding: str, cut: int | None, status: int) -> None:
    import base64
    import gzip
    import zlib

    octets = (gzip.compress if coding == "gzip" else zlib.compress)(b"a text that no parser can complain of")
    headers = {"Content-Type": "text/plain", "Content-Encoding": coding}
    request = {"send": "POST /", "base64": base64.b64encode(octets[:cut]).decode(), "headers": headers}
    route = {"id": "r", "at": "POST /", "access": "everyone", "handler": {"echo": True}}
    reads = {"id": "b", "kind": "read-body", "media": ["text"], "codings": [coding]}
    assert walk([reads], request, routes=[route])["response"]["status"] == status


def test_a_front_that_ends_tls_keeps_a_port_of_its_own() -> None:
    tls = {"in-front": {"ends-tls": True, "sends": "forwarded"}, "trusts-forwarded": ["192.0.2.10"]}
    moved = {"id": "tls", "kind": "https-only"}
    for line, to in (
        ("GET http://api.example:8080/a", "https://api.example/a"),
        ("GET http://api.example/a", "https://api.example/a"),
    ):
        record = walk(
            [moved], line, deployment=tls, routes=[{"id": "r", "at": "GET /a", "access": "everyone", "handler": text()}]
        )
        assert header(record, "location") == to


def test_costs_below_one_are_refused() -> None:
    with pytest.raises(Unusable, match="at least 1"):
        make_pipeline([{"id": "l", "kind": "rate-limit", "quota": 1, "window": "1s", "cost": 0}])


@pytest.mark.parametrize(
    ("flow", "stages", "by", "media"),
    [
        ("nested", [NET | {"write-as": "problem-json"}, "conditional"], NET["id"], "application/problem+json"),
        ("sequential", ["conditional", "routes", NET | {"write-as": "problem-json"}], "conditional", "text/plain"),
    ],
)
def test_who_may_catch_what_is_refused_on_the_way_out(flow: str, stages: list[Any], by: str, media: str) -> None:
    record = walk(stages, {"send": "GET /", "headers": {"If-Match": '"another"'}}, flow=flow, refuse="raise")
    assert (record["response"]["status"], record["answered_by"], record["refused_by"]) == (412, by, "conditional")
    assert dict(record["response"]["headers"])["Content-Type"].startswith(media)


def test_an_entry_that_never_counts_is_told() -> None:
    twice = [
        {"raised": name, "status": status} for name, status in (("Conflict", 409), ("NotFound", 404), ("Conflict", 410))
    ]
    (warning,) = make_pipeline([NET | {"answers": twice}]).warnings
    assert "'Conflict' has an entry further up, which counts" in str(warning)


RAISING = {
    "id": "r",
    "at": "GET /",
    "access": "everyone",
    "handler": {"raise": {"type": "Boom", "message": "no tide"}},
}


@pytest.mark.parametrize(("log", "told"), [("full", True), ("message", True), ("nothing", False)])
def test_what_a_server_logs_of_what_nobody_caught(log: str, told: bool) -> None:
    record = walk(["access-log"], routes=[RAISING], uncaught={"log": log})
    lines = [line["message"] for line in record["log"] if line["stage"] == "server"]
    assert (record["response"]["status"], lines) == (500, ["Boom: no tide"] if told else [])


@pytest.mark.parametrize(("status", "level"), [(499, "warning"), (500, "error")])
def test_how_grave_what_a_handler_caught_is(status: int, level: str) -> None:
    record = walk([NET | {"answers": [{"raised": "Boom", "status": status}]}], routes=[RAISING])
    assert (record["response"]["status"], [line["level"] for line in record["log"]]) == (status, [level])


@pytest.mark.parametrize(
    ("gives", "note"), [("cookie", "no cookies, since no stage in front has read them"), ("token", None)]
)
def test_a_desk_that_gets_no_cookies_says_so(gives: str, note: str | None) -> None:
    desk = {"id": "g", "desk": {"at": "/in", "gives": gives, "keys": "main"}}
    keys = {"main": {"algorithm": "HS256", "secret": "made-up-secret-of-thirty-two-octets"}}
    pipeline = make_pipeline(
        ["read-body"], groups=[desk], accounts={"ann": {"password": "none-at-all"}}, signing_keys=keys
    )
    record = replay(pipeline, {"send": "POST /in/refresh", "json": {}, "headers": {"Cookie": "session=made-up"}})[-1]
    assert next(step["note"].get("sees") for step in record["journey"] if step["stage"] == "handler") == note
