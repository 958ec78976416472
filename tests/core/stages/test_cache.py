"""Caching, conditional requests, compression: facts of independent libraries, the RFCs' rules, laws."""

from __future__ import annotations

import gzip
import json
import zlib
from datetime import UTC, datetime
from typing import Any

import brotli
import pytest
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import VECTORS, header, make_pipeline, replay, text
from patient_usher import RunState, Trace
from patient_usher.core.http.negotiation import choose_coding, parse_accept_encoding
from patient_usher.core.stages.compress import CODERS
from patient_usher.core.verify.run import run

FACTS = [json.loads(line) for line in (VECTORS / "shared-cache.jsonl").read_text().splitlines()]
ANY = {"id": "shelf", "kind": "cache", "stores": "any-cacheable", "heuristic-freshness": True}
SHELF = {"id": "shelf", "kind": "cache"}


@pytest.mark.parametrize("fact", FACTS, ids=[fact["name"] for fact in FACTS])
def test_what_independent_caches_do(fact: dict[str, Any]) -> None:
    answer = {"status": fact["response"]["status"], "headers": fact["response"]["headers"], "text": "ok"}
    service = make_pipeline(
        [ANY], routes=[{"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": answer}}]
    )
    starts = datetime.fromtimestamp(fact["start"], UTC).isoformat().replace("+00:00", "Z")
    first, second = replay(
        service,
        {"send": "GET /", "headers": fact["request"]},
        {"send": "GET /", "headers": fact["later"], "at": f"{fact['delay']}s"},
        starts=starts,
    )
    expected = fact["expected"]
    assert first["caches"][0]["stored"] is expected["stored"]
    assert (not second["handler_reached"]) is expected["reused"]
    if expected["age"] is not None:
        assert header(second, "age") == str(expected["age"])


# Through pipelines. Each row: the handler's answer, the first request's fields, the second's, delay, state, why.


def get(**fields: str) -> dict[str, Any]:
    return {"send": "GET /", "headers": {name.replace("_", "-"): value for name, value in fields.items()}}


def two(
    answer: dict[str, Any],
    first: dict[str, Any],
    second: dict[str, Any],
    delay: str,
    stage: dict[str, Any] = ANY,
    **route: Any,
) -> list[dict[str, Any]]:
    routes = [
        {"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": {"text": "ok", **answer}}, **route}
    ]
    return replay(make_pipeline([stage], routes=routes), first, {**second, "after": delay})


def says(control: str, **fields: str) -> dict[str, Any]:
    return {"headers": {"Cache-Control": control, **{name.replace("_", "-"): value for name, value in fields.items()}}}


REUSE: list[tuple[str, dict[str, Any], dict[str, Any], dict[str, Any], str, str]] = [
    ("fresh", says("max-age=60"), get(), get(), "59s", "hit"),
    ("age equal to the lifetime is stale", says("max-age=60"), get(), get(), "60s", "stale"),
    ("request no-cache", says("max-age=60"), get(), get(Cache_Control="no-cache"), "1s", "stale"),
    ("pragma", says("max-age=60"), get(), get(Pragma="no-cache"), "1s", "stale"),
    ("pragma beside Cache-Control", says("max-age=60"), get(), get(Pragma="no-cache", Cache_Control="max-age=9"), "1s", "hit"),
    ("request max-age", says("max-age=60"), get(), get(Cache_Control="max-age=5"), "6s", "stale"),
    ("min-fresh", says("max-age=60"), get(), get(Cache_Control="min-fresh=30"), "31s", "stale"),
    ("min-fresh to the second", says("max-age=60"), get(), get(Cache_Control="min-fresh=30"), "30s", "hit"),
    ("max-stale", says("max-age=60"), get(), get(Cache_Control="max-stale=10"), "70s", "hit"),
    ("too stale for max-stale", says("max-age=60"), get(), get(Cache_Control="max-stale=10"), "71s", "stale"),
    ("max-stale of any age", says("max-age=60"), get(), get(Cache_Control="max-stale"), "700s", "hit"),
    ("must-revalidate beats max-stale", says("max-age=60, must-revalidate"), get(), get(Cache_Control="max-stale"), "61s", "stale"),
    ("request no-store", says("max-age=60"), get(Cache_Control="no-store"), get(), "1s", "miss"),
    ("quoted argument", says('max-age="60"'), get(), get(), "59s", "hit"),
    ("two max-age: the first", says("max-age=60, max-age=1"), get(), get(), "30s", "hit"),
    ("private", says("private, max-age=60"), get(), get(), "1s", "miss"),
    ("vary, alike", says("max-age=60", Vary="X-A"), get(X_A="1"), get(X_A="1"), "1s", "hit"),
    ("vary, otherwise", says("max-age=60", Vary="X-A"), get(X_A="1"), get(X_A="2"), "1s", "miss"),
    ("vary, spaces in a list", says("max-age=60", Vary="Accept-Language"), get(Accept_Language="a,b"), get(Accept_Language="a , b"), "1s", "hit"),
    ("vary, spaces", says("max-age=60", Vary="X-A"), get(X_A="a,b"), get(X_A="a , b"), "1s", "miss"),
    ("authorization", says("max-age=60"), get(Authorization="x"), get(Authorization="x"), "1s", "miss"),
    ("authorization, public", says("max-age=60, public"), get(Authorization="x"), get(Authorization="x"), "1s", "hit"),
    ("a HEAD after a GET", says("max-age=60"), get(), {"send": "HEAD /"}, "1s", "hit"),
    ("a GET after a HEAD", says("max-age=60"), {"send": "HEAD /"}, get(), "1s", "miss"),
    ("an age from further up", says("max-age=60", Age="50"), get(), get(), "11s", "stale"),
    ("must-understand", says("no-store, must-understand, max-age=60"), get(), get(), "1s", "hit"),
    ("revalidated", says("max-age=60", ETag='"1"'), get(), get(), "61s", "stale"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "answer", "first", "second", "delay", "state"), REUSE, ids=[row[0] for row in REUSE])
def test_reuse(
    name: str, answer: dict[str, Any], first: dict[str, Any], second: dict[str, Any], delay: str, state: str
) -> None:
    again = two(answer, first, second, delay)[1]
    assert again["caches"][0]["state"] == state
    assert again["handler_reached"] is (state != "hit")
    assert (header(again, "age") is not None) is (state == "hit" or "Age" in answer["headers"])


def test_only_if_cached() -> None:
    record = two(says("max-age=60"), get(Cache_Control="only-if-cached"), get(), "1s")[0]
    assert (record["response"]["status"], record["why"], record["handler_reached"]) == (504, "only-if-cached", False)


REVALIDATES: dict[str, Any] = {"id": "behind", "kind": "conditional", "etag": "strong"}


def test_revalidation_merges_the_304() -> None:
    routes = [
        {"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": says("max-age=60") | {"text": "ok"}}}
    ]
    first, second, third = replay(
        make_pipeline([ANY, REVALIDATES], routes=routes), get(), {**get(), "after": "61s"}, {**get(), "after": "30s"}
    )
    assert [r["caches"][0]["state"] for r in (first, second, third)] == ["miss", "revalidated", "hit"]
    assert (second["response"]["status"], second["response"]["body"], second["handler_reached"]) == (200, "ok", True)
    assert header(third, "age") == "30"


def test_how_long_a_copy_counts_still_is_told() -> None:
    """RFC 9211 2.4: below zero where it is stale."""
    kept = says("max-age=60, stale-while-revalidate=30") | {"text": "ok"}
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": kept}}]
    shelf = ANY | {"status-field": True}
    found = replay(make_pipeline([shelf], routes=routes), get(), {**get(), "at": "10s"}, {**get(), "at": "70s"})
    told = [header(record, "cache-status") for record in found if record["caches"][0]["state"] == "hit"]
    assert told == ["shelf; hit; ttl=50", "shelf; hit; ttl=-10"]


@pytest.mark.parametrize(
    ("tag", "states"), [('"1"', ["miss", "revalidated", "hit"]), ('"2"', ["miss", "stale", "miss"])]
)
def test_a_304_with_another_tag_confirms_nothing(tag: str, states: list[str]) -> None:
    """RFC 9111 4.3.4: it is about another representation, so that what is stored must go, and can't be given either."""
    fields = {"ETag": '"1"', "Cache-Control": "max-age=60"}
    asked = {
        "when": {"header": {"If-None-Match": "present"}},
        "answer": {"status": 304, "headers": {**fields, "ETag": tag}},
    }
    cases = [asked, {"answer": {"headers": fields, "text": "ok"}}]
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "handler": {"cases": cases}}]
    found = replay(make_pipeline([ANY], routes=routes), get(), {**get(), "after": "61s"}, {**get(), "after": "30s"})
    assert [record["caches"][0]["state"] for record in found] == states
    assert found[1]["caches"][0]["why"] == (None if tag == '"1"' else "another-tag")
    assert [record["response"]["status"] for record in found] == [200, 200 if tag == '"1"' else 502, 200]
    caller = replay(make_pipeline([ANY], routes=routes), get(), {**get(If_None_Match='"2"'), "after": "61s"})
    assert caller[-1]["response"]["status"] == (200 if tag == '"1"' else 304)


def test_a_304_that_makes_a_copy_private_takes_it_away() -> None:
    """RFC 9111 4.3.4, 5.2.2.7: whatever the route wanted, where the handler speaks for itself."""
    private = {"status": 304, "headers": {"ETag": '"1"', "Cache-Control": "private"}}
    own = {"headers": {"ETag": '"1"', "Cache-Control": "max-age=1"}, "text": "ok"}
    cases = [{"when": {"header": {"If-None-Match": "present"}}, "answer": private}, {"answer": own}]
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "cache": "60s", "handler": {"cases": cases}}]
    found = replay(make_pipeline([SHELF], routes=routes), get(), {**get(), "after": "2s"}, {**get(), "after": "1ms"})
    assert [(one["caches"][0]["state"], one["caches"][0]["why"]) for one in found] == [
        ("miss", None),
        ("revalidated", "private"),
        ("miss", None),
    ]


def test_a_conditional_request_on_a_hit_is_304() -> None:
    routes = [
        {
            "id": "r",
            "at": "GET /",
            "access": "everyone",
            "handler": {"answer": says("max-age=60", ETag='"7"') | {"text": "ok"}},
        }
    ]
    records = replay(
        make_pipeline([ANY], routes=routes),
        get(If_None_Match='"7"'),
        get(If_None_Match='W/"7"'),
        get(If_None_Match='"8"'),
    )
    assert [(r["response"]["status"], r["caches"][0]["state"]) for r in records] == [
        (304, "miss"),
        (304, "hit"),
        (200, "hit"),
    ]
    assert header(records[1], "content-type") is None


GRACE = "max-age=60, stale-while-revalidate=30, stale-if-error=100"


def test_stale_while_revalidate_answers_at_once_and_refreshes_behind() -> None:
    routes = [
        {
            "id": "r",
            "at": "GET /",
            "access": "everyone",
            "handler": {"answer": says(GRACE) | {"text": "${clock.now}"}, "busy-for": "1s"},
        }
    ]
    first, stale, fresh = replay(
        make_pipeline([ANY], routes=routes), get(), {**get(), "at": "70s"}, {**get(), "at": "75s"}
    )
    assert (stale["finished"] - stale["at"], stale["response"]["body"]) == (0, first["response"]["body"])
    assert (stale["caches"][0]["state"], stale["caches"][0]["why"], stale["outcome"]) == (
        "hit",
        "stale-while-revalidate",
        "short-circuited",
    )
    assert (fresh["caches"][0]["state"], header(fresh, "age")) == (
        "hit",
        "5",
    )  # the second that the refresh took counts (4.2.3)
    assert fresh["response"]["body"] != first["response"]["body"]


@pytest.mark.parametrize(("delay", "status"), [("150s", 200), ("170s", 500)])
@pytest.mark.parametrize("net", [[], [{"id": "net", "kind": "error-handler"}]])
def test_stale_if_error(delay: str, status: int, net: list[Any]) -> None:
    handler = {"fails-every": 2, "answer": says(GRACE) | {"text": "ok"}}
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "handler": handler}]
    record = replay(make_pipeline([ANY, *net], routes=routes), get(), {**get(), "at": delay})[1]
    assert record["response"]["status"] == status


# Opted-in routes.


def opted(rule: Any, stages: list[Any] | None = None, **more: Any) -> Any:
    routes = [
        {"id": "r", "at": "GET /", "access": "everyone", "cache": rule, "handler": {"answer": {"text": "${query.a} ${clock.now}", **more.pop("answer", {})}}},
        {"id": "plain", "at": "GET /plain", "access": "everyone", "handler": text()},
        {"id": "book", "at": "POST /book", "access": "everyone", "clears": ["r"], "handler": {"cases": [{"when": {"query": {"taken": "present"}}, "answer": {"status": 409}}], "answer": {"status": 201}}},
    ]  # fmt: skip
    return make_pipeline(stages if stages is not None else [SHELF], routes=routes, **more)


CONTROLS: list[tuple[Any, str, list[str]]] = [
    ("60s", "max-age=60", ["miss", "hit"]),
    ({"shared": "60s", "private": "10s"}, "max-age=10, s-maxage=60", ["miss", "hit"]),
    ({"shared": "60s"}, "max-age=0, s-maxage=60", ["miss", "hit"]),
    ({"private": "60s"}, "private, max-age=60", ["private-only", "private-only"]),
    ("never", "no-store", ["bypass", "bypass"]),
]


@pytest.mark.parametrize(("rule", "control", "states"), CONTROLS)
def test_a_route_says_how_long(rule: Any, control: str, states: list[str]) -> None:
    records = replay(opted(rule), get(), {**get(), "after": "1s"})
    assert [r["caches"][0]["state"] for r in records] == states
    assert header(records[0], "cache-control") == control


def test_a_client_that_ignores_caching_still_gets_the_servers_copy() -> None:
    records = replay(
        opted("60s"),
        get(),
        {**get(Cache_Control="no-cache", Pragma="no-cache"), "after": "59s"},
        {**get(), "after": "1s"},
    )
    assert [r["caches"][0]["state"] for r in records] == ["miss", "hit", "stale"]
    reload = replay(
        opted("60s", [{**SHELF, "honours-reload": True}]), get(), {**get(Cache_Control="no-cache"), "after": "1s"}
    )
    assert reload[1]["caches"][0]["state"] == "stale"


def test_routes_that_did_not_opt_in_are_told_apart() -> None:
    record = replay(opted("60s"), {"send": "GET /plain"})[0]
    assert (record["caches"][0]["state"], header(record, "cache-control")) == ("not-opted-in", None)


COPIES: list[tuple[Any, str, dict[str, str], bool]] = [
    ({"shared": "60s"}, "GET /?a=1&b=2", {}, False), ({"shared": "60s"}, "GET /?a=1", {"X-Any": "1"}, True),
    ({"shared": "60s", "per": ["query.a"]}, "GET /?a=1&b=2", {}, True), ({"shared": "60s", "per": ["query.a"]}, "GET /?a=2", {}, False),
    ({"shared": "60s", "per": ["header.X-Any"]}, "GET /?a=1", {"X-Any": "1"}, False), ({"shared": "60s", "per": []}, "GET /?a=9", {}, False), ({"shared": "60s", "per": ["no-query"]}, "GET /?a=9", {}, True), ({"shared": "60s", "per": ["header.X-Zone"]}, "GET /?a=9", {}, False),
]  # fmt: skip


@pytest.mark.parametrize(("rule", "line", "headers", "reused"), COPIES)
def test_what_makes_a_copy_of_its_own(rule: Any, line: str, headers: dict[str, str], reused: bool) -> None:
    records = replay(opted(rule), {"send": "GET /?a=1"}, {"send": line, "headers": headers})
    assert (records[1]["caches"][0]["state"] == "hit") is reused


@pytest.mark.parametrize(
    ("line", "state"), [("POST /book", "miss"), ("POST /book?taken=1", "hit"), ("PUT /elsewhere", "hit")]
)
def test_a_write_that_succeeds_clears_what_it_names(line: str, state: str) -> None:
    records = replay(opted("60s"), get(), {"send": line}, get())
    assert records[2]["caches"][0]["state"] == state


def test_answers_that_set_cookies_are_not_stored() -> None:
    records = replay(opted("60s", answer={"headers": {"Set-Cookie": "a=b"}}), get(), get())
    assert (records[0]["caches"][0]["why"], records[1]["handler_reached"]) == ("set-cookie", True)


def test_what_the_handler_says_of_itself_counts() -> None:
    for control, stored in (("private", False), ("no-store", False), ("max-age=5", True)):
        record = replay(opted("60s", answer=says(control)), get())[0]
        assert (record["caches"][0]["stored"], header(record, "cache-control")) == (stored, control)


WHO = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}], "without-credential": "pass-on"}
PEOPLE = {"a": {"api-keys": "ka"}, "b": {"api-keys": "kb"}}


def mine(who_first: bool, **route: Any) -> list[dict[str, Any]]:
    routes = [
        {
            "id": "mine",
            "at": "GET /",
            "access": "signed-in",
            "handler": {"answer": {"text": "for ${identity.name}"}},
            "cache": {"shared": "60s", **route},
        }
    ]
    stages = [WHO, SHELF] if who_first else [SHELF, WHO]
    calls = [{"send": "GET /", "sign": {"api-key": name}} for name in "abab"]
    return replay(make_pipeline(stages, routes=routes, accounts=PEOPLE), *calls)


@pytest.mark.parametrize("route", [{}, {"per": []}, {"per": ["query.a"]}, {"per": ["identity"]}, {"private": "60s"}])
def test_nobody_ever_gets_anothers_copy(route: dict[str, Any]) -> None:
    records = mine(True, **route)
    assert [r["response"]["body"] for r in records] == ["for a", "for b", "for a", "for b"]
    assert [r["caches"][0]["state"] for r in records] == ["miss", "miss", "hit", "hit"]
    assert (header(records[0], "cache-control") or "").startswith("private")


def test_a_cache_in_front_of_authentication_leaks_and_so_does_same_for_everyone() -> None:
    assert [r["response"]["body"] for r in mine(False)] == ["for a"] * 4
    assert [r["response"]["body"] for r in mine(True, **{"same-for": "everyone"})] == ["for a"] * 4


def test_the_least_recently_used_goes_first() -> None:
    service = opted("60s", [{**SHELF, "capacity": 700}])
    calls = [{"send": f"GET /?a={'x' * 150}{n}"} for n in (1, 2, 1, 3, 1, 2)]
    states = [r["caches"][0]["state"] for r in replay(service, *calls)]
    assert states == ["miss", "miss", "hit", "miss", "hit", "miss"]


@pytest.mark.parametrize(("collapse", "ran"), [(True, 1), (False, 4)])
def test_racing_misses_collapse(collapse: bool, ran: int) -> None:
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "cache": "60s", "handler": {**text(), "busy-for": "1s"}}]
    service = make_pipeline([{**SHELF, "collapse": collapse}], routes=routes)
    records = replay(service, {"send": "GET /", "times": 4, "every": "100ms"})
    assert sum(r["handler_reached"] for r in records) == ran
    assert records[-1]["finished"] == (1 if collapse else 1.3)


def test_collapsing_never_holds_what_can_not_be_stored() -> None:
    routes = [
        {
            "id": "r",
            "at": "GET /",
            "access": "everyone",
            "cache": "60s",
            "handler": {"answer": {"headers": {"Set-Cookie": "a=b"}}, "busy-for": "1s"},
        }
    ]
    records = replay(
        make_pipeline([{**SHELF, "collapse": True}], routes=routes), {"send": "GET /", "times": 4, "every": "100ms"}
    )
    assert [r["finished"] for r in records] == [1, 2, 2, 2]


def test_the_status_field() -> None:
    records = replay(
        opted("60s", [{**SHELF, "status-field": True}]), get(), {**get(), "after": "20s"}, {"send": "GET /plain"}
    )
    assert [header(r, "cache-status") for r in records] == [
        "shelf; fwd=uri-miss; stored",
        "shelf; hit; ttl=40",
        "shelf; fwd=bypass",
    ]


@pytest.mark.parametrize(("id_", "named"), [("shelf-9", "shelf-9"), ("9-shelf", '"9-shelf"')])
def test_a_caches_name_is_a_token_or_a_string(id_: str, named: str) -> None:
    """RFC 8941 3.3.4: a token begins with a letter."""
    record = replay(opted("60s", [{**SHELF, "id": id_, "status-field": True}]), get())[0]
    assert header(record, "cache-status") == f"{named}; fwd=uri-miss; stored"


def test_cors_inside_the_cache_varies_by_origin_and_outside_it_does_not() -> None:
    cors = {"id": "browsers", "kind": "cors", "allow-origins": ["https://a.example", "https://b.example"]}
    calls = [get(Origin="https://a.example"), get(Origin="https://b.example")]
    inside, outside = (replay(opted("60s", stages), *calls)[1] for stages in ([SHELF, cors], [cors, SHELF]))
    assert (inside["caches"][0]["state"], outside["caches"][0]["state"]) == ("miss", "hit")
    assert [header(r, "access-control-allow-origin") for r in (inside, outside)] == ["https://b.example"] * 2


@given(
    st.sampled_from(["60s", {"shared": "60s", "private": "5s"}, {"shared": "90s"}]),
    st.integers(0, 59),
    st.text("ab", max_size=3),
)
@settings(max_examples=30, deadline=None)
def test_a_fresh_hit_equals_what_was_stored(rule: Any, delay: int, query: str) -> None:
    call = {"send": f"GET /?a={query}"}
    first, hit = replay(opted(rule), call, {**call, "after": f"{delay}s"})
    fields = [
        [pair for pair in r["response"]["headers"] if pair[0] not in ("Age", "Date", "Cache-Status")]
        for r in (first, hit)
    ]
    assert fields[0] == fields[1]
    assert {**first["response"], "headers": 0} == {**hit["response"], "headers": 0}


# Conditional requests.

CONDITIONS: list[tuple[dict[str, Any], dict[str, str], str, int]] = [
    ({}, {"If-None-Match": "TAG"}, "strong", 304), ({}, {"If-None-Match": "W/TAG"}, "strong", 304), ({}, {"If-None-Match": "*"}, "weak", 304),
    ({}, {"If-None-Match": '"x", TAG'}, "weak", 304), ({}, {"If-None-Match": '"x"'}, "strong", 200), ({}, {"If-Match": "TAG"}, "strong", 200),
    ({}, {"If-Match": "TAG"}, "weak", 412), ({}, {"If-Match": "*"}, "weak", 200), ({}, {"If-Match": '"x"'}, "strong", 412),
    ({}, {"If-None-Match": "TAG"}, "none", 200), ({"Last-Modified": "OLD"}, {"If-Modified-Since": "OLD"}, "none", 304),
    ({"Last-Modified": "NEW"}, {"If-Modified-Since": "OLD"}, "none", 200), ({"Last-Modified": "NEW"}, {"If-Unmodified-Since": "OLD"}, "none", 412),
    ({"Last-Modified": "OLD"}, {"If-Unmodified-Since": "OLD"}, "none", 200), ({"Last-Modified": "OLD"}, {"If-None-Match": '"x"', "If-Modified-Since": "OLD"}, "strong", 200),
    ({"Last-Modified": "NEW"}, {"If-Match": "TAG", "If-Unmodified-Since": "OLD"}, "strong", 200), ({"Last-Modified": "OLD"}, {"If-Modified-Since": "rubbish"}, "none", 200),
]  # fmt: skip
DATES = {"OLD": "Wed, 01 Jan 2020 00:00:00 GMT", "NEW": "Thu, 02 Jan 2020 00:00:00 GMT"}


@pytest.mark.parametrize(("answer", "asked", "etag", "status"), CONDITIONS)
def test_conditions(answer: dict[str, Any], asked: dict[str, str], etag: str, status: int) -> None:
    stage = {"id": "c", "kind": "conditional", "etag": etag}
    fields = {name: DATES[value] for name, value in answer.items()}
    routes = [
        {
            "id": "r",
            "at": "GET /",
            "access": "everyone",
            "handler": {"answer": {"text": "ok", "headers": {**fields, "X-Own": "1", "Cache-Control": "max-age=1"}}},
        }
    ]
    service = make_pipeline([stage], routes=routes)
    tag = header(replay(service, get())[0], "etag") or '"none"'
    sent = {
        name: value.replace("W/TAG", f"W/{tag.removeprefix('W/')}").replace("TAG", tag) for name, value in asked.items()
    }
    sent = {name: DATES.get(value, value) for name, value in sent.items()}
    record = replay(service, {"send": "GET /", "headers": sent})[0]
    assert record["response"]["status"] == status
    if status == 304:
        assert [header(record, name) for name in ("content-type", "content-length", "cache-control", "x-own")] == [
            None,
            None,
            "max-age=1",
            "1",
        ]
        assert record["response"]["body"] is None


def test_records_hold_writes_against_conditions() -> None:
    routes = [
        {"id": do, "at": f"{method} /n/{{id}}", "access": "everyone", "handler": {"records": "n", "do": do}}
        for method, do in (("GET", "read"), ("PUT", "replace"), ("DELETE", "remove"))
    ]
    service = make_pipeline(
        ["read-body", {"id": "c", "kind": "conditional", "etag": "strong"}],
        routes=routes,
        records={"n": {"rows": [{"id": "1", "t": "a"}]}},
    )
    put = {"send": "PUT /n/1", "json": {"t": "b"}}
    records = replay(
        service,
        {"send": "GET /n/1", "keep": {"tag": {"header": "ETag"}}},
        {**put, "headers": {"If-Match": '"other"'}}, {**put, "headers": {"If-Match": "${kept.tag}"}}, {**put, "headers": {"If-Match": "${kept.tag}"}},
        {"send": "DELETE /n/1", "headers": {"If-None-Match": "*"}}, {"send": "PUT /n/2", "json": {}, "headers": {"If-Match": "*"}}, {"send": "DELETE /n/1", "headers": {"If-Match": "*"}},
    )  # fmt: skip
    assert [r["response"]["status"] for r in records] == [200, 412, 200, 412, 412, 404, 204]
    assert (records[1]["why"], records[1]["refused_by"]) == ("precondition-failed", "c")


# Compression.

BIG = "the tide turns at the harbour mouth " * 60
UNDO = {
    "gzip": gzip.decompress, "deflate": zlib.decompress, "br": brotli.decompress, "zstd": zstandard.ZstdDecompressor().decompress,
}  # fmt: skip
SQUEEZE = {"id": "squeeze", "kind": "compress"}
CODED: list[tuple[str | None, dict[str, Any], dict[str, Any], int, str | None, bool]] = [
    (None, {}, {}, 200, None, True), ("gzip", {}, {}, 200, "gzip", True), ("x-gzip", {}, {}, 200, "gzip", True), ("GZIP", {}, {}, 200, "gzip", True),
    ("gzip;q=0, *", {}, {}, 200, "br", True), ("gzip;q=0.5, zstd;q=0.8", {}, {}, 200, "zstd", True), ("deflate, gzip", {}, {}, 200, "gzip", True),
    ("identity;q=0", {}, {}, 406, None, True), ("*;q=0", {}, {}, 406, None, True), ("compress", {}, {}, 200, None, True), ("", {}, {}, 200, None, True),
    ("identity, gzip;q=0.5", {}, {}, 200, None, True), ("gzip;q=2", {}, {}, 200, "gzip", True), ("gzip;q=x", {}, {}, 200, None, True),
    ("identity;q=0", {}, {"codings": ["br"]}, 406, None, True), ("*", {}, {"codings": ["deflate"]}, 200, "deflate", True),
    ("gzip", {"headers": {"Cache-Control": "no-transform"}}, {}, 200, None, False), ("gzip", {"headers": {"Content-Encoding": "br"}}, {}, 200, "br", False),
    ("gzip", {"status": 206}, {}, 206, None, False), ("gzip", {"headers": {"Content-Type": "image/png"}}, {}, 200, None, False),
    ("gzip", {"headers": {"Content-Type": "application/problem+json"}}, {}, 200, "gzip", True), ("gzip", {}, {"from-size": "1MiB"}, 200, None, False),
    ("gzip", {"text": BIG[:1024]}, {}, 200, "gzip", True), ("gzip", {"text": BIG[:1023]}, {}, 200, None, False),
]  # fmt: skip


@pytest.mark.parametrize(("accepts", "answer", "options", "status", "coding", "vary"), CODED)
def test_codings(
    accepts: str | None, answer: dict[str, Any], options: dict[str, Any], status: int, coding: str | None, vary: bool
) -> None:
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": {"text": BIG, **answer}}}]
    service = make_pipeline([{**SQUEEZE, **options}], routes=routes)
    request = get() if accepts is None else get(Accept_Encoding=accepts)
    record = replay(service, request)[0]
    assert (record["response"]["status"], record["response"]["encoding"]) == (status, coding)
    if status == 200:
        assert (header(record, "vary") == "Accept-Encoding") is vary
    if status == 200 and coding in UNDO and "Content-Encoding" not in answer.get("headers", {}):
        bound = Trace.of(request, base="https://api.example").bound(service.compiled)
        (judged,) = run(RunState(service), bound)
        octets = judged.send.final.answer.body
        said = answer.get("text", BIG)
        assert UNDO[coding](octets).decode() == record["response"]["body"] == said
        assert record["response"]["body_size"] == len(octets) == int(header(record, "content-length") or 0) < len(said)


def test_tags_head_and_not_modified() -> None:
    routes = [
        {
            "id": "r",
            "at": "GET /",
            "access": "everyone",
            "handler": {"answer": {"text": BIG, "headers": {"ETag": '"1"'}}},
        }
    ]
    service = make_pipeline([SQUEEZE, {"id": "c", "kind": "conditional"}], routes=routes)
    got, head, same, plain = replay(
        service,
        get(Accept_Encoding="gzip"),
        {**get(Accept_Encoding="gzip"), "send": "HEAD /"},
        get(Accept_Encoding="gzip", If_None_Match='W/"1"'),
        get(),
    )
    assert [header(r, "etag") for r in (got, head, same, plain)] == ['W/"1"', 'W/"1"', 'W/"1"', '"1"']
    assert [header(r, "vary") for r in (got, head, same, plain)] == ["Accept-Encoding"] * 4
    assert header(head, "content-length") == header(got, "content-length")
    assert (same["response"]["status"], same["response"]["encoding"]) == (304, None)


def test_the_same_content_is_compressed_once() -> None:
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": {"text": BIG}}}]
    records = replay(make_pipeline([SQUEEZE], routes=routes), get(Accept_Encoding="gzip"), get(Accept_Encoding="gzip"))
    notes = [next(s["note"] for s in r["journey"] if s["way"] == "out") for r in records]
    assert [note["done"] for note in notes] == ["anew", "from memory"]
    assert notes[0]["before"] == len(BIG)


def test_an_error_on_the_way_out_leaves_no_coding_or_tag() -> None:
    late = {"id": "late", "kind": "decide", "way-out": [{"then": {"raise": "Late"}}]}
    routes = [
        {
            "id": "r",
            "at": "GET /",
            "access": "everyone",
            "handler": {"answer": {"text": BIG, "headers": {"ETag": '"1"'}}},
        }
    ]
    record = replay(
        make_pipeline([{"id": "net", "kind": "error-handler"}, late, SQUEEZE], routes=routes),
        get(Accept_Encoding="gzip"),
    )[0]
    assert (record["response"]["status"], record["response"]["encoding"], header(record, "etag")) == (500, None, None)


@pytest.mark.parametrize(
    ("stages", "work"), [([SHELF, SQUEEZE], ["anew"]), ([SQUEEZE, SHELF], ["anew", "from memory"])]
)
def test_both_orders_of_cache_and_compress(stages: list[Any], work: list[str]) -> None:
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "cache": "60s", "handler": {"answer": {"text": BIG}}}]
    records = replay(
        make_pipeline(stages, routes=routes),
        get(Accept_Encoding="gzip"),
        get(Accept_Encoding="gzip"),
        get(Accept_Encoding="br"),
    )
    done = [s["note"]["done"] for r in records[:2] for s in r["journey"] if "done" in s["note"]]
    assert done == work
    assert [r["response"]["encoding"] for r in records] == ["gzip", "gzip", "br"]
    # Outside the cache one copy serves all codings; inside, each coding is a variant.
    assert records[2]["caches"][0]["state"] == ("miss" if stages[0] is SHELF else "hit")


@given(st.binary(min_size=1), st.sampled_from(list(CODERS)), st.integers(1, 9))
@settings(max_examples=60, deadline=None)
def test_decompression_inverts_compression(body: bytes, coding: str, level: int) -> None:
    assert UNDO[coding](CODERS[coding](body, level)) == body


NAMES = st.sampled_from(["gzip", "br", "zstd", "deflate", "identity", "*", "x-gzip"])
ACCEPTS = st.lists(st.tuples(NAMES, st.sampled_from(["", ";q=0", ";q=0.3", ";q=1", "; q=0.000"])), max_size=5).map(
    lambda items: ", ".join(name + q for name, q in items)
)


@given(ACCEPTS, st.lists(st.sampled_from(["gzip", "br", "zstd", "deflate"]), unique=True))
def test_negotiation_never_picks_what_weighs_nothing(accepts: str, offered: list[str]) -> None:
    weights = parse_accept_encoding(accepts)
    coding = choose_coding(accepts, offered)
    if coding is None:
        assert weights.get("identity", weights.get("*", 1)) == 0
    elif coding != "identity":
        assert coding in offered
        assert weights.get(coding, weights.get("*", 0)) > 0
    else:
        assert weights.get("identity", 1 if weights.get("*", 1) else 0) > 0


# Mistakes.


@pytest.mark.parametrize(
    ("rule", "what"),
    [
        ({}, "says no lifetime"),
        ({"shared": "1m", "per": ["cookie.x"]}, "makes no copy of its own"),
        ("soon", "is no duration"),
        ({"never": True}, "never stands alone"),
        ({"shared": "1m", "same-for": "friends"}, "everyone"),
    ],
)
def test_rules_that_say_nothing(rule: Any, what: str) -> None:
    with pytest.raises(Exception, match=what):
        opted(rule)


def test_a_route_to_clear_must_be_there() -> None:
    with pytest.raises(Exception, match="there is no route 'tide' to clear; did you mean 'tides'"):
        make_pipeline(
            [],
            routes=[
                {"id": "tides", "at": "GET /", "handler": text()},
                {"id": "b", "at": "POST /", "clears": "tide", "handler": text()},
            ],
        )


# The browser's own cache.

PAGE = {"page": {"kind": "browser", "origin": "https://api.example"}}
BROWSING: list[tuple[dict[str, Any], dict[str, Any], str, str, bool]] = [
    (says("max-age=60"), {}, "59s", "from-caller-cache", False),
    (says("private, max-age=60"), {}, "59s", "from-caller-cache", False),
    (says("max-age=60"), {}, "60s", "handled", True),
    (says("no-store"), {}, "1s", "handled", True),
    (says("max-age=60"), {"cache": "reload"}, "1s", "handled", True),
    (says("max-age=60"), {"cache": "no-cache"}, "1s", "handled", True),
    (says("max-age=60"), {"cache": "no-store"}, "1s", "handled", True),
    (says("s-maxage=60, max-age=0"), {}, "1s", "handled", True),
    (says("max-age=60", Vary="X-A"), {"headers": {"X-A": "2"}}, "1s", "handled", True),
]


@pytest.mark.parametrize(("answer", "second", "delay", "outcome", "ran"), BROWSING)
def test_a_browser_keeps_its_own_copies(
    answer: dict[str, Any], second: dict[str, Any], delay: str, outcome: str, ran: bool
) -> None:
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": {"text": "ok", **answer}}}]
    call = {"send": "GET /", "caller": "page"}
    record = replay(make_pipeline([], routes=routes), call, {**call, **second, "after": delay}, callers=PAGE)[1]
    assert (record["outcome"], record["handler_reached"]) == (outcome, ran)
    assert record["browser"]["verdict"] == "readable"
    assert record["answered_by"] == ("handler" if ran else "caller")


def test_a_browser_validates_what_is_stale_and_forgets_what_it_writes_to() -> None:
    routes = [
        {"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": says("max-age=60") | {"text": "ok"}}},
        {"id": "w", "at": "POST /", "access": "everyone", "handler": {"answer": {"status": 204}}},
    ]
    call = {"send": "GET /", "caller": "page"}
    records = replay(
        make_pipeline([REVALIDATES], routes=routes),
        call,
        {**call, "after": "61s"},
        {**call, "after": "59s"},
        {**call, "send": "POST /"},
        call,
        callers=PAGE,
    )
    assert [r["outcome"] for r in records] == ["handled", "handled", "from-caller-cache", "handled", "handled"]
    assert records[1]["response"]["status"] == 304
    assert records[2]["response"]["body"] == "ok"


def test_cors_holds_for_copies_too() -> None:
    """A copy that was stored for one way of asking is checked again for another."""
    cors = {"id": "browsers", "kind": "cors", "allow-origins": "*"}
    routes = [
        {"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": says("max-age=60") | {"text": "ok"}}}
    ]
    callers = {"page": {"kind": "browser", "origin": "https://other.example"}}
    call = {"send": "GET /", "caller": "page"}
    records = replay(make_pipeline([cors], routes=routes), call, {**call, "credentials": "include"}, callers=callers)
    assert (records[1]["outcome"], records[1]["browser"]["why"]) == ("from-caller-cache", "wildcard-with-credentials")
