"""Trying requests out: each probe in a run state of its own, within a budget, each once only."""

from __future__ import annotations

from typing import NamedTuple

from patient_usher.core.decisions.scenario import Scenario
from patient_usher.core.engine.bind.trace import BoundTrace, prepare, read_spec
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.replay import Send
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.model.document import Json, Unusable
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.verify.record import Record, send_records
from patient_usher.core.verify.run import run

BUDGET = 20_000
"""How many requests are tried, where nobody says."""
BASE = "https://service.example"


class ScenarioRun(NamedTuple):
    """What came of a probe: every send, in order."""

    scenario: Scenario
    sends: tuple[Send, ...]
    starts: int

    @property
    def exchanges(self) -> list[Exchange]:
        """All of them: calls, preflights, redirects."""
        return [x for send in self.sends for x in send.exchanges]

    @property
    def last(self) -> Exchange:
        """What ended the last send."""
        x = self.sends[-1].final
        assert x is not None
        return x

    def records(self) -> list[Record]:
        """Every exchange as the result writes it."""
        return [record for send in self.sends for record in send_records(send, self.starts, [])]


class Runner:
    """Requests run through pipelines. ``tried`` counts them; when the budget is used up nothing more is run.

    ``looks``: exchanges keep what matchers read.
    """

    def __init__(self, budget: int = BUDGET, base: str = BASE, seed: int = 0, *, looks: bool = False) -> None:
        self.budget, self.base, self.seed, self.looks = budget, base, seed, looks
        self.ceiling = budget
        """How far whoever is at work may go, so that others have a share too."""
        self.tried = 0
        self.spent = False
        """Whether something was left out, since the budget was used up."""
        self._ready: dict[str, BoundTrace | None] = {}

    def apart(self) -> Runner:
        """Another with a budget of its own, for which whatever is ready here is ready too."""
        other = Runner(self.budget, self.base, self.seed)
        other._ready = self._ready
        return other

    def run(self, scenario: Scenario, compiled: CompiledPipeline) -> ScenarioRun | None:
        """What comes of a probe; None where it can't be sent there, or the budget is used up."""
        if self.tried + scenario.sent > min(self.budget, self.ceiling):
            self.spent = True
            return None
        prepared = self._prepared(scenario, compiled)
        if prepared is None:
            return None
        self.tried += scenario.sent
        try:
            run_state = RunState(compiled, self.seed)
            run_state.looks = self.looks
            sends = tuple(judged.send for judged in run(run_state, prepared))
        except Unusable:  # a change that doesn't fit this pipeline
            return None
        return ScenarioRun(scenario, sends, prepared.starts) if sends else None

    def _prepared(self, scenario: Scenario, compiled: CompiledPipeline) -> BoundTrace | None:
        """A probe made ready, once: what is ready for a pipeline is for one that differs a little."""
        key = repr(scenario)
        if key not in self._ready:
            self._ready[key] = prepared(scenario, compiled, self.base)
        return self._ready[key]


def prepared(scenario: Scenario, compiled: CompiledPipeline, base: str) -> BoundTrace | None:
    """A probe made ready for a pipeline; None where it doesn't fit it."""
    doc: Json = scenario.document(base)
    try:
        return prepare(read_spec(doc), doc, "tried", compiled, _no_file, [])
    except Unusable:
        return None


def _no_file(name: str) -> bytes:
    raise OSError(f"{name} isn't wanted here")
