"""The branches of matchers, held against an evaluator of their own that reads the file's words and nothing else."""

from __future__ import annotations

import json
import os
import random
from collections.abc import Callable, Iterator
from itertools import product
from typing import Any

import pytest

from conftest import Outcome, make_pipeline, text
from patient_usher import RunState, Trace
from patient_usher.core.verify.run import run

Spec = dict[str, Any]
SEEDS = int(os.environ.get("USHER_LAWS", "150"))

FACTS: list[tuple[str, str, list[str | None]]] = [
    ("method", "", ["GET", "POST"]), ("header", "X-A", [None, "1", "2"]), ("query", "b", [None, "1", "2"]),
]  # fmt: skip
REQUESTS = [dict(zip(["method", "X-A", "b"], values, strict=True)) for values in product(*(fact[2] for fact in FACTS))]


def fits(spec: Spec, request: Spec) -> bool:
    """Whether a matcher fits, by what the manual says of it."""
    parts = []
    for key, wanted in spec.items():
        if key == "method":
            parts.append(request["method"] in (wanted if isinstance(wanted, list) else [wanted]))
        elif key in ("header", "query"):
            parts += [asked(one, request[name]) for name, one in wanted.items()]
        elif key == "not":
            parts.append(not fits(wanted, request))
        else:
            every = [fits(one, request) for one in wanted]
            parts.append(all(every) if key == "all" else any(every))
    return all(parts)


def asked(wanted: Any, value: str | None) -> bool:
    if isinstance(wanted, list):
        return any(asked(one, value) for one in wanted)
    if isinstance(wanted, dict):
        return not asked(wanted["not"], value)
    return (value is None) == (wanted == "missing") if wanted in ("missing", "present") else value == wanted


def matcher(chance: random.Random, depth: int = 2) -> Spec:
    spec: Spec = {}
    for key in chance.sample(["method", "header", "query", "all", "any", "not"], chance.choice([1, 1, 2, 3])):
        if key == "method":
            spec[key] = chance.choice(["GET", "POST", ["GET", "POST"]])
        elif key in ("header", "query"):
            spec[key] = {"X-A" if key == "header" else "b": wanted(chance)}
        elif depth:
            inner = [matcher(chance, depth - 1) for _ in range(chance.choice([1, 2, 3]))]
            spec[key] = inner[0] if key == "not" else inner
    return spec or {"method": "GET"}


def wanted(chance: random.Random) -> Any:
    plain = ["1", "2", "missing", "present"]
    return chance.choice([*plain, {"not": chance.choice(plain)}, chance.sample(plain[:3], 2), {"not": ["1", "2"]}])


def less(spec: Spec) -> Iterator[Spec | bool]:
    """The matcher with one thing that it asks left out, or an item of a list taken away."""
    for key, value in spec.items():
        rest = {name: part for name, part in spec.items() if name != key}
        yield rest
        if key in ("all", "any"):
            for at, one in enumerate(value):
                others = [*value[:at], *value[at + 1 :]]
                if others:
                    yield {**rest, key: others}
                for smaller in less(one):
                    yield {**rest, key: [*value[:at], smaller, *value[at + 1 :]]}
        elif key == "not":
            for smaller in less(value):
                yield {**rest, key: smaller}
        elif key == "method" and isinstance(value, list):
            yield from ({**rest, key: one} for one in value)
        elif key in ("header", "query"):
            ((name, one),) = value.items()
            yield from ({**rest, key: {name: item}} for item in (one if isinstance(one, list) else ()))


def observed(spec: Spec) -> tuple[list[bool], list[set[str]]]:
    """Of each request whether the case was taken, and its branches: as the engine runs it."""
    stage = {"id": "gate", "kind": "decide", "cases": [{"when": spec, "then": {"answer": {"status": 299}}}]}
    routes = [
        {"id": method.lower(), "at": f"{method} /", "access": "everyone", "handler": text()}
        for method in ("GET", "POST")
    ]
    pipeline = make_pipeline([stage], routes=routes)
    sends = [
        {"send": f"{one['method']} /" + (f"?b={one['b']}" if one["b"] else ""), "headers": {"X-A": one["X-A"]} if one["X-A"] else {}}
        for one in REQUESTS
    ]  # fmt: skip
    took, branches = [], []
    for send, *_ in run(RunState(pipeline), Trace.of(*sends, base="https://api.example").bound(pipeline.compiled)):
        (x,) = send.exchanges
        assert x.answer is not None
        took.append(x.answer.status == 299)
        branches.append({name for _, id_, name in x.branches if id_ == "gate"})
    return took, branches


@pytest.mark.parametrize("first", range(0, SEEDS, 50))
def test_whoever_takes_all_branches_notices_whatever_is_left_out(first: int) -> None:
    """Of all that can be taken; chosen by greed, so that few requests do."""
    changes = 0
    for seed in range(first, first + 50):
        spec = matcher(random.Random(seed))
        took, branches = observed(spec)
        assert took == [fits(spec, request) for request in REQUESTS], spec
        left: set[str] = set().union(*branches)
        chosen = []
        while left:
            best = max(range(len(REQUESTS)), key=lambda at: len(branches[at] & left))
            chosen.append(best)
            left -= branches[best]
        for other in less(spec):
            differ = [at for at, request in enumerate(REQUESTS) if fits(other, request) != took[at]]
            changes += bool(differ)
            assert not differ or set(differ) & set(chosen), (seed, spec, other, [REQUESTS[at] for at in chosen])
    assert changes > 50


NAMED: list[tuple[str, Spec, list[str]]] = [
    ("one thing", {"method": "GET"}, []),
    ("a list", {"method": ["GET", "POST"]}, ["case 1 by method GET", "case 1 by method POST"]),
    ("two things", {"method": "GET", "query": {"b": "1"}}, ["case 1 misses only method GET", "case 1 misses only query.b 1"]),
    ("any", {"any": [{"header": {"X-A": "1"}}, {"query": {"b": {"not": "2"}}}]}, ["case 1 by header.X-A 1", "case 1 by query.b not 2"]),
    ("not", {"not": {"any": [{"method": "GET"}, {"query": {"b": "1"}}]}}, ["case 1 misses only not method GET", "case 1 misses only not query.b 1"]),
    ("not all", {"not": {"method": "GET", "query": {"b": "1"}}}, ["case 1 by not method GET", "case 1 by not query.b 1"]),
]  # fmt: skip


@pytest.mark.parametrize(("spec", "names"), [row[1:] for row in NAMED], ids=[row[0] for row in NAMED])
def test_what_is_declared(usher: Callable[..., Outcome], spec: Spec, names: list[str]) -> None:
    pipeline = {
        "patient-usher": "pipeline/1",
        "stages": [{"id": "gate", "kind": "decide", "cases": [{"when": spec}]}],
        "routes": [{"id": "r", "at": "GET /", "access": "everyone", "handler": text()}],
    }
    trace = {"patient-usher": "trace/1", "base": "https://api.example", "requests": [{"id": "a", "send": "GET /"}]}
    done = usher(
        "replay",
        "p.json",
        "t.json",
        "--coverage",
        "--format",
        "json",
        p__json=json.dumps(pipeline),
        t__json=json.dumps(trace),
    )
    assert list(done.json["stages"]["gate"]) == ["case 1", *names, "no case"]
