"""Sequential flow: stages run in the order of the list, onto one draft of the answer.

Header work goes onto the draft at once; work for the way out is registered, and runs in reverse
when the answer is sent. An error skips forward to the next error handler in the list; one placed
before the point of failure never sees it.
"""

from __future__ import annotations

from patient_usher.core.engine.plan.step import PlanStep
from patient_usher.core.engine.plan.walk_state import WalkState
from patient_usher.core.http.fields import Fields, merged
from patient_usher.core.http.messages import Answer
from patient_usher.core.model.exchange import Exchange

_OF_THE_CONTENT = ("content-", "etag", "last-modified", "cache-control", "expires")
"""What a draft says of an answer that an error has discarded."""


catches_on_the_way_out = False
"""Whether an error on the way out can still be caught."""


def begin(x: Exchange) -> None:
    """An empty draft."""
    x.answer = Answer(200, Fields())


def answered(x: Exchange, answer: Answer) -> None:
    """The answer's fields go over those of the draft; it stays the same answer, with all that is known of it."""
    if x.answer is not None:
        answer.draft, answer.said = x.answer.fields, answer.fields
        answer.fields = merged(x.answer.fields, answer.fields)
    x.answer = answer


def replaced(x: Exchange, answer: Answer) -> None:
    """A refusal of work on the way out takes the answer's place, on the draft that it stood on."""
    before = x.answer
    x.answer = _start(before.draft if before is not None and before.draft is not None else Fields())
    answered(x, answer)


def _start(draft: Fields) -> Answer:
    """A draft for an answer to an error: nothing of content that is discarded."""
    fields = draft.copy()
    for prefix in _OF_THE_CONTENT:
        fields.drop_where(prefix)
    return Answer(200, fields)


def raised(x: Exchange) -> None:
    """The draft stays: an error answer starts from it."""


def meets_error(walk_state: WalkState) -> PlanStep | None:
    """Forward: the next error handler behind the point of failure. The router fails where the routes stand."""
    plan, index = walk_state.x.plan, walk_state.index
    if plan.steps[index].id == "router":
        index = plan.routes_at - 1
    for at in range(index + 1, len(plan.steps)):
        step = plan.steps[at]
        if step.catches and (step.passes_over is None or not step.passes_over(walk_state.x)):
            walk_state.index = at  # where it would fail itself
            return step  # type: ignore[no-any-return]
    return None


def caught(x: Exchange, step: PlanStep, answer: Answer) -> None:
    """The error handler's answer goes onto the draft, unless it starts anew."""
    if not step.keeps_fields:
        x.answer = answer
        return
    x.answer = _start(x.answer.fields if x.answer is not None else Fields())
    answered(x, answer)


def fails_on_the_way_out(walk_state: WalkState) -> bool:
    """An error in registered work is never caught, and the rest of that work is dropped."""
    walk_state.frames.clear()
    return False
