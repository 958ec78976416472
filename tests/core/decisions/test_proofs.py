"""What is called proved holds: against requests at random, which know the file's texts and nothing of classes."""

from __future__ import annotations

import os
import random
import re
from collections.abc import Callable, Iterator
from typing import Any
from urllib.parse import quote

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import make_pipeline, text
from patient_usher.core.decisions import classes, proofs, reads
from patient_usher.core.decisions.coverage import branches, taken
from patient_usher.core.decisions.proofs import Proof, cases, unlike_paths
from patient_usher.core.decisions.runner import BASE, prepared
from patient_usher.core.decisions.scenario import Scenario
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.model.patterns import path_pattern
from patient_usher.core.stages import rate_limit
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.run import run

Spec = dict[str, Any]
LAWS = int(os.environ.get("USHER_LAWS", "24"))
REQUESTS, MOST = 260, 1500
PATTERNS = {
    "^a": ["a", "abc", "a-1"],
    "b$": ["b", "ab"],
    "(?i)moz": ["xMoZ", "moz"],
    "^[0-9]+$": ["7", "2024"],
    "^(a|b)x+$": ["ax", "bxx"],
}
TEXTS = ["a", "b", "ab", "quay", "7"]
ACCOUNTS = {
    "maren": {"password": "not-a-real-one", "roles": ["skipper"], "api-keys": ["a-made-up-key-of-maren"]},
    "odile": {"password": "not-a-real-one", "roles": ["harbour-master"], "api-keys": ["a-made-up-key-of-odile"]},
}
NAMES = {"header": ["X-A", "X-B"], "query": ["q", "p"], "cookie": ["c"], "context": ["one", "two"]}


def some(chance: random.Random, share: float) -> bool:
    return chance.random() < share


def asked(chance: random.Random) -> Any:
    """What is asked of a text."""
    a, b = chance.choice(TEXTS), chance.choice(TEXTS)
    return chance.choice([
        a, a, [a, b], {"contains": a}, {"pattern": chance.choice(list(PATTERNS))}, {"not": a}, "missing", "present",
        {"not": {"contains": b}}, [{"contains": a}, "missing"],
    ])  # fmt: skip


def when(chance: random.Random, depth: int = 0) -> Spec:
    found: Spec = {}
    for _ in range(1 + some(chance, 0.2)):
        root = chance.choice(
            [
                "header",
                "header",
                "query",
                "cookie",
                "context",
                "role",
                "method",
                "scheme",
                "address",
                "path",
                "identity",
            ]
        )
        if root in NAMES:
            found.setdefault(root, {})[chance.choice(NAMES[root])] = asked(chance)
        elif root == "role":
            found["role"] = chance.choice(["skipper", "harbour-master", ["skipper"]])
        elif root == "identity":
            found["identity"] = chance.choice(["missing", "present", "maren"])
        elif root == "method":
            found["method"] = chance.choice(["GET", "HEAD", ["POST", "DELETE"], "OPTIONS"])
        elif root == "scheme":
            found["scheme"] = chance.choice(["http", "https"])
        elif root == "address":
            found["address"] = chance.choice(
                ["203.0.113.0/24", "203.0.113.64/26", "198.51.100.7", ["192.0.2.0/25", "203.0.113.9"]]
            )
        else:
            found["path"] = chance.choice(["/berths/quay", "/berths/*", "/**/a", "/r", "/admin/**", "/berths/*/a"])
    if depth < 1 and some(chance, 0.15):
        found[chance.choice(["all", "any"])] = [when(chance, 1), when(chance, 1)]
    if depth < 1 and some(chance, 0.2):
        found["not"] = when(chance, 1)
    return found


def then(chance: random.Random) -> Any:
    return chance.choice([
        "continue", "continue", {"answer": {"status": chance.choice([200, 299, 403])}},
        {"raise": {"type": chance.choice(["Conflict", "Mishap"])}}, "nothing", {"answer-and-continue": {"status": 202}},
    ])  # fmt: skip


def decide(chance: random.Random, id_: str) -> Spec:
    cases: list[Spec] = []
    for _ in range(chance.choice([1, 1, 2])):
        case: Spec = {"when": when(chance), "then": then(chance)}
        if some(chance, 0.4):
            name = chance.choice(NAMES["context"])
            case["set"] = {
                name: chance.choice(["yes", "a", "${header.X-A}", "${query.q}", "pre-${header.X-B}", "${path.berth}"])
            }
        if some(chance, 0.3):
            case["put"] = {
                chance.choice(NAMES["header"]): chance.choice(["a", "${query.p}", "${header.X-A}", "x${header.X-B}"])
            }
        if some(chance, 0.1):
            case["drop"] = ["X-A"]
        cases.append(case)
    stage: Spec = {"id": id_, "kind": "decide", "cases": cases}
    if some(chance, 0.2):
        stage["way-out"] = [{"when": {"status": chance.choice([200, "4xx", 500])}, "put": {"X-Out": "yes"}}]
    return stage


def limit(chance: random.Random, id_: str) -> Spec:
    algorithm = chance.choice(["fixed-window", "sliding-log", "token-bucket", "sliding-counter", "leaky-bucket"])
    found: Spec = {
        "id": id_,
        "kind": "rate-limit",
        "algorithm": algorithm,
        "quota": chance.choice([1, 2, 3, 13, 30, 601]),
        "window": "10m",
    }
    found["per"] = [chance.choice(["address", "identity", "route", "header.X-A"])]
    if some(chance, 0.3):
        found["tiers"] = [{"when": when(chance), "quota": chance.choice([1, 5, 13])}]
    if some(chance, 0.2):
        found |= {"counts": "failures"}
    return found


def stages(chance: random.Random) -> list[Any]:
    """Stages of many kinds, in an order at random."""
    found: list[Any] = [decide(chance, f"gate-{number}") for number in range(chance.choice([1, 1, 2]))]
    if some(chance, 0.4):
        schemes = chance.choice([["api-key"], ["bearer"], ["basic"], ["bearer", "api-key"], ["basic", "bearer"]])
        who: Spec = {
            "id": "who",
            "kind": "authenticate",
            "schemes": [{"scheme": one, **({"keys": "main"} if one == "bearer" else {})} for one in schemes],
        }
        if some(chance, 0.3):
            who["without-credential"] = chance.choice(["refuse", "pass-on"])
        found.append(who)
        found += [{"id": "may", "kind": "authorize"}] * some(chance, 0.6)
    found += [limit(chance, f"limit-{number}") for number in range(chance.choice([0, 0, 1, 2]))]
    if some(chance, 0.4):
        found.append({"id": "net", "kind": "error-handler", "write-as": chance.choice(["problem-json", "accept"])})
    if some(chance, 0.3):
        found.append(
            {
                "id": "pages",
                "kind": "cors",
                "allow-origins": ["https://boaters.example", "https://*.quay.example"],
                "reject-unlisted": some(chance, 0.5),
                "allow-headers": ["x-a"],
            }
        )
    if some(chance, 0.3):
        found.append(
            {
                "id": "marks",
                "kind": "header-fields",
                "on-answer": {"put": {"X-Out": chance.choice(["a", "${header.X-A}"])}},
                "on-request": {chance.choice(["put", "add"]): {"X-B": chance.choice(["b", "${query.q}"])}},
            }
        )
    found += [{"id": "tls", "kind": "https-only"}] * some(chance, 0.2)
    found += [{"id": "ids", "kind": "request-id", "trusts-incoming": some(chance, 0.5)}] * some(chance, 0.2)
    chance.shuffle(found)
    return [*["access-log"] * some(chance, 0.3), *["read-cookies"] * some(chance, 0.6), *found]


def routes(chance: random.Random) -> list[Spec]:
    access = lambda: chance.choice(["everyone", "signed-in", {"role": "harbour-master"}])  # noqa: E731
    handlers: list[Spec] = [text(), {"answer": {"json": {"q": "${query.q}"}}}, {"cases": [{"when": when(chance), "raise": {"type": "Conflict"}}], "answer": {"text": "ok"}},
                            {"answer": {"text": "ok", "headers": {"X-Out": "${header.X-B}"}}}, {"answer": {"text": "ok"}, "fails-every": 3}]  # fmt: skip
    return [
        {"id": "r", "at": "GET /r", "access": access(), "handler": chance.choice(handlers)},
        {"id": "berth", "at": "GET /berths/{berth}", "access": access(), "handler": chance.choice(handlers)},
        {"id": "book", "at": "POST /berths/{berth}", "access": access(), "handler": chance.choice(handlers)},
    ]


def invariants(chance: random.Random) -> list[Any]:
    found: list[Any] = ["no-slips", "strangers-stay-outside", "errors-have-one-shape"]
    for number in range(4):
        expect = chance.choice([
            {"status": chance.choice([[200, 201, "4xx"], "2xx", ["2xx", "4xx", 500]])}, {"handler": "not-reached"}, {"headers": {"X-Out": chance.choice(["missing", "present", "a"])}},
            {"outcome": ["answered", "refused"]}, {"skipped": ["gate-0"]}, {"raised": "Conflict"},
        ])  # fmt: skip
        if "outcome" in expect:
            expect = {"status": ["2xx", "3xx", "4xx"]}
        found.append({"id": f"own-{number}", "when": when(chance), "expect": expect})
    return found


def pipeline(chance: random.Random) -> Spec:
    flow, there = chance.choice(["nested", "sequential"]), stages(chance)
    if flow == "sequential":
        there.insert(chance.randint(len(there) // 2, len(there)), "routes")
    return {
        "flow": flow, "refuse": chance.choice(["answer", "raise"]), "stages": there,
        "routes": routes(chance), "accounts": ACCOUNTS, "always": invariants(chance),
        "signing_keys": {"main": {"algorithm": "HS256", "secret": "a-made-up-secret-that-is-long-enough"}},
    }  # fmt: skip


# The other side: requests at random, of the texts that stand in the file.


def strings(part: Any) -> Iterator[str]:
    if isinstance(part, dict):
        for key, value in part.items():
            if key == "pattern":
                yield from PATTERNS[value]
            else:
                yield from strings(value)
    elif isinstance(part, list):
        for one in part:
            yield from strings(one)
    elif isinstance(part, str) and re.fullmatch(r"[\w-]{1,12}", part):
        yield part


def requests(chance: random.Random, spec: Spec) -> list[Spec]:
    pool = sorted({*strings(spec["stages"]), *strings(spec["routes"]), *strings(spec["always"]), *TEXTS})
    found: list[Spec] = []

    def value() -> str:
        one, two = chance.choice(pool), chance.choice(pool)
        return chance.choice([one, one, one, one + two, f"{one} {two}", f"zz{one}", ""])

    while len(found) < REQUESTS:
        path = chance.choice(
            [
                "/r",
                "/berths/quay",
                "/berths/1",
                f"/berths/{chance.choice(pool)}",
                "/admin/x",
                "/berths/x/a",
                "/x/a",
                f"/{chance.choice(pool)}",
            ]
        )
        query = [f"{name}={quote(value(), safe='')}" for name in ("q", "p", "q") if some(chance, 0.4)]
        target = path + ("?" + "&".join(query) if query else "")
        if some(chance, 0.2):
            target = f"http://service.example{target}"
        headers = {name: value().strip() for name in ("X-A", "X-B") if some(chance, 0.5)}
        if some(chance, 0.3):
            headers["Cookie"] = f"c={re.sub(' ', '', value())}"
        if some(chance, 0.3):
            headers["Origin"] = chance.choice(
                ["https://boaters.example", "https://a.quay.example", "https://x.example", "https://service.example"]
            )
        if some(chance, 0.2):
            headers["Access-Control-Request-Method"] = chance.choice(["GET", "PUT", "POST"])
        if some(chance, 0.1):
            headers["Accept"] = chance.choice(["text/plain", "application/json", "text/html", "x/y"])
        if some(chance, 0.1):
            headers["X-Request-Id"] = value().strip()
        request: Spec = {
            "send": f"{chance.choice(['GET', 'GET', 'POST', 'HEAD', 'OPTIONS', 'DELETE'])} {target}",
            "headers": headers,
        }
        who = chance.choice(
            [
                None,
                None,
                {"bearer": "maren"},
                {"bearer": "odile"},
                {"basic": "odile"},
                {"api-key": "maren"},
                {"api-key": "odile"},
                {"bearer": "maren", "expires-in": "0s"},
            ]
        )
        if who is not None:
            request["sign"] = who
            if "api-key" not in who and some(chance, 0.2):
                headers["X-Api-Key"] = chance.choice(["a-made-up-key-of-odile", "wrong"])
        if some(chance, 0.4):
            request["address"] = chance.choice(["203.0.113.70", "203.0.113.9", "198.51.100.7", "192.0.2.200"])
        if some(chance, 0.1):
            request["times"] = chance.choice([3, 14, 31])
        if some(chance, 0.1):
            request["after"] = chance.choice(["1s", "10m", "9m"])
        found.append({"id": f"n{len(found)}", **request})
    return found


def refuted(spec: Spec, chance: random.Random) -> tuple[Proof, set[str], list[str]]:
    """What is called proved; which invariants requests at random break after all; and branches that they take."""
    compiled = make_pipeline(**spec).compiled
    proof = Proof(compiled, (one.id for one in Statements(compiled).all))
    for case in cases(compiled, Statements(compiled).all, most=MOST):
        proof.add(case)
    proved = {id_ for id_, why in proof.open.items() if not why}
    ready = prepared(Scenario("random", tuple(requests(chance, spec))), compiled, BASE)
    assert ready is not None
    statements, wrong = Statements(compiled), list[str]()
    impossible = {branch for branch in branches(compiled) if proof.excludes(branch)}
    for judged in run(RunState(compiled), ready, statements=statements):
        for x in judged.send.exchanges:
            wrong += [f"{judged.send.id} takes {branch}" for branch in taken(compiled, x) if branch in impossible]
    return proof, {one.id for one in statements.all if one.failed} & proved, wrong


@pytest.mark.parametrize("seed", range(LAWS))
def test_nothing_that_is_proved_is_ever_broken(seed: int) -> None:
    chance = random.Random(seed)
    _, broken, taken_after_all = refuted(pipeline(chance), chance)
    assert not broken
    assert not taken_after_all


CHANGES: dict[str, Spec] = {
    "header.x-a": {"headers": {"X-A": "another"}},
    "header.x-b": {"headers": {"X-B": "another"}},
    "header.origin": {"headers": {"Origin": "https://boaters.example"}},
    "header.accept": {"headers": {"Accept": "text/html"}},
    "header.access-control-request-method": {"headers": {"Access-Control-Request-Method": "PUT"}},
    "header.x-request-id": {"headers": {"X-Request-Id": "another-id"}},
    "header.range": {"headers": {"Range": "bytes=0-0"}},
    "header.if-none-match": {"headers": {"If-None-Match": "*"}},
    "header.accept-encoding": {"headers": {"Accept-Encoding": "gzip"}},
    "header.authorization": {"sign": {"bearer": "odile"}},
    "header.cookie": {"headers": {"Cookie": "c=another"}},
    "address": {"address": "203.0.113.70"},
    "body": {"text": "another"},
}
"""What makes a fact another than it was."""


@pytest.mark.parametrize("seed", range(LAWS))
def test_what_was_not_read_changes_nothing(seed: int) -> None:
    chance = random.Random(seed)
    spec = pipeline(chance)
    compiled = make_pipeline(**spec).compiled

    def outcome(request: Spec) -> tuple[set[str], object]:
        run_state = reads.WatchedWorld(compiled)
        ready = prepared(Scenario("one", (request,)), compiled, BASE)
        assert ready is not None
        x = [judged.send for judged in run(run_state, ready)][-1].exchanges[-1]
        run_state.log.end()
        answer = x.answer and (x.answer.status, x.answer.fields.pairs(), x.answer.body)
        steps = [step[:3] for step in x.journey or ()]
        return {read.fact for read in run_state.log.reads()}, (
            answer,
            x.outcome,
            x.why,
            x.identity,
            x.context,
            x.branches,
            steps,
        )

    for request in requests(chance, spec)[:30]:
        plain = {key: value for key, value in request.items() if key not in ("times", "after")}
        seen, before = outcome(plain)
        for fact, change in CHANGES.items():
            if (
                fact in seen
                or (fact == "header.authorization" and "sign" in plain)
                or fact.partition(".")[0] + ".*" in seen
            ):
                continue
            changed = {**plain, **change, "headers": {**plain.get("headers", {}), **change.get("headers", {})}}
            assert outcome(changed)[1] == before, (plain, fact)


PARTS = st.sampled_from(["a", "b", "*", "**"])
SEGMENTS = st.lists(st.sampled_from(["a", "b", "c", ""]), min_size=1, max_size=5)


@given(st.lists(st.lists(PARTS, min_size=1, max_size=3), min_size=1, max_size=3), SEGMENTS)
def test_every_path_has_one_of_its_class(parts: list[list[str]], path: list[str]) -> None:
    patterns = ["/" + "/".join(one) for one in parts]
    tests = [path_pattern(pattern) for pattern in patterns]
    made = unlike_paths([["c", "", "a", "b"]], ["c", "", "a", "b"], patterns)
    assert [test(tuple(path)) for test in tests] in [
        [test(tuple(one[1:].split("/"))) for test in tests] for one in made
    ]


def blind_to_a_field(patch: pytest.MonkeyPatch) -> None:
    """A read isn't noted."""
    note = reads.ReadLog.note
    patch.setattr(
        reads.ReadLog, "note", lambda log, fact, how="value": None if fact == "header.x-a" else note(log, fact, how)
    )


def blind_to_copies(patch: pytest.MonkeyPatch) -> None:
    """What a fact is copied into doesn't count."""
    own = lambda walk, root, fact: [atom for atom in walk._atoms_at(root) if proofs._fact(atom.fact) == fact]  # noqa: E731
    patch.setattr(proofs._Walk, "_reached", own)


def blind_to_limits(patch: pytest.MonkeyPatch) -> None:
    """A limit is never used up."""
    patch.setattr(rate_limit.Stage, "situations", lambda stage: ())


def blind_to_a_class(patch: pytest.MonkeyPatch) -> None:
    """One class of texts is left out."""
    whole = classes.text_classes

    def less(atoms: Any) -> classes.TextClasses:
        found = whole(atoms)
        return found._replace(values=found.values[:2])

    patch.setattr(classes, "text_classes", less)


def blind_to_a_network(patch: pytest.MonkeyPatch) -> None:
    """Addresses are all alike."""
    patch.setattr(classes, "addresses", lambda atoms: ["192.0.2.1"])


@pytest.mark.skipif(LAWS < 200, reason="takes minutes: USHER_LAWS=200 and more")
@pytest.mark.parametrize(
    "sabotage", [blind_to_a_field, blind_to_copies, blind_to_limits, blind_to_a_class, blind_to_a_network]
)
def test_a_proof_that_is_blind_to_something_is_found_out(
    sabotage: Callable[[pytest.MonkeyPatch], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    sabotage(monkeypatch)
    for seed in range(LAWS):
        chance = random.Random(seed)
        _, broken, wrong = refuted(pipeline(chance), chance)
        if broken or wrong:
            return
    pytest.fail("nothing showed it")
