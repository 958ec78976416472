"""What a finding is: a rule, what it suspects of a pipeline, and what proves it.

A rule looks at a pipeline (``Site``) and names what it suspects, each with mends. A suspicion becomes a finding
where a request shows it: run through the pipeline as it is and as it would be mended, the outcome differs.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

from patient_usher.core.decisions.request_factory import RequestFactory
from patient_usher.core.decisions.request_generators import scenarios
from patient_usher.core.decisions.runner import Runner, ScenarioRun
from patient_usher.core.decisions.scenario import Scenario
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.model.document import Json, Path
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.questions.check.mends import Mend

LEVELS = ("error", "warning", "advice")

Proof = Callable[[ScenarioRun, ScenarioRun], bool]
"""Whether what came of a probe, as it is and mended, shows what is suspected."""


class Suspicion(NamedTuple):
    """What a rule suspects: at which stage or route, where in the document, and the mends, best first.

    ``proof`` None: the reasoning is complete without any request. ``probes``: what may show it, else all are tried.
    """

    stage: str | None
    route: str | None
    at: Path
    happens: str
    mends: tuple[Mend, ...]
    proof: Proof | None = None
    scenarios: tuple[Scenario, ...] | None = None

    @property
    def key(self) -> tuple[str | None, str | None, Path]:
        """What makes it the same suspicion in a mended pipeline."""
        return self.stage, self.route, self.at if self.stage is None and self.route is None else ()


class Rule(NamedTuple):
    """A sort of finding: its page of the manual, and what looks for it.

    ``example``: a pipeline of which exactly this is found, as YAML. ``notices``: what callers notice of it, where no
    request is needed to prove it. ``own_cause``: it is never a symptom of another, though that one's mend hides it.
    """

    code: str
    level: str
    says: str
    matters: str
    mend: str
    example: str
    look: Callable[[Context], Iterator[Suspicion]]
    notices: str = ""
    own_cause: bool = False


class Context:
    """A pipeline under suspicion: what rules ask of it, and what has been seen of it.

    ``mends``: whether mends must prove that they do no harm.
    """

    def __init__(
        self, compiled: CompiledPipeline, trials: Runner, more: Iterable[Scenario] = (), *, mends: bool = True
    ) -> None:
        self.compiled, self.trials, self.mends = compiled, trials, mends
        self.spec, self.options, self.doc = compiled.spec, compiled.options, compiled.source.doc
        self.words = RequestFactory(compiled)
        self.sequential = compiled.sequential
        self._more = tuple(more)
        self._runs: list[ScenarioRun] = []
        self._orders: dict[str | None, list[str]] = {}

    # Where things stand.

    def order(self, item: PlacedRoute | None) -> list[str]:
        """What is on a route's way and switched on, in running order."""
        key = item.route.id if item is not None else None
        if key not in self._orders:
            self._orders[key] = self.words.order(item)
        return self._orders[key]

    @property
    def ways(self) -> Iterator[tuple[PlacedRoute | None, list[str]]]:
        """Every route, and None for what no route fits, with its order."""
        for item in [*self.compiled.placed, None]:
            yield item, self.order(item)

    def order_of(self, x: Exchange) -> list[str]:
        """The order that an exchange met."""
        return self.order(self.item(x))

    def item(self, x: Exchange) -> PlacedRoute | None:
        """The route of an exchange, at its place."""
        return self.by_id.get(x.route.id) if x.route is not None else None

    @cached_property
    def by_id(self) -> Mapping[str, PlacedRoute]:
        """The routes."""
        return {item.route.id: item for item in self.compiled.placed}

    def kinds(self, *names: str) -> list[str]:
        """Stages of these kinds that are switched on, in the order of the file."""
        return [id_ for id_, option in self.options.items() if option.kind in names and option.enabled]

    def kind(self, id_: str) -> str:
        """A stage's kind; nothing for the router and the handler."""
        return self.options[id_].kind if id_ in self.options else ""

    def stage(self, id_: str | None) -> StageOptions | None:
        """A stage's options."""
        return self.options.get(id_ or "")

    def at(self, stage: str | None, *path: str | int) -> Path:
        """The place of a stage in the document."""
        return (*self.compiled.stages_at.get(stage or "", ()), *path)

    def at_route(self, route: str | None, *path: str | int) -> Path:
        """The place of a route in the document; a desk's routes stand where their group's first other does."""
        return (*self.compiled.routes_at.get(route or "", ()), *path)

    # What has been seen.

    @cached_property
    def scenarios(self) -> tuple[Scenario, ...]:
        """What is tried, from short to long: made-up requests, then those of a trace that was given.

        Where that is more than the budget has room for, each sort has its fair share; ``left_out`` says what hasn't.
        """
        every = [*scenarios(self.compiled), *self._more]
        found = shared_out(every, self.trials.budget * _FOR_PROBES // 100)
        kept = Counter(_sort(scenario) for scenario in found)
        for sort, count in Counter(map(_sort, every)).items():
            if kept[sort] < count:
                self.left_out[sort] = count - kept[sort], count
        return tuple(found)

    @cached_property
    def left_out(self) -> dict[str, tuple[int, int]]:
        """Sorts of probes of which some aren't tried: how many, and of how many."""
        return {}

    def runs(self, *sorts: str) -> Iterator[ScenarioRun]:
        """What came of the probes of these sorts, or of all. Each is run once."""
        for at, scenario in enumerate(self.scenarios):
            if not sorts or scenario.sort.partition(":")[0] in sorts or scenario.sort == "trace":
                found = self._run(at, scenario)
                if found is not None:
                    yield found

    @cached_property
    def _seen(self) -> dict[int, ScenarioRun | None]:
        return {}

    def _run(self, at: int, scenario: Scenario) -> ScenarioRun | None:
        if at not in self._seen:
            self._seen[at] = self.trials.run(scenario, self.compiled)
        return self._seen[at]

    def run(self, scenario: Scenario) -> ScenarioRun | None:
        """What comes of a probe, which may be one of those that were tried already."""
        at = self._numbers.get(id(scenario))
        return self._run(at, scenario) if at is not None else self.trials.run(scenario, self.compiled)

    @cached_property
    def _numbers(self) -> dict[int, int]:
        """Which of the probes that are tried each is: they live as long as this does, so that one's id is its own."""
        return {id(scenario): at for at, scenario in enumerate(self.scenarios)}

    def exchanges(self, *sorts: str) -> Iterator[tuple[ScenarioRun, Exchange]]:
        """Every exchange of the runs of these sorts, with its run."""
        for run in self.runs(*sorts):
            for x in run.exchanges:
                yield run, x


_FOR_PROBES = 60
"""How much of the budget probes may use, in percent; the rest is for what rules try out of them."""


def _sort(scenario: Scenario) -> str:
    return scenario.sort.partition(":")[0]


def shared_out(every: Sequence[Scenario], budget: int) -> list[Scenario]:
    """As many probes as a budget of requests allows, in their order: whole sorts where they fit, fair shares else."""
    wanted: Counter[str] = Counter()
    for scenario in every:
        wanted[_sort(scenario)] += scenario.sent
    if wanted.total() <= budget:
        return list(every)
    left, shares = budget, dict[str, int]()
    for number, (sort, count) in enumerate(sorted(wanted.items(), key=lambda entry: entry[1])):
        shares[sort] = min(count, left // (len(wanted) - number))
        left -= shares[sort]
    found, spent, met = [], Counter[str](), Counter[str]()
    for scenario in every:
        sort = _sort(scenario)
        met[sort] += scenario.sent
        if spent[sort] + scenario.sent <= met[sort] * shares[sort] / wanted[sort]:  # evenly, from first to last
            spent[sort] += scenario.sent
            found.append(scenario)
    return found


# Questions that several rules ask.


def status(x: Exchange) -> int:
    """The status of the answer; 0 where there is none."""
    return x.answer.status if x.answer is not None else 0


def entered(x: Exchange, stage: str) -> bool:
    """Whether a stage met the request."""
    return any(step[0] == stage and step[1] == "in" and step[2] != "skipped" for step in x.journey or ())


def is_preflight(x: Exchange) -> bool:
    """Whether it asks whether a page may (Fetch 3.2.2)."""
    fields = x.sent.fields
    return x.sent.method == "OPTIONS" and "origin" in fields and "access-control-request-method" in fields


def state(x: Exchange) -> str:
    """What the last cache on the way made of it."""
    return x.caches[-1].state if x.caches else ""


def same(run: ScenarioRun, x: Exchange) -> Exchange | None:
    """The exchange of another run that has the same id."""
    return next((other for other in run.exchanges if other.id == x.id), None)


def shows(before: Callable[[Exchange], bool], after: Callable[[Exchange], bool]) -> Proof:
    """A proof: some exchange is the one as it is, and the other when mended."""

    def proof(as_is: ScenarioRun, mended: ScenarioRun) -> bool:
        for x in as_is.exchanges:
            if before(x):
                other = same(mended, x)
                if other is not None and after(other):
                    return True
        return False

    return proof


def refuses_now(*stages: str) -> Proof:
    """A proof: one of these stages refuses when mended what none of them did."""
    return shows(lambda x: x.refused_by not in stages, lambda x: x.refused_by in stages)


def refuses_no_more(*stages: str) -> Proof:
    """A proof: what one of these stages refuses none of them does when mended."""
    return shows(lambda x: x.refused_by in stages, lambda x: x.refused_by not in stages)


def observable_state(x: Exchange) -> Json:
    """What a caller can tell one outcome from another by, and what stages left."""
    answer = x.answer
    fields = sorted(pair for pair in answer.fields.pairs() if pair[0].lower() != "date") if answer is not None else None
    body = answer.content if answer is not None else None
    return status(x), x.answered_by, x.refused_by, x.why, x.outcome, fields, body, dict(x.context)


def differs(as_is: ScenarioRun, mended: ScenarioRun) -> bool:
    """Whether a caller can tell the two runs apart."""
    return [observable_state(x) for x in as_is.exchanges] != [observable_state(x) for x in mended.exchanges]
