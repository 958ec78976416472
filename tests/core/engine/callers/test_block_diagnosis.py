"""Why a page can't read an answer: each sentence names who is to blame, and its mend, applied, mends."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from conftest import Record, make_pipeline, replay, text
from patient_usher import load
from patient_usher.core.model.enumerations import BLOCKED

PAGE = "https://page.example"
CORS = {
    "id": "browsers",
    "kind": "cors",
    "allow-origins": [PAGE, "https://other.example"],
    "allow-methods": ["GET", "PUT"],
}
NET = {"id": "net", "kind": "error-handler"}
WHO = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}], "without-credential": "refuse"}
SLOW = {"id": "late", "kind": "timeout", "after": "1s"}
SHELF = {"id": "shelf", "kind": "cache"}
DROPS = {"id": "tidy", "kind": "header-fields", "on-answer": {"drop": ["Access-Control-Allow-Origin"]}}
KEEPS = {**DROPS, "on-answer": {"drop": ["Server"]}}
CASE = {"id": "tidy", "kind": "decide", "way-out": [{"drop": ["Access-Control-Allow-Origin"]}]}
NO_CASE = {"id": "tidy", "kind": "decide", "way-out": [{"drop": ["Server"]}]}
ANEW = {**NET, "keeps-headers": False}
BOOM = {"handler": {"raise": "Oops"}}
BUSY = {"handler": {**text(), "busy-for": "5s"}}
GET = {"send": "GET /"}
PUT = {"send": "PUT /"}

# What is wrong, how the route differs, the request; the code, who is named, and the stages as the sentence would have them.
BLAME: list[tuple[list[Any], dict[str, Any], dict[str, Any], str, str, list[Any]]] = [
    ([], {}, GET, "no-cors-stage", "add one", [CORS]),
    ([WHO, CORS], {}, GET, "stage-before-cors", "who", [CORS, WHO]),
    ([WHO, CORS], {}, PUT, "preflight-refused", "who", [CORS, WHO]),
    ([NET, CORS], BOOM, GET, "error-outside-cors", "net", [CORS, NET]),
    ([CORS], BOOM, GET, "crashed", "error-handler inside browsers", [CORS, NET]),
    ([{**CORS, "allow-origins": ["https://other.example"]}], {}, GET, "origin-not-listed", "browsers", [CORS]),
    ([{**CORS, "allow-methods": ["GET"]}], {}, PUT, "method-not-allowed", "allow-methods of browsers", [CORS]),
    ([{**CORS, "enabled": False}], {}, GET, "cors-not-reached", "switch it on", [CORS]),
    ([{**CORS, "only": ["/elsewhere"]}], {}, GET, "cors-not-reached", "only, except", [CORS]),
    ([SLOW, CORS], BUSY, GET, "replaced-outside-cors", "late", [CORS, SLOW]),
    ([DROPS, CORS], {}, GET, "dropped-outside-cors", "tidy", [KEEPS, CORS]),
    ([CASE, CORS], {}, GET, "dropped-outside-cors", "tidy", [NO_CASE, CORS]),
    ([CORS, "routes", ANEW], BOOM, GET, "replaced-outside-cors", "net", [CORS, "routes", NET]),
    ([SHELF, CORS], {"cache": "60s"}, GET, "cached-for-another-origin", "shelf", [CORS, SHELF]),
]


def marked(**fields: str) -> dict[str, Any]:
    """A route whose handler marks its own answers."""
    return {"handler": text(text="ok", headers={"Access-Control-Allow-Origin": PAGE, **fields})}


def preflighted(status: int = 204, **fields: str) -> list[dict[str, Any]]:
    """The developer's own logic as the whole of CORS: a case that answers every preflight."""
    headers = {"Access-Control-Allow-Origin": PAGE, **{name.replace("_", "-"): value for name, value in fields.items()}}
    answer = {"when": {"method": "OPTIONS"}, "then": {"answer": {"status": status, "headers": headers}}}
    marks = [{"put": {"Access-Control-Allow-Origin": PAGE}}]
    return [{"id": "byhand", "kind": "decide", "cases": [answer], "way-out": marks}]


CREDENTIALS = {**CORS, "allow-credentials": True}
INCLUDE = {**GET, "credentials": "include"}
AUTHORIZED = {**GET, "headers": {"Authorization": "Bearer made-up"}}
TRACED = {**GET, "headers": {"X-Trace": "1"}}
ANY = {**CORS, "allow-origins": ["*"]}
LIST = {**CORS, "allow-headers": ["authorization", "x-trace"]}
STAR = {**ANY, "allow-headers": ["*"]}
MUTE = {"id": "mute", "kind": "decide", "cases": [{"then": "nothing"}]}
AWAY = {"id": "r", "at": "GET /", "access": "everyone", "handler": text(status=302, headers={"Location": "mailto:ann"})}
ROUND = {
    "id": "round",
    "kind": "decide",
    "cases": [{"then": {"answer": {"status": 302, "headers": {"Location": "/"}}}}],
}
HERE = {"send": f"GET {PAGE}/"}
PUTS = "GET, PUT"

# What is wrong, how the route differs, the request; the code, who or what is named; and what the sentence would have
# otherwise: stages, route, request.
MENDS: list[tuple[list[Any], dict[str, Any], dict[str, Any], str, str, dict[str, Any]]] = [
    ([], marked(**{"Access-Control-Allow-Origin": "https://third.example"}), GET, "origin-mismatch", "https://third.example", {"route": marked()}),
    ([ANY], {}, INCLUDE, "wildcard-with-credentials", "allow-origins of browsers", {"stages": [CREDENTIALS]}),
    ([CORS], {}, INCLUDE, "credentials-not-allowed", "allow-credentials on browsers", {"stages": [CREDENTIALS]}),
    ([CORS], {}, INCLUDE, "credentials-not-allowed", "or omit them", {"request": GET}),
    ([CORS], {}, TRACED, "header-not-allowed", "allow-headers of browsers", {"stages": [LIST]}),
    ([STAR], {}, AUTHORIZED, "authorization-not-listed", "allow-headers of browsers", {"stages": [LIST]}),
    (preflighted(405, Access_Control_Allow_Methods=PUTS), {}, PUT, "preflight-status", "let byhand answer it 204", {"stages": preflighted(Access_Control_Allow_Methods=PUTS)}),
    (preflighted(Access_Control_Allow_Methods="GET PUT"), {}, PUT, "malformed-allow-methods", "separate names by commas", {"stages": preflighted(Access_Control_Allow_Methods=PUTS)}),
    (preflighted(Access_Control_Allow_Headers="x-a x-b"), {}, TRACED, "malformed-allow-headers", "separate names by commas", {"stages": preflighted(Access_Control_Allow_Headers="x-trace")}),
    ([CORS, MUTE], {}, GET, "no-answer", "mute neither passed it on nor answered", {"stages": [CORS]}),
    ([CORS], {}, {**GET, "cache": "only-if-cached", "mode": "same-origin", "send": f"GET {PAGE}/"}, "nothing-cached", "cache: default", {"request": HERE}),
    ([CORS], {}, {"send": "TRACE /"}, "forbidden-method", "use another method", {"request": GET}),
    ([CORS], {}, {"send": "GET https://1.2.3.256/"}, "no-url", "a host that the URL standard takes", {"request": GET}),
    ([CORS], {}, {**GET, "text": "x"}, "body-not-allowed", "leave the body out", {"request": GET}),
    ([CORS], {}, {**PUT, "mode": "no-cors"}, "no-cors-method", "mode: cors", {"request": PUT}),
    ([CORS], {}, {**GET, "mode": "no-cors", "redirect": "error"}, "no-cors-redirect", "mode: cors", {"request": GET}),
    ([CORS], {}, {**GET, "mode": "same-origin"}, "mode-same-origin", "mode: cors", {"request": GET}),
    ([CORS], {}, {"send": "GET http://api.example/"}, "mixed-content", "call https", {"request": GET}),
    ([CORS, ROUND], {}, {**GET, "redirect": "error"}, "redirect-refused", "redirect: follow", {"stages": [CORS], "request": GET}),
    ([CORS], AWAY, GET, "redirect-nowhere", "a Location of http or https", {"route": {}}),
    ([CORS, ROUND], {}, GET, "redirect-limit", "round redirects", {"stages": [CORS]}),
    ([CORS], {}, {"send": "PUT /", "mode": "navigate"}, "navigate-method", "GET or POST", {"request": {**HERE, "mode": "navigate"}}),
]  # fmt: skip


def seen(stages: list[Any], route: dict[str, Any], request: dict[str, Any]) -> Record:
    """What a page gets, after another page has asked for the same."""
    method = request["send"].partition(" ")[0]
    routes = [{"id": "r", "at": f"{method} /", "access": "everyone", "handler": text(), **route}]
    flow = "sequential" if "routes" in stages else "nested"
    callers = {
        "first": {"kind": "browser", "origin": "https://other.example", "address": "192.0.2.2"},
        "page": {"kind": "browser", "origin": PAGE},
    }
    pipeline = make_pipeline(stages, routes=routes, flow=flow)
    return replay(pipeline, {**request, "caller": "first"}, {**request, "caller": "page"}, callers=callers)[-1]


@pytest.mark.parametrize(
    ("stages", "route", "request_", "code", "named", "mended"), BLAME, ids=lambda v: v if isinstance(v, str) else ""
)
def test_the_mend_that_the_sentence_names_makes_the_page_able_to_read(
    stages: list[Any], route: dict[str, Any], request_: dict[str, Any], code: str, named: str, mended: list[Any]
) -> None:
    if code == "cached-for-another-origin":
        # The classic mistake: the handler's own marks, stored without Vary, beside a cors stage that stands too far in.
        own = {"Access-Control-Allow-Origin": "${header.Origin}"}
        route = {**route, "handler": {"answer": {"text": "ok", "headers": own}}}
        stages = [SHELF, {**CORS, "only": ["/never"]}]
    blocked = seen(stages, route, request_)["browser"]
    assert (blocked["verdict"], blocked["why"]) == ("blocked", code), blocked
    assert named in blocked["reason"]
    healed = seen(mended, route, request_)["browser"]
    assert healed["verdict"] == "readable", healed


@pytest.mark.parametrize(
    ("stages", "route", "request_", "code", "named", "mend"), MENDS, ids=lambda v: v if isinstance(v, str) else ""
)
def test_calls_and_their_mends(
    stages: list[Any], route: dict[str, Any], request_: dict[str, Any], code: str, named: str, mend: dict[str, Any]
) -> None:
    blocked = seen(stages, route, request_)["browser"]
    assert (blocked["verdict"], blocked["why"]) == ("blocked", code), blocked
    assert named in blocked["reason"]
    healed = seen(mend.get("stages", stages), mend.get("route", route), mend.get("request", request_))["browser"]
    assert healed["verdict"] == "readable", healed


GONE = """
class Own:
    def way_out(self, x):
        x.answer.fields.drop("access-control-allow-origin")
"""


def test_marks_that_code_takes_away_are_looked_for_outside(tmp_path: Path) -> None:
    (tmp_path / "gone.py").write_text(GONE)
    stages = [{"id": "mine", "kind": "python", "call": "gone:Own"}, CORS]
    file = tmp_path / "p.yaml"
    file.write_text(
        json.dumps(
            {
                "patient-usher": "pipeline/1",
                "stages": stages,
                "routes": [{"id": "r", "at": "GET /", "access": "everyone", "handler": text()}],
            }
        )
    )
    page = {"page": {"kind": "browser", "origin": PAGE}}
    (record,) = replay(load(file, trust=["python"]), {**GET, "caller": "page"}, callers=page)
    assert record["browser"]["why"] == "origin-missing"
    assert "look at mine outside it" in record["browser"]["reason"]


UNROUTED = {
    "id": "g",
    "prefix": "/g",
    "stages": [CORS],
    "routes": [{"id": "r", "at": "PUT /", "access": "everyone", "handler": text()}],
}


def test_a_cors_stage_on_a_group_never_meets_a_preflight() -> None:
    page = {"page": {"kind": "browser", "origin": PAGE}}
    call = {"send": "PUT /g/", "caller": "page"}
    blocked = replay(make_pipeline([], groups=[UNROUTED], routes=[]), call, callers=page)[-1]["browser"]
    assert (blocked["why"], "move browsers to the server-wide stages" in blocked["reason"]) == (
        "preflight-unrouted",
        True,
    )
    healed = replay(make_pipeline([CORS], groups=[{**UNROUTED, "stages": []}], routes=[]), call, callers=page)[-1]
    assert healed["browser"]["verdict"] == "readable"


def test_every_reason_has_a_mend() -> None:
    tested = {row[3] for row in [*BLAME, *MENDS]} | {"origin-missing", "preflight-unrouted"}
    assert tested == set(BLOCKED)


def test_where_a_cors_stage_stands_that_a_call_does_not_meet() -> None:
    near = {"id": "near", "at": "GET /a", "access": "everyone", "handler": text()}
    own = {"id": "own", "at": "PUT /", "access": "everyone", "stages": [CORS], "handler": text()}
    call = {"send": "GET /a", "caller": "page"}
    (record,) = replay(
        make_pipeline([], routes=[near, own]), call, callers={"page": {"kind": "browser", "origin": PAGE}}
    )
    assert "browsers stands on route own, where this route isn't" in record["browser"]["reason"]


def test_who_drops_what_marked_an_answer_is_named_once() -> None:
    dropping = [DROPS | {"id": id_} for id_ in ("outer", "inner")]
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "handler": text()}]
    call = {"send": "GET /", "caller": "page"}
    pages = {"page": {"kind": "browser", "origin": PAGE}}
    (record,) = replay(make_pipeline([*dropping, CORS], routes=routes), call, callers=pages)
    assert record["browser"]["why"] == "dropped-outside-cors"
    first = record["browser"]["reason"].split()[0]
    assert f"take it off what {first} drops" in record["browser"]["reason"]
