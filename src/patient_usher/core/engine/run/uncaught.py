"""Errors that nobody catches: what is answered all the same, and why nobody did."""

from __future__ import annotations

from patient_usher.core.engine.plan.walk_state import WalkState
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer
from patient_usher.core.model.errors import Raised
from patient_usher.core.model.exchange import Exchange


def crash(walk_state: WalkState) -> None:
    """Nobody caught it: what its type declares, answered plainly, or the server's own answer."""
    walk_state.frames.clear()
    x, error = walk_state.x, walk_state.raising
    if x.plan.answers and error is not None and error.status is not None:
        x.answer, x.answered_by = error.plainly(), error.raised_by
        return
    if error is not None and x.journey is not None:
        error.because = why_uncaught(x, error)
    uncaught = x.plan.uncaught
    x.answer, x.answered_by = uncaught.answer(x, error) if uncaught is not None else Answer(500, Fields()), "server"


def why_uncaught(x: Exchange, error: Raised) -> str:
    """Why no error handler answered this error, in words."""
    steps = [step.id for step in x.plan.steps]
    handlers = [step for step in x.plan.steps if step.stage.catches_errors]
    if not handlers:
        return "no error handler stands on its way"
    if any(step.id == error.raised_by for step in handlers):
        return f"{error.raised_by} failed itself"
    names = " and ".join(step.id for step in handlers)
    if not x.plan.flow.catches_on_the_way_out and any(
        step == error.raised_by and way == "out" for step, way, *_ in (x.journey or ())[-1:]
    ):
        return "what fails in work on the way out is past every error handler"
    if any(step.passes_over is not None and step.passes_over(x) for step in handlers):
        return f"{names} passes this request over (only, except)"
    at = steps.index(error.raised_by) if error.raised_by in steps else len(steps)
    if x.plan.drafts and all(steps.index(step.id) < at for step in handlers):
        return f"{names} stands in front of {error.raised_by}, and errors skip forward"
    return f"{names} doesn't stand around {error.raised_by}"
