"""Exploring a pipeline: which outcomes can happen, which declared things don't, and where statements break.

The same generator that proves findings is run through the model, then random pairs of its requests, by a seed.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from random import Random
from typing import NamedTuple

from patient_usher.core.decisions.coverage import Coverage
from patient_usher.core.decisions.proofs import BROKEN, MOST_CLASSES, FactCase, Proof
from patient_usher.core.decisions.proofs import cases as every_class
from patient_usher.core.decisions.request_generators import scenarios
from patient_usher.core.decisions.runner import BASE, Runner, ScenarioRun, prepared
from patient_usher.core.decisions.scenario import Scenario, in_turn
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.model.always import EVERYDAY
from patient_usher.core.model.branches import Branch
from patient_usher.core.model.document import JsonObject
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.verify.always import READY, Statement, Statements
from patient_usher.core.verify.observed_expectations import observed
from patient_usher.core.verify.run import run as replayed

BUDGET = 10_000
"""How many requests are tried, where nobody says."""
_BORING = 400
"""After so many random pairs that showed nothing new, exploring ends."""


class Ending(NamedTuple):
    """A way in which a request to a route can end. ``route`` None: no route fits."""

    route: str | None
    status: int | None
    outcome: str
    answered_by: str | None
    refused_by: str | None
    why: str | None
    handler: bool
    cache: str | None


class Broken(NamedTuple):
    """A statement that doesn't hold, with the shortest counterexample that was found."""

    id: str
    why: str
    scenario: Scenario


class Explored(NamedTuple):
    """What exploring came to: every case with how often it was seen and what shows it.

    ``statements``: in how many exchanges each statement was tried.
    """

    compiled: CompiledPipeline
    cases: Mapping[Ending, tuple[int, Scenario]]
    coverage: Coverage
    broken: tuple[Broken, ...]
    statements: Mapping[str, int]
    proof: Proof
    tried: int
    seed: int
    runs: tuple[ScenarioRun, ...]
    """Those that showed something new."""

    @property
    def impossible(self) -> list[Branch]:
        """Branches of matchers that no request can take: every class of requests was run, and none took them."""
        return [branch for branch in self.coverage.missing if self.proof.excludes(branch)]

    def by_route(self) -> dict[str | None, list[Ending]]:
        """The cases of each route, and under None of what no route fits."""
        found: dict[str | None, list[Ending]] = {item.route.id: [] for item in self.compiled.placed}
        for case in self.cases:
            found.setdefault(case.route, []).append(case)
        for cases in found.values():
            cases.sort(key=lambda case: (case.status or 999, case.answered_by or "", case.why or ""))
        return found


def ending_of(x: Exchange) -> Ending:
    """The case that an exchange is."""
    return Ending(
        x.route.id if x.route is not None else None,
        x.answer.status if x.answer is not None else None,
        x.outcome,
        x.answered_by if x.answer is not None else None,
        x.refused_by,
        x.why,
        x.handler_reached,
        x.caches[-1].state if x.caches else None,
    )


def explore(
    compiled: CompiledPipeline,
    *,
    budget: int = BUDGET,
    seed: int = 0,
    watch: Callable[[int], None] = lambda tried: None,
) -> Explored:
    """Try what can matter, then random pairs of it, until the budget is used up or nothing new comes."""
    trials = Runner(budget, seed=seed)
    coverage = Coverage(compiled)
    cases: dict[Ending, tuple[int, Scenario]] = {}
    news: list[ScenarioRun] = []
    broken: dict[str, Broken] = {}
    held: Counter[str] = Counter()

    def add(run: ScenarioRun) -> None:
        watch(trials.tried)
        gaps = {*coverage.missing}
        fresh = False
        coverage.forget()
        for send in run.sends:
            coverage.add(send)
            for x in send.exchanges:
                if x.outcome != "not-sent":
                    case = ending_of(x)
                    fresh |= case not in cases
                    times, first = cases.get(case, (0, run.scenario))
                    cases[case] = times + 1, first
        if fresh or gaps - {*coverage.missing}:
            news.append(run)

    def shorten(statement: Statement, scenario: Scenario) -> None:
        if statement.id not in broken:
            broken[statement.id] = _shortened(compiled, trials, statement, scenario)

    for run in _runs(compiled, trials, seed, lambda: len(cases) + len(coverage.missing)):
        add(run)
        for statement in _held(compiled, run):
            held[statement.id] += statement.held + statement.failed
            if statement.failed:
                shorten(statement, run.scenario)
    proof = Proof(compiled, held)
    for case in _classes(compiled, trials, seed, proof):
        held.update(case.tried)
        if not case.states:
            add(case.run)
            for statement in _held(compiled, case.run) if BROKEN in case.open.values() else ():
                if statement.failed:
                    shorten(statement, case.run.scenario)
    return Explored(
        compiled, cases, coverage, tuple(broken.values()), dict(held), proof, trials.tried, seed, tuple(news)
    )


def _runs(compiled: CompiledPipeline, trials: Runner, seed: int, size: Callable[[], int]) -> Iterator[ScenarioRun]:
    """Everything once; then pairs by chance, as long as they show anything new."""
    singles: list[Scenario] = []
    for scenario in scenarios(compiled):
        run = trials.run(scenario, compiled)
        if run is not None:
            singles.append(scenario)
            yield run
    random, boring = Random(seed), 0
    while singles and boring < _BORING and not trials.spent:
        first, second = random.choice(singles), random.choice(singles)
        before = size()
        pair = Scenario("pair", (*first.requests, *second.requests), {**first.callers, **second.callers})
        run = trials.run(pair, compiled)
        if run is not None:
            yield run
        boring = boring + 1 if size() == before else 0


def _classes(compiled: CompiledPipeline, trials: Runner, seed: int, proof: Proof) -> Iterator[FactCase]:
    """One request of every class, as long as there is anything to be proved."""
    most = min(MOST_CLASSES, trials.budget - trials.tried)
    if most <= 0:
        proof.give_up("the budget of requests was used up")
        return
    for case in every_class(compiled, _statements(compiled).all, seed, most):
        trials.tried += 1
        proof.add(case)
        yield case
        if all(proof.open.values()):
            return


# Statements.


def _statements(compiled: CompiledPipeline) -> Statements:
    """The pipeline's own statements, or the everyday ones where it has none."""
    statements = Statements(compiled)
    if not statements.all:
        statements.all = [Statement(name, READY[name](compiled)) for name in EVERYDAY]
    return statements


def _held(compiled: CompiledPipeline, run: ScenarioRun) -> list[Statement]:
    """The statements, held against one run."""
    statements = _statements(compiled)
    for send in run.sends:
        statements.add(send)
    return statements.all


def _shortened(compiled: CompiledPipeline, trials: Runner, statement: Statement, scenario: Scenario) -> Broken:
    """The counterexample with everything left out that it doesn't need: requests, then what they say."""

    def breaks(other: Scenario) -> bool:
        run = trials.run(other, compiled) if any("send" in request for request in other.requests) else None
        return run is not None and any(one.id == statement.id and one.failed for one in _held(compiled, run))

    smaller = True
    while smaller:
        smaller = False
        for other in _smaller(scenario):
            if breaks(other):
                scenario, smaller = other, True
                break
    why = "; ".join(f"{check.what}: expected {check.expected}, got {check.actual}" for check in statement.first[:1])
    return Broken(statement.id, why, scenario)


def _smaller(scenario: Scenario) -> Iterator[Scenario]:
    """The probe with one thing less."""
    for at, request in enumerate(scenario.requests):
        rest = (*scenario.requests[:at], *scenario.requests[at + 1 :])
        if rest:
            yield scenario._replace(requests=rest)
        for key, value in request.items():
            if key not in ("send", "change"):
                yield _with(scenario, at, {name: part for name, part in request.items() if name != key})
            if key in ("headers", "json") and isinstance(value, dict) and len(value) > 1:
                for name in value:
                    less = {inner: part for inner, part in value.items() if inner != name}
                    yield _with(scenario, at, {**request, key: less})
            if key == "times" and value > 1:
                yield _with(scenario, at, {**request, key: value - 1})


def _with(scenario: Scenario, at: int, request: JsonObject) -> Scenario:
    return scenario._replace(requests=(*scenario.requests[:at], request, *scenario.requests[at + 1 :]))


# A trace of the distinct cases.


def trace_of(explored: Explored, base: str = BASE) -> JsonObject:
    """A trace that shows every case and closes every gap that a request of its own can, with few requests.

    What is expected is what comes of it there: the requests share one run state, each probe long after the other.
    """
    chosen = _chosen(explored)
    names: list[str] = []
    entries: list[JsonObject] = []
    callers: JsonObject = {}
    ordered = sorted(chosen, key=_standing)
    for run in ordered:
        callers.update(run.scenario.callers)
        wanted = _name(ending_of(run.last))
        names.append(next(each for each in (wanted, *(f"{wanted}-{n}" for n in range(2, 10_000))) if each not in names))
    place = 0
    for number, final, request in in_turn(run.scenario for run in ordered):
        name = names[number - 1]
        place = 0 if final else place + 1
        own = {key: value for key, value in request.items() if key != "id"}
        entries.append(own if "send" not in request else {"id": name if final else f"{name}.{place}", **own})
    used = {entry.get("caller") for entry in entries}
    shown = {name: spec for name, spec in callers.items() if name in used}
    scenario = Scenario("trace", tuple(entries), shown)
    ready = prepared(scenario, explored.compiled, base)
    if ready is not None:
        expects: JsonObject = {}
        for send, *_ in replayed(RunState(explored.compiled, explored.seed), ready):
            if send.request_template.spec.times == 1 and send.final is not None:
                expects[send.entry.id] = observed(send.final)
        entries = [
            {**entry, "expect": expects[entry["id"]]} if entry.get("id") in expects else entry for entry in entries
        ]
    return scenario._replace(requests=tuple(entries)).document(base)


def _standing(run: ScenarioRun) -> int:
    """Where a run stands in a trace: first what keeps something of an answer, last what changes the pipeline."""
    requests = run.scenario.requests
    return 0 if any("keep" in one for one in requests) else 2 if any("change" in one for one in requests) else 1


def _chosen(explored: Explored) -> list[ScenarioRun]:
    """Few runs that show all that there is to be shown: by greed, the one that shows most for its requests first."""
    shows = [(run, _shown(explored.compiled, run)) for run in explored.runs]
    left: set[object] = set().union(*(found for _, found in shows)) if shows else set()
    chosen: list[tuple[int, ScenarioRun]] = []
    while left:
        number, (run, found) = max(
            enumerate(shows), key=lambda entry: (len(entry[1][1] & left) / entry[1][0].scenario.sent, -entry[0])
        )
        if not found & left:
            break
        left -= found
        chosen.append((number, run))
    return [run for _, run in sorted(chosen, key=lambda entry: entry[0])]


def _shown(compiled: CompiledPipeline, run: ScenarioRun) -> set[Ending | Branch]:
    coverage = Coverage(compiled)
    for send in run.sends:
        coverage.add(send)
    cases: Iterable[Ending | Branch] = (ending_of(x) for x in run.exchanges if x.outcome != "not-sent")
    return {*cases, *(outcome for outcome in coverage.possible if coverage.hits[outcome])}


def _name(case: Ending) -> str:
    """A readable id: the route, and how it ended."""
    end = case.why or (case.cache if case.cache in ("hit", "stale", "revalidated") else None) or case.outcome
    return f"{case.route or 'unrouted'}-{case.status or 'none'}-{end}"
