"""Three laws over pipelines, requests and orders at random: a cache is seen by nobody, both flows answer alike, and whether
anybody looks changes nothing.
"""

from __future__ import annotations

from random import Random
from typing import Any

import pytest
from hypothesis import given, settings
from msgspec import structs

from conftest import DEMO, STORIES, make_pipeline, replay
from drawn import pipelines
from patient_usher import Pipeline, RunState, Trace, load
from patient_usher.core.verify.record import Record as VerifiedRecord
from patient_usher.core.verify.run import run
from stage_mixes import CACHES, ROUTES, SEEDS, A, differing, one_of_a_kind, requests


@pytest.mark.parametrize("seed", SEEDS)
def test_a_cache_is_seen_by_nobody(seed: int) -> None:
    random = Random(seed)
    stages = one_of_a_kind(random, random.randint(0, 4))
    at = random.randint(0, len(stages))
    cache = random.choice(CACHES)
    with_it = [*stages[:at], cache, *stages[at:]]
    without = [*stages[:at], {**cache, "enabled": False}, *stages[at:]]
    sent = requests(random)
    for flow in ("nested", "sequential"):
        pair = []
        for listed in (with_it, without):
            order = [*(one for one in listed if one["kind"] != "error-handler"), "routes", *(one for one in listed if one["kind"] == "error-handler")] if flow == "sequential" else listed  # fmt: skip
            pipeline = make_pipeline(order, flow=flow, routes=[{"access": "everyone", **route} for route in ROUTES])
            pair.append(replay(pipeline, *sent))
        differing(*pair, sent, (flow, [one["id"] for one in with_it]))


@pytest.mark.parametrize("seed", SEEDS)
def test_both_flows_answer_alike(seed: int) -> None:
    random = Random(1_000_000 + seed)
    stages = [one for one in one_of_a_kind(random, random.randint(1, 5)) if one["kind"] != "error-handler"]
    if random.random() < 0.6:
        stages.insert(random.randint(0, len(stages)), random.choice(CACHES))
    sent = requests(random)
    routes = [{"access": "everyone", **route} for route in ROUTES]
    nested = replay(make_pipeline(stages, routes=routes), *sent)
    in_order = replay(make_pipeline([*stages, "routes"], routes=routes, flow="sequential"), *sent)
    differing(nested, in_order, sent, [one["id"] for one in stages])


def came(pipeline: Pipeline, trace: Trace, *, journeys: bool) -> list[VerifiedRecord]:
    """Every exchange, but for what is only kept where somebody looks."""
    found = []
    for judged in run(RunState(pipeline), trace.bound(pipeline.compiled), journeys=journeys):
        for record in judged.records():
            errors = [structs.replace(error, because=None) for error in record.errors]
            found.append(structs.replace(record, journey=[], log=[], errors=errors))
    return found


def same_unwatched(pipeline: Pipeline, trace: Trace) -> int:
    """Whether anybody looks changes nothing; how many exchanges there were."""
    watched, alone = (came(pipeline, trace, journeys=journeys) for journeys in (True, False))
    assert len(watched) == len(alone)
    for one, other in zip(watched, alone, strict=True):
        assert one == other
    return len(watched)


@given(pipelines())
@settings(max_examples=100, deadline=None)
def test_nobody_need_look_at_pipelines_of_all_kinds(made: tuple[list[Any], dict[str, Any]]) -> None:
    stages, more = made
    sent = [{"send": "GET /", "times": 2, "every": "300ms"}, {"send": "GET /lost"}, {"send": "HEAD /"}, {"send": "GET /", "caller": "c"}]  # fmt: skip
    trace = Trace.of(*sent, base=A, callers={"c": {"patience": "500ms"}})
    assert same_unwatched(make_pipeline(stages, **more), trace) == 5


@pytest.mark.parametrize("seed", SEEDS)
def test_nobody_need_look_at_stages_that_meet(seed: int) -> None:
    random = Random(2_000_000 + seed)
    stages = [*one_of_a_kind(random, random.randint(1, 6)), random.choice(CACHES)]
    random.shuffle(stages)
    order, flow = random.choice([(stages, "nested"), ([*stages, "routes"], "sequential")])
    pipeline = make_pipeline(order, flow=flow, routes=[{"access": "everyone", **route} for route in ROUTES])
    assert same_unwatched(pipeline, Trace.of(*requests(random), base=A)) == 14


@pytest.mark.parametrize(("name", "story"), STORIES)
def test_nobody_need_look_at_demos(name: str, story: str) -> None:
    """What is expected is taken away: where something is, a journey is kept in any case."""
    doc = Trace.read(DEMO / f"{story}.yaml").document()
    sent = [{key: value for key, value in one.items() if not key.startswith("expect")} for one in doc.pop("requests")]
    trace = Trace.of(*sent, **{key: value for key, value in doc.items() if key not in ("patient-usher", "expect")})
    assert same_unwatched(load(DEMO / f"{name}.yaml"), trace) >= sum("send" in one for one in sent)
