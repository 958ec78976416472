"""Which requests change between two pipelines, environments, orders, or saved results?"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from patient_usher.core.questions.compare import Comparison, compared
from patient_usher.core.questions.side_by_side import SideBySide
from patient_usher.core.verify.record import Record
from patient_usher.core.verify.run import prefix_of, run
from patient_usher.files.trace import Trace
from patient_usher.use_cases.session import Pipeline, Session, bound_all


def compare(a: Pipeline, b: Pipeline, *traces: Trace, seed: int = 0) -> Comparison:
    """Which requests of the traces change between two pipelines, and in what. Raises Unusable."""
    return compared(*(records_of(session(pipeline, traces, seed)) for pipeline in (a, b)))


def compared_at_length(
    a: Pipeline,
    b: Pipeline,
    traces: Sequence[Sequence[Trace]],
    *,
    seed: int = 0,
    shows: Callable[[Record], Record] = lambda record: record,
    watch: Callable[[int], None] = lambda done: None,
) -> SideBySide:
    """The same for long traces, in memory that doesn't grow with them: both pipelines run side by side, journeys
    aren't kept, and of each change the first requests are. ``traces``: the same, read once for each side, since what
    streams is read away. Raises Unusable.
    """
    sessions = [session(pipeline, own, seed) for pipeline, own in zip((a, b), traces, strict=True)]
    found = SideBySide(shows)
    for (run_state, trace), (twin, again) in zip(*(one.run_states() for one in sessions), strict=True):
        prefix = prefix_of(trace, sessions[0].traces)
        found.run(run(run_state, trace, journeys=False), run(twin, again, journeys=False), prefix, watch)
    return found


def session(pipeline: Pipeline, traces: Iterable[Trace], seed: int = 0) -> Session:
    """The traces made ready for a pipeline, with what can be expected of it. Raises Unusable."""
    return Session(pipeline.compiled, bound_all(pipeline.compiled, traces, known_only=True), seed)


def records_of(session: Session) -> list[Record]:
    """Every exchange of a session; where there are several traces, ids begin with the trace's name."""
    records: list[Record] = []
    for run_state, trace in session.run_states():
        prefix = prefix_of(trace, session.traces)
        for judged in run(run_state, trace):
            for record in judged.records():
                record.id = prefix + record.id
                records.append(record)
    return records
