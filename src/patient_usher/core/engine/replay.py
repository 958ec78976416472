"""Replaying a trace: who sends what and when, and what they keep of the answers.

Requests without ``at`` wait for the one before; those with ``at`` come whatever else is going on.
A trace in memory is cut into tracks, each starting with a request that has ``at``; a trace that
streams is one track and must be in order of time. Memory holds what is under way, not the trace.
"""

from __future__ import annotations

import json
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import urlencode

from patient_usher.core.engine.callers import Caller, Conversation, Outgoing
from patient_usher.core.engine.run import ARRIVAL, Loop
from patient_usher.core.engine.service import Service
from patient_usher.core.http.authentication import basic_credentials
from patient_usher.core.http.dates import in_seconds
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import JSON, TEXT, Request, json_bytes
from patient_usher.core.http.urls import Url, parse_url
from patient_usher.core.model.document import Problem, Spot, Unusable
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.tokens import mint
from patient_usher.core.model.trace import (
    TRACE_ROOTS,
    CallerSpec,
    ChangeSpec,
    RequestSpec,
    SignSpec,
    find_kept,
)
from patient_usher.core.model.values import Reader, fill, plain

if TYPE_CHECKING:
    from patient_usher.core.engine.browser import Browser

SCRIPT = CallerSpec.model_construct()


class Kept(dict[str, Any]):
    """Values kept from answers, and the time: what a trace's placeholders read."""

    now = 0


class Send:
    """One request of the trace, sent once, and the exchanges that came of it."""

    __slots__ = (
        "at",
        "conversation",
        "exchanges",
        "failures",
        "final",
        "finished",
        "id",
        "open",
        "recipe",
        "repetition",
    )

    def __init__(self, recipe: Recipe, repetition: int, at: int) -> None:
        spec = recipe.spec
        self.recipe = recipe
        self.repetition = repetition
        self.id = spec.id if spec.times == 1 else f"{spec.id}[{repetition}]"
        self.at = self.finished = at
        self.conversation: Conversation | None = None
        self.exchanges: list[Exchange] = []
        self.final: Exchange | None = None
        self.open = 1  # the send itself; each exchange under way adds one
        # What went wrong in sending or keeping: (what, expected, actual).
        self.failures: list[tuple[str, Any, Any]] = []

    @property
    def last(self) -> bool:
        """Whether this is the last repetition of its request."""
        return self.repetition == self.recipe.spec.times


class Track(NamedTuple):
    """Requests of which each waits for the one before, unless it has a time of its own."""

    starts: int
    entries: Iterator[Recipe | Change]


class Change:
    """An entry of the trace that changes the pipeline."""

    __slots__ = ("spec", "spot")

    def __init__(self, spec: ChangeSpec, spot: Spot) -> None:
        self.spec = spec
        self.spot = spot


class Recipe:
    """A request of the trace, made ready: what never changes is built once."""

    __slots__ = (
        "_body",
        "_fields",
        "_live_fields",
        "_ready",
        "_service",
        "_target",
        "base",
        "caller",
        "caller_name",
        "rules",
        "sign",
        "spec",
        "spot",
    )

    def __init__(
        self,
        spec: RequestSpec,
        spot: Spot,
        base: Url,
        caller_name: str,
        caller: CallerSpec,
        service: Service,
        read_file: Callable[[str], bytes],
    ) -> None:
        self.spec, self.spot, self.base = spec, spot, base
        self.caller_name, self.caller = caller_name, caller
        self.sign: SignSpec | None = spec.sign
        self.rules: Any = None  # what is expected, once a verifier has made it ready
        self._service = service
        self._fields = Fields()
        self._live_fields: list[tuple[str, Reader]] = []
        self._body: bytes | Reader = b""
        given = spec.model_fields_set
        if "json_" in given:
            self._content(JSON, spec.json_, json_bytes)
        elif spec.form is not None:
            self._content("application/x-www-form-urlencoded", spec.form, _form_bytes)
        elif spec.text is not None:
            self._content(TEXT, spec.text, lambda text: plain(text).encode())
        elif spec.file is not None:
            self._body = read_file(spec.file)
        for source in (caller.headers, spec.headers):
            for name, value in source.items():
                self._fields.drop(name.lower())
                for item in value if isinstance(value, list) else [value]:
                    self._field(name, item)
        if spec.bearer is not None:
            self._field("Authorization", "Bearer " + spec.bearer)
        target = spec.send.target
        live, prepared = fill(target, TRACE_ROOTS)
        self._target: Reader | Url = prepared if live else self._url(target)
        self._ready: Request | None = None
        if not (live or self._live_fields or callable(self._body) or self.sign):
            self._ready = self.request(Kept())

    def _field(self, name: str, value: str) -> None:
        live, prepared = fill(value, TRACE_ROOTS)
        if live:
            self._live_fields.append((name, prepared))
        else:
            self._fields.add(name, prepared)

    def _content(self, media: str, value: Any, write: Callable[[Any], bytes]) -> None:
        self._fields.put("Content-Type", media)
        live, prepared = fill(value, TRACE_ROOTS)
        self._body = (lambda kept: write(prepared(kept))) if live else write(prepared)

    def _url(self, target: str) -> Url:
        return parse_url(target if "://" in target else self.base.origin + target)

    def request(self, kept: Kept) -> Request:
        """The request at this moment.

        Raises LookupError for a value that was never kept, ValueError for a bad URL.
        """
        if self._ready is not None:
            return self._ready
        url = self._target if isinstance(self._target, Url) else self._url(plain(self._target(kept)))
        fields = Fields([("Host", url.authority)])
        fields.update(self._fields)
        for name, read in self._live_fields:
            fields.put(name, plain(read(kept)))
        if self.sign is not None:
            fields, url = self._signed(self.sign, fields, url, kept.now)
        body = self._body(kept) if callable(self._body) else self._body
        if body:
            fields.put("Content-Length", str(len(body)))
        return Request(self.spec.send.method, url, fields, body, self.caller.address)

    def _signed(self, sign: SignSpec, fields: Fields, url: Url, now: int) -> tuple[Fields, Url]:
        setup, wallet = self._service.setup, self._service.wallet
        if sign.basic is not None:
            password = setup.accounts[sign.basic].password or ""
            fields.put("Authorization", basic_credentials(sign.basic, password))
        elif sign.api_key is not None:
            key = setup.accounts[sign.api_key].api_keys[0]
            where, name = wallet.key_place or ("header", "X-Api-Key")
            if where == "header":
                fields.put(name, key)
            elif where == "cookie":
                present = fields.get("cookie")
                fields.put("Cookie", f"{present}; {name}={key}" if present else f"{name}={key}")
            else:
                url = parse_url(url.text + ("&" if url.query else "?") + urlencode({name: key}))
        else:
            bearer = wallet.bearer
            claims: dict[str, Any] = {
                "sub": sign.bearer,
                "iat": in_seconds(now),
                "exp": in_seconds(now + sign.expires_in),
            }
            if sign.valid_in is not None:
                claims["nbf"] = in_seconds(now + sign.valid_in)
            for claim, own, expected in (
                ("iss", sign.issuer, bearer.issuer),
                ("aud", sign.audience, bearer.audience),
            ):
                if own is not None or expected is not None:
                    claims[claim] = own if own is not None else expected
            if sign.scopes is not None:
                claims["scope"] = " ".join(sign.scopes)
            claims.update(sign.claims)
            key_id = sign.keys or bearer.keys[0]
            fields.put("Authorization", "Bearer " + mint(setup.keys[key_id], claims))
        return fields, url


def _form_bytes(form: dict[str, Any]) -> bytes:
    pairs = [
        (name, plain(item)) for name, value in form.items() for item in (value if isinstance(value, list) else [value])
    ]
    return urlencode(pairs).encode()


class Replay:
    """A trace on its way through a service."""

    def __init__(self, service: Service, starts: int, tracks: Iterable[Track]) -> None:
        self.service = service
        self.starts = starts
        self.loop = Loop(starts, self._finished, self._over, service.missing)
        self.kept = Kept()
        self._tracks = tracks
        self._sends: deque[Send] = deque()
        self._number = 0
        self._callers: dict[str, Caller | Browser] = {}
        self._waiting: dict[Send, Iterator[Recipe | Change]] = {}

    def run(self) -> Iterator[Send]:
        """Every send in order, each as soon as it and all before it are over."""
        for track in self._tracks:
            self._advance(track.entries, self.starts)
        while True:
            more = self.loop.step()
            while self._sends and not self._sends[0].open:
                yield self._sends.popleft()
            if not more:
                return

    # The trace's side: what is sent next.

    def _advance(self, entries: Iterator[Recipe | Change], finished: int) -> None:
        """Put the track's next entry on the queue."""
        entry = next(entries, None)
        if entry is None:
            return
        spec = entry.spec
        if spec.at is not None:
            time = self.starts + spec.at
            if time < self.loop.now:
                raise Unusable(
                    [
                        Problem(
                            entry.spot,
                            "this request goes back in time",
                            "a trace that streams must be in order of time",
                        )
                    ]
                )
        else:
            time = finished + (spec.after or 0)
        self._number += 1
        if isinstance(entry, Change):
            self.loop.push(time, ARRIVAL, self._number, self._change, (entry, entries))
        else:
            self.loop.push(time, ARRIVAL, self._number, self._launch, (entry, 1, entries))

    def _change(self, subject: tuple[Change, Iterator[Recipe | Change]], _: int) -> None:
        change, entries = subject
        self.service = self.service.changed(change.spec.change)
        self._advance(entries, self.loop.now)

    def _launch(self, subject: tuple[Recipe, int, Iterator[Recipe | Change]], _: int) -> None:
        recipe, repetition, entries = subject
        now = self.loop.now
        spec = recipe.spec
        send = Send(recipe, repetition, now)
        self._sends.append(send)
        if spec.times > 1 and spec.every is not None and not send.last:
            self._number += 1
            self.loop.push(now + spec.every, ARRIVAL, self._number, self._launch, (recipe, repetition + 1, entries))
            entries = iter(())
        self._waiting[send] = entries
        self.kept.now = now
        try:
            request = recipe.request(self.kept)
        except (LookupError, ValueError) as error:
            self._not_sent(send, error)
            return
        caller = self._caller(recipe)
        if caller.talks:
            send.conversation = caller.conversation(request, now, self.service, spec)
            self._start(send, next(send.conversation))
        else:
            self._start(send, Outgoing("call", "", request))

    def _caller(self, recipe: Recipe) -> Caller | Browser:
        caller = self._callers.get(recipe.caller_name)
        if caller is None:
            make: Any = Caller
            if recipe.caller.kind == "browser":
                from patient_usher.core.engine.browser import Browser  # most replays need none

                make = Browser
            caller = self._callers[recipe.caller_name] = make(recipe.caller_name, recipe.caller)
        return caller

    def _start(self, send: Send, outgoing: Outgoing) -> None:
        self._number += 1
        x = self.service.exchange(self._number, send.id + outgoing.suffix, outgoing.request, self.loop.now)
        x.kind = outgoing.kind
        if outgoing.suffix:
            x.parent = send.id
        x.send = send
        x.caller = send.recipe.caller_name
        send.exchanges.append(x)
        send.final = x
        if not outgoing.sends:
            x.outcome = "not-sent"
            if outgoing.kept is not None:
                x.outcome, x.answer, x.answered_by = "from-caller-cache", outgoing.kept, "caller"
            self._finished(x)
            return
        send.open += 1
        self.loop.start(x, send.recipe.caller.patience)

    def _go_on(self, subject: tuple[Send, Outgoing], _: int) -> None:
        self._start(*subject)

    def _not_sent(self, send: Send, error: Exception) -> None:
        what = error.args[0] if isinstance(error, LookupError) else str(error)
        send.failures.append(
            (
                "send",
                "a request that can be sent",
                f"nothing was kept as {what}" if isinstance(error, LookupError) else what,
            )
        )
        request = Request(send.recipe.spec.send.method, send.recipe.base, Fields(), b"", send.recipe.caller.address)
        self._number += 1
        x = Exchange(self._number, send.id, request, self.loop.now)
        x.send, x.outcome, x.caller = send, "not-sent", send.recipe.caller_name
        send.exchanges.append(x)
        send.final = x
        self._send_finished(send)

    # The answer's side: what the caller does with it.

    def _finished(self, x: Exchange) -> None:
        send: Send = x.send
        if send.conversation is not None:
            try:
                outgoing = send.conversation.send(x)
            except StopIteration:
                pass
            else:
                # By way of the queue: this exchange is to be over before the next one starts.
                self.loop.push(self.loop.now, ARRIVAL, x.number, self._go_on, (send, outgoing))
                return
        self._keep(send, x)
        self._send_finished(send)

    def _send_finished(self, send: Send) -> None:
        send.finished = self.loop.now
        send.open -= 1
        entries = self._waiting.pop(send)
        spec = send.recipe.spec
        if spec.times > 1 and spec.every is None and not send.last:
            self._number += 1
            self.loop.push(
                self.loop.now,
                ARRIVAL,
                self._number,
                self._launch,
                (send.recipe, send.repetition + 1, entries),
            )
        else:
            self._advance(entries, self.loop.now)

    def _keep(self, send: Send, x: Exchange) -> None:
        for name, rule in send.recipe.spec.keep.items():
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


def tracks_of(recipes: Iterable[Recipe | Change]) -> list[Track]:
    """A whole trace as tracks, in order of the times at which they start."""
    tracks: list[tuple[int, list[Recipe | Change]]] = []
    for entry in recipes:
        if entry.spec.at is not None or not tracks:
            tracks.append((entry.spec.at or 0, []))
        tracks[-1][1].append(entry)
    tracks.sort(key=lambda track: track[0])
    return [Track(starts, iter(entries)) for starts, entries in tracks]
