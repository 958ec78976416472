"""What a trace may expect: each key holding and failing, what is kept, and what can't be sent."""

from __future__ import annotations

from typing import Any

import pytest

from conftest import make_pipeline, replay

STAGES: list[Any] = [
    "access-log",
    {"id": "net", "kind": "error-handler", "write-as": "json"},
    "read-body",
    {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}], "without-credential": "pass-on"},
    {"id": "tenancy", "kind": "decide", "cases": [{"set": {"tenant": "acme", "n": 3}}]},
    {"id": "off", "kind": "maintenance", "enabled": False},
    {"id": "elsewhere", "kind": "header-fields", "only": ["/elsewhere"], "on-answer": {"drop": "x"}},
]
ROUTES = [
    {
        "id": "tides",
        "at": "GET /tides",
        "access": "everyone",
        "handler": {
            "answer": {
                "json": {"day": 2, "high": ["06:12", "18:40"], "note": None, "open": True},
                "headers": {"X-Berth": "T07"},
            },
            "busy-for": "80ms",
        },
    },
    {
        "id": "broken",
        "at": "GET /broken",
        "access": "everyone",
        "handler": {"raise": {"type": "Oops", "message": "inside"}},
    },
    {
        "id": "said",
        "at": "POST /said",
        "access": "everyone",
        "handler": {"answer": {"text": "${body.a}", "headers": {"Set-Cookie": "s=1; Path=/"}}},
    },
]
ACCOUNTS = {"maren": {"api-keys": "km", "roles": ["skipper", "master"]}}
TIDES = {"send": "GET /tides", "sign": {"api-key": "maren"}}
BROKEN = {"send": "GET /broken"}

# request, key, what holds, what doesn't
EXPECTED: list[tuple[dict[str, Any], str, list[Any], list[Any]]] = [
    (TIDES, "status", [200, "2xx", [404, 200], ["2xx"], {"not": "5xx"}, {"not": [404, 500]}], [201, {"not": "2xx"}, {"not": {"not": 500}}, "4xx", [404, "5xx"]]),
    (TIDES, "outcome", ["handled", ["errored", "handled"]], ["errored", ["crashed", "errored"]]),
    (TIDES, "answered-by", ["handler", ["net", "handler"], {"not": "net"}, "present"], ["net", "missing"]),
    (TIDES, "refused-by", ["missing"], ["who", "present"]),
    (TIDES, "why", ["missing"], ["absent"]),
    (TIDES, "route", ["tides", {"pattern": "^t"}], ["said"]),
    (TIDES, "handler", ["reached"], ["not-reached"]),
    (TIDES, "order", [["net", "who", "handler"], [], ["router"]], [["who", "net"], ["handler", "off"]]),
    (TIDES, "ran", [["net", "tenancy"], "who", ["router", "handler"]], ["off", ["net", "elsewhere"]]),
    (TIDES, "skipped", ["off", ["off", "elsewhere"]], ["net", ["off", "who"]]),
    (TIDES, "headers", [{"X-Berth": "T07", "x-none": "missing"}, {"content-type": {"contains": "json"}}], [{"X-Berth": "T08"}, {"X-Berth": "missing"}]),
    (TIDES, "identity", ["maren"], ["odile", "missing"]),
    (TIDES, "role", ["skipper", ["x", "master"]], ["buoy"]),
    (TIDES, "context", [{"tenant": "acme", "n": 3}, {"none": "missing"}], [{"tenant": "x"}, {"none": "present"}]),
    (TIDES, "raised", ["missing"], ["Oops"]),
    (BROKEN, "raised", ["Oops", "present"], ["Other", "missing"]),
    (TIDES, "finishes-within", ["80ms", "1s"], ["79999us", "0s"]),
    (TIDES, "cache", ["missing"], ["hit"]),
    (TIDES, "encoding", ["missing"], ["gzip"]),
    (TIDES, "body", [{"json": {"day": 2}}, {"json": {"high": ["06:12", "18:40"], "note": None}}, {"contains": ["06:12", "18:40"]}, {"lacks": "19:00"}, {"exact": {"day": 2, "high": ["06:12", "18:40"], "note": None, "open": True}}], [{"json": {"day": 3}}, {"json": {"day": True}}, {"json": {"open": 1}}, {"json": {"none": None}}, {"json": {"high": ["06:12"]}}, {"json": []}, {"contains": "19:00"}, {"lacks": ["19:00", "06:12"]}, {"exact": {"day": 2}}, "06:12"]),
    (BROKEN, "log", ["Oops: inside", ["Oops", "GET /broken"], {"contains": "Oops", "stage": "net", "level": "error"}, {"lacks": "secret"}, {"stage": "net"}], ["secret", {"contains": "Oops", "stage": "access-log"}, {"lacks": "inside"}, {"stage": "who"}]),
    (TIDES, "browser", [], ["readable", {"why": "origin-missing"}, {"reads": "x"}]),
    (TIDES, "preflight", ["not-sent"], [{"status": 204}]),
]  # fmt: skip
CASES = [(request, key, value, True) for request, key, holds, _ in EXPECTED for value in holds]
CASES += [(request, key, value, False) for request, key, _, fails in EXPECTED for value in fails]


@pytest.mark.parametrize(("request_", "key", "value", "holds"), CASES)
def test_every_expectation_can_hold_and_can_fail(request_: dict[str, Any], key: str, value: Any, holds: bool) -> None:
    service = make_pipeline(STAGES, routes=ROUTES, accounts=ACCOUNTS)
    checks = replay(service, {**request_, "expect": {key: value}})[0]["checks"]
    assert checks
    assert all(check["ok"] for check in checks) is holds
    assert all(check["what"].startswith(key.replace("headers", "header").split("-")[0]) for check in checks)


@pytest.mark.parametrize(
    ("tally", "holds"),
    [({200: 3}, True), ({"2xx": 3}, True), ({200: 2}, False), ({200: 3, 429: 0}, True), ({"4xx": 1}, False)],
)
def test_tallies_count_over_all_repetitions(tally: dict[Any, int], holds: bool) -> None:
    service = make_pipeline(STAGES, routes=ROUTES, accounts=ACCOUNTS)
    records = replay(service, {**TIDES, "times": 3, "expect": {"status": 200, "tally": tally}})
    assert [[check["what"] for check in record["checks"]] for record in records] == [
        ["status"],
        ["status"],
        ["status", "tally"],
    ]
    assert records[-1]["checks"][-1]["ok"] is holds


@pytest.mark.parametrize(("environment", "ok"), [([], [True]), (["development"], [False]), (["staging"], [True])])
def test_what_an_environment_expects_takes_the_place_of_what_all_do(environment: list[str], ok: list[bool]) -> None:
    more = {"environments": {"development": {}, "staging": {}}, "environment": environment}
    service = make_pipeline(STAGES, routes=ROUTES, accounts=ACCOUNTS, **more)
    record = replay(service, {**TIDES, "expect": {"status": 200}, "expect-in": {"development": {"status": 500}}})[0]
    assert [check["ok"] for check in record["checks"]] == ok


KEPT: list[tuple[Any, str | None]] = [
    ("/day", "2"), ("/high/1", "18:40"), ({"header": "X-Berth"}, "T07"), ({"header": "x-berth"}, "T07"),
    ("/none", None), ("/high/9", None), ({"header": "X-None"}, None), ({"cookie": "s"}, None),
]  # fmt: skip


@pytest.mark.parametrize(("rule", "value"), KEPT)
def test_what_is_kept_is_sent_and_what_is_missing_fails(rule: Any, value: str | None) -> None:
    service = make_pipeline(STAGES, routes=ROUTES, accounts=ACCOUNTS)
    keeping, using = replay(
        service, {**TIDES, "keep": {"it": rule}}, {"send": "POST /said", "json": {"a": "${kept.it}"}}
    )
    if value is not None:
        assert using["response"]["body"] == value
        return
    assert [(check["what"], check["ok"]) for check in keeping["checks"]] == [("keep it", False)]
    assert (using["outcome"], using["response"], using["journey"]) == ("not-sent", None, [])
    assert "nothing was kept as it" in using["checks"][0]["actual"]


def test_a_cookie_is_kept_and_a_later_value_takes_its_place() -> None:
    service = make_pipeline(STAGES, routes=ROUTES, accounts=ACCOUNTS)
    keep = {"keep": {"it": {"cookie": "s"}}}
    records = replay(
        service,
        {"send": "POST /said", "json": {"a": 1}, **keep},
        {"send": "POST /said", "json": {"a": "${kept.it}"}, "headers": {"X-Now": "${clock.now}"}},
        {**TIDES, **keep},
        {"send": "POST /said", "json": {"a": "${kept.it}"}},
    )
    assert records[1]["response"]["body"] == "1"
    assert ["X-Now", "2031-01-01T00:00:00Z"] in records[1]["request"]["headers"]
    assert records[3]["outcome"] == "not-sent"


@pytest.mark.parametrize(
    ("target", "kept", "outcome"),
    [
        ("/${kept.it}", "tides", "handled"),
        ("${kept.it}", "https://api.example/tides", "handled"),
        ("${kept.it}", "ftp://x.example", "not-sent"),
    ],
)
def test_targets_made_of_kept_values(target: str, kept: str, outcome: str) -> None:
    service = make_pipeline(STAGES, routes=ROUTES, accounts=ACCOUNTS)
    first = {"send": "POST /said", "json": {"a": kept}, "keep": {"none": "/x"}}
    routes = [
        *ROUTES,
        {"id": "give", "at": "POST /give", "access": "everyone", "handler": {"answer": {"json": {"it": "${body.a}"}}}},
    ]
    service = make_pipeline(STAGES, routes=routes, accounts=ACCOUNTS)
    giving = {**first, "send": "POST /give", "keep": {"it": "/it"}}
    record = replay(service, giving, {"send": f"GET {target}"})[1]
    assert record["outcome"] == outcome


def test_a_failed_send_does_not_stop_the_rest() -> None:
    service = make_pipeline(STAGES, routes=ROUTES, accounts=ACCOUNTS)
    records = replay(service, {"send": "GET /${kept.none}", "times": 2}, TIDES)
    assert [record["outcome"] for record in records] == ["not-sent", "not-sent", "handled"]


HEADERS: list[tuple[dict[str, Any], dict[str, str]]] = [
    ({"json": {"a": "é"}}, {"Content-Type": "application/json", "Content-Length": "11"}),
    (
        {"form": {"a": ["1", "2"], "b": True}},
        {"Content-Type": "application/x-www-form-urlencoded", "Content-Length": "14"},
    ),
    ({"text": "x", "headers": {"content-type": "text/csv"}}, {"content-type": "text/csv"}),
    ({"caller": "buoy", "headers": {"User-Agent": "own"}}, {"User-Agent": "own", "X-Buoy": "1"}),
    ({"headers": {"X-Many": ["a", "b"]}}, {"X-Many": "a"}),
    ({"bearer": "made-up"}, {"Authorization": "Bearer made-up"}),
    ({"sign": {"api-key": "maren"}}, {"X-Api-Key": "km"}),
]


@pytest.mark.parametrize(("request_", "headers"), HEADERS)
def test_what_goes_out(request_: dict[str, Any], headers: dict[str, str]) -> None:
    service = make_pipeline(STAGES, routes=ROUTES, accounts=ACCOUNTS)
    callers = {"buoy": {"address": "198.51.100.4", "headers": {"User-Agent": "buoy/1", "X-Buoy": "1"}}}
    record = replay(service, {"send": "POST /said", **request_}, callers=callers)[0]
    sent = dict(reversed(record["request"]["headers"]))
    assert headers.items() <= sent.items()
    assert sent["Host"] == "api.example"
    assert record["caller"] == request_.get("caller", "script")


ORDERS: list[tuple[list[dict[str, Any]], list[tuple[str, float]]]] = [
    ([{"send": "GET /tides"}, {"send": "GET /tides"}], [("q0", 0), ("q1", 0.08)]),
    ([{"send": "GET /tides", "after": "1s"}, {"send": "GET /tides", "after": "1s"}], [("q0", 1), ("q1", 2.08)]),
    ([{"send": "GET /tides", "at": "5s"}, {"send": "GET /tides"}], [("q0", 5), ("q1", 5.08)]),
    (
        [{"send": "GET /tides", "at": "5s"}, {"send": "GET /tides", "at": "1s"}, {"send": "GET /tides"}],
        [("q1", 1), ("q2", 1.08), ("q0", 5)],
    ),
    ([{"send": "GET /tides", "times": 2}], [("q0[1]", 0), ("q0[2]", 0.08)]),
    (
        [{"send": "GET /tides", "times": 2, "every": "1ms"}, {"send": "GET /tides"}],
        [("q0[1]", 0), ("q0[2]", 0.001), ("q1", 0.081)],
    ),
    ([{"send": "GET /tides", "at": "0s"}, {"send": "GET /tides", "at": "0s"}], [("q0", 0), ("q1", 0)]),
]


@pytest.mark.parametrize(("requests", "times"), ORDERS)
def test_when_requests_are_sent(requests: list[dict[str, Any]], times: list[tuple[str, float]]) -> None:
    records = replay(make_pipeline(STAGES, routes=ROUTES), *requests)
    assert [(record["id"], record["at"]) for record in records] == times
    assert all(round(record["finished"] - record["at"], 6) == 0.08 for record in records)
