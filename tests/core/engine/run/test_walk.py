"""The state machine: frames, errors, slips, patience, both flows, scopes and the router's refusals."""

from __future__ import annotations

from typing import Any

import pytest

from conftest import header, make_pipeline, replay, steps, text, walk

NET = {"id": "net", "kind": "error-handler"}


def mark(name: str, **more: Any) -> dict[str, Any]:
    """A stage that marks the answer on the way out."""
    return {"id": name, "kind": "header-fields", "on-answer": {"put": {f"X-{name}": "was here"}}, **more}


def gate(name: str, then: Any, **more: Any) -> dict[str, Any]:
    return {"id": name, "kind": "decide", "cases": [{"then": then}], **more}


def raising(type_: str = "Oops", **more: Any) -> dict[str, Any]:
    return {"routes": [{"id": "r", "at": "GET /", "handler": {"raise": {"type": type_, "message": "inside", **more}}}]}


def test_the_way_out_mirrors_the_way_in() -> None:
    record = walk([mark("a"), mark("b"), mark("c")])
    assert steps(record, "in") == [
        "in a continued", "in b continued", "in c continued", "in router continued", "in handler answered",
    ]  # fmt: skip
    assert steps(record, "out") == ["out c continued", "out b continued", "out a continued"]
    assert record["outcome"] == "handled"
    assert [header(record, f"x-{name}") for name in "abc"] == ["was here"] * 3


def test_one_that_answers_has_no_frame() -> None:
    record = walk([mark("a"), gate("g", {"answer": {"status": 204}}), mark("b")])
    assert steps(record) == ["in a continued", "in g answered", "out a continued"]
    assert (record["outcome"], record["answered_by"], record["refused_by"]) == ("short-circuited", "g", None)


@pytest.mark.parametrize(("status", "refused"), [(200, None), (302, None), (399, None), (400, "g"), (503, "g")])
def test_a_gates_4xx_or_5xx_answer_is_its_refusal(status: int, refused: str | None) -> None:
    record = walk([gate("g", {"answer": {"status": status}})])
    assert (record["refused_by"], record["why"]) == (refused, "decided" if refused else None)


ERRORS = [
    # name, stages, outcome, status, answered by, journey of the error, header of dropped stage
    ("caught outside", [NET, mark("m")], "errored", 500, "net", ["error m skipped", "error net caught"], None),
    ("caught, then marked", [mark("m"), NET], "errored", 500, "net", ["error net caught"], "was here"),
    ("nobody catches", [mark("m")], "crashed", 500, "server", ["error m skipped"], None),
    ("innermost catches", [{**NET, "id": "outer"}, NET], "errored", 500, "net", ["error net caught"], None),
]


@pytest.mark.parametrize(
    ("name", "stages", "outcome", "status", "by", "journey", "marked"), ERRORS, ids=[r[0] for r in ERRORS]
)
def test_errors_travel_outwards(
    name: str, stages: list[Any], outcome: str, status: int, by: str, journey: list[str], marked: str | None
) -> None:
    record = walk(stages, **raising())
    assert (record["outcome"], record["response"]["status"], record["answered_by"]) == (outcome, status, by)
    assert steps(record, "error") == journey
    assert header(record, "x-m") == marked
    assert record["errors"][0]["caught_by"] == (None if by == "server" else by)


def test_a_bare_500_reveals_nothing() -> None:
    record = walk([mark("m")], **raising())
    assert record["response"]["body"] is None
    assert {name for name, _ in record["response"]["headers"]} == {"Date", "Content-Length"}


def test_an_error_on_the_way_out_discards_the_answer() -> None:
    broken = {"id": "late", "kind": "decide", "way-out": [{"then": {"raise": {"type": "Late"}}}]}
    caught = walk([NET, mark("m"), broken])
    assert (caught["outcome"], caught["response"]["status"], caught["handler_reached"]) == ("errored", 500, True)
    assert header(caught, "x-m") is None
    assert walk([mark("m"), broken])["outcome"] == "crashed"


def test_the_error_handlers_own_failure() -> None:
    failing = {**NET, "shape": {"tenant": "${context.tenant}"}}
    record = walk([mark("m"), failing], **raising())
    assert (record["outcome"], record["response"]["status"], record["response"]["body"]) == ("crashed", 500, None)
    assert [error["type"] for error in record["errors"]] == ["Oops", "MissingValue"]
    assert steps(record, "error") == ["error net raised", "error m skipped"]
    caught = walk([{**NET, "id": "outer"}, failing], **raising())
    assert caught["answered_by"] == "outer"


def test_a_value_that_was_never_set_names_who_should_have_set_it() -> None:
    setter = {
        "id": "tenancy",
        "kind": "decide",
        "cases": [{"when": {"header": {"x-tenant": "present"}}, "set": {"tenant": "t"}}],
    }
    routes = [{"id": "r", "at": "GET /", "handler": {"answer": {"json": {"tenant": "${context.tenant}"}}}}]
    record = walk([setter], routes=routes)
    assert record["errors"][0]["type"] == "MissingValue"
    assert "tenancy sets it" in record["errors"][0]["message"]
    right = walk([setter], {"send": "GET /", "headers": {"X-Tenant": "1"}}, routes=routes)
    assert right["response"]["body"] == '{"tenant": "t"}'


def test_neither_stalls_until_patience_is_over() -> None:
    service = make_pipeline([mark("m"), gate("g", "nothing")])
    callers = {"hasty": {"patience": "2s"}}
    slow, hasty = replay(service, {"send": "GET /"}, {"send": "GET /", "caller": "hasty"}, callers=callers)
    for record, patience in ((slow, 30), (hasty, 2)):
        assert (record["outcome"], record["response"], record["answered_by"]) == ("stalled", None, None)
        assert record["finished"] - record["at"] == patience
        assert steps(record) == ["in m continued", "in g nothing"]


def test_both_seals_the_first_answer_and_runs_on() -> None:
    slip = gate("g", {"answer-and-continue": {"status": 401, "text": "no"}})
    record = walk([mark("out"), slip, mark("in")])
    assert (record["outcome"], record["response"]["status"], record["response"]["body"]) == (
        "answered-twice",
        401,
        "no",
    )
    assert header(record, "x-out") == "was here"
    assert header(record, "x-in") is None
    assert record["handler_reached"]
    assert record["second_answer"]["status"] == 200
    assert steps(record) == [
        "in out continued", "in g answered-and-continued", "out out continued",
        "in in continued", "in router continued", "in handler answered", "out in continued",
    ]  # fmt: skip


def test_the_shadows_error_has_no_catcher_outside() -> None:
    slip = gate("g", {"answer-and-continue": {"status": 401}})
    record = walk([NET, slip], **raising())
    assert (record["outcome"], record["response"]["status"], record["second_answer"]) == ("answered-twice", 401, None)
    assert record["errors"][0]["caught_by"] is None
    caught = walk([slip, NET], **raising())
    assert (caught["errors"][0]["caught_by"], caught["second_answer"]["status"]) == ("net", 500)


def test_a_shadow_that_waits_ends_later_than_its_answer() -> None:
    slip = gate("g", {"answer-and-continue": {"status": 401}})
    service = make_pipeline(
        ["access-log", slip], routes=[{"id": "r", "at": "GET /", "handler": {**text(), "busy-for": "3s"}}]
    )
    first, second = replay(service, {"send": "GET /"}, {"send": "GET /"})
    assert (first["finished"], second["at"]) == (0, 0)
    assert first["second_answer"]["status"] == 200
    assert first["log"][-1]["at"] == 3  # told done when the shadow ended


def test_patience_over_while_work_goes_on() -> None:
    service = make_pipeline(
        ["access-log"], routes=[{"id": "r", "at": "GET /", "handler": {**text(), "busy-for": "9s"}}]
    )
    record = replay(service, {"send": "GET /", "caller": "hasty"}, callers={"hasty": {"patience": "4s"}})[0]
    assert (record["outcome"], record["response"], record["finished"]) == ("abandoned", None, 4)
    assert record["handler_finished"]
    assert record["log"][-1]["at"] == 9


def test_overlapping_requests_run_on_one_clock() -> None:
    service = make_pipeline([], routes=[{"id": "r", "at": "GET /", "handler": {**text(), "busy-for": "10s"}}])
    records = replay(
        service, {"send": "GET /", "times": 3, "every": "1s"}, {"send": "GET /"}, {"send": "GET /", "at": "5s"}
    )
    spans = {record["id"]: (record["at"], record["finished"]) for record in records}
    assert spans == {"q0[1]": (0, 10), "q0[2]": (1, 11), "q0[3]": (2, 12), "q1": (12, 22), "q2": (5, 15)}


# The same list in sequential flow.

SEQUENTIAL: list[tuple[str, list[Any], dict[str, Any], str, int, str | None, list[str]]] = [
    ("handler last catches", [mark("m"), "routes", NET], raising(), "errored", 500, "net", ["in m continued", "in router continued", "in handler raised", "error net caught"]),
    ("handler first never sees it", [NET, mark("m"), "routes"], raising(), "crashed", 500, "server", ["in m continued", "in router continued", "in handler raised"]),
    ("answered by a stage", [mark("m"), gate("g", {"answer": {}}), "routes", NET], {}, "short-circuited", 200, "g", ["in m continued", "in g answered"]),
    ("handled", [mark("m"), "routes", NET], {}, "handled", 200, "handler", ["in m continued", "in router continued", "in handler answered"]),
    ("unmatched falls through", [mark("m"), "routes", mark("behind"), NET], {"routes": []}, "unrouted", 404, "net", ["in m continued", "in behind continued", "in router raised", "error net caught"]),
]  # fmt: skip


@pytest.mark.parametrize(
    ("name", "stages", "more", "outcome", "status", "by", "journey"), SEQUENTIAL, ids=[r[0] for r in SEQUENTIAL]
)
def test_sequential(
    name: str, stages: list[Any], more: dict[str, Any], outcome: str, status: int, by: str, journey: list[str]
) -> None:
    record = walk(stages, flow="sequential", refuse="raise", **more)
    assert (record["outcome"], record["response"]["status"], record["answered_by"]) == (outcome, status, by)
    assert steps(record) == journey
    # Header work went onto the draft at once; only a bare 500 loses it.
    assert header(record, "x-m") == (None if by == "server" else "was here")


@pytest.mark.parametrize(("keeps", "marked"), [(True, "was here"), (False, None)])
def test_error_answers_start_from_the_draft(keeps: bool, marked: str | None) -> None:
    early = {
        "id": "early",
        "kind": "header-fields",
        "on-answer": {
            "put": {"X-m": "was here", "ETag": '"1"', "Cache-Control": "max-age=9", "Content-Language": "cy"}
        },
    }
    record = walk([early, "routes", {**NET, "keeps-headers": keeps}], flow="sequential", **raising())
    assert header(record, "x-m") == marked
    assert [header(record, name) for name in ("etag", "cache-control", "content-language")] == [None] * 3


def test_registered_work_runs_in_reverse_also_for_errors() -> None:
    def registered(name: str) -> dict[str, Any]:
        return {
            "id": name,
            "kind": "decide",
            "way-out": [{"put": {f"X-{name}": "${context.seen}"}}],
            "cases": [{"set": {"seen": name}}],
        }

    record = walk([registered("a"), registered("b"), "routes", NET], flow="sequential", **raising())
    assert steps(record, "out") == ["out b continued", "out a continued"]
    assert header(record, "x-a") == "b"


def test_an_error_in_registered_work_is_never_caught() -> None:
    late = {"id": "late", "kind": "decide", "way-out": [{"then": {"raise": "Late"}}]}
    record = walk([mark("m"), late, "routes", NET], flow="sequential")
    assert (record["outcome"], record["response"]["body"], header(record, "x-m")) == ("crashed", None, None)


# Scopes.

GROUPS: dict[str, Any] = {
    "stages": [mark("wide")],
    "routes": [{"id": "top", "at": "GET /top", "handler": text()}],
    "groups": [
        {
            "id": "outer", "prefix": "/o", "stages": [mark("outer")],
            "routes": [{"id": "one", "at": "GET /one", "stages": [mark("own")], "handler": text()}],
            "groups": [{"id": "inner", "prefix": "/i", "stages": [mark("inner")], "routes": [{"id": "two", "at": "GET /two", "handler": text()}]}],
        }
    ],
}  # fmt: skip


@pytest.mark.parametrize(
    ("path", "ran"),
    [
        ("/top", ["wide", "router", "handler"]),
        ("/o/one", ["wide", "router", "outer", "own", "handler"]),
        ("/o/i/two", ["wide", "router", "outer", "inner", "handler"]),
        ("/o/i/none", ["wide", "router"]),
    ],
)
def test_scopes(path: str, ran: list[str]) -> None:
    record = walk(request=f"GET {path}", **GROUPS)
    assert [step["stage"] for step in record["journey"] if step["way"] == "in"] == ran


PASSED = [
    ({"only": ["/a/*"]}, "GET /a/b", True), ({"only": ["/a/*"]}, "GET /a/b/c", False), ({"only": ["/a/**"]}, "GET /a/b/c", True),
    ({"only": ["/a/**"]}, "GET /a", True), ({"only": ["POST /a"]}, "GET /a", False), ({"only": ["GET,POST /a"]}, "GET /a", True),
    ({"except": ["/a"]}, "GET /%61", False), ({"except": ["GET /a"]}, "HEAD /a", False),
    ({"only": ["/a/**"], "except": ["/a/b"]}, "GET /a/b", False), ({"only": ["/**/z"]}, "GET /x/y/z", True),
]  # fmt: skip


@pytest.mark.parametrize(("scope", "line", "runs"), PASSED)
def test_only_and_except(scope: dict[str, Any], line: str, runs: bool) -> None:
    routes = [{"id": "all", "at": "GET /{+rest}", "handler": text()}]
    record = walk([mark("m", **scope)], line, routes=routes)
    assert (header(record, "x-m") == "was here") is runs
    did = next(step for step in record["journey"] if step["stage"] == "m")
    assert did["did"] == ("continued" if runs else "skipped")
    if not runs:
        assert "out m continued" not in steps(record)


ROUTER: list[tuple[str, str, int, str | None, dict[str, str]]] = [
    ("GET", "/berths/new", 200, "literal", {}),
    ("GET", "/berths/T07", 200, "parameter", {"berth": "T07"}),
    ("GET", "/berths/T07/notes/1", 200, "tail", {"rest": "T07/notes/1"}),
    ("GET", "/berths/a%2Fb", 200, "parameter", {"berth": "a/b"}),
    ("GET", "/berths/n%65w", 200, "literal", {}),
    ("GET", "/berths/", 404, None, {}),
    ("GET", "/berths/T07/", 200, "tail", {"rest": "T07/"}),
    ("HEAD", "/berths/new", 200, "literal", {}),
    ("HEAD", "/own-head", 200, "own-head", {}),
    ("DELETE", "/berths/new", 200, "delete-any", {"berth": "new"}),
    ("POST", "/berths/new", 405, None, {}),
    ("OPTIONS", "/berths/new", 405, None, {}),
    ("GET", "/nowhere", 404, None, {}),
    ("GET", "/Berths/new", 404, None, {}),
    ("get", "/berths/new", 405, None, {}),
]


@pytest.mark.parametrize(("method", "path", "status", "route", "values"), ROUTER)
def test_router(method: str, path: str, status: int, route: str | None, values: dict[str, str]) -> None:
    at = {
        "tail": "GET /berths/{+rest}", "parameter": "GET /berths/{berth}", "literal": "GET /berths/new",
        "delete-any": "DELETE /berths/{berth}", "get-head": "GET /own-head", "own-head": "HEAD /own-head",
    }  # fmt: skip
    routes = [{"id": id_, "at": line, "handler": {"echo": True}} for id_, line in at.items()]
    record = walk([], f"{method} {path}", routes=routes)
    assert (record["response"]["status"], record["route"]) == (status, route)
    if values:
        scenario = walk(
            [],
            f"GET {path}",
            routes=[{**r, "at": r["at"].replace("DELETE", "GET")} for r in routes if r["id"] == route],
        )
        import json

        assert json.loads(scenario["response"]["body"])["path"] == values
    if status == 405:
        assert header(record, "allow") == "GET, HEAD, DELETE"
        assert (record["refused_by"], record["why"]) == ("router", "method-not-allowed")
    if method == "HEAD":
        assert record["response"]["body"] is None
        assert int(header(record, "content-length") or 0) > 0


def test_duplicate_parameters() -> None:
    import json

    routes = [
        {"id": "r", "at": "GET /", "handler": {"answer": {"json": {"first": "${query.a}", "none": "${query.b}"}}}}
    ]
    record = walk([], "GET /?a=1&a=2&c=%2B+x", routes=routes)
    assert json.loads(record["response"]["body"]) == {"first": "1", "none": None}
    routes = [{"id": "r", "at": "GET /", "handler": {"echo": True}}]
    echoed = json.loads(walk([], "GET /?a=1&a=2&c=%2B+x", routes=routes)["response"]["body"])
    assert echoed["query"] == {"a": ["1", "2"], "c": "+ x"}


@pytest.mark.parametrize(("refuse", "status", "body"), [("answer", 404, "Nothing is here"), ("raise", 500, None)])
def test_refuse(refuse: str, status: int, body: str | None) -> None:
    record = walk([], "GET /lost", refuse=refuse)
    assert (record["response"]["status"], record["response"]["body"]) == (status, body)
    assert record["outcome"] == ("unrouted" if refuse == "answer" else "crashed")


def test_a_stage_may_refuse_its_own_way() -> None:
    who = {"id": "may", "kind": "authorize", "refuse": "answer"}
    routes = [{"id": "r", "at": "GET /", "access": "nobody", "handler": text()}]
    record = walk([NET, who], refuse="raise", routes=routes)
    assert (record["answered_by"], record["response"]["body"]) == ("may", "You may not do this")


@pytest.mark.parametrize(("status", "length"), [(200, "2"), (204, None), (304, None)])
def test_content_length(status: int, length: str | None) -> None:
    routes = [{"id": "r", "at": "GET /", "handler": text(status=status, text="ok")}]
    record = walk([], routes=routes)
    assert header(record, "content-length") == length
    assert record["response"]["body"] == ("ok" if length else None)


def test_the_mirror_of_a_list_gives_the_same() -> None:
    stages = [mark("a"), NET, mark("b"), gate("g", "continue")]
    one = walk(stages, **raising())
    other = walk(stages[::-1], listed="innermost-first", **raising())
    assert one == other


def test_fails_every_counts_at_the_handler() -> None:
    routes = [{"id": "r", "at": "GET /", "handler": {"fails-every": 3, **text()}}]
    records = replay(make_pipeline([NET], routes=routes), {"send": "GET /", "times": 6})
    assert [record["response"]["status"] for record in records] == [200, 200, 500, 200, 200, 500]


def test_cases_fall_back_to_the_answer() -> None:
    cases = [
        {"when": {"query": {"day": ["1", "2"]}}, "answer": {"text": "soon"}, "busy-for": "1s"},
        {"when": {"query": {"day": {"pattern": "^[a-z]+$"}}}, "raise": "Conflict"},
    ]
    service = make_pipeline(
        [NET], routes=[{"id": "r", "at": "GET /", "handler": {"cases": cases, "answer": {"text": "later"}}}]
    )
    records = replay(service, {"send": "GET /?day=2"}, {"send": "GET /?day=x"}, {"send": "GET /"})
    assert [(r["response"]["status"], r["outcome"]) for r in records] == [
        (200, "handled"),
        (409, "errored"),
        (200, "handled"),
    ]
    assert [r["response"]["body"] for r in records][::2] == ["soon", "later"]
    assert records[0]["finished"] == 1


MATCHES: list[tuple[dict[str, Any], bool]] = [
    ({"method": "GET"}, True), ({"method": ["PUT", "POST"]}, False), ({"path": "/a/*"}, True), ({"path": ["/b", "/**"]}, True),
    ({"scheme": "https"}, True), ({"host": "api.example"}, True), ({"host": {"not": "api.example"}}, False),
    ({"header": {"X-One": "1"}}, True), ({"header": {"x-one": "missing"}}, False), ({"header": {"x-two": "missing"}}, True),
    ({"query": {"q": {"contains": "de"}}}, True), ({"query": {"q": {"pattern": "^d"}}}, True), ({"query": {"q": "de"}}, False),
    ({"address": "192.0.2.1"}, True), ({"identity": "missing"}, True), ({"role": "x"}, False), ({"route": "all"}, True),
    ({"environment": "production"}, True), ({"environment": ["a", "b"]}, False), ({"handler": "reached"}, False),
    ({"all": [{"method": "GET"}, {"path": "/a/b"}]}, True), ({"any": [{"method": "PUT"}, {"path": "/a/b"}]}, True),
    ({"not": {"method": "GET"}}, False), ({"method": "GET", "path": "/c"}, False), ({"cookie": {"s": "missing"}}, True),
    ({"context": {"set": "1"}}, True), ({"body": {"a": "missing"}}, True), ({"status": "2xx"}, False), ({}, True),
]  # fmt: skip


@pytest.mark.parametrize(("when", "fits"), MATCHES)
def test_when(when: dict[str, Any], fits: bool) -> None:
    scenario = {"id": "g", "kind": "decide", "cases": [{"when": when, "then": {"answer": {"status": 299}}}]}
    setter = {"id": "s", "kind": "decide", "cases": [{"set": {"set": 1}}]}
    routes = [{"id": "all", "at": "GET /{+rest}", "handler": text()}]
    record = walk([setter, scenario], {"send": "GET /a/b?q=cde&q=def", "headers": {"X-One": "1"}}, routes=routes)
    assert (record["response"]["status"] == 299) is fits
