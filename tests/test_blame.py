"""Why a page can't read an answer: each sentence names who is to blame, and its mend, applied, mends."""

from __future__ import annotations

from typing import Any

import pytest

from conftest import Record, make_pipeline, replay, text

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
