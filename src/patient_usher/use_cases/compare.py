"""Which requests change between two pipelines, environments, orders, or saved results?"""

from __future__ import annotations

from collections.abc import Iterable

from patient_usher.core.analysis.compare import Comparison, compared
from patient_usher.core.verify.record import Record
from patient_usher.core.verify.run import prefix_of, run
from patient_usher.files.trace import Trace
from patient_usher.use_cases.session import Pipeline, Session, bound_all


def compare(a: Pipeline, b: Pipeline, *traces: Trace, seed: int = 0) -> Comparison:
    """Which requests of the traces change between two pipelines, and in what. Raises Unusable."""
    return compared(*(records_of(session(pipeline, traces, seed)) for pipeline in (a, b)))


def session(pipeline: Pipeline, traces: Iterable[Trace], seed: int = 0) -> Session:
    """The traces made ready for a pipeline. Raises Unusable."""
    return Session(pipeline.blueprint, bound_all(pipeline.blueprint, traces), seed)


def records_of(session: Session) -> list[Record]:
    """Every exchange of a session; where there are several traces, ids begin with the trace's name."""
    records: list[Record] = []
    for world, trace in session.worlds():
        prefix = prefix_of(trace, session.traces)
        for judged in run(world, trace):
            for record in judged.records():
                record.id = prefix + record.id
                records.append(record)
    return records
