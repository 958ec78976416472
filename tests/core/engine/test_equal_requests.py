"""Laws over pipelines and requests at random: what the standards call the same request gets the same answer."""

from __future__ import annotations

from collections.abc import Callable
from random import Random
from typing import Any

import pytest

from conftest import Record, header, make_pipeline, records, replay
from patient_usher import Pipeline, RunState, Trace
from stage_mixes import CACHES, OLD, ROUTES, SEEDS, SEEN, TEXT, A, answer, differing, one_of_a_kind, requests

Sent = list[dict[str, Any]]
MORE: list[dict[str, Any]] = [
    {"id": "tag", "at": "GET /tag", "cache": {"shared": "60s"}, "handler": {**answer(headers={"ETag": '"v1"', "Content-Digest": "sha-256=:AAAA:"}), "ranges": True}},
    {"id": "bare", "at": "GET /bare", "cache": {"shared": "60s"}, "handler": {**answer(), "ranges": True}},
    {"id": "other", "at": "GET /other", "handler": {**answer(status=203, headers={"ETag": '"v1"'}), "ranges": True}},
]  # fmt: skip
LIMITED: list[dict[str, Any]] = [
    {"id": "few", "kind": "rate-limit", "quota": 5, "window": "4s", "algorithm": "sliding-log"},
    {"id": "drips", "kind": "rate-limit", "quota": 4, "window": "10s", "algorithm": "token-bucket", "per": ["header.x-lang"]},
    {"id": "one", "kind": "rate-limit", "quota": 1, "algorithm": "at-once"},
]  # fmt: skip


def drawn(random: Random, *, limits: bool = False, cached: bool = True) -> tuple[Callable[..., Pipeline], Sent]:
    """A pipeline at random, and requests; what makes the pipeline takes more of its keys."""
    stages = one_of_a_kind(random, random.randint(0, 5))
    if cached and random.random() < 0.6:
        stages.insert(random.randint(0, len(stages)), random.choice(CACHES))
    if limits:
        stages.insert(random.randint(0, len(stages)), random.choice(LIMITED))
    flow = random.choice(["nested", "sequential"])
    if flow == "sequential":
        nets = [stage for stage in stages if stage["kind"] == "error-handler"]
        stages = [*(stage for stage in stages if stage not in nets), "routes", *nets]  # type: ignore[list-item]
    routes = [{"access": "everyone", **route} for route in (*ROUTES, *MORE)]
    sent = [{**request, "id": f"q{at}"} for at, request in enumerate(requests(random))]
    for request in sent:
        if request["send"].startswith("GET") and random.random() < 0.4:
            request["send"] = random.choice(["GET /tag", "GET /parts", "GET /other", "GET /bare"])

    def make(**more: Any) -> Pipeline:
        return make_pipeline([*more.pop("outside", ()), *stages], flow=flow, routes=routes, **more)

    return make, sent


def without(request: dict[str, Any], *names: str, **more: str) -> dict[str, Any]:
    """The request without these header fields, and with others."""
    kept = {name: value for name, value in request["headers"].items() if name not in names}
    return {**request, "headers": {**kept, **more}}


def compare(pipeline: Pipeline, ours: Sent, theirs: Sent, where: object) -> None:
    """Both are answered alike, each from a fresh state."""
    differing(replay(pipeline, *ours), replay(pipeline, *theirs), ours, where)


@pytest.mark.parametrize("seed", SEEDS)
def test_a_failed_if_range_is_no_range(seed: int) -> None:
    """RFC 9110 13.1.5: a Range whose If-Range doesn't hold is ignored."""
    make, sent = drawn(random := Random(seed))
    tags = ['"old"', 'W/"v1"', "Thu, 01 May 2031 07:00:00 GMT", '"0123456789abcdef-gzip-no"']
    theirs = [without(request, "Range") for request in sent]
    ours = [
        without(request, **{"Range": "bytes=0-4", "If-Range": random.choice(tags)})
        if not request["send"].startswith("POST")
        else request
        for request in theirs
    ]
    compare(make(), ours, theirs, seed)


@pytest.mark.parametrize("seed", SEEDS)
def test_a_range_that_is_none_is_ignored(seed: int) -> None:
    """RFC 9110 14.2: so is any of a HEAD."""
    make, sent = drawn(random := Random(1_000 + seed))
    none = ["bytes=x", "bytes=5-2", "bytes", "bytes=", "=0-1", "bytes=0-1;", "0-1"]
    theirs = [without(request, "Range") for request in sent]
    ours = []
    for request in theirs:
        value = random.choice(none if not request["send"].startswith("HEAD") else [*none, "bytes=0-1", "bytes=900-"])
        ours.append(request if request["send"].startswith("POST") else without(request, Range=value))
    pipeline = make()
    alike(replay(pipeline, *ours), replay(pipeline, *theirs), seed)


@pytest.mark.parametrize("seed", SEEDS)
def test_preconditions_come_before_range(seed: int) -> None:
    """RFC 9110 13.2.2, 14.2: where they decide, the answer is what it is without Range."""
    make, sent = drawn(random := Random(2_000 + seed), cached=False)  # what a cache confirms goes by its copy
    conditions = [
        {"If-None-Match": "*"},
        {"If-Match": '"never"'},
        {"If-None-Match": '"v1"'},
        {"If-Modified-Since": OLD},
    ]
    for request in sent:
        if request["send"].startswith("GET"):
            request["headers"] = {**request["headers"], **random.choice(conditions)}
    theirs = [without(request, "Range") for request in sent]
    ours = [without(request, Range=random.choice(["bytes=0-4", "bytes=900-"])) for request in theirs]
    pipeline = make(outside=[{"id": "judge", "kind": "conditional", "etag": "strong"}])
    for one, other, request in zip(replay(pipeline, *ours), replay(pipeline, *theirs), ours, strict=True):
        assert one["response"] is not None
        assert other["response"] is not None
        if other["response"]["status"] in (304, 412):
            assert one["response"]["status"] == other["response"]["status"], (seed, request)


@pytest.mark.parametrize("seed", SEEDS)
def test_fields_of_a_part_are_those_of_the_whole(seed: int) -> None:
    """RFC 9110 15.3.7: a 206 says of the whole what its 200 says; its tag names what isn't coded."""
    make, sent = drawn(Random(3_000 + seed))
    names = ("If-Match", "If-None-Match", "If-Modified-Since", "Range", "Cache-Control")
    theirs = [without(request, *names) for request in sent if not request["send"].startswith("POST")]
    ours = [without(request, Range="bytes=3-9") for request in theirs]
    pipeline = make()
    for part, whole, request in zip(replay(pipeline, *ours), replay(pipeline, *theirs), ours, strict=True):
        if part["response"] is None or part["response"]["status"] != 206:
            continue
        for name in set(SEEN) - {"content-range", "content-encoding", "vary", "etag"}:
            assert header(part, name) == header(whole, name), (seed, name, request)
        vary = [{item.lower() for item in (header(one, "vary") or "").split(", ")} for one in (part, whole)]
        assert vary[0] == vary[1], (seed, request)
        assert (header(part, "etag") is None) == (header(whole, "etag") is None), (seed, request)
        assert part["response"]["body"] == TEXT[3:10]


FRONT = {
    "in-front": {"ends-tls": True, "sends": "x-forwarded", "address": "10.0.0.1"},
    "trusts-forwarded": ["10.0.0.1"],
}
OWN = {"id": "own", "kind": "cors", "allow-origins": [A], "reject-unlisted": True}
SECURE = {"id": "tls", "kind": "https-only", "hsts": {}}
TOLD = ("location", "strict-transport-security")


def alike(one: list[Record], other: list[Record], where: object) -> None:
    """Everything that callers see is the same, and who answered."""
    for ours, theirs in zip(one, other, strict=True):
        assert ours["response"] is not None
        assert theirs["response"] is not None
        for name in ("status", "body", "headers"):
            assert ours["response"][name] == theirs["response"][name], (where, name, ours["request"])
        assert ours["answered_by"] == theirs["answered_by"], (where, ours["request"])


@pytest.mark.parametrize("seed", SEEDS)
def test_a_trusted_front_is_invisible(seed: int) -> None:
    make, sent = drawn(random := Random(4_000 + seed))
    bases = ["https://api.example", "http://api.example", "https://api.example:8443", "http://other.example"]
    for request in sent:
        method, path = request["send"].split()
        base = random.choice(bases)
        request["send"] = f"{method} {base}{path}"
        if random.random() < 0.4:
            request["headers"] = {**request["headers"], "Origin": base}
    outside = [stage for stage in (OWN, SECURE) if random.random() < 0.6]
    one, other = (replay(make(outside=outside, **more), *sent) for more in ({}, {"deployment": FRONT}))
    alike(one, other, seed)


@pytest.mark.parametrize("seed", SEEDS)
def test_a_host_field_is_the_host_of_the_url(seed: int) -> None:
    """RFC 9112 3.3, RFC 9110 7.1: the target URI is made of the Host field."""
    make, sent = drawn(random := Random(5_000 + seed))
    ours, theirs = [], []
    for request in sent:
        method, path = request["send"].split()
        host = random.choice(["api.example", "other.example", "API.example", "other.example:8080", "[2001:db8::7]"])
        theirs.append({**request, "send": f"{method} https://{host}{path}"})
        ours.append(without({**request, "send": f"{method} https://api.example{path}"}, Host=host))
    pipeline = make(outside=[stage for stage in (OWN, SECURE) if random.random() < 0.6])
    alike(replay(pipeline, *ours), replay(pipeline, *theirs), seed)


@pytest.mark.parametrize("seed", SEEDS)
def test_white_space_around_values_changes_nothing(seed: int) -> None:
    """RFC 9110 5.5: it is no part of a value."""
    make, sent = drawn(random := Random(6_000 + seed))
    ours = [
        {**request, "headers": {name: random.choice(["", " ", "\t "]) + value + random.choice(["", " ", " \t"]) for name, value in request["headers"].items()}}
        for request in sent
    ]  # fmt: skip
    pipeline = make()
    alike(replay(pipeline, *ours), replay(pipeline, *sent), seed)


@pytest.mark.parametrize("seed", SEEDS)
def test_splitting_a_trace_changes_nothing(seed: int) -> None:
    """State, clock and callers go on: what stays on the queue of an exchange that is over moves no time."""
    make, sent = drawn(random := Random(7_000 + seed), limits=True)
    for request in sent:
        if random.random() < 0.3:
            request["caller"] = "page"
    more = {"base": "https://api.example", "callers": {"page": {"kind": "browser", "origin": A}}}
    pipeline, at = make(), random.randint(1, len(sent) - 1)
    whole = records(pipeline, Trace.of(*sent, **more))
    run_state = RunState(pipeline)
    halves = [
        record
        for part in (sent[:at], sent[at:])
        for record in records(pipeline, Trace.of(*part, **more), run_state=run_state)
    ]
    assert len(whole) == len(halves)
    alike([one for one in whole if one["response"]], [one for one in halves if one["response"]], (seed, at))
    assert [one["outcome"] for one in whole] == [one["outcome"] for one in halves]
