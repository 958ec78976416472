"""One way to run a trace: callers, a run state, statements and checks, and the verdict on every request.

Every command, analysis, plugin and Python caller goes this way, so that they can't disagree.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.replay import Replay, Send
from patient_usher.core.engine.run.model_service import MakeService
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.expectations import Check, Verifier
from patient_usher.core.verify.record import Record, send_records
from patient_usher.core.verify.verdict import mark_of

_new: Any = tuple.__new__  # half the price of a named tuple's own


class Judged(NamedTuple):
    """A send and the verdict on it: its checks, the statements that it broke by name, and the mark of the two.

    ``starts`` is the time from which its trace counts, in microseconds.
    """

    send: Send
    checks: list[Check]
    broken: tuple[str, ...]
    mark: str
    starts: int

    def records(self) -> list[Record]:
        """Every exchange of it, as the result writes them."""
        return send_records(self.send, self.starts, self.checks, self.mark)


def run(
    run_state: RunState,
    trace: BoundTrace,
    *,
    statements: Statements | None = None,
    journeys: bool = True,
    service: MakeService | None = None,
    release_sends: bool = False,
) -> Iterator[Judged]:
    """Every send of a trace in order, as soon as it and all before it are over.

    ``statements`` are held against every exchange; None for none. Without ``journeys`` only those exchanges keep one
    of which something is expected. ``service``: who is asked instead of the run state, whose callers ask.
    ``release_sends``: no send is looked at any more when the next is asked for; what it held is then
    free at once. Raises Unusable for an entry that can't be used, when all before it are over.
    """
    journeys = journeys or (statements is not None and statements.needs_journeys)
    replay = Replay(run_state, trace.starts, trace.entries, streams=trace.streams, journeys=journeys, service=service)
    starts, verifier = replay.starts, Verifier(run_state.compiled.environment)
    for send in replay.run():
        checks = verifier.check(send)
        broken = statements.add(send) if statements is not None else ()
        yield _new(Judged, (send, checks, broken, mark_of(send, checks, broken), starts))
        if release_sends:
            for x in send.exchanges:  # it and they name each other: such circles wait for the collector
                x.send = None


def run_states(
    pipeline: CompiledPipeline,
    traces: Sequence[BoundTrace],
    seed: int = 0,
    *,
    keeps_state: bool = False,
    lasts: bool = False,
) -> Iterator[tuple[RunState, BoundTrace]]:
    """Each trace with the run state that it comes to: a fresh one, or that of the one before."""
    run_state = RunState(pipeline, seed, lasts=lasts)
    for number, trace in enumerate(traces):
        if number and not keeps_state:
            run_state = RunState(pipeline, seed, lasts=lasts)
        yield run_state, trace


def prefix_of(trace: BoundTrace, traces: Sequence[BoundTrace]) -> str:
    """What stands in front of the ids of a trace's exchanges where there are several traces."""
    return f"{trace.name.partition('.')[0]}: " if len(traces) > 1 else ""
