"""Traces through a pipeline: loading both, and every request with the verdict on it."""

from __future__ import annotations

import gc
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import NamedTuple

from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.compile.compiler import changed, variant
from patient_usher.core.engine.compile.warnings import warnings_of
from patient_usher.core.engine.run import run_state
from patient_usher.core.model.document import JsonMapping, Problem, Unusable
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.expectations import Check
from patient_usher.core.verify.record import Record, final_of
from patient_usher.core.verify.run import run, run_states
from patient_usher.files.pipeline import load_pipeline
from patient_usher.files.trace import Trace
from patient_usher.files.trust import trust_of


@dataclass(frozen=True)
class Pipeline:
    """A pipeline ready to run: frozen, to be shared and pickled. ``variant`` makes others of it."""

    compiled: CompiledPipeline

    @property
    def name(self) -> str:
        """The pipeline's name."""
        return self.compiled.name

    @property
    def environment(self) -> tuple[str, ...]:
        """The environments laid on; production where there is none."""
        return self.compiled.environment

    @property
    def warnings(self) -> tuple[Problem, ...]:
        """What can be used, but will hardly be meant."""
        return tuple(warnings_of(self.compiled))

    def variant(self, **changes: object) -> Pipeline:
        """The pipeline with another ``order`` of server-wide stages, another ``flow``, or overlays by key.

        Keys are the pipeline file's, with underscores for dashes. Raises Unusable, with no place in a file.
        """
        return Pipeline(variant(self.compiled, **changes))

    def changed(self, overlay: JsonMapping) -> Pipeline:
        """The pipeline with an overlay laid on, as ``change:`` in a trace does it. Raises Unusable."""
        return Pipeline(changed(self.compiled, overlay))

    def __repr__(self) -> str:
        return repr(self.compiled)


class RunState(run_state.RunState):
    """What a pipeline has become in the middle of a replay, for a further replay to go on with."""

    def __init__(self, pipeline: Pipeline, seed: int = 0) -> None:
        super().__init__(pipeline.compiled, seed)


def load(
    source: str | Path | JsonMapping,
    *,
    environments: Sequence[str] | None = None,
    settings: Iterable[str] = (),
    always: str | Path | None = None,
    trust: Iterable[str] = (),
) -> Pipeline:
    """The pipeline that a file describes; in place of a path, a mapping says what the file would say.

    ``environments`` are laid on in order; None for those that the file names itself. ``settings`` are texts such as
    ``throttle.quota=10``; ``always`` is a file of statements that join the file's; ``trust`` may hold ``python`` and
    ``files``. Raises Unusable with everything that is wrong with the file.
    """
    return Pipeline(
        load_pipeline(
            Path(source) if isinstance(source, str) else source,
            environments=environments,
            settings=settings,
            always=Path(always) if always is not None else None,
            trust=trust_of(trust),
        )
    )


class Sent(NamedTuple):
    """One request of a trace, sent once, and what came of it.

    ``exchanges`` are records as the result format has them: the request itself, preflights and redirects, in order.
    ``checks`` is what was expected, and whether it held; ``broken`` the ids of the statements that it broke; ``mark``
    the verdict: held, none (nothing was expected), slipped or failed.
    """

    id: str
    exchanges: list[Record]
    checks: list[Check]
    broken: tuple[str, ...]
    mark: str

    @property
    def final(self) -> Record:
        """The exchange that ended it."""
        return final_of(self.exchanges)

    @property
    def status(self) -> int | None:
        """The status of the last answer; None where none came."""
        return self.final.status

    @property
    def failed(self) -> bool:
        """Whether an expectation or a statement of the pipeline did not hold."""
        return self.mark == "failed"


def replay(pipeline: Pipeline, trace: Trace, *, seed: int = 0, run_state: RunState | None = None) -> Iterator[Sent]:
    """Every request of the trace, as soon as it and all before it are over, in a fresh run state.

    The same pipeline, trace and seed give the same, however often. ``run_state`` goes on in one that an earlier
    replay has left. Raises Unusable where the trace doesn't fit the pipeline.
    """
    bound = trace.bound(pipeline.compiled)
    statements = Statements(pipeline.compiled)
    for judged in run(run_state or RunState(pipeline, seed), bound, statements=statements):
        yield Sent(judged.send.id, judged.records(), judged.checks, judged.broken, judged.mark)


def collect_garbage() -> None:
    """What was loaded is there to stay; from now on what falls is picked up, seldom."""
    _freeze()
    gc.enable()
    gc.set_threshold(20_000, 20, 50)


@cache
def _freeze() -> None:
    """Once in a process: what is frozen is never garbage, and commands may follow each other."""
    gc.freeze()


class Session(NamedTuple):
    """Traces to be replayed through one pipeline: each in a fresh run state, or all in one after the other."""

    pipeline: CompiledPipeline
    traces: list[BoundTrace]
    seed: int = 0
    keeps_state: bool = False
    only: frozenset[str] = frozenset()
    lasts: bool = False
    """Whether handlers are busy as long as the traces say."""

    def run_states(self) -> Iterator[tuple[run_state.RunState, BoundTrace]]:
        """Each trace with the run state that it comes to."""
        return run_states(self.pipeline, self.traces, self.seed, keeps_state=self.keeps_state, lasts=self.lasts)

    def shows(self, id_: str, request_id: str) -> bool:
        """Whether a send is among those that are to be shown."""
        return not self.only or request_id in self.only or id_ in self.only


def bound_all(pipeline: CompiledPipeline, traces: Iterable[Trace], *, known_only: bool = False) -> list[BoundTrace]:
    """Traces made ready, ``known_only`` as ``Trace.bound`` says. Raises Unusable with the problems of all of them."""
    problems, found = [], []
    for trace in traces:
        try:
            found.append(trace.bound(pipeline, known_only=known_only))
        except Unusable as error:
            problems += error.problems
    if problems:
        raise Unusable(problems)
    return found
