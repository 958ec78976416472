"""Rate limits: the algorithms' laws, the stage's answers, instances, overlap and timeouts."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import header, make_pipeline, replay, steps, text
from patient_usher import Trace
from patient_usher import replay as replayed
from patient_usher.core.http.limits import ALGORITHMS, NEVER, AtOnce, Limiter

S = 1_000_000
START = 1_924_992_000 * S
WINDOWED = [name for name in ALGORITHMS if name != "at-once"]

# Arrivals: gaps in microseconds and costs; gaps cluster about the window, where mistakes hide.
ARRIVALS = st.lists(
    st.tuples(st.one_of(st.just(0), st.integers(0, 40), st.integers(90, 110), st.integers(0, 300)), st.integers(1, 3)),
    max_size=60,
)
QUOTAS = st.integers(1, 7)
WINDOW = 100


def accepted(limiter: Limiter, arrivals: list[tuple[int, int]], key: str = "k") -> list[tuple[int, int]]:
    """The times and costs that were let through."""
    now, passed = START, []
    for gap, cost in arrivals:
        now += gap
        if limiter.take(key, now, cost) == 0:
            passed.append((now, cost))
    return passed


def most_in_any_window(passed: list[tuple[int, int]]) -> int:
    return max((sum(c for t, c in passed if at <= t < at + WINDOW) for at, _ in passed), default=0)


@given(QUOTAS, ARRIVALS)
def test_sliding_log_lets_no_more_than_the_quota_through_in_any_window(
    quota: int, arrivals: list[tuple[int, int]]
) -> None:
    assert most_in_any_window(accepted(ALGORITHMS["sliding-log"](quota, WINDOW), arrivals)) <= quota


@given(QUOTAS, ARRIVALS)
def test_fixed_window_lets_no_more_than_twice_the_quota_through_in_any_window(
    quota: int, arrivals: list[tuple[int, int]]
) -> None:
    passed = accepted(ALGORITHMS["fixed-window"](quota, WINDOW), arrivals)
    assert most_in_any_window(passed) <= 2 * quota
    by_window: dict[int, int] = {}
    for at, cost in passed:
        by_window[at // WINDOW] = by_window.get(at // WINDOW, 0) + cost
    assert all(used <= quota for used in by_window.values())


@given(QUOTAS, st.integers(1, 9), ARRIVALS)
def test_buckets_let_no_more_than_burst_plus_rate_through_in_any_time(
    quota: int, burst: int, arrivals: list[tuple[int, int]]
) -> None:
    for name in ("token-bucket", "leaky-bucket"):
        passed = accepted(ALGORITHMS[name](quota, WINDOW, burst), arrivals)
        for number, (begin, _) in enumerate(passed):
            used = 0
            for at, cost in passed[number:]:
                used += cost
                assert used <= burst + Fraction(quota * (at - begin), WINDOW)


@given(QUOTAS, ARRIVALS)
def test_the_sliding_counter_keeps_its_own_estimate_within_the_quota(
    quota: int, arrivals: list[tuple[int, int]]
) -> None:
    passed = accepted(ALGORITHMS["sliding-counter"](quota, WINDOW), arrivals)
    for number, (at, _) in enumerate(passed):
        window = at // WINDOW
        now = sum(cost for t, cost in passed[: number + 1] if t // WINDOW == window)
        before = sum(cost for t, cost in passed if t // WINDOW == window - 1)
        assert Fraction(before * (WINDOW - at % WINDOW), WINDOW) + now <= quota


@given(st.sampled_from(WINDOWED), QUOTAS, ARRIVALS, st.integers(1, 3))
@settings(max_examples=300)
def test_whoever_waits_as_told_is_accepted_and_not_a_microsecond_earlier(
    name: str, quota: int, arrivals: list[tuple[int, int]], cost: int
) -> None:
    limiter = ALGORITHMS[name](quota, WINDOW)
    accepted(limiter, arrivals)
    now = START + sum(gap for gap, _ in arrivals)
    wait = limiter.peek("k", now, cost)
    if cost > quota:
        assert wait == NEVER
        return
    if wait > 0:
        assert limiter.peek("k", now + wait - 1, cost) > 0
    assert limiter.peek("k", now + wait, cost) == 0
    assert limiter.take("k", now + wait, cost) == 0


@given(
    st.sampled_from(list(ALGORITHMS)),
    QUOTAS,
    st.lists(st.tuples(st.integers(0, 60), st.sampled_from("abc")), max_size=40),
)
def test_partitions_do_not_touch_one_another(name: str, quota: int, arrivals: list[tuple[int, str]]) -> None:
    together, now, verdicts = ALGORITHMS[name](quota, WINDOW), START, []
    times = []
    for gap, key in arrivals:
        now += gap
        times.append((now, key))
        verdicts.append(together.take(key, now))
    for key in "abc":
        alone = ALGORITHMS[name](quota, WINDOW)
        own = [alone.take(key, at) for at, other in times if other == key]
        assert own == [verdict for verdict, (_, other) in zip(verdicts, times, strict=True) if other == key]


@given(st.sampled_from(WINDOWED), QUOTAS, ARRIVALS)
def test_asking_and_then_counting_is_taking(name: str, quota: int, arrivals: list[tuple[int, int]]) -> None:
    taking, asking = ALGORITHMS[name](quota, WINDOW), ALGORITHMS[name](quota, WINDOW)
    now = START
    for gap, cost in arrivals:
        now += gap
        wait = asking.peek("k", now, cost)
        if wait == 0:
            asking.charge("k", now, cost)
        assert taking.take("k", now, cost) == wait
        assert taking.view("k", now) == asking.view("k", now)
        assert 0 <= taking.view("k", now)[0] <= quota


@given(st.sampled_from(WINDOWED), QUOTAS, ARRIVALS)
def test_what_is_counted_beyond_the_quota_leaves_nothing(
    name: str, quota: int, arrivals: list[tuple[int, int]]
) -> None:
    limiter = ALGORITHMS[name](quota, WINDOW)
    now = START
    for gap, cost in arrivals:
        now += gap
        limiter.charge("k", now, cost)
        left, reset = limiter.view("k", now)
        assert 0 <= left <= quota
        assert reset >= 0


@pytest.mark.parametrize("name", [name for name in WINDOWED if name != "sliding-counter"])  # that one estimates
def test_nothing_drifts_over_a_year(name: str) -> None:
    limiter = ALGORITHMS[name](7, 3 * S)
    passed = sum(limiter.take("k", START + n * (3 * S // 7 + 1)) == 0 for n in range(20_000))
    assert passed == 20_000  # just slower than the quota: always accepted
    far = START + 365 * 86_400 * S
    assert [limiter.take("k", far) for _ in range(8)].count(0) == 7


@pytest.mark.parametrize("name", WINDOWED)
def test_memory_holds_live_partitions_only(name: str) -> None:
    limiter = ALGORITHMS[name](2, S)
    most = 0
    for number in range(30_000):
        limiter.take(f"k{number}", START + number * 1000)  # a thousand are live at any time
        most = max(most, len(limiter.states))
    assert most <= 5_000


def test_places_come_free_one_by_one() -> None:
    limiter = AtOnce(2, 1)
    assert [limiter.take("k", START) for _ in range(3)] == [0, 0, NEVER]
    limiter.leave("k")
    assert limiter.view("k", START) == (1, 0)
    limiter.leave("k")
    assert limiter.states == {}


# The stage.

ROUTES = [
    {"id": "r", "at": "GET /", "access": "everyone", "handler": text()},
    {"id": "dear", "at": "GET /dear", "cost": 5, "handler": text()},
    {"id": "slow", "at": "GET /slow", "handler": {**text(), "busy-for": "2s"}},
    {"id": "broken", "at": "GET /broken", "handler": {"raise": "Oops"}},
    {"id": "sign", "at": "POST /sign", "access": "everyone", "handler": text()},
]


def limit(**options: Any) -> dict[str, Any]:
    return {"id": "limit", "kind": "rate-limit", "quota": 2, "window": "60s", **options}


def statuses(stages: list[Any], *requests: dict[str, Any], **more: Any) -> list[int]:
    return [r["response"]["status"] for r in replay(make_pipeline(stages, routes=ROUTES, **more), *requests)]


def test_retry_after_rounds_up() -> None:
    bucket = limit(algorithm="token-bucket", quota=30)
    records = replay(
        make_pipeline([bucket], routes=ROUTES),
        {"send": "GET /", "times": 31},
        {"send": "GET /", "after": "1600ms"},
        {"send": "GET /", "after": "400ms"},
    )
    assert [r["response"]["status"] for r in records[-3:]] == [429, 429, 200]
    assert [header(r, "retry-after") for r in records[-3:]] == ["2", "1", None]


def test_an_arrival_at_the_windows_end_is_in_the_next() -> None:
    assert statuses(
        [limit()], {"send": "GET /", "times": 3}, {"send": "GET /", "at": "59999999us"}, {"send": "GET /", "at": "60s"}
    ) == [200, 200, 429, 429, 200]


def test_the_fields() -> None:
    both = limit(algorithm="sliding-log", fields=["ratelimit", "x-ratelimit"])
    first, _, third = replay(
        make_pipeline([both], routes=ROUTES),
        {"send": "GET /"},
        {"send": "GET /", "after": "10s"},
        {"send": "GET /", "after": "10s"},
    )
    assert header(first, "ratelimit-policy") == '"limit";q=2;w=60'
    assert [header(r, "ratelimit") for r in (first, third)] == ['"limit";r=1;t=60', '"limit";r=0;t=50']
    assert [header(third, f"x-ratelimit-{name}") for name in ("limit", "remaining", "reset")] == ["2", "0", "50"]
    assert header(third, "retry-after") == "40"
    assert third["rates"] == [{"stage": "limit", "for": "192.0.2.1", "quota": 2, "remaining": 0, "reset": 50}]
    bare = replay(make_pipeline([limit(fields=[])], routes=ROUTES), {"send": "GET /", "times": 3})[-1]
    assert not any("ratelimit" in name.lower() for name, _ in bare["response"]["headers"])
    assert header(bare, "retry-after") is not None


def test_several_limits_tell_of_themselves() -> None:
    outer = limit(quota=5) | {"id": "outer"}
    record = replay(make_pipeline([outer, limit()], routes=ROUTES), {"send": "GET /"})[0]
    assert header(record, "ratelimit-policy") == '"limit";q=2;w=60, "outer";q=5;w=60'


KEY = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}], "without-credential": "pass-on"}
ACCOUNTS = {"a": {"api-keys": "ka", "roles": "gold"}, "b": {"api-keys": "kb"}}


def by(account: str, **more: Any) -> dict[str, Any]:
    return {"send": "GET /", "sign": {"api-key": account}, **more}


PARTITIONS: list[tuple[list[Any], list[dict[str, Any]], list[int]]] = [
    ([KEY, limit(per=["identity"], quota=1)], [by("a"), by("b"), by("a"), {"send": "GET /"}, {"send": "GET /"}], [200, 200, 429, 200, 429]),
    ([limit(per=["identity"], quota=1), KEY], [by("a"), by("b")], [200, 429]),
    ([limit(per="route", quota=1)], [{"send": "GET /"}, {"send": "GET /slow"}, {"send": "GET /"}], [200, 200, 429]),
    ([limit(per=["header.X-Boat", "route"], quota=1)], [{"send": "GET /", "headers": {"X-Boat": "1"}}, {"send": "GET /", "headers": {"X-Boat": "2"}}, {"send": "GET /", "headers": {"X-Boat": "1"}}], [200, 200, 429]),
    ([limit(per="address", quota=1)], [{"send": "GET /", "caller": "c"}, {"send": "GET /"}, {"send": "GET /", "caller": "c"}], [200, 200, 429]),
    ([KEY, limit(quota=1, tiers=[{"when": {"role": "gold"}, "quota": 3}])], [by("a", times=4), by("b", times=2)], [200, 200, 200, 429, 200, 429]),
    ([limit(quota=6)], [{"send": "GET /dear"}, {"send": "GET /"}, {"send": "GET /"}], [200, 200, 429]),
    ([limit(quota=4)], [{"send": "GET /dear"}, {"send": "GET /"}], [429, 200]),
    ([limit(quota=4, cost=2)], [{"send": "GET /", "times": 3}], [200, 200, 429]),
    (["read-body", limit(quota=1, per="body.name")], [{"send": "POST /sign", "json": {"name": name}} for name in ("ann", "bo", "ann", ["bo"])], [200, 200, 429, 200]),
    ([limit(quota=1, per="body.name"), "read-body"], [{"send": "POST /sign", "json": {"name": name}} for name in ("ann", "bo")], [200, 429]),
]  # fmt: skip


@pytest.mark.parametrize(("stages", "requests", "expected"), PARTITIONS)
def test_partitions_tiers_and_costs(stages: list[Any], requests: list[dict[str, Any]], expected: list[int]) -> None:
    assert (
        statuses(stages, *requests, accounts=ACCOUNTS, refuse="answer") == expected
        if "c" not in str(requests)
        else True
    )
    records = replay(
        make_pipeline(stages, routes=ROUTES, accounts=ACCOUNTS), *requests, callers={"c": {"address": "203.0.113.5"}}
    )
    assert [r["response"]["status"] for r in records] == expected


def test_a_route_costs_each_limit_what_it_says() -> None:
    routes = [*ROUTES, {"id": "part", "at": "GET /part", "cost": {"other": 2}, "handler": text()}]
    service = make_pipeline([limit(quota=9), limit(quota=9) | {"id": "other"}], routes=routes)
    record = replay(service, {"send": "GET /part"}, {"send": "GET /"}, {"send": "GET /part"})[-1]
    assert {use["stage"]: use["remaining"] for use in record["rates"]} == {"limit": 6, "other": 4}


def test_a_cost_over_the_quota_gets_no_retry_after() -> None:
    record = replay(make_pipeline([limit(quota=4)], routes=ROUTES), {"send": "GET /dear"})[0]
    assert (record["response"]["status"], header(record, "retry-after")) == (429, None)


def test_failures_only() -> None:
    net = {"id": "net", "kind": "error-handler"}
    requests = [{"send": "GET /", "times": 5}, {"send": "GET /broken", "times": 2}, {"send": "GET /"}]
    broken = limit(counts="failures", failures=[500])
    assert statuses([net, broken], *requests) == [200] * 5 + [500, 500, 429]
    assert statuses([broken, net], *requests) == [200] * 5 + [500, 500, 429]
    assert statuses([limit(counts="failures"), net], *requests) == [200] * 5 + [500, 500, 200]


def test_too_many_at_once() -> None:
    at_once = {"id": "limit", "kind": "rate-limit", "algorithm": "at-once", "quota": 1, "per": "route"}
    records = replay(make_pipeline([at_once], routes=ROUTES), {"send": "GET /slow", "times": 5, "every": "1s"})
    assert [r["response"]["status"] for r in records] == [200, 429, 200, 429, 200]
    assert (records[1]["why"], header(records[1], "retry-after")) == ("too-many-at-once", None)


def test_a_place_is_free_again_when_its_holder_crashes() -> None:
    at_once = {"id": "limit", "kind": "rate-limit", "algorithm": "at-once", "quota": 1}
    routes = [{"id": "r", "at": "GET /", "handler": {"busy-for": "1s", "raise": "Oops"}}]
    records = replay(make_pipeline([at_once], routes=routes), {"send": "GET /"}, {"send": "GET /", "at": "1s"})
    assert [r["outcome"] for r in records] == ["crashed", "crashed"]


def test_a_place_is_free_again_after_a_slip_in_front() -> None:
    slip = {
        "id": "slip",
        "kind": "decide",
        "cases": [{"when": {"path": "/slow"}, "then": {"answer-and-continue": {"status": 202}}}],
    }
    at_once = {"id": "limit", "kind": "rate-limit", "algorithm": "at-once", "quota": 1}
    records = replay(
        make_pipeline([slip, at_once], routes=ROUTES),
        {"send": "GET /slow"},
        {"send": "GET /"},
        {"send": "GET /", "at": "2s"},
    )
    assert [r["response"]["status"] for r in records] == [202, 429, 200]


DEPLOYMENTS: list[tuple[dict[str, Any], int]] = [
    ({"instances": 1}, 10), ({"instances": 3}, 30), ({"instances": 3, "shared-state": ["limit"]}, 10),
    ({"instances": 3, "spread": "by-address"}, 10),
]  # fmt: skip


@pytest.mark.parametrize(("deployment", "through"), DEPLOYMENTS)
def test_instances_count_for_themselves_unless_state_is_shared(deployment: dict[str, Any], through: int) -> None:
    service = make_pipeline([limit(quota=10)], routes=ROUTES, deployment=deployment)
    records = replay(service, {"send": "GET /", "times": 60})
    assert sum(r["response"]["status"] == 200 for r in records) == through
    assert len({r["instance"] for r in records}) == (
        deployment["instances"] if deployment.get("spread") != "by-address" else 1
    )


def test_a_random_spread_is_seeded() -> None:
    service = make_pipeline([], routes=ROUTES, deployment={"instances": 4, "spread": "random"})
    trace = Trace.of({"send": "GET /", "times": 40})

    def instances(seed: int) -> list[int]:
        return [sent.final.instance for sent in replayed(service, trace, seed=seed)]

    assert instances(1) == instances(1) != instances(2)


@given(st.sampled_from(WINDOWED), st.lists(st.integers(0, 30), min_size=1, max_size=25), st.integers(1, 4))
@settings(max_examples=40, deadline=None)
def test_shared_state_over_many_instances_is_one_instance(name: str, gaps: list[int], instances: int) -> None:
    requests, at = [], 0
    for gap in gaps:
        at += gap
        requests.append({"send": "GET /", "at": f"{at}s"})
    stage = limit(algorithm=name, quota=3)
    deployment = {"instances": instances, "shared-state": ["limit"]}
    one, many = (replay(make_pipeline([stage], routes=ROUTES, deployment=d), *requests) for d in ({}, deployment))
    assert [r["response"] for r in one] == [r["response"] for r in many]


def test_counts_go_on_when_the_quota_is_changed() -> None:
    records = replay(
        make_pipeline([limit(quota=2)], routes=ROUTES),
        {"send": "GET /", "times": 3}, {"change": {"stages": {"limit": {"quota": 4}}}}, {"send": "GET /", "times": 3},
    )  # fmt: skip
    assert [r["response"]["status"] for r in records] == [200, 200, 429, 200, 200, 429]


# Timeouts.

NET = {"id": "net", "kind": "error-handler", "write-as": "json"}
LATE = {"id": "late", "kind": "timeout", "after": "1s"}
MARK = {"id": "mark", "kind": "header-fields", "on-answer": {"put": {"X-Mark": "1"}}}
TIMEOUTS: list[tuple[str, list[Any], dict[str, Any], int, str | None, list[str]]] = [
    ("answered at once", [MARK, LATE], {}, 504, "late", ["out late answered", "out mark continued"]),
    ("raised and caught", [MARK, NET, LATE], {"refuse": "raise"}, 504, "net", ["out late raised", "error net caught", "out mark continued"]),
    ("raised and not caught", [MARK, LATE], {"refuse": "raise"}, 500, "server", ["out late raised", "error mark skipped"]),
    ("what is behind leaves no frame", [LATE, MARK], {}, 504, "late", ["out late answered"]),
    ("sequential, raised and caught", [MARK, LATE, "routes", NET], {"flow": "sequential", "refuse": "raise"}, 504, "net", ["out late raised", "error net caught"]),
    ("sequential, answered", [MARK, LATE, "routes"], {"flow": "sequential"}, 504, "late", ["out late answered"]),
]  # fmt: skip


@pytest.mark.parametrize(("name", "stages", "more", "status", "by", "left"), TIMEOUTS, ids=[row[0] for row in TIMEOUTS])
def test_timeouts(name: str, stages: list[Any], more: dict[str, Any], status: int, by: str, left: list[str]) -> None:
    record = replay(make_pipeline(stages, routes=ROUTES, **more), {"send": "GET /slow"})[0]
    assert (record["outcome"], record["response"]["status"], record["answered_by"]) == ("timed-out", status, by)
    assert (record["refused_by"], record["why"], record["finished"]) == ("late", "too-slow", 1)
    assert [step for step in steps(record) if not step.startswith("in ")] == left
    assert (record["handler_reached"], record["handler_finished"]) == (True, False)


def test_finishing_exactly_in_time_wins() -> None:
    record = replay(make_pipeline([{**LATE, "after": "2s"}], routes=ROUTES), {"send": "GET /slow"})[0]
    assert (record["outcome"], record["finished"]) == ("handled", 2)


def test_a_timeout_ends_a_stall() -> None:
    stuck = {"id": "stuck", "kind": "decide", "cases": [{"then": "nothing"}]}
    record = replay(make_pipeline([LATE, stuck], routes=ROUTES), {"send": "GET /"})[0]
    assert (record["outcome"], record["response"]["status"], record["finished"]) == ("timed-out", 504, 1)


@pytest.mark.parametrize(("behind", "finished", "logged"), [("cancelled", False, 1), ("runs-on", True, 2)])
def test_work_behind_is_cancelled_or_runs_on(behind: str, finished: bool, logged: int) -> None:
    """The place that the work holds is free when the work ends, not when the answer leaves."""
    at_once = {"id": "places", "kind": "rate-limit", "algorithm": "at-once", "quota": 1}
    service = make_pipeline([{**LATE, "behind": behind}, at_once, "access-log"], routes=ROUTES)
    slow, second = replay(service, {"send": "GET /slow"}, {"send": "GET /"})
    assert slow["handler_finished"] is finished
    assert second["response"]["status"] == (429 if finished else 200)
    assert slow["log"][-1]["at"] == logged


def test_the_inner_of_two_timeouts_comes_first() -> None:
    inner = {**LATE, "id": "inner", "after": "500ms"}
    record = replay(make_pipeline([LATE, inner], routes=ROUTES), {"send": "GET /slow"})[0]
    assert (record["refused_by"], record["finished"]) == ("inner", 0.5)


# Mistakes.

MISTAKES: list[tuple[dict[str, Any], dict[str, Any], str]] = [
    ({"quota": 0}, {}, "'quota' must be at least 1"), ({"quota": -1}, {}, "'quota' must be at least 1"),
    ({"window": "0s"}, {}, "longer than nothing"), ({"window": "-1s"}, {}, "is no duration"), ({"window": None}, {}, "has no window"),
    ({"algorithm": "token-bucket", "burst": 0}, {}, "'burst' must be at least 1"), ({"burst": 3}, {}, "fixed-window has no burst"),
    ({}, {"routes": [{"id": "r", "at": "GET /", "cost": {"limt": 2}, "handler": text()}]}, "there is no limit 'limt'; did you mean 'limit'"),
    ({"algorithm": "at-once"}, {}, "at-once has no window"), ({"per": ["adress"]}, {}, "'adress' says not for whom"),
    ({"tiers": [{"quota": 3}, {"when": {"role": "x"}, "quota": 5}]}, {}, "tier 2 can never apply"),
    ({"tiers": [{"when": {"role": "x"}, "quota": 3}, {"when": {"role": "x"}, "quota": 5}]}, {}, "tier 2 can never apply"),
    ({}, {"deployment": {"instances": 2, "shared-state": ["limt"]}}, "there is no stage 'limt'; did you mean 'limit'"),
    ({}, {"deployment": {"shared-state": ["mark"]}}, "'mark' keeps no state that could be shared"), ({}, {"deployment": {"instances": 0}}, "at least 1"),
]  # fmt: skip


@pytest.mark.parametrize(("options", "more", "what"), MISTAKES)
def test_mistakes(options: dict[str, Any], more: dict[str, Any], what: str) -> None:
    from patient_usher.core.model.document import Unusable

    with pytest.raises(Unusable) as caught:
        make_pipeline([limit(**options), MARK], **{"routes": ROUTES, **more})
    assert what in str(caught.value)


def test_a_cost_over_the_quota_is_a_warning() -> None:
    service = make_pipeline([limit(quota=4)], routes=ROUTES)
    assert [warning.what for warning in service.warnings] == [
        "warning: the cost 5 is over the quota 4 of 'limit': the route can never pass"
    ]
