"""The walk: one flat state machine that takes exchanges through their plans.

Rules, as the design of the product states them:

1. An exchange runs atomically until it waits.
2. IN walks the plan. A stage that passes on gets a frame (nested flow), or registers its work
   for the way out (sequential flow, where header work goes onto the draft answer at once).
3. A stage that answers or raises has no frame. A skipped one does nothing.
4. OUT pops frames, innermost first.
5. ERROR goes along the flow's path of errors, until somebody answers.
6. An error on the way out discards the answer; the flow says whether anybody may catch it.
7. Nobody catches: a bare 500 with an empty body, no frame leaves.
8. A slip that does neither stalls until the caller's patience is over. One that does both seals
   its answer, which leaves at once; what is behind runs on as an orphan.
9. Every entered stage is told ``done`` once, innermost first, when all of the exchange is over.

Which effect is legal on which way stands in ``model.effects.LEGAL``; ``_ON_THE_WAY_IN`` below says
what each that isn't plain does. Waiting, time limits and orphans are in ``suspension``.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

from patient_usher.core.engine.plan.step import PlanStep
from patient_usher.core.engine.plan.walk_state import State, WalkState
from patient_usher.core.engine.run import suspension
from patient_usher.core.engine.run.clock import Clock
from patient_usher.core.engine.run.uncaught import crash
from patient_usher.core.http.dates import MICROSECONDS, http_date
from patient_usher.core.http.messages import Answer, finish
from patient_usher.core.model.effects import (
    NOTHING,
    AnswerAndPass,
    Deadline,
    Effect,
    Hold,
    IllegalEffect,
    Nothing,
    Refused,
    Wait,
)
from patient_usher.core.model.errors import Fault, MissingValue, Raised
from patient_usher.core.model.exchange import Exchange

SENT = State.SENT
Way = Literal["in", "out", "error"]

_FRESH: Any = object()
"""Stands for the effect of a step that has not been entered yet."""


class Walk:
    """Exchanges under way.

    ``on_finished(x)`` is called when the caller has its answer (or has given up), ``on_over(x)``
    when nothing of the exchange runs any more. ``missing(name, x)`` words the error for a value
    that was never set.
    """

    def __init__(
        self,
        clock: Clock,
        on_finished: Callable[[Exchange], None],
        on_over: Callable[[Exchange], None],
        missing: Callable[[str, Exchange], str],
    ) -> None:
        self.clock = clock
        self.on_finished = on_finished
        self.on_over = on_over
        self.missing = missing
        self._second = -1
        self._date = ""

    def start(self, x: Exchange, patience: int) -> WalkState:
        """Let an exchange arrive, whose caller waits for ``patience`` microseconds; or leaves (``caller_leaves``)."""
        plan, journey = x.plan, x.journey
        opening, now = plan.opening or plan.opened(), self.clock.now
        x.now = now
        if plan.drafts:
            plan.flow.begin(x)
        index, effect = 0, None
        try:
            if journey is None:
                for index, way_in in opening.acting:  # noqa: B007 (where it stops is what counts)
                    if (effect := way_in(x)) is not None:
                        break
            else:
                for index, id_, way_in in opening.asked:  # noqa: B007
                    if way_in is not None and (effect := way_in(x)) is not None:
                        break
                    journey.append((id_, "in", "continued", now, note := x.note))
                    if note is not None:
                        x.note = None
        except (Fault, MissingValue) as fault:
            effect = self.raised_by(fault, x)
        if effect is None:
            index = opening.ends
        frames = [*(opening.framed if journey is not None else opening.holding)[index]]
        walk_state = WalkState(x, x.at + patience, index, 1, frames, [*opening.told[index]])
        if effect is None or self._acts(walk_state, plan.steps[index], effect):
            self.go_on(walk_state)
        return walk_state

    def caller_leaves(self, walk_state: WalkState) -> None:
        """The caller waits no longer: nothing is sent, and what runs is given up where the deployment says so."""
        suspension.caller_leaves(self, walk_state)

    # IN.

    def wake(self, walk_state: WalkState, epoch: int) -> None:
        """A wait is over. The wake-up of an exchange that was cancelled meanwhile is dropped."""
        if walk_state.epoch != epoch:
            return
        walk_state.waits = False
        resume, walk_state.resume = walk_state.resume, None
        x = walk_state.x
        x.now = self.clock.now
        assert resume is not None
        try:
            effect = resume(x)
        except (Fault, MissingValue) as fault:
            effect = self.raised_by(fault, x)
        self.go_on(walk_state, effect)

    def go_on(self, walk_state: WalkState, effect: Effect = _FRESH) -> None:
        """IN, from where the exchange is: until it waits, stalls or is sent."""
        x = walk_state.x
        now = x.now = self.clock.now
        steps = x.plan.steps
        journey, frames, index = x.journey, walk_state.frames, walk_state.index
        while True:
            step = steps[index]
            if effect is _FRESH:
                if step.passes_over is not None and (reason := step.passes_over(x)) is not None:
                    if reason and journey is not None:
                        journey.append((step.id, "in", "skipped", now, {"why": reason}))
                    index += 1
                    continue
                if step.done is not None:
                    walk_state.done.append(step.done)
                way_in = step.way_in
                try:
                    effect = None if way_in is None else way_in(x)
                except (Fault, MissingValue) as fault:
                    effect = self.raised_by(fault, x)
            if effect is None:
                if journey is not None:
                    journey.append((step.id, "in", "continued", now, note := x.note))
                    if note is not None:
                        x.note = None
                    if step.framed:
                        frames.append(step)
                elif step.acts_later:
                    frames.append(step)
                if step.marks and not self._mark(walk_state, step, index):
                    return
                index += 1
                effect = _FRESH
                continue
            walk_state.index = index
            if not self._acts(walk_state, step, effect):
                return
            index, effect = walk_state.index, _FRESH

    def _acts(self, walk_state: WalkState, step: PlanStep, effect: Any) -> bool:
        """A stage does something else than pass the request on. Whether the exchange then goes on to the next."""
        kind = effect.__class__
        if kind is Answer:
            self._answer(walk_state, step, effect)
            return False
        if kind is Raised and step.raises:
            self.raise_at(walk_state, step, effect, "in")
            return False
        act = _ON_THE_WAY_IN.get(kind)
        if act is None:
            raise IllegalEffect(step.id, "in", effect)
        return bool(act(self, walk_state, step, effect))

    def _mark(self, walk_state: WalkState, step: PlanStep, index: int) -> bool:
        """Sequential flow: header work, done on the draft at once. Whether the exchange goes on."""
        assert step.way_out is not None
        x = walk_state.x
        try:
            step.way_out(x)
            x.note = None
            return True
        except (Fault, MissingValue) as fault:
            x.note = None
            walk_state.index = index
            self.raise_at(walk_state, step, self.raised_by(fault, x), "out")
            return False

    def _answer(self, walk_state: WalkState, step: PlanStep, answer: Answer, by: str | None = None) -> None:
        x = walk_state.x
        if x.journey is not None:
            x.journey.append((step.id, "in", "answered", x.now, x.note))
        x.note = None
        x.plan.flow.answered(x, answer)
        x.answered_by = by or step.id
        self.leave(walk_state)

    def _refuse(self, walk_state: WalkState, step: PlanStep, refused: Refused) -> None:
        x = walk_state.x
        x.refused_by, x.why = refused.by or step.id, refused.why
        self._answer(walk_state, step, refused.answer, refused.by)

    def _raise(self, walk_state: WalkState, step: PlanStep, error: Raised) -> None:
        if answered_at_once(walk_state.x, step, error):
            self._answer(walk_state, step, error.plainly())
        else:
            self.raise_at(walk_state, step, error, "in")

    def _do_nothing(self, walk_state: WalkState, step: PlanStep, effect: Nothing) -> None:
        write(walk_state.x, step, "in", "nothing")
        suspension.stall(self, walk_state)

    # ERROR.

    def give_up(self, walk_state: WalkState, step: PlanStep, error: Raised) -> None:
        """A stage refuses after it has passed the request on: its time is over."""
        x = walk_state.x
        if answered_at_once(x, step, error):
            write(x, step, "out", "answered")
            x.plan.flow.answered(x, error.plainly())
            x.answered_by = step.id
            self.leave(walk_state)
        else:
            self.raise_at(walk_state, step, error, "out")

    def raised_by(self, fault: Fault | MissingValue, x: Exchange) -> Raised:
        """What a stage that was stopped half-way raises."""
        if isinstance(fault, Fault):
            return fault.error
        return Raised("MissingValue", self.missing(str(fault.args[0]), x))

    def raise_at(self, walk_state: WalkState, step: PlanStep, error: Raised, way: Way) -> None:
        """An error is raised, and finds who catches it; then the answer leaves."""
        x = walk_state.x
        if x.journey is not None:
            x.journey.append((step.id, way, "raised", x.now, x.note))
            x.note = None
        note_error(walk_state, error, step.id)
        if self.travel(walk_state):
            self.leave(walk_state)

    def travel(self, walk_state: WalkState) -> bool:
        """Take the error to whoever catches it. False where a slip swallowed it."""
        x = walk_state.x
        flow = x.plan.flow
        while (step := flow.meets_error(walk_state)) is not None:
            error = walk_state.raising
            assert error is not None
            try:
                effect = step.way_error(x, error)
            except (Fault, MissingValue) as fault:
                effect = self.raised_by(fault, x)
            kind = effect.__class__
            if effect is None:
                write(x, step, "error", "continued")
            elif kind is Answer or kind is Refused:
                if x.journey is not None:
                    x.journey.append((step.id, "error", "caught", x.now, x.note))
                    x.note = None
                error.caught_by = step.id
                walk_state.covered = step.stage.covers_errors
                flow.caught(x, step, effect.answer if kind is Refused else effect)
                x.answered_by = step.id
                return True
            elif kind is Raised:
                write(x, step, "error", "raised")
                note_error(walk_state, effect, step.id)
            elif effect is NOTHING:
                write(x, step, "error", "nothing")
                suspension.stall(self, walk_state)
                return False
            else:
                raise IllegalEffect(step.id, "error", effect)
        crash(walk_state)
        return True

    # OUT.

    def leave(self, walk_state: WalkState) -> None:
        """OUT: the frames' way out, then the wire."""
        x, frames = walk_state.x, walk_state.frames
        journey, now = x.journey, x.now
        while frames:
            step = frames.pop()
            if step.works_out:
                if step.rewrites:
                    x.request = x.work.get(step.stage, x.request)
                    if step.silent:
                        continue
                try:
                    effect = None if step.way_out is None else step.way_out(x)
                except (Fault, MissingValue) as fault:
                    effect = self.raised_by(fault, x)
                if effect is not None:
                    if not self._on_the_way_out(walk_state, step, effect):
                        return
                    continue
            if journey is not None:
                journey.append((step.id, "out", "continued", now, note := x.note))
                if note is not None:
                    x.note = None
        self._send(walk_state)

    def _on_the_way_out(self, walk_state: WalkState, step: PlanStep, effect: Effect) -> bool:
        """A stage does something else than pass the answer on. Whether the rest goes on leaving."""
        x = walk_state.x
        refused: Answer | None = None
        if isinstance(effect, Refused):
            x.refused_by, x.why = effect.by or step.id, effect.why
            refused = effect.answer
        elif isinstance(effect, Raised):
            if effect.why is not None and not x.plan.flow.catches_on_the_way_out:
                # Nobody could catch it, and it is no fault: the stage answers for itself.
                x.refused_by, x.why = effect.by or step.id, effect.why
                refused = effect.plainly()
            elif answered_at_once(x, step, effect):
                refused = effect.plainly()
        if refused is not None or isinstance(effect, Answer):
            write(x, step, "out", "answered")
            if refused is not None:
                x.plan.flow.replaced(x, refused)
            else:
                assert isinstance(effect, Answer)
                x.answer = effect
                x.refused_by = x.why = None
            x.answered_by = step.id
            return True
        if isinstance(effect, Raised):
            write(x, step, "out", "raised")
            note_error(walk_state, effect, step.id)
            walk_state.index = 0
            if x.plan.flow.fails_on_the_way_out(walk_state):
                return self.travel(walk_state)
            crash(walk_state)
            return True
        if effect is NOTHING:
            write(x, step, "out", "nothing")
            suspension.stall(self, walk_state)
            return False
        raise IllegalEffect(step.id, "out", effect)

    # The end.

    def date(self) -> str:
        """The present second, as a Date field says it."""
        second = self.clock.now // MICROSECONDS
        if second != self._second:
            self._second, self._date = second, http_date(self.clock.now)
        return self._date

    def _send(self, walk_state: WalkState) -> None:
        if walk_state.owner is not None:
            suspension.end_orphan(self, walk_state)
            return
        x = walk_state.x
        walk_state.state = SENT
        if walk_state.gave_up:
            x.answer = None
        else:
            answer = x.answer
            now = x.finished = self.clock.now
            if answer is not None:  # none where the server closes the connection of what nobody caught
                date = self._date if now // MICROSECONDS == self._second else self.date()
                method, route = x.request.method, x.route
                head_route = method == "HEAD" and route is not None and route.method == "HEAD"
                finish(method, answer, date, of_head_route=head_route)
            x.outcome = _outcome(walk_state)
            self.on_finished(x)
        self.close(walk_state)

    def close(self, walk_state: WalkState) -> None:
        """One part of the exchange is over; with the last, everybody is told."""
        x = walk_state.x
        walk_state.live = live = walk_state.live - 1
        if live:
            return
        if walk_state.done:
            for done in reversed(walk_state.done):
                done(x, x.outcome)
        self.on_over(x)


def write(x: Exchange, step: PlanStep, way: Way, did: str) -> None:
    """A line of the journey, with the note that the stage has left for it."""
    if x.journey is not None:
        x.journey.append((step.id, way, did, x.now, x.note))
    x.note = None


def note_error(walk_state: WalkState, error: Raised, by: str) -> None:
    """An error is under way from now on."""
    x = walk_state.x
    error.raised_by = by
    owner = x.orphan_of or x
    owner.errors = (*owner.errors, error)
    walk_state.raising = error
    why = error.why
    x.refused_by, x.why = (error.by or by, why) if why else (None, None)
    x.plan.flow.raised(x)


def answered_at_once(x: Exchange, step: PlanStep, error: Raised) -> bool:
    """Whether a refusal is answered by the stage itself (``refuse: answer``); who refused is noted."""
    if error.why is None or step.raises:
        return False
    x.refused_by, x.why = error.by or step.id, error.why
    return True


_ON_THE_WAY_IN: dict[type, Callable[[Walk, WalkState, PlanStep, Any], bool | None]] = {
    Refused: Walk._refuse,
    Raised: Walk._raise,
    Nothing: Walk._do_nothing,
    Deadline: suspension.set_deadline,
    Wait: suspension.park,
    Hold: suspension.hold,
    AnswerAndPass: suspension.answer_and_pass,
}
"""What each effect but an answer does on the way in, and whether the walk then goes on to the next step."""


def _outcome(walk_state: WalkState) -> str:
    x = walk_state.x
    if x.answered_by == "handler" and not (walk_state.slipped or x.errors):
        return "handled"
    if walk_state.slipped:
        return "answered-twice"
    if walk_state.timed_out:
        return "timed-out"
    if x.answered_by == "server":
        return "crashed"
    if x.refused_by == "handler":
        return "errored"  # a desk's own refusal
    if x.refused_by is not None:
        return "unrouted" if x.refused_by == "router" else "short-circuited"
    if x.errors and x.answered_by in (x.errors[-1].caught_by, x.errors[-1].raised_by):
        return "short-circuited" if walk_state.covered else "errored"
    return "handled" if x.answered_by == "handler" else "short-circuited"
