"""Exchanges that don't run: parked, stalled, past a time limit; and the orphans that run on for nobody.

An orphan comes about in three ways: a stage answers and yet passes on (a slip), a cache gives its stale copy while a
fresh one is fetched, and a time limit is over whose stage lets the work run on. It is a copy of the exchange with a
walk state of its own, so that its frames end where it was cut off; what it does is recorded on its owner.
"""

from __future__ import annotations

from collections.abc import Callable
from copy import copy
from typing import Protocol

from patient_usher.core.engine.plan.step import PlanStep
from patient_usher.core.engine.plan.walk_state import State, TimeLimit, WalkState
from patient_usher.core.engine.run.clock import COMPLETION, TIMER, Clock
from patient_usher.core.http.messages import finish
from patient_usher.core.model.effects import AnswerAndPass, Deadline, Effect, Hold, Wait
from patient_usher.core.model.errors import Raised, refusal
from patient_usher.core.model.exchange import Exchange


class Walking(Protocol):
    """What is needed of the walk."""

    clock: Clock
    on_finished: Callable[[Exchange], None]

    def wake(self, walk_state: WalkState, epoch: int) -> None:
        """A wait is over."""

    def go_on(self, walk_state: WalkState, effect: Effect = ...) -> None:
        """On, from where the walk state is."""

    def leave(self, walk_state: WalkState) -> None:
        """The answer leaves."""

    def give_up(self, walk_state: WalkState, step: PlanStep, error: Raised) -> None:
        """A stage refuses after it has passed the request on."""

    def close(self, walk_state: WalkState) -> None:
        """One part of the exchange is over."""

    def date(self) -> str:
        """The present second, as a Date field says it."""


# Each of these takes an effect of the way in; they return whether the walk goes on to the next step.


def park(walk: Walking, walk_state: WalkState, step: PlanStep, wait: Wait) -> bool:
    """Go on after a time."""
    until = walk.clock.now + wait.time
    walk_state.resume, walk_state.waits, walk_state.wakes_at = wait.then, True, until
    walk.clock.push(until, COMPLETION, walk_state.x.number, walk.wake, walk_state, walk_state.epoch)
    if until > walk_state.patience_ends:
        _set_patience(walk, walk_state)
    return False


def hold(walk: Walking, walk_state: WalkState, step: PlanStep, held: Hold) -> bool:
    """Go on when another exchange says so."""
    walk_state.resume, walk_state.waits, walk_state.wakes_at = held.then, True, walk_state.patience_ends
    clock, epoch, number = walk.clock, walk_state.epoch, walk_state.x.number
    held.waiting.append(lambda: clock.push(clock.now, COMPLETION, number, walk.wake, walk_state, epoch))
    _set_patience(walk, walk_state)
    return False


def answer_and_pass(walk: Walking, walk_state: WalkState, step: PlanStep, both: AnswerAndPass) -> bool:
    """The answer is sealed and leaves; what is behind runs on as an orphan."""
    x = walk_state.x
    if x.journey is not None:
        did = "answered" if both.background_refresh else "answered-and-continued"
        x.journey.append((step.id, "in", did, x.now, x.note))
    x.note = None
    orphan = _orphan(walk_state, walk_state.index + 1)
    orphan.x.answer = x.answer.copy() if x.answer is not None else None
    if both.background_refresh:
        orphan.frames, orphan.x.background_refresh = [step], True
        if both.request is not None:
            orphan.x.request = both.request
    else:
        (walk_state.owner or walk_state).slipped = True
    x.plan.flow.answered(x, both.answer)
    x.answered_by = step.id
    walk.leave(walk_state)
    walk.go_on(orphan)
    return False


def set_deadline(walk: Walking, walk_state: WalkState, step: PlanStep, deadline: Deadline) -> bool:
    """Pass on, with a time in which what is behind must be done."""
    x = walk_state.x
    if x.journey is not None:
        x.journey.append((step.id, "in", "continued", x.now, x.note))
    x.note = None
    walk_state.frames.append(step)
    limit = TimeLimit(step, walk_state.index, len(walk_state.done))
    walk.clock.push(walk.clock.now + deadline.after, TIMER, x.number, _too_late, (walk, walk_state, limit, deadline))
    walk_state.index += 1
    return True


# Patience.


def stall(walk: Walking, walk_state: WalkState) -> None:
    """Nobody passes it on and nobody answers: the caller waits, as long as it can."""
    walk_state.state = State.STALLED
    walk_state.x.answer = None
    if walk_state.owner is not None:
        walk_state.state = State.SENT  # nobody waits for it: no timer finds it any more
        end_orphan(walk, walk_state)
    elif walk_state.gave_up:
        walk_state.state = State.SENT  # nobody waits, and nothing runs: no timer finds it any more
        walk.close(walk_state)
    else:
        _set_patience(walk, walk_state)


def _set_patience(walk: Walking, walk_state: WalkState) -> None:
    if walk_state.owner is None and not walk_state.gave_up and not walk_state.impatient:
        walk_state.impatient = True
        walk.clock.push(
            max(walk_state.patience_ends, walk.clock.now),
            TIMER,
            walk_state.x.number,
            _out_of_patience,
            (walk, walk_state),
        )


def _out_of_patience(subject: tuple[Walking, WalkState], _: int) -> None:
    caller_leaves(*subject)


def caller_leaves(walk: Walking, walk_state: WalkState) -> None:
    """The caller has gone: for want of patience, or because the connection is."""
    if walk_state.state == State.SENT or walk_state.gave_up:
        return
    x = walk_state.x
    walk_state.gave_up = True
    x.finished = walk.clock.now
    x.outcome = "stalled" if walk_state.state == State.STALLED else "abandoned"
    walk.on_finished(x)
    if walk_state.state == State.STALLED or x.plan.cancels:
        walk_state.epoch += 1  # whatever it waits for, it waits no more
        x.now, walk_state.state = walk.clock.now, State.SENT
        walk.close(walk_state)


# Time limits.


def _too_late(subject: tuple[Walking, WalkState, TimeLimit, Deadline], _: int) -> None:
    """Time is over: cancel what is behind, or let it run on as an orphan; raise Timeout at the stage's place."""
    walk, walk_state, limit, deadline = subject
    if walk_state.state == State.SENT or limit.step not in walk_state.frames:
        return
    x = walk_state.x
    at = walk_state.frames.index(limit.step)
    behind, walk_state.frames = walk_state.frames[at + 1 :], walk_state.frames[:at]
    x.now = walk.clock.now
    request = next((x.work[step.stage] for step in behind if step.rewrites and step.stage in x.work), x.request)
    if deadline.runs_on and walk_state.waits:
        orphan = _orphan(walk_state, walk_state.index)
        orphan.frames, orphan.resume, orphan.waits = behind, walk_state.resume, True
        walk.clock.push(walk_state.wakes_at, COMPLETION, x.number, walk.wake, orphan, orphan.epoch)
    elif not deadline.runs_on:
        for done in reversed(walk_state.done[limit.entered :]):
            done(x, "cancelled")
        del walk_state.done[limit.entered :]
    walk_state.epoch += 1
    x.request = request
    walk_state.waits, walk_state.resume, walk_state.state, walk_state.index = False, None, State.RUNNING, limit.place
    walk_state.timed_out = True
    if x.answer is None:
        x.plan.flow.begin(x)
    late = f"nothing came back within {deadline.after / 1_000_000:g} s"
    walk.give_up(walk_state, limit.step, refusal("Timeout", "too-slow", late))


# Orphans.


def _orphan(walk_state: WalkState, index: int) -> WalkState:
    """A walk state for what runs on for nobody: no frames, no patience, and ``done`` of its owner."""
    owner = walk_state.owner or walk_state
    x = copy(walk_state.x)
    x.orphan_of = owner.x
    orphan = WalkState(x, walk_state.patience_ends)
    orphan.owner, orphan.index, orphan.done, orphan.raising = owner, index, walk_state.done, walk_state.raising
    owner.live += 1
    return orphan


def end_orphan(walk: Walking, orphan: WalkState) -> None:
    """What ran on for nobody is over: its owner notes what became of it."""
    walk_state, x = orphan.owner, orphan.x
    assert walk_state is not None
    owner = walk_state.x
    owner.handler_reached |= x.handler_reached
    owner.handler_finished |= x.handler_finished
    owner.identity = owner.identity or x.identity
    caught = orphan.raising is None or x.answered_by != "server"
    if owner.second_answer is None and x.answer is not None and caught and not x.background_refresh:
        owner.second_answer = finish(owner.request.method, x.answer, walk.date())
    owner.now = walk.clock.now
    walk.close(walk_state)
