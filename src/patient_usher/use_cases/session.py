"""The use cases, callable from Python: load a pipeline, read a trace, replay, compare.

Everything here is also what the command line does; it only adds arguments and views.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.engine.replay import Replay, Send
from patient_usher.core.engine.run.world import World
from patient_usher.core.model.document import Unusable
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.expectations import Check, Verifier
from patient_usher.core.verify.record import Record, final_of, send_records
from patient_usher.core.verify.telling import without_secrets
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.files.pipeline import load_pipeline
from patient_usher.files.trace import Trace

if TYPE_CHECKING:
    from patient_usher.core.analysis.compare import Comparison

__all__ = ["Pipeline", "Sent", "Trace", "Unusable", "compare", "load", "replay"]

Pipeline = Blueprint
"""A pipeline ready to run: frozen, to be shared and pickled. ``variant`` and ``changed`` make others of it."""


def load(
    source: str | Path | Mapping[str, Any],
    *,
    environments: Sequence[str] | None = None,
    settings: Iterable[str] = (),
    allow_files: bool = False,
    allow_python: bool = False,
) -> Pipeline:
    """The pipeline that a file describes; in place of a path, a mapping says what the file would say.

    ``environments`` are laid on in order; None for those that the file names itself. ``settings`` are
    texts such as ``throttle.quota=10``. Raises Unusable with everything that is wrong with the file.
    """
    return load_pipeline(
        Path(source) if isinstance(source, str) else source,
        environments=environments,
        settings=settings,
        allow_files=allow_files,
        allow_python=allow_python,
    )


class Sent(NamedTuple):
    """One request of a trace, sent once, and what came of it.

    ``exchanges`` are records as the result format has them: the request itself, preflights and
    redirects, in order. ``checks`` is what was expected, and whether it held.
    """

    id: str
    exchanges: list[Record]
    checks: list[Check]

    @property
    def final(self) -> Record:
        """The exchange that ended it."""
        return final_of(self.exchanges)

    @property
    def status(self) -> int | None:
        """The status of the last answer; None where none came."""
        response = self.final["response"]
        return response["status"] if response is not None else None

    @property
    def failed(self) -> bool:
        """Whether anything was not as expected."""
        return any(not check.ok for check in self.checks)


def replay(pipeline: Pipeline, trace: Trace, *, seed: int = 0, world: World | None = None) -> Iterator[Sent]:
    """Every request of the trace, as soon as it and all before it are over, in a fresh world.

    The same pipeline, trace and seed give the same, however often. ``world`` goes on in one that an
    earlier replay has left. Raises Unusable where the trace doesn't fit the pipeline.
    """
    prepared = trace.prepared(pipeline)
    for send, checks, starts in sends(world or World(pipeline, seed), prepared):
        yield Sent(send.id, send_records(send, starts, checks), checks)


def told(records: list[Record]) -> list[Record]:
    """Records as they may be put out: no credentials, and nothing that came from the environment."""
    shown: list[Record] = ENVIRONMENT.hidden(without_secrets(records))
    return shown


def sends(
    world: World, prepared: BoundTrace, *, journeys: bool = True, always: Statements | None = None
) -> Iterator[tuple[Send, list[Check], int]]:
    """Every send with its checks, and the time from which the trace counts; ``always`` sees every exchange."""
    journeys = journeys or (always is not None and always.needs_journeys)
    run = Replay(world, prepared.starts, prepared.entries, streams=prepared.streams, journeys=journeys)
    verifier = Verifier(world.blueprint.environment)
    for send in run.run():
        if always is not None:
            always.add(send)
        yield send, verifier.check(send), run.starts


def compare(a: Pipeline, b: Pipeline, trace: Trace, *, seed: int = 0) -> Comparison:
    """Which requests of the trace change between two pipelines, and in what."""

    from patient_usher.core.analysis.compare import compared

    def records(pipeline: Pipeline) -> list[Record]:
        return [record for sent in replay(pipeline, trace, seed=seed) for record in sent.exchanges]

    return compared(records(a), records(b))
