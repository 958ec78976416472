"""Which of the things that stages and routes can do has a trace made them do, and what would make the rest happen?"""

from __future__ import annotations

from typing import NamedTuple

from patient_usher.core.decisions.coverage import Coverage
from patient_usher.core.decisions.coverage_gaps import Closing, closings
from patient_usher.core.decisions.proofs import impossible
from patient_usher.core.verify.run import run
from patient_usher.files.trace import Trace
from patient_usher.use_cases.compare import session
from patient_usher.use_cases.session import Pipeline, Session


class Covered(NamedTuple):
    """What has happened of all that can, and requests that would close gaps."""

    coverage: Coverage
    closing: list[Closing]


def coverage(pipeline: Pipeline, *traces: Trace, seed: int = 0) -> Covered:
    """What the traces have made happen of all that can. Raises Unusable."""
    return covered(session(pipeline, traces, seed))


def covered(session: Session) -> Covered:
    """The same of traces that are ready."""
    found = Coverage(session.pipeline)
    for run_state, trace in session.run_states():
        if not session.keeps_state:
            found.forget()
        for judged in run(run_state, trace):
            found.add(judged.send)
    closing = closings(session.pipeline, found.missing, session.traces[0].base, session.seed)
    closed = {branch for one in closing for branch in one.closed}
    found.set_apart(impossible(session.pipeline, [branch for branch in found.missing if branch not in closed]))
    return Covered(found, closing)
