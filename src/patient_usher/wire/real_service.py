"""A real service behind the shape that callers know: requests overlap as they do in the trace, in real time."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future
from concurrent.futures import wait as wait_for
from time import monotonic, sleep

from patient_usher.core.engine.run.clock import ARRIVAL, Clock
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer, Request
from patient_usher.core.model.enumerations import BLOCKED
from patient_usher.core.model.exchange import Exchange, arriving
from patient_usher.core.stages.read_body import DECODERS, BadCoding
from patient_usher.wire.application import MOST_OCTETS, Asked, Asks, NoAnswer
from patient_usher.wire.inside import HANDLER, Inside

SERVICE = "service"
"""Who answered, as results say it."""
_LAST = ARRIVAL + 1
"""Answers are waited for when nothing else is to be done at a time."""
_GRACE = 0.25
"""Seconds in which whoever asks says itself why there is no answer."""


class RealService:
    """A real service. What it did instead of answering stands in ``troubles``, by exchange.

    The clock of the trace is the wall's from its first request on. With ``wait``, which is told when a request is due
    and turns the application's clock, they come one after the other in no time; of a recording ``when`` says when each
    came. ``sent`` has when each was sent, in microseconds from the first on.
    """

    def __init__(
        self,
        ask: Asks,
        clock: Clock,
        on_finished: Callable[[Exchange], None],
        on_over: Callable[[Exchange], None],
        wait: Callable[[int], None] | None = None,
        inside: Inside | None = None,
        when: Callable[[Request], int] = lambda request: 0,
    ) -> None:
        self._inside, self._when = inside, when
        self.sent: dict[str, int] = {}
        self._ask, self._clock, self._finished, self._over, self._wait = ask, clock, on_finished, on_over, wait
        self._starts, self._begun = clock.now, monotonic()
        self._count = 0
        self._pending: dict[Future[Asked], tuple[Exchange, float, float]] = {}
        self.troubles: dict[str, str] = {}

    def arrive(self, id_: str, request: Request, at: int, *, watched: bool) -> Exchange:
        """A request for the service."""
        self._count += 1
        at = max(at, self._when(request))
        self.sent[id_] = at - self._starts
        return arriving(self._count, id_, request, at)

    def start(self, x: Exchange, patience: int) -> None:
        """Ask, when its time has come; the answer is taken when it is there."""
        if self._wait is not None:
            self._wait(x.at)
        else:
            if (left := self._real(x.at) - monotonic()) > 0:
                sleep(left)
        begun = monotonic()
        asked = self._ask.ask(self._tied(x), patience / 1_000_000)
        self._pending[asked] = x, begun, begun + patience / 1_000_000 + _GRACE
        if self._wait is not None:
            while self._pending:
                self._take_some(None)
        elif len(self._pending) == 1:
            self._clock.push(self._clock.now, _LAST, 0, self._collect, None)

    def _tied(self, x: Exchange) -> Request:
        """The request with the trace to which it belongs, unless it says that itself (W3C Trace Context)."""
        if self._inside is None or "traceparent" in x.request.fields:
            return x.request
        fields = x.request.fields.copy()
        fields.put("traceparent", self._inside.traceparent(x.number))
        return x.request.with_fields(fields)

    def blocked(self, origin: str, why: str, what: str, x: Exchange, method: str) -> tuple[str, str]:
        """The code, and what it means: of stages nothing is known from outside."""
        return why, BLOCKED.get(why, what or why)

    def _real(self, at: int) -> float:
        """When it is so late, by the monotonic clock."""
        return self._begun + (at - self._starts) / 1_000_000

    def _collect(self, _: None, epoch: int) -> None:
        """Wait for an answer until something else is to be done, and again after that."""
        due = self._clock.due
        self._take_some(self._real(due) if due is not None else None)
        if self._pending:
            at = self._clock.now if self._clock.due is None else max(self._clock.now, self._clock.due)
            self._clock.push(at, _LAST, 0, self._collect, None)

    def _take_some(self, ends: float | None) -> None:
        """Take what answers first, or has taken too long, or nothing by the time that this ends."""
        patience_ends = min(end for _, _, end in self._pending.values())
        until = patience_ends if ends is None else min(ends, patience_ends)
        done, _ = wait_for(self._pending, max(until - monotonic(), 0), FIRST_COMPLETED)
        now = monotonic()
        if self._wait is None:
            present = self._starts + round((now - self._begun) * 1_000_000)
            due = self._clock.due
            self._clock.now = max(self._clock.now, present if due is None else min(present, due))
        late = [asked for asked, (_, _, end) in self._pending.items() if end <= now and asked not in done]
        for asked in [*(one for one in self._pending if one in done), *late]:
            x, begun, end = self._pending.pop(asked)
            if asked in done:
                self._take(x, asked)
            else:
                asked.cancel()
                self.troubles[x.id], x.outcome = f"gave no answer within {end - begun - _GRACE:g} s", "abandoned"
            x.finished = max(x.at, self._clock.now)
            self._finished(x)
            self._over(x)

    def _take(self, x: Exchange, asked: Future[Asked]) -> None:
        try:
            status, fields, body = asked.result()
        except NoAnswer as error:
            self.troubles[x.id], x.outcome = str(error), "abandoned"
            return
        if x.request.method == "HEAD" or status in (204, 304):
            body = b""  # what a server drops (RFC 9110 9.3.2, 6.4.1)
        x.answer, x.answered_by, x.outcome = Answer(status, Fields(fields), body), SERVICE, "handled"
        x.answer.uncoded = uncoded(x.answer)
        if self._inside is not None and (ran := self._inside.ran(x.answer)) is not None:
            went(x, ran)


def went(x: Exchange, stages: Sequence[str]) -> None:
    """Note the stages that ran, as the service says it."""
    x.journey = [(stage, "in", "continued", x.at, None) for stage in stages]
    x.handler_reached = x.handler_finished = HANDLER in stages


def uncoded(answer: Answer) -> bytes | None:
    """The content before it was coded (RFC 9110 8.4); None where it isn't, or can't be read."""
    names = [part.strip().lower() for value in answer.fields.values("content-encoding") for part in value.split(",")]
    body = answer.body
    for name in reversed(names):
        if name not in DECODERS:
            return None
        try:
            body = DECODERS[name](body, MOST_OCTETS)
        except BadCoding:
            return None
    return body if names else None
