"""The run loop: one flat state machine that walks exchanges through their plans.

Rules, as the design of the product states them:

1. The queue holds (time, phase, exchange number); phases are completions, then timers, then
   arrivals. An exchange runs atomically until it waits.
2. IN walks the plan. A stage that passes on gets a frame (nested flow), or registers its work
   for the way out (sequential flow, where header work goes onto the draft answer at once).
3. A stage that answers or raises has no frame. A skipped one does nothing.
4. OUT pops frames, innermost first.
5. ERROR in nested flow pops frames until one answers; frames on the way are dropped. In
   sequential flow it goes forward through the plan to the next stage that handles errors.
6. An error on the way out discards the answer. In nested flow it travels on outwards, in
   sequential flow nobody catches it.
7. Nobody catches: a bare 500 with an empty body, no frame leaves.
8. A slip that does neither stalls until the caller's patience is over. One that does both seals
   its answer, which leaves at once; what is behind runs on as a shadow.
9. Every entered stage is told ``done`` once, innermost first, when all of the exchange is over.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable
from copy import copy
from typing import Any, NamedTuple

from patient_usher.core.http.dates import http_date
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer, finish
from patient_usher.core.model.errors import Fault, MissingValue, Raised, refusal
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.stages.base import NOTHING, AnswerAndPass, Deadline, Hold, Refused, Stage, Wait

IN, OUT, ERROR, PARKED, STALLED, SENT = range(6)
COMPLETION, TIMER, ARRIVAL = range(3)

_FRESH: Any = object()
"""Stands for the effect of a step that has not been entered yet."""


class PlanStep:
    """A stage, the router or the handler at its place in a plan, methods bound."""

    __slots__ = (
        "done",
        "framed",
        "id",
        "keeps_fields",
        "marks",
        "passes_over",
        "raises",
        "stage",
        "way_error",
        "way_in",
        "way_out",
    )

    def __init__(
        self,
        id_: str,
        stage: Stage,
        *,
        raises: bool,
        sequential: bool,
        framed: bool = True,
        passes_over: Callable[[Exchange], str | None] | None = None,
    ) -> None:
        self.id = id_
        self.stage = stage
        self.way_in, self.way_out, self.way_error, self.done = (
            None if name in stage.unused else getattr(stage, name)
            for name in ("way_in", "way_out", "way_error", "done")
        )
        self.raises = raises
        self.passes_over = passes_over
        if (
            sequential
            and self.way_error is not None
            and self.way_in is None
            and self.way_out is None
            and passes_over is None
        ):
            self.passes_over = _silently  # in sequential flow only errors get to an error handler
        self.keeps_fields = stage.keeps_fields
        # Sequential flow: marks go onto the draft at once, registered work gets a frame.
        self.marks = sequential and self.way_out is not None and stage.out_work == "fields"
        self.framed = framed and (not sequential or (self.way_out is not None and not self.marks))


def _silently(x: Exchange) -> str | None:
    """Passed over without a mark."""
    return ""


class Plan(NamedTuple):
    """The steps that an exchange on one route walks."""

    steps: tuple[PlanStep, ...]
    sequential: bool


class Loop:
    """The clock, its queue, and the walk.

    ``on_finished(x)`` is called when the caller has its answer (or has given up), ``on_over(x)``
    when nothing of the exchange runs any more. ``missing(name, x)`` words the error for a value
    that was never set.
    """

    def __init__(
        self,
        now: int,
        on_finished: Callable[[Exchange], None],
        on_over: Callable[[Exchange], None],
        missing: Callable[[str, Exchange], str],
    ) -> None:
        self.now = now
        self.on_finished = on_finished
        self.on_over = on_over
        self.missing = missing
        self._queue: list[tuple[int, int, int, int, Callable[..., None], Any, int]] = []
        self._sequence = 0

    def push(
        self, time: int, phase: int, number: int, action: Callable[..., None], subject: Any, epoch: int = 0
    ) -> None:
        """Have ``action(subject, epoch)`` called at a time and phase."""
        self._sequence += 1
        heapq.heappush(self._queue, (time, phase, number, self._sequence, action, subject, epoch))

    def step(self) -> bool:
        """Do the next thing on the queue. False where there is none."""
        if not self._queue:
            return False
        self.now, _, _, _, action, subject, epoch = heapq.heappop(self._queue)
        action(subject, epoch)
        return True

    def start(self, x: Exchange, patience: int) -> None:
        """Let an exchange arrive."""
        x.patience_ends = x.at + patience
        x.state = IN
        if x.plan.sequential:
            x.answer = Answer(200, Fields())
        self.walk(x)

    def walk(self, x: Exchange, effect: Any = _FRESH) -> None:
        """Go on until the exchange waits, stalls or is sent."""
        now = x.now = self.now
        steps, sequential = x.plan
        journey, frames = x.journey, x.frames
        index, state = x.index, x.state
        while True:
            if state == IN:
                step = steps[index]
                if effect is _FRESH:
                    if step.passes_over is not None:
                        reason = step.passes_over(x)
                        if reason is not None:
                            if reason:
                                journey.append((step.id, "in", "skipped", now, {"why": reason}))
                            index += 1
                            continue
                    if step.done is not None:
                        x.done.append(step.done)
                    way_in = step.way_in
                    try:
                        effect = None if way_in is None else way_in(x)
                    except (Fault, MissingValue) as fault:
                        effect = self._fault(fault, x)
                note = x.note
                if note is not None:
                    x.note = None
                if effect is None:
                    journey.append((step.id, "in", "continued", now, note))
                    if step.framed:
                        frames.append(step)
                    elif step.marks:
                        try:
                            step.way_out(x)
                        except (Fault, MissingValue) as fault:
                            journey.append((step.id, "out", "raised", now, None))
                            self._raise(x, self._fault(fault, x), step.id)
                            x.index, state = index, ERROR
                        x.note = None
                    index += 1
                    effect = _FRESH
                    continue
                x.index = index
                answered, effect = self._refused(x, step, effect), _FRESH
                kind = answered.__class__
                if kind is Answer:
                    journey.append((step.id, "in", "answered", now, note))
                    x.answer = _onto_draft(x.answer, answered) if sequential else answered
                    x.answered_by = step.id
                    state = OUT
                elif kind is Raised:
                    journey.append((step.id, "in", "raised", now, note))
                    self._raise(x, answered, step.id)
                    state = ERROR
                elif kind is Deadline:
                    journey.append((step.id, "in", "continued", now, note))
                    frames.append(step)
                    self._set_deadline(x, step, answered)
                    index += 1
                elif kind is Wait:
                    x.state, x.resume, x.note = IN, answered.then, note
                    self._park(x, now + answered.time)
                    return
                elif kind is Hold:
                    x.state, x.resume, x.note = IN, answered.then, note
                    self._hold(x, answered)
                    return
                elif answered is NOTHING:
                    journey.append((step.id, "in", "nothing", now, note))
                    self._stall(x)
                    return
                elif kind is AnswerAndPass:
                    did = "answered" if answered.refreshes else "answered-and-continued"
                    journey.append((step.id, "in", did, now, note))
                    shadow = self._shadow(x, index + 1)
                    if answered.refreshes:
                        shadow.frames, shadow.refreshes = [step], True
                    else:
                        (x.shadow_of or x).slipped = True
                    x.answer = _onto_draft(x.answer, answered.answer) if sequential else answered.answer
                    x.answered_by = step.id
                    self._leave(x)
                    self.walk(shadow)
                    return
                else:
                    raise TypeError(f"{step.id} returned {answered!r}, which is no effect")
            elif state == OUT:
                self._leave(x)
                return
            elif state == ERROR:
                state = self._travel(x, x.index)
            else:
                return

    def _leave(self, x: Exchange) -> None:
        """OUT: the frames' way out, then the wire."""
        now, journey, frames = self.now, x.journey, x.frames
        while frames:
            step = frames.pop()
            way_out = step.way_out
            if way_out is None:
                journey.append((step.id, "out", "continued", now, None))
                continue
            try:
                effect = way_out(x)
            except (Fault, MissingValue) as fault:
                effect = self._fault(fault, x)
            note = x.note
            if note is not None:
                x.note = None
            if effect is None:
                journey.append((step.id, "out", "continued", now, note))
                continue
            effect = self._refused(x, step, effect)
            kind = effect.__class__
            if kind is Answer:
                journey.append((step.id, "out", "answered", now, note))
                x.answer, x.answered_by = effect, step.id
            elif kind is Raised:
                journey.append((step.id, "out", "raised", now, note))
                self._raise(x, effect, step.id)
                if x.plan.sequential:
                    frames.clear()
                    self._crash(x)
                elif self._travel(x, 0) == SENT:
                    return
            elif effect is NOTHING:
                journey.append((step.id, "out", "nothing", now, note))
                self._stall(x)
                return
            else:
                raise TypeError(f"{step.id} returned {effect!r} on the way out, which is no effect there")
        self._send(x)

    def _travel(self, x: Exchange, index: int) -> int:
        """ERROR: to whoever catches it. Returns OUT; or SENT, where a slip swallowed it."""
        plan, frames = x.plan, x.frames
        if plan.sequential:
            path = iter(plan.steps[index + 1 :])
        else:
            path = iter(frames.pop, None)
        while plan.sequential or frames:
            step = next(path, None)
            if step is None:
                break
            way_error = step.way_error
            if way_error is None or (plan.sequential and step.passes_over is not None and step.passes_over(x)):
                if not plan.sequential:
                    x.journey.append((step.id, "error", "skipped", self.now, None))
                continue
            error = x.raising
            assert error is not None
            try:
                effect = way_error(x, error)
            except (Fault, MissingValue) as fault:
                effect = self._fault(fault, x)
            note, x.note = x.note, None
            if effect is None:
                x.journey.append((step.id, "error", "continued", self.now, note))
            elif effect.__class__ is Raised:
                x.journey.append((step.id, "error", "raised", self.now, note))
                self._raise(x, effect, step.id)
            elif effect is NOTHING:
                x.journey.append((step.id, "error", "nothing", self.now, note))
                self._stall(x)
                return SENT
            else:
                answer = effect.answer if effect.__class__ is Refused else effect
                x.journey.append((step.id, "error", "caught", self.now, note))
                error.caught_by = step.id
                if plan.sequential and step.keeps_fields:
                    draft = Answer(200, x.answer.fields if x.answer else Fields())
                    for prefix in ("content-", "etag", "last-modified", "cache-control"):
                        draft.fields.drop_where(prefix)
                    answer = _onto_draft(draft, answer)
                x.answer, x.answered_by = answer, step.id
                return OUT
        self._crash(x)
        return OUT

    def _refused(self, x: Exchange, step: PlanStep, effect: Any) -> Any:
        """The effect, where it is a refusal that is answered at once: the answer, and who refused noted."""
        kind = effect.__class__
        if kind is Refused or (kind is Raised and effect.why is not None and not step.raises):
            x.refused_by, x.why = effect.by or step.id, effect.why
            return effect.answer if kind is Refused else effect.plainly()
        return effect

    def _crash(self, x: Exchange) -> None:
        x.frames.clear()
        x.answer, x.answered_by = Answer(500, Fields()), "server"

    def _raise(self, x: Exchange, error: Raised, by: str) -> None:
        error.raised_by = by
        owner = x.shadow_of or x
        owner.errors = (*owner.errors, error)
        x.raising = error
        x.refused_by, x.why = (error.by or by, error.why) if error.why else (None, None)
        if not x.plan.sequential:
            x.answer = None

    def _fault(self, fault: Fault | MissingValue, x: Exchange) -> Raised:
        if isinstance(fault, Fault):
            return fault.error
        return Raised("MissingValue", self.missing(str(fault.args[0]), x))

    # Waiting, stalling, giving up.

    def _park(self, x: Exchange, until: int) -> None:
        x.waits, x.wakes_at = True, until
        self.push(until, COMPLETION, x.number, self._wake, x, x.epoch)
        if until > x.patience_ends:
            self._set_patience(x)

    def _hold(self, x: Exchange, hold: Hold) -> None:
        x.waits, x.wakes_at = True, x.patience_ends
        epoch = x.epoch
        hold.waiting.append(lambda: self.push(self.now, COMPLETION, x.number, self._wake, x, epoch))
        self._set_patience(x)

    def _set_patience(self, x: Exchange) -> None:
        if x.shadow_of is None and not x.gave_up and not x.impatient:
            x.impatient = True
            self.push(max(x.patience_ends, self.now), TIMER, x.number, self._out_of_patience, x)

    def _wake(self, x: Exchange, epoch: int) -> None:
        if x.epoch != epoch:
            return
        x.waits = False
        resume, x.resume = x.resume, None
        x.now = self.now
        assert resume is not None
        try:
            effect = resume(x)
        except (Fault, MissingValue) as fault:
            effect = self._fault(fault, x)
        self.walk(x, effect)

    def _stall(self, x: Exchange) -> None:
        x.state = STALLED
        x.answer = None
        if x.shadow_of is not None:
            self._end_shadow(x)
        elif x.gave_up:
            x.state = SENT  # nobody waits, and nothing runs: no timer finds it any more
            self._close(x)
        else:
            self._set_patience(x)

    def _out_of_patience(self, x: Exchange, epoch: int) -> None:
        if x.state == SENT or x.gave_up:
            return
        x.gave_up = True
        x.finished = self.now
        x.outcome = "stalled" if x.state == STALLED else "abandoned"
        self.on_finished(x)
        if x.state == STALLED:
            x.now, x.state = self.now, SENT
            self._close(x)

    # Deadlines.

    def _set_deadline(self, x: Exchange, step: PlanStep, deadline: Deadline) -> None:
        x.deadlines = (*x.deadlines, (step, x.index, len(x.done)))
        self.push(self.now + deadline.after, TIMER, x.number, self._too_late, (x, step, deadline))

    def _too_late(self, subject: tuple[Exchange, PlanStep, Deadline], _: int) -> None:
        """Time is over: cancel what is behind, or let it run on as a shadow; raise Timeout at the stage's place."""
        x, step, deadline = subject
        if x.state == SENT or step not in x.frames:
            return
        at = x.frames.index(step)
        behind, x.frames = x.frames[at + 1 :], x.frames[:at]
        _, index, entered = next(entry for entry in x.deadlines if entry[0] is step)
        x.deadlines = tuple(entry for entry in x.deadlines if entry[1] < index)
        x.now = self.now
        x.epoch += 1
        if deadline.runs_on and x.waits:
            shadow = copy(x)
            shadow.shadow_of = owner = x.shadow_of or x
            shadow.frames, shadow.deadlines = behind, ()
            owner.live += 1
            self.push(x.wakes_at, COMPLETION, x.number, self._wake, shadow, shadow.epoch)
        elif not deadline.runs_on:
            for done in reversed(x.done[entered:]):
                done(x, "cancelled")
            del x.done[entered:]
        x.waits, x.resume, x.state, x.index = False, None, IN, index
        x.timed_out = True
        error = refusal("Timeout", "too-slow", f"nothing came back within {deadline.after / 1_000_000:g} s")
        if x.plan.sequential and x.answer is None:
            x.answer = Answer(200, Fields())
        if step.raises:
            x.journey.append((step.id, "out", "raised", self.now, None))
            self._raise(x, error, step.id)
            if self._travel(x, index) == OUT:
                self._leave(x)
            return
        x.journey.append((step.id, "out", "answered", self.now, None))
        answer = self._refused(x, step, error)
        x.answer = _onto_draft(x.answer, answer) if x.plan.sequential else answer
        x.answered_by = step.id
        self._leave(x)

    # Shadows.

    def _shadow(self, x: Exchange, index: int) -> Exchange:
        owner = x.shadow_of or x
        shadow = copy(x)
        shadow.shadow_of = owner
        shadow.frames = []
        shadow.index, shadow.state = index, IN
        shadow.answer = x.answer.copy() if x.answer is not None else None
        owner.live += 1
        return shadow

    def _end_shadow(self, shadow: Exchange) -> None:
        owner = shadow.shadow_of
        assert owner is not None
        owner.handler_reached |= shadow.handler_reached
        owner.handler_finished |= shadow.handler_finished
        owner.identity = owner.identity or shadow.identity
        caught = shadow.raising is None or shadow.answered_by != "server"
        if owner.second_answer is None and shadow.answer is not None and caught and not shadow.refreshes:
            owner.second_answer = finish(owner.request.method, shadow.answer, http_date(self.now))
        owner.now = self.now
        self._close(owner)

    # The end.

    def _send(self, x: Exchange) -> None:
        if x.shadow_of is not None:
            self._end_shadow(x)
            return
        x.state = SENT
        if x.gave_up:
            x.answer = None
        else:
            answer = x.answer
            assert answer is not None
            finish(x.request.method, answer, http_date(self.now))
            x.finished = self.now
            x.outcome = _outcome(x)
            self.on_finished(x)
        self._close(x)

    def _close(self, x: Exchange) -> None:
        x.live -= 1
        if x.live:
            return
        for done in reversed(x.done):
            done(x, x.outcome)
        self.on_over(x)


def _onto_draft(draft: Answer | None, answer: Answer) -> Answer:
    fields = draft.fields.copy() if draft is not None else Fields()
    fields.update(answer.fields)
    return Answer(answer.status, fields, answer.body)


def _outcome(x: Exchange) -> str:
    if x.slipped:
        return "answered-twice"
    if x.timed_out:
        return "timed-out"
    if x.answered_by == "server":
        return "crashed"
    if x.refused_by is not None:
        return "unrouted" if x.refused_by == "router" else "short-circuited"
    if x.errors and x.errors[-1].caught_by == x.answered_by:
        return "errored"
    return "handled" if x.answered_by == "handler" else "short-circuited"
