"""Exchanges that don't run: parked, stalled, past a time limit; and the orphans that run on for nobody.

An orphan comes about in three ways: a stage answers and yet passes on (a slip), a cache gives its stale copy while a
fresh one is fetched, and a time limit is over whose stage lets the work run on. It is a copy of the exchange with a
course of its own, so that its frames end where it was cut off; what it does is recorded on its owner.
"""

from __future__ import annotations

from collections.abc import Callable
from copy import copy
from typing import Protocol

from patient_usher.core.engine.plan.course import Course, Limit, State
from patient_usher.core.engine.plan.step import PlanStep
from patient_usher.core.engine.run.clock import COMPLETION, TIMER, Clock
from patient_usher.core.http.messages import finish
from patient_usher.core.model.effects import AnswerAndPass, Deadline, Effect, Hold, Wait
from patient_usher.core.model.errors import Raised, refusal
from patient_usher.core.model.exchange import Exchange


class Walking(Protocol):
    """What is needed of the walk."""

    clock: Clock
    on_finished: Callable[[Exchange], None]

    def wake(self, course: Course, epoch: int) -> None:
        """A wait is over."""

    def go_on(self, course: Course, effect: Effect = ...) -> None:
        """On, from where the course is."""

    def leave(self, course: Course) -> None:
        """The answer leaves."""

    def give_up(self, course: Course, step: PlanStep, error: Raised) -> None:
        """A stage refuses after it has passed the request on."""

    def close(self, course: Course) -> None:
        """One part of the exchange is over."""

    def date(self) -> str:
        """The present second, as a Date field says it."""


# Each of these takes an effect of the way in; they return whether the walk goes on to the next step.


def park(walk: Walking, course: Course, step: PlanStep, wait: Wait) -> bool:
    """Go on after a time."""
    until = walk.clock.now + wait.time
    course.resume, course.waits, course.wakes_at = wait.then, True, until
    walk.clock.push(until, COMPLETION, course.x.number, walk.wake, course, course.epoch)
    if until > course.patience_ends:
        _set_patience(walk, course)
    return False


def hold(walk: Walking, course: Course, step: PlanStep, held: Hold) -> bool:
    """Go on when another exchange says so."""
    course.resume, course.waits, course.wakes_at = held.then, True, course.patience_ends
    clock, epoch, number = walk.clock, course.epoch, course.x.number
    held.waiting.append(lambda: clock.push(clock.now, COMPLETION, number, walk.wake, course, epoch))
    _set_patience(walk, course)
    return False


def answer_and_pass(walk: Walking, course: Course, step: PlanStep, both: AnswerAndPass) -> bool:
    """The answer is sealed and leaves; what is behind runs on as an orphan."""
    x = course.x
    if x.journey is not None:
        did = "answered" if both.refreshes else "answered-and-continued"
        x.journey.append((step.id, "in", did, x.now, x.note))
    x.note = None
    orphan = _orphan(course, course.index + 1)
    orphan.x.answer = x.answer.copy() if x.answer is not None else None
    if both.refreshes:
        orphan.frames, orphan.x.refreshes = [step], True
        if both.request is not None:
            orphan.x.request = both.request
    else:
        (course.owner or course).slipped = True
    x.plan.flow.answered(x, both.answer)
    x.answered_by = step.id
    walk.leave(course)
    walk.go_on(orphan)
    return False


def set_deadline(walk: Walking, course: Course, step: PlanStep, deadline: Deadline) -> bool:
    """Pass on, with a time in which what is behind must be done."""
    x = course.x
    if x.journey is not None:
        x.journey.append((step.id, "in", "continued", x.now, x.note))
    x.note = None
    course.frames.append(step)
    limit = Limit(step, course.index, len(course.done))
    walk.clock.push(walk.clock.now + deadline.after, TIMER, x.number, _too_late, (walk, course, limit, deadline))
    course.index += 1
    return True


# Patience.


def stall(walk: Walking, course: Course) -> None:
    """Nobody passes it on and nobody answers: the caller waits, as long as it can."""
    course.state = State.STALLED
    course.x.answer = None
    if course.owner is not None:
        course.state = State.SENT  # nobody waits for it: no timer finds it any more
        end_orphan(walk, course)
    elif course.gave_up:
        course.state = State.SENT  # nobody waits, and nothing runs: no timer finds it any more
        walk.close(course)
    else:
        _set_patience(walk, course)


def _set_patience(walk: Walking, course: Course) -> None:
    if course.owner is None and not course.gave_up and not course.impatient:
        course.impatient = True
        walk.clock.push(
            max(course.patience_ends, walk.clock.now), TIMER, course.x.number, _out_of_patience, (walk, course)
        )


def _out_of_patience(subject: tuple[Walking, Course], _: int) -> None:
    caller_leaves(*subject)


def caller_leaves(walk: Walking, course: Course) -> None:
    """The caller has gone: for want of patience, or because the connection is."""
    if course.state == State.SENT or course.gave_up:
        return
    x = course.x
    course.gave_up = True
    x.finished = walk.clock.now
    x.outcome = "stalled" if course.state == State.STALLED else "abandoned"
    walk.on_finished(x)
    if course.state == State.STALLED or x.plan.cancels:
        course.epoch += 1  # whatever it waits for, it waits no more
        x.now, course.state = walk.clock.now, State.SENT
        walk.close(course)


# Time limits.


def _too_late(subject: tuple[Walking, Course, Limit, Deadline], _: int) -> None:
    """Time is over: cancel what is behind, or let it run on as an orphan; raise Timeout at the stage's place."""
    walk, course, limit, deadline = subject
    if course.state == State.SENT or limit.step not in course.frames:
        return
    x = course.x
    at = course.frames.index(limit.step)
    behind, course.frames = course.frames[at + 1 :], course.frames[:at]
    x.now = walk.clock.now
    request = next((x.work[step.stage] for step in behind if step.rewrites and step.stage in x.work), x.request)
    if deadline.runs_on and course.waits:
        orphan = _orphan(course, course.index)
        orphan.frames, orphan.resume, orphan.waits = behind, course.resume, True
        walk.clock.push(course.wakes_at, COMPLETION, x.number, walk.wake, orphan, orphan.epoch)
    elif not deadline.runs_on:
        for done in reversed(course.done[limit.entered :]):
            done(x, "cancelled")
        del course.done[limit.entered :]
    course.epoch += 1
    x.request = request
    course.waits, course.resume, course.state, course.index = False, None, State.RUNNING, limit.place
    course.timed_out = True
    if x.answer is None:
        x.plan.flow.begin(x)
    late = f"nothing came back within {deadline.after / 1_000_000:g} s"
    walk.give_up(course, limit.step, refusal("Timeout", "too-slow", late))


# Orphans.


def _orphan(course: Course, index: int) -> Course:
    """A course for what runs on for nobody: no frames, no patience, and ``done`` of its owner."""
    owner = course.owner or course
    x = copy(course.x)
    x.orphan_of = owner.x
    orphan = Course(x, course.patience_ends)
    orphan.owner, orphan.index, orphan.done, orphan.raising = owner, index, course.done, course.raising
    owner.live += 1
    return orphan


def end_orphan(walk: Walking, orphan: Course) -> None:
    """What ran on for nobody is over: its owner notes what became of it."""
    course, x = orphan.owner, orphan.x
    assert course is not None
    owner = course.x
    owner.handler_reached |= x.handler_reached
    owner.handler_finished |= x.handler_finished
    owner.identity = owner.identity or x.identity
    caught = orphan.raising is None or x.answered_by != "server"
    if owner.second_answer is None and x.answer is not None and caught and not x.refreshes:
        owner.second_answer = finish(owner.request.method, x.answer, walk.date())
    owner.now = walk.clock.now
    walk.close(course)
