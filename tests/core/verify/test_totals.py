"""Totals of many requests, against a second count over what was recorded of each; and parts add up to the whole."""

from __future__ import annotations

from collections import Counter
from random import Random
from typing import Any

import pytest

from conftest import make_pipeline
from patient_usher import RunState, Trace
from patient_usher.core.verify.exchange_table import rows_of
from patient_usher.core.verify.run import Judged, run
from patient_usher.core.verify.totals import Totals

STAGES: list[dict[str, Any]] = [
    {"id": "throttle", "kind": "rate-limit", "quota": 5, "window": "10s", "per": ["address"]},
    {"id": "bucket", "kind": "rate-limit", "algorithm": "token-bucket", "quota": 3, "window": "5s", "per": ["address", "route"]},
    {"id": "shelf", "kind": "cache"}, {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}]}, {"id": "net", "kind": "error-handler"},
    {"id": "late", "kind": "timeout", "after": "50ms"}, {"id": "gate", "kind": "decide", "cases": [{"when": {"query": {"x": "1"}}, "then": "nothing"}]},
]  # fmt: skip
ROUTES: list[dict[str, Any]] = [
    {"id": "tides", "at": "GET /tides", "access": "everyone", "cache": "5s", "handler": {"answer": {"text": "high"}, "busy-for": "80ms"}},
    {"id": "berths", "at": "GET /berths", "handler": {"answer": {"text": "free"}}}, {"id": "boom", "at": "GET /boom", "access": "everyone", "handler": {"raise": "Oops"}},
]  # fmt: skip
COUNTED = ("requests", "exchanges", "failed", "handled", "first", "last", "statuses", "refusals", "callers", "callers_refused", "routes", "routes_refused", "limits", "caches", "hits", "resets")  # fmt: skip


def days(random: Random) -> list[Judged]:
    """Two traces, one after the other; the second may have started first."""
    stages = random.sample(STAGES, random.randint(1, len(STAGES)))
    pipeline = make_pipeline(stages, routes=ROUTES, accounts={"maren": {"api-keys": ["marens-made-up-key"]}})
    found = []
    for day in random.sample(["2031-05-01T00:00:00Z", "2031-05-02T00:00:00Z"], 2):
        sent, at = [], 0
        for _ in range(80):
            at += random.choice([0, 100, 900, 4000])
            line = random.choice(["GET /tides", "GET /tides?x=1", "GET /berths", "GET /boom", "GET /none"])
            row: dict[str, Any] = {"send": line, "at": f"{at}ms", "address": f"192.0.2.{random.randrange(4)}"}
            if random.random() < 0.2:
                row["sign"] = {"api-key": "maren"}
            if random.random() < 0.2:
                row["expect"] = {"status": 200}
            sent.append(row)
        found += run(RunState(pipeline), Trace.of(*sent, base="https://a.example", starts=day).bound(pipeline.compiled))
    return found


@pytest.mark.parametrize("seed", range(12))
def test_totals_are_those_of_the_rows(seed: int) -> None:
    judged = days(Random(seed))
    whole = Totals()
    for one in judged:
        whole.add(one)
    rows = [row for one in judged for row in rows_of(one.send, one.starts)]
    took = sorted(x.finished - x.at for one in judged for x in one.send.exchanges)
    assert (whole.requests, whole.exchanges) == (160, len(rows))
    assert whole.failed == sum(one.mark == "failed" for one in judged)
    assert whole.handled == sum(row["handler_reached"] for row in rows)
    assert whole.statuses == Counter(row["status"] for row in rows)
    assert whole.callers == Counter(row["address"] for row in rows)
    assert whole.callers_refused == Counter(row["address"] for row in rows if row["refused_by"] is not None)
    assert whole.routes == Counter(row["route"] or "no route" for row in rows)
    assert whole.refusals == Counter((row["refused_by"], row["why"]) for row in rows if row["refused_by"] is not None)
    limited = [row for row in rows if row["limit"] is not None and row["refused_by"] == row["limit"]]
    assert whole.limits == Counter((row["limit"], row["limit_for"]) for row in limited)
    assert sum(count for (_, state), count in whole.caches.items() if state == "hit") == sum(row["cache"] == "hit" for row in rows) == whole.hits.total()  # fmt: skip
    exchanges = [x for one in judged for x in one.send.exchanges]
    assert (whole.first, whole.last) == (min(x.at for x in exchanges), max(x.finished for x in exchanges))
    for percent in (50, 95, 99):
        exact = took[max(-(-len(took) * percent // 100) - 1, 0)]
        assert abs(whole.latency(percent) - exact) <= max(exact / 1000, 1)


@pytest.mark.parametrize("seed", range(6))
def test_parts_add_up(seed: int) -> None:
    random = Random(100 + seed)
    judged = days(random)
    whole, parts = Totals(), [Totals() for _ in range(3)]
    for one in judged:
        whole.add(one)
        random.choice(parts).add(one)
    added = Totals()
    for part in random.sample(parts, 3):
        added.take(part)
    assert {name: getattr(added, name) for name in COUNTED} == {name: getattr(whole, name) for name in COUNTED}
    assert [added.latency(percent) for percent in (50, 95, 99)] == [whole.latency(percent) for percent in (50, 95, 99)]
