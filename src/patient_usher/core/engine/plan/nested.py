"""Nested flow: a stage wraps what is behind it.

A stage that passes on gets a frame; frames leave innermost first. An error travels outwards through
the frames, which are dropped on its way; the nearest error handler outside answers.
"""

from __future__ import annotations

from patient_usher.core.engine.plan.step import PlanStep
from patient_usher.core.engine.plan.walk_state import WalkState
from patient_usher.core.http.messages import Answer
from patient_usher.core.model.exchange import Exchange

catches_on_the_way_out = True
"""Whether an error on the way out can still be caught."""


def begin(x: Exchange) -> None:
    """There is no answer until somebody answers."""


def answered(x: Exchange, answer: Answer) -> None:
    """The answer is whole as it is."""
    x.answer = answer


def replaced(x: Exchange, answer: Answer) -> None:
    """It takes the place of everything."""
    x.answer = answer


def raised(x: Exchange) -> None:
    """An error and an answer are never there together."""
    x.answer = None


def meets_error(walk_state: WalkState) -> PlanStep | None:
    """Outwards: the innermost frame that has a way for errors; each is dropped as the error passes."""
    x, frames = walk_state.x, walk_state.frames
    journey = x.journey
    while frames:
        step = frames.pop()
        if step.rewrites:
            x.request = x.work.get(step.stage, x.request)
        if step.way_error is not None:
            return step
        if journey is not None:
            lost = step.way_out is not None
            journey.append((step.id, "error", "skipped" if lost else "continued", x.now, None))
    return None


def caught(x: Exchange, step: PlanStep, answer: Answer) -> None:
    """The error handler's answer takes the place of everything."""
    x.answer = answer


def fails_on_the_way_out(walk_state: WalkState) -> bool:
    """The error travels on outwards."""
    return True
