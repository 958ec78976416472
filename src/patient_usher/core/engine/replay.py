"""Replaying a trace in a run state: who sends what and when, and what they keep of the answers.

An entry without ``at`` waits for the one before; one with ``at`` comes whatever else is going on. A
trace in memory is read whole before the first is sent. One that streams is read as far ahead as it
takes to know what comes next, so memory holds what is under way, and not the trace.
"""

from __future__ import annotations

import json
from collections import deque
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any

from msgspec import Struct, field

from patient_usher.core.engine.bind.request_templates import Entry, Kept, RequestTemplate
from patient_usher.core.engine.callers.script import Caller, Conversation, Outgoing
from patient_usher.core.engine.callers.service import Service
from patient_usher.core.engine.run.clock import ARRIVAL, Clock
from patient_usher.core.engine.run.model_service import MakeService, ModelService
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Request
from patient_usher.core.model.document import Problem, Unusable
from patient_usher.core.model.exchange import Exchange, arriving
from patient_usher.core.model.trace import find_kept

if TYPE_CHECKING:
    from patient_usher.core.engine.callers.browser import Browser

READ_AHEAD = 1000
"""How many entries of a streaming trace are held that have not been sent yet."""


class Send(Struct, eq=False):
    """One request of the trace, sent once, and the exchanges that came of it.

    ``failures`` is what went wrong in sending or keeping: what, expected, actual.
    """

    entry: Entry
    request_template: RequestTemplate
    repetition: int
    id: str
    at: int
    finished: int
    exchanges: list[Exchange] = field(default_factory=list)
    final: Exchange | None = None
    answered: bool = False
    """Whether the caller has what it called for."""
    open: int = 1
    """The send itself; each exchange under way adds one."""
    conversation: Conversation | None = None
    failures: list[tuple[str, object, object]] = field(default_factory=list)

    @property
    def last(self) -> bool:
        """Whether this is the last repetition of its request."""
        return self.repetition == self.request_template.spec.times


class Replay:
    """A trace on its way through a run state, or to another service whose callers the run state keeps.

    Times of the trace count from ``starts``, or from where the run state's last replay ended. With
    ``journeys`` every exchange keeps its journey and log; else those only of which something is expected,
    and those of browsers.
    """

    def __init__(
        self,
        run_state: RunState,
        starts: int,
        entries: Iterable[Entry],
        *,
        streams: bool,
        journeys: bool = True,
        service: MakeService | None = None,
    ) -> None:
        self.run_state = run_state
        self.starts = starts if run_state.now is None else max(starts, run_state.now)
        self.clock = Clock(self.starts)
        self.service: Service = (
            ModelService(run_state, self.clock, self._finished, self._over)
            if service is None
            else service(self.clock, self._finished, self._over)
        )
        self.kept = Kept(run_state.kept)
        self.journeys = journeys
        self.streams = streams
        self._entries = iter(entries)
        self._sends: deque[Send] = deque()
        self._followers: dict[int, Entry] = {}  # by the order of the entry that they wait for
        self._timed = 0  # read and not yet sent: those with a time of their own
        self._broken: Unusable | None = None

    def run(self) -> Iterator[Send]:
        """Every send in order, each as soon as it and all before it are over.

        Raises Unusable for an entry that can't be used, when all before it are over.
        """
        self._read_ahead()
        sends, clock = self._sends, self.clock
        step = clock.step
        # Where all is answered and nobody comes any more, time stands still: what is left on the queue are limits and
        # wake-ups of exchanges that are over.
        while (sends or clock.arrivals) and step():
            while sends and not sends[0].open:
                yield sends.popleft()
        self.run_state.now = self.clock.now
        self.run_state.kept = dict(self.kept)
        if self._broken is not None:
            raise self._broken

    # The trace's side: what is sent next.

    def _read_ahead(self) -> None:
        """Read entries until the next one with a time of its own is known; all of a trace in memory."""
        while not (self.streams and (self._timed or len(self._followers) >= READ_AHEAD)):
            try:
                entry = next(self._entries, None)
            except Unusable as error:
                self._broken = error
                entry = None
            if entry is None:
                self._entries = iter(())
                return
            if entry.at is None and entry.order:
                self._followers[entry.order - 1] = entry
                continue
            time = self.starts + (entry.at if entry.at is not None else entry.after or 0)
            if time < self.clock.now:
                what = "this request goes back in time"
                mend = "in a trace that streams, requests with at come in order of time"
                self._broken = Unusable([Problem(entry.spot, what, mend)])
                self._entries = iter(())
                return
            self._timed += entry.at is not None
            self.clock.push(time, ARRIVAL, entry.order, self._come, entry)

    def _come(self, entry: Entry, _: int) -> None:
        """An entry's time has come."""
        self._timed -= entry.at is not None
        if self.streams:
            self._read_ahead()
        if entry.request_template is not None:
            self._launch((entry, entry.request_template, 1), 0)
            return
        assert entry.change is not None
        try:
            self.run_state.change(entry.change.change)
        except Unusable as error:
            raise Unusable(problem._replace(spot=entry.spot) for problem in error.problems) from None
        self._follow(entry)

    def _follow(self, entry: Entry) -> None:
        """Whoever waits for this entry comes next."""
        follower = self._followers.pop(entry.order, None)
        if follower is not None:
            time = self.clock.now + (follower.after or 0)
            self.clock.push(time, ARRIVAL, follower.order, self._come, follower)

    def _launch(self, subject: tuple[Entry, RequestTemplate, int], _: int) -> None:
        entry, request_template, repetition = subject
        now, spec = self.clock.now, request_template.spec
        id_ = entry.id if spec.times == 1 else f"{entry.id}[{repetition}]"
        send = Send(entry, request_template, repetition, id_, now, now)
        self._sends.append(send)
        if spec.times > 1 and spec.every is not None and not send.last:
            self.clock.push(
                now + spec.every, ARRIVAL, entry.order, self._launch, (entry, request_template, repetition + 1)
            )
        request = request_template.ready
        if request is None:
            self.kept.now, self.kept.accounts = now, self.run_state.compiled.spec.accounts
            try:
                request = request_template.request(self.kept, self.run_state.compiled)
            except (LookupError, ValueError) as error:
                self._not_sent(send, error)
                return
        if entry.address is not None:
            request = Request(request.method, request.url, request.fields, request.body, entry.address)
        caller = self.run_state.callers.get(request_template.caller_name) or self._new_caller(request_template)
        if caller.talks:
            send.conversation = caller.conversation(request, now, self.service, spec)
            self._start(send, next(send.conversation))
        else:
            x = send.final = self._arrive(send, send.id, request)
            self._depart(send, x)

    def _new_caller(self, request_template: RequestTemplate) -> Caller | Browser:
        make: Any = Caller
        if request_template.caller.kind == "browser":
            from patient_usher.core.engine.callers.browser import Browser  # most replays need none

            make = Browser
        caller = self.run_state.callers[request_template.caller_name] = make(
            request_template.caller_name, request_template.caller
        )
        return caller  # type: ignore[no-any-return]

    def _arrive(self, send: Send, id_: str, request: Request) -> Exchange:
        """An exchange of a send, at the service's door."""
        request_template = send.request_template
        watched = self.journeys or request_template.expects or request_template.caller.kind == "browser"
        x = self.service.arrive(id_, request, self.clock.now, watched=watched)
        x.send, x.caller = send, request_template.caller_name
        if self.run_state.lasts:
            x.took = send.entry.took
        send.exchanges.append(x)
        return x

    def _depart(self, send: Send, x: Exchange) -> None:
        send.open += 1
        self.service.start(x, send.request_template.caller.patience)

    def _start(self, send: Send, outgoing: Outgoing) -> None:
        """One request of a conversation, which may need none to go out."""
        x = self._arrive(send, send.id + outgoing.suffix, outgoing.request)
        x.kind = outgoing.kind
        if outgoing.suffix:
            x.parent = send.id
        if not outgoing.meanwhile:
            send.final = x
        if not outgoing.sends:
            x.outcome = "not-sent"
            if outgoing.kept is not None:
                x.outcome, x.answer, x.answered_by = "from-caller-cache", outgoing.kept, "caller"
            self._finished(x)
            return
        self._depart(send, x)

    def _go_on(self, subject: tuple[Send, Outgoing], _: int) -> None:
        self._start(*subject)

    def _not_sent(self, send: Send, error: Exception) -> None:
        missing = isinstance(error, LookupError)
        what = f"nothing was kept as {error.args[0]}" if missing else str(error)
        send.failures.append(("send", "a request that can be sent", what))
        request_template = send.request_template
        written = (
            request_template.written if request_template.written.startswith("/") else f"/{request_template.written}"
        )
        request = Request(
            request_template.method,
            request_template.base.at(written),
            Fields(),
            b"",
            send.entry.address or request_template.caller.address,
        )
        self.run_state.exchanges += 1
        x = arriving(self.run_state.exchanges, send.id, request, self.clock.now)
        x.send, x.outcome, x.caller = send, "not-sent", request_template.caller_name
        send.exchanges.append(x)
        send.final = x
        self._send_finished(send)
        send.open -= 1

    # The answer's side: what the caller does with it.

    def _finished(self, x: Exchange) -> None:
        send: Send = x.send
        if send.conversation is not None:
            try:
                outgoing = send.conversation.send(x)
            except StopIteration:
                pass
            else:
                if outgoing.meanwhile and not send.answered:
                    self._answered(send, x)
                # By way of the queue: this exchange is to be over before the next one starts.
                self.clock.push(self.clock.now, ARRIVAL, send.entry.order, self._go_on, (send, outgoing))
                return
        if not send.answered:
            self._answered(send, x)
        send.open -= 1

    def _answered(self, send: Send, x: Exchange) -> None:
        """The caller has what it called for; a copy may still be made fresh meanwhile."""
        if send.request_template.spec.keep:
            self._keep(send, x)
        self._send_finished(send)

    def _send_finished(self, send: Send) -> None:
        send.finished, send.answered = self.clock.now, True
        if send.repetition == send.request_template.spec.times:
            if self._followers:
                self._follow(send.entry)
        elif send.request_template.spec.every is None:
            again = (send.entry, send.request_template, send.repetition + 1)
            self.clock.push(self.clock.now, ARRIVAL, send.entry.order, self._launch, again)

    def _keep(self, send: Send, x: Exchange) -> None:
        for name, rule in send.request_template.spec.keep.items():
            answer = x.answer
            try:
                if answer is None:
                    raise LookupError(name)
                self.kept[name] = find_kept(rule, answer)
            except LookupError:
                self.kept.pop(name, None)
                send.failures.append((f"keep {name}", json.dumps(rule), "nothing there"))

    def _over(self, x: Exchange) -> None:
        x.send.open -= 1
