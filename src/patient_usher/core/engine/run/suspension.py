"""Exchanges that don't run: parked, stalled, past a deadline; and the shadows that run on for nobody."""

from __future__ import annotations

from copy import copy
from typing import TYPE_CHECKING

from patient_usher.core.engine.flow.plan import PlanStep
from patient_usher.core.engine.run.clock import COMPLETION, TIMER
from patient_usher.core.http.messages import finish
from patient_usher.core.model.effects import AnswerAndPass, Deadline, Hold, Wait
from patient_usher.core.model.errors import refusal
from patient_usher.core.model.exchange import Exchange

if TYPE_CHECKING:
    from patient_usher.core.engine.run.walk import Walk

RUNNING, STALLED, SENT = range(3)
"""Where an exchange is: still on its way (parked or not), for ever in a stage, or over for its caller."""

# Each of these takes an effect of the way in; they return whether the walk goes on to the next step.


def park(walk: Walk, x: Exchange, step: PlanStep, wait: Wait) -> bool:
    """Go on after a time."""
    until = walk.clock.now + wait.time
    x.resume, x.waits, x.wakes_at = wait.then, True, until
    walk.clock.push(until, COMPLETION, x.number, walk.wake, x, x.epoch)
    if until > x.patience_ends:
        _set_patience(walk, x)
    return False


def hold(walk: Walk, x: Exchange, step: PlanStep, held: Hold) -> bool:
    """Go on when another exchange says so."""
    x.resume, x.waits, x.wakes_at = held.then, True, x.patience_ends
    clock, epoch = walk.clock, x.epoch
    held.waiting.append(lambda: clock.push(clock.now, COMPLETION, x.number, walk.wake, x, epoch))
    _set_patience(walk, x)
    return False


def answer_and_pass(walk: Walk, x: Exchange, step: PlanStep, both: AnswerAndPass) -> bool:
    """The answer is sealed and leaves; what is behind runs on as a shadow."""
    if x.journey is not None:
        did = "answered" if both.refreshes else "answered-and-continued"
        x.journey.append((step.id, "in", did, x.now, x.note))
    x.note = None
    shadow = _shadow(x, x.index + 1)
    if both.refreshes:
        shadow.frames, shadow.refreshes = [step], True
        if both.request is not None:
            shadow.request = both.request
    else:
        (x.shadow_of or x).slipped = True
    x.plan.flow.answered(x, both.answer)
    x.answered_by = step.id
    walk.leave(x)
    walk.go_on(shadow)
    return False


def set_deadline(walk: Walk, x: Exchange, step: PlanStep, deadline: Deadline) -> bool:
    """Pass on, with a time in which what is behind must be done."""
    if x.journey is not None:
        x.journey.append((step.id, "in", "continued", x.now, x.note))
    x.note = None
    x.frames.append(step)
    x.deadlines = (*x.deadlines, (step, x.index, len(x.done)))
    walk.clock.push(walk.clock.now + deadline.after, TIMER, x.number, _too_late, (walk, x, step, deadline))
    x.index += 1
    return True


# Patience.


def stall(walk: Walk, x: Exchange) -> None:
    """Nobody passes it on and nobody answers: the caller waits, as long as it can."""
    x.state = STALLED
    x.answer = None
    if x.shadow_of is not None:
        end_shadow(walk, x)
    elif x.gave_up:
        x.state = SENT  # nobody waits, and nothing runs: no timer finds it any more
        walk.close(x)
    else:
        _set_patience(walk, x)


def _set_patience(walk: Walk, x: Exchange) -> None:
    if x.shadow_of is None and not x.gave_up and not x.impatient:
        x.impatient = True
        walk.clock.push(max(x.patience_ends, walk.clock.now), TIMER, x.number, _out_of_patience, (walk, x))


def _out_of_patience(subject: tuple[Walk, Exchange], _: int) -> None:
    walk, x = subject
    if x.state == SENT or x.gave_up:
        return
    x.gave_up = True
    x.finished = walk.clock.now
    x.outcome = "stalled" if x.state == STALLED else "abandoned"
    walk.on_finished(x)
    if x.state == STALLED or x.plan.cancels:
        x.epoch += 1  # whatever it waits for, it waits no more
        x.now, x.state = walk.clock.now, SENT
        walk.close(x)


# Deadlines.


def _too_late(subject: tuple[Walk, Exchange, PlanStep, Deadline], _: int) -> None:
    """Time is over: cancel what is behind, or let it run on as a shadow; raise Timeout at the stage's place."""
    walk, x, step, deadline = subject
    if x.state == SENT or step not in x.frames:
        return
    at = x.frames.index(step)
    behind, x.frames = x.frames[at + 1 :], x.frames[:at]
    _, index, entered = next(entry for entry in x.deadlines if entry[0] is step)
    x.deadlines = tuple(entry for entry in x.deadlines if entry[1] < index)
    x.now = walk.clock.now
    x.epoch += 1
    if deadline.runs_on and x.waits:
        shadow = copy(x)
        shadow.shadow_of = owner = x.shadow_of or x
        shadow.frames, shadow.deadlines = behind, ()
        owner.live += 1
        walk.clock.push(x.wakes_at, COMPLETION, x.number, walk.wake, shadow, shadow.epoch)
    elif not deadline.runs_on:
        for done in reversed(x.done[entered:]):
            done(x, "cancelled")
        del x.done[entered:]
    x.waits, x.resume, x.state, x.index = False, None, RUNNING, index
    x.timed_out = True
    if x.answer is None:
        x.plan.flow.begin(x)
    walk.give_up(x, step, refusal("Timeout", "too-slow", f"nothing came back within {deadline.after / 1_000_000:g} s"))


# Shadows.


def _shadow(x: Exchange, index: int) -> Exchange:
    owner = x.shadow_of or x
    shadow = copy(x)
    shadow.shadow_of = owner
    shadow.frames = []
    shadow.index = index
    shadow.answer = x.answer.copy() if x.answer is not None else None
    owner.live += 1
    return shadow


def end_shadow(walk: Walk, shadow: Exchange) -> None:
    """What ran on for nobody is over: its owner notes what became of it."""
    owner = shadow.shadow_of
    assert owner is not None
    owner.handler_reached |= shadow.handler_reached
    owner.handler_finished |= shadow.handler_finished
    owner.identity = owner.identity or shadow.identity
    caught = shadow.raising is None or shadow.answered_by != "server"
    if owner.second_answer is None and shadow.answer is not None and caught and not shadow.refreshes:
        owner.second_answer = finish(owner.request.method, shadow.answer, walk.date())
    owner.now = walk.clock.now
    walk.close(owner)
