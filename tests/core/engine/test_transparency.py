"""Three laws over pipelines, requests and orders at random: a cache is seen by nobody, both flows answer alike, and whether
anybody looks changes nothing.
"""

from __future__ import annotations

import os
from random import Random
from typing import Any

import pytest
from hypothesis import given, settings
from msgspec import structs

from conftest import DEMO, STORIES, Record, header, make_pipeline, replay
from drawn import pipelines
from patient_usher import Pipeline, Trace, World, load
from patient_usher.core.http.conditional import evaluate
from patient_usher.core.http.fields import Fields
from patient_usher.core.verify.record import Record as VerifiedRecord
from patient_usher.core.verify.run import run

SEEDS = range(int(os.environ.get("USHER_LAWS", "40")))
A, B = "https://a.example", "https://b.example"
TEXT = "the harbour bell rings twice at low water, and once at high"
OLD, NEW = "Thu, 01 May 2031 08:00:00 GMT", "Thu, 01 May 2031 09:00:00 GMT"

STAGES: list[dict[str, Any]] = [
    {"id": "pages", "kind": "cors", "allow-origins": [A], "expose-headers": ["x-told"]},
    {"id": "anyone", "kind": "cors", "allow-origins": ["*"]},
    {"id": "squeeze", "kind": "compress", "from-size": 1},
    {"id": "squeeze-br", "kind": "compress", "from-size": 30, "codings": ["br"]},
    {"id": "tags", "kind": "conditional"},
    {"id": "strong-tags", "kind": "conditional", "etag": "strong"},
    {"id": "drops", "kind": "header-fields", "on-request": {"drop": ["Accept-Encoding"]}},
    {"id": "homeless", "kind": "header-fields", "on-request": {"drop": ["Origin"]}},
    {"id": "told", "kind": "header-fields", "on-answer": {"put": {"X-Told": "yes"}}},
    {"id": "net", "kind": "error-handler"},
    {"id": "late", "kind": "timeout", "after": "9s"},
]
CACHES = [
    {"id": "shelf", "kind": "cache"},
    {"id": "shelf", "kind": "cache", "stores": "any-cacheable"},
    {"id": "shelf", "kind": "cache", "status-field": True},
]


def answer(**more: Any) -> dict[str, Any]:
    return {"answer": {"text": TEXT, **more}}


ROUTES: list[dict[str, Any]] = [
    {"id": "plain", "at": "GET /plain", "cache": {"shared": "60s"}, "handler": answer()},
    {"id": "lang", "at": "GET /lang", "cache": {"shared": "60s"}, "handler": answer(text="said in ${header.x-lang}", headers={"Vary": "X-Lang"})},
    {"id": "said", "at": "GET /said", "handler": answer(headers={"Cache-Control": "max-age=60", "ETag": '"v1"', "Last-Modified": OLD})},
    {"id": "short", "at": "GET /short", "cache": {"shared": "1s"}, "handler": answer(headers={"ETag": '"v2"', "Last-Modified": OLD, "Vary": "X-Lang"})},
    {"id": "parts", "at": "GET /parts", "cache": {"shared": "60s"}, "handler": {**answer(headers={"Last-Modified": OLD}), "ranges": True}},
    {"id": "empty", "at": "GET /empty", "cache": {"shared": "60s"}, "handler": {"answer": {"status": 204}}},
    {"id": "gone", "at": "GET /gone", "cache": {"shared": "60s"}, "handler": answer(status=404)},
    {"id": "write", "at": "POST /plain", "handler": answer(status=201)},
]  # fmt: skip
FIELDS: dict[str, list[str | None]] = {
    "Origin": [None, None, A, B],
    "Accept-Encoding": [None, "gzip", "br", "gzip, br", "identity", "gzip;q=0, *"],
    "If-None-Match": [None, None, None, '"v1"', 'W/"v2"', "*", '"none"'],
    "If-Modified-Since": [None, None, None, NEW],
    "Range": [None, None, None, "bytes=0-9", "bytes=50-", "bytes=900-"],
    "X-Lang": [None, "en", "de"],
    "Cache-Control": [None, None, None, "no-cache", "max-age=0"],
}


def one_of_a_kind(random: Random, count: int) -> list[dict[str, Any]]:
    """Some stages: of two that mark answers the last word has another one in each flow, as it is meant."""
    found: dict[str, dict[str, Any]] = {}
    for stage in random.sample(STAGES, count):
        found.setdefault(
            "header-fields"
            if stage["id"] == "told"
            else stage["kind"]
            if stage["kind"] != "header-fields"
            else stage["id"],
            stage,
        )
    return list(found.values())


def requests(random: Random) -> list[dict[str, Any]]:
    found = []
    paths = random.sample([route["at"].split()[1] for route in ROUTES], 3)
    for _ in range(14):
        method = random.choice(["GET"] * 6 + ["HEAD"] * 2 + ["POST"])
        path = "/plain" if method == "POST" else random.choice(paths)
        fields = {name: value for name, values in FIELDS.items() if (value := random.choice(values)) is not None}
        if method == "POST":
            fields = {name: value for name, value in fields.items() if name in ("Origin", "Accept-Encoding")}
        found.append({"send": f"{method} {path}", "headers": fields, "after": random.choice(["0s", "300ms", "2s"])})
    return found


SEEN = ("vary", "etag", "content-encoding", "content-range", "access-control-allow-origin", "access-control-expose-headers", "x-told", "last-modified", "content-type", "accept-ranges")  # fmt: skip


def seen(record: Record) -> dict[str, Any]:
    """What the caller can see: status, content, tags, Vary, marks."""
    response = record["response"]
    assert response is not None
    fields: dict[str, Any] = {name: header(record, name) for name in SEEN}
    fields["vary"] = sorted({part.strip().lower() for part in (fields["vary"] or "").split(",")} - {""})
    return {"status": response["status"], "body": response["body"], **fields}


def conditional(request: dict[str, Any], answer: dict[str, Any]) -> bool:
    """Whether a 304 is right for a request, where the plain answer is this one (RFC 9110 13.2.2)."""
    fields = Fields([(name, value) for name, value in request["headers"].items()])
    modified = answer["last-modified"] or "Wed, 01 Jan 2031 00:00:00 GMT"  # or when the copy was made (RFC 9111 4.3.2)
    return answer["status"] == 200 and evaluate("GET", fields, answer["etag"], modified, now=0) == 304


def differing(one: list[Record], other: list[Record], sent: list[dict[str, Any]], where: object) -> None:
    """Nothing that a caller sees differs; but whoever holds a copy may answer 304 where that is right (RFC 9111 4.3.2)."""
    assert len(one) == len(other)
    for number, (a, b) in enumerate(zip(one, other, strict=True)):
        ours, theirs = seen(a), seen(b)
        names = set(ours)
        if {ours["status"], theirs["status"]} == {200, 304}:
            whole = ours if ours["status"] == 200 else theirs
            assert conditional(sent[number], whole), (where, number, sent[: number + 1])
            names -= {"status", "body", "content-encoding", "content-type", "last-modified", "accept-ranges"}
        apart = {name: (ours[name], theirs[name]) for name in sorted(names) if ours[name] != theirs[name]}
        assert not apart, (apart, number, where, sent[: number + 1])


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
    for judged in run(World(pipeline), trace.bound(pipeline.blueprint), journeys=journeys):
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
