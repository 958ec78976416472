"""Needles: a pipeline of which only one class of requests takes one branch. Exploring finds it, whatever the facts are."""

from __future__ import annotations

import os
import random
from collections import Counter
from collections.abc import Callable
from typing import Any

import pytest

from conftest import make_pipeline, text
from patient_usher.core.questions.explore import explore

Spec = dict[str, Any]
COUNT = int(os.environ.get("USHER_NEEDLES", "40"))
WORDS = ("tern", "quay", "moor", "kelp", "buoy", "gull")
FOUND = {"answer": {"status": 299}}
ACCOUNTS = {
    "maren": {"password": "not-a-real-one", "roles": ["skipper"], "api-keys": ["a-made-up-key-of-maren"]},
    "odile": {"password": "not-a-real-one", "roles": ["harbour-master"], "api-keys": ["a-made-up-key-of-odile"]},
}


def gate(*cases: Spec, id_: str = "gate") -> Spec:
    return {"id": id_, "kind": "decide", "cases": list(cases)}


def plain(when: Spec, **more: Any) -> Spec:
    """A pipeline in which a matcher guards the needle."""
    return {"stages": [gate({"when": when, "then": FOUND})], **more}


def word(chance: random.Random) -> str:
    return f"{chance.choice(WORDS)}-{chance.randrange(100, 999)}"


def asked(chance: random.Random) -> Any:
    """What is asked of a text."""
    a, b = word(chance), word(chance)
    return chance.choice([
        a, [a, b], {"contains": a}, {"pattern": f"^{a[:3]}[0-9]{{3}}[a-z]$"}, {"pattern": f"(?i){a}$"}, {"pattern": f"^({a}|{b})x+$"},
        {"not": ["missing", {"pattern": "^[a-z-]*$"}]}, {"contains": f"{a};{b}"}, int(a[-3:]),
    ])  # fmt: skip


def by_header(chance: random.Random) -> Spec:
    return plain({"header": {"X-Needle": asked(chance)}})


def by_query(chance: random.Random) -> Spec:
    return plain({"query": {"needle": asked(chance)}})


def by_two_patterns(chance: random.Random) -> Spec:
    start, end = chance.choice("abc"), chance.choice("xyz")
    return {
        "stages": [
            gate(
                {"when": {"header": {"X-A": {"pattern": f"^{start}"}}}, "then": "continue"},
                {"when": {"header": {"X-A": {"pattern": f"{end}$"}}}, "then": FOUND},
            )
        ]
    }


def by_both(chance: random.Random) -> Spec:
    a, b = word(chance), word(chance)
    return plain(
        {
            "all": [{"header": {"User-Agent": {"contains": a}}}, {"header": {"User-Agent": {"contains": b}}}],
            "query": {"q": asked(chance)},
        }
    )


def by_body(chance: random.Random) -> Spec:
    pointer = chance.choice(["/meta/kind", "meta.kind", "/order/0", "/a~1b/c", "/rows/2/name", "kind"])
    stages = ["read-body", gate({"when": {"body": {pointer: asked(chance)}}, "then": FOUND})]
    return {"stages": stages, "routes": [{"id": "r", "at": "POST /r", "access": "everyone", "handler": text()}]}


def by_host(chance: random.Random) -> Spec:
    return plain({"host": chance.choice([f"{word(chance)}.example", {"pattern": "^[a-z]+\\.admin\\.example$"}])})


def by_network(chance: random.Random) -> Spec:
    return plain(
        {"address": chance.choice(["203.0.113.64/26", "198.51.100.77", "2001:db8:7::/48", {"pattern": "^203\\."}])}
    )


def by_cookie(chance: random.Random) -> Spec:
    return {
        "stages": [
            "read-cookies",
            gate({"when": {"cookie": {"needle": word(chance), "other": word(chance)}}, "then": FOUND}),
        ]
    }


def by_role(chance: random.Random) -> Spec:
    who = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}]}
    asks = chance.choice(
        [{"role": "harbour-master"}, {"identity": "maren"}, {"not": {"role": ["skipper"]}, "identity": "present"}]
    )
    route = {"id": "r", "at": "GET /r", "access": "signed-in", "handler": text()}
    return {
        "stages": [who, gate({"when": {**asks, "header": {"X-A": asked(chance)}}, "then": FOUND})],
        "accounts": ACCOUNTS,
        "routes": [route],
    }


def by_path(chance: random.Random) -> Spec:
    name = word(chance)
    return plain(
        {"path": f"/berths/{name}"},
        routes=[{"id": "r", "at": "GET /berths/{berth}", "access": "everyone", "handler": text()}],
    )


def by_scheme_and_method(chance: random.Random) -> Spec:
    return plain({"scheme": "http", "method": "HEAD", "header": {"X-A": word(chance)}})


def by_chained_context(chance: random.Random) -> Spec:
    a, b = word(chance), word(chance)
    first = gate({"when": {"header": {"X-A": a}}, "set": {"one": "yes"}}, id_="first")
    second = gate({"when": {"query": {"b": b}}, "set": {"two": word(chance)}}, {"set": {"two": "no"}}, id_="second")
    third = gate({"when": {"context": {"one": "yes", "two": {"not": "no"}}}, "set": {"three": "7"}}, id_="third")
    return {"stages": [first, second, third, gate({"when": {"context": {"three": "7"}}, "then": FOUND})]}


def by_copied_header(chance: random.Random) -> Spec:
    name = word(chance)
    source = chance.choice(["${query.role}", "pre-${query.role}", "${header.X-Raw}-post", "a ${query.q} z"])
    fixed = source[: source.index("$")] + name + source[source.index("}") + 1 :]
    stage = {"id": "copy", "kind": "header-fields", "on-request": {"put": {"X-Role": source}}}
    guard = gate({"when": {"query": ("role" in source and {"role": "present"}) or {}}, "then": "continue"}, id_="idle")
    return {"stages": [guard, stage, gate({"when": {"header": {"X-Role": fixed}}, "then": FOUND})]}


def by_copied_context(chance: random.Random) -> Spec:
    first = gate({"when": {"header": {"X-Tenant": "present"}}, "set": {"tenant": "t-${header.X-Tenant}"}}, id_="first")
    second = gate({"when": {"context": {"tenant": "present"}}, "set": {"plan": "${context.tenant}/gold"}}, id_="second")
    return {"stages": [first, second, gate({"when": {"context": {"plan": f"t-{word(chance)}/gold"}}, "then": FOUND})]}


def behind_many_cases(chance: random.Random) -> Spec:
    names = [word(chance) for _ in range(chance.randrange(12, 30))]
    cases = [{"when": {"header": {"X-A": name}}, "then": "continue"} for name in names]
    return {"stages": [gate(*cases, {"when": {"header": {"X-A": {"pattern": "^[a-z]{4}-[0-9]{3}$"}}}, "then": FOUND})]}


def by_handler_case(chance: random.Random) -> Spec:
    cases = [
        {"when": {"query": {"kind": word(chance)}}, "answer": {"text": "a"}},
        {"when": {"query": {"kind": asked(chance)}}, "answer": {"status": 299}},
    ]
    return {
        "stages": [],
        "routes": [{"id": "r", "at": "GET /r", "access": "everyone", "handler": {"cases": cases, **text()}}],
    }


def by_way_out(chance: random.Random) -> Spec:
    early = gate({"when": {"query": {"gone": word(chance)}}, "then": {"answer": {"status": 410}}}, id_="early")
    late = {
        "id": "late",
        "kind": "decide",
        "way-out": [{"when": {"status": 410, "header": {"X-A": asked(chance)}}, "then": FOUND}],
    }
    return {"stages": [late, early]}


def by_any_and_not(chance: random.Random) -> Spec:
    a, b = word(chance), word(chance)
    return plain(
        {
            "any": [
                {"header": {"X-A": a}, "query": {"b": b}},
                {"header": {"X-A": b}, "not": {"query": {"b": "missing"}}},
            ],
            "not": {"header": {"X-Stop": "missing"}},
        }
    )


NEEDLES: tuple[Callable[[random.Random], Spec], ...] = (
    by_header, by_query, by_two_patterns, by_both, by_body, by_host, by_network, by_cookie, by_role, by_path, by_scheme_and_method, by_chained_context,
    by_copied_header, by_copied_context, behind_many_cases, by_handler_case, by_way_out, by_any_and_not,
)  # fmt: skip
ALWAYS = [{"id": "never", "when": {"status": 299}, "expect": {"status": 204}}]


@pytest.mark.parametrize("first", range(0, COUNT, 20))
def test_every_needle_is_found(first: int) -> None:
    lost: Counter[str] = Counter()
    for seed in range(first, min(first + 20, COUNT)):
        chance = random.Random(seed)
        make = NEEDLES[seed % len(NEEDLES)]
        spec = {"routes": [{"id": "r", "at": "GET /r", "access": "everyone", "handler": text()}], **make(chance)}
        explored = explore(make_pipeline(spec.pop("stages"), **spec, always=ALWAYS).compiled, budget=2_000)
        lost[f"{make.__name__} {seed}"] += [one.id for one in explored.broken] != ["never"]
    assert +lost == {}
