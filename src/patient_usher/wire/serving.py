"""The model as a service: an ASGI application over a run state that lives on, in real time.

What waits holds its connection; a stall holds it until the caller goes or its patience ends. Where the model gives no
answer, the connection is closed without one.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from typing import Any, NamedTuple

from patient_usher.core.engine.plan.walk_state import WalkState
from patient_usher.core.engine.run.clock import Clock
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.engine.run.walk import Walk
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer, Request
from patient_usher.core.http.urls import Url, parse_url
from patient_usher.core.model.effects import IllegalEffect
from patient_usher.core.model.exchange import Exchange

CLOSES = "patient-usher.transport"
"""The extension of a scope in which a server leaves the connection, so that it can be closed without an answer."""
_OF_CONNECTION = frozenset({b"connection", b"transfer-encoding", b"keep-alive", b"te", b"upgrade", b"expect"})
"""Fields that are the connection's own (RFC 9110 7.6.1): stages never see them."""
HEAD_OCTETS = 64 << 10
"""The most octets of a request's line and fields."""
_LENGTHS = frozenset({b"content-length", b"transfer-encoding"})
PART = 64 << 10
"""How many octets of an answer are handed to the server at once."""
Messages = Callable[..., Any]


class Bounds(NamedTuple):
    """What is let in: exchanges at one time, octets of a body, seconds until a request has come in whole."""

    at_once: int = 1000
    body: int = 16 << 20
    within: float = 30.0


class WallClock(Clock):
    """The queue of a run state whose time is the wall's, ``faster`` times; an event loop says when something is due."""

    __slots__ = ("_begun", "_faster", "_loop", "_starts", "_timer", "_wakes_at")

    def __init__(self, faster: float = 1.0) -> None:
        self._starts, self._begun, self._faster = time.time_ns() // 1000, time.monotonic(), faster
        super().__init__(self._starts)
        self._loop: asyncio.AbstractEventLoop | None = None
        self._timer: asyncio.TimerHandle | None = None
        self._wakes_at = 0

    def present(self) -> int:
        """The time by the wall, in microseconds since the epoch."""
        return self._starts + int((time.monotonic() - self._begun) * self._faster * 1_000_000)

    def catch_up(self) -> int:
        """Do all that was due by now, and be called again when more is. Returns the time."""
        while (due := self.due) is not None and due <= self.present():
            self.step()
        self.now = max(self.now, self.present())
        if due is not None and (self._timer is None or due < self._wakes_at):
            self._sleep_until(due)
        return self.now

    def _sleep_until(self, due: int) -> None:
        if self._loop is None:
            self._loop = asyncio.get_running_loop()
        if self._timer is not None:
            self._timer.cancel()
        self._wakes_at = due
        self._timer = self._loop.call_later(max(due - self.now, 0) / 1_000_000 / self._faster, self._wake)

    def _wake(self) -> None:
        self._timer = None
        self.catch_up()


class ServedModel:
    """A run state as an ASGI 3 application.

    ``origin``: what the pipeline stands for, whatever the Host field says. ``patience`` is the callers', in seconds of
    the model. ``on_over(x)`` is told of every exchange of which nothing runs any more, ``aside(words)`` of requests
    that never became one. ``watched``: journeys are wanted.
    """

    def __init__(
        self,
        run_state: RunState,
        *,
        on_over: Callable[[Exchange], None] = lambda x: None,
        aside: Callable[[str], None] = lambda words: None,
        origin: Url | None = None,
        faster: float = 1.0,
        patience: float = 60.0,
        bounds: Bounds | None = None,
        watched: bool = True,
    ) -> None:
        self.run_state, self.clock = run_state, WallClock(faster)
        self._origin, self._patience, self._bounds = origin, round(patience * 1_000_000), bounds or Bounds()
        self._aside, self._watched = aside, watched
        self._walk = Walk(self.clock, self._finished, on_over, lambda name, x: run_state.compiled.missing(name, x))
        self._waiting: dict[int, tuple[WalkState, asyncio.Future[None]]] = {}
        self._origins: dict[tuple[str, bytes], Url] = {}
        self.under_way = 0
        self._ending = False

    async def __call__(self, scope: dict[str, object], receive: Messages, send: Messages) -> None:
        """Answer one request."""
        if scope["type"] != "http":
            return
        headers: Any = scope["headers"]
        size = sum([len(name) + len(value) + 4 for name, value in headers])
        if size > HEAD_OCTETS:
            await self._turn_away(scope, send, 431, f"fields of {size:,} octets, over {HEAD_OCTETS:,}")
            return
        if self.under_way >= self._bounds.at_once:
            await self._turn_away(scope, send, 503, f"over {self._bounds.at_once} requests at once")
            return
        self.under_way += 1
        try:
            message = await receive()
            body: bytes | None = message.get("body", b"")
            whole = message["type"] == "http.request" and not message.get("more_body")
            if not whole or len(body or b"") > self._bounds.body:
                body = await self._rest(scope, message, receive, send)
            if body is not None:
                await self._exchange(scope, body, receive, send)
        except Exception as error:
            if not isinstance(error, ConnectionError):
                own = "" if isinstance(error, IllegalEffect) else f"a fault of its own: {type(error).__name__}: "
                self._aside(f"{scope['method']} {scope['path']}: {own}{error}")
            raise
        finally:
            self.under_way -= 1

    def close(self) -> None:
        """Nothing more is answered: whoever still waits has been left."""
        self.clock.catch_up()
        self._ending = True
        for walk_state, _ in list(self._waiting.values()):
            self._walk.caller_leaves(walk_state)

    # What comes in.

    async def _rest(
        self, scope: dict[str, Any], message: dict[str, Any], receive: Messages, send: Messages
    ) -> bytes | None:
        """A body that comes in parts; None where it never comes whole, or is too large."""
        parts, size = [], 0
        try:
            async with asyncio.timeout(self._bounds.within):
                while message["type"] == "http.request":
                    parts.append(message.get("body", b""))
                    size += len(parts[-1])
                    if size > self._bounds.body:
                        await self._turn_away(scope, send, 413, f"a body over {self._bounds.body:,} octets")
                        return None
                    if not message.get("more_body"):
                        return b"".join(parts)
                    message = await receive()
        except TimeoutError:
            await self._turn_away(scope, send, 408, f"not whole within {self._bounds.within:g} s")
            return None
        self._aside(f"{scope['method']} {scope['path']}: the caller left before the request was whole")
        return None

    async def _turn_away(self, scope: dict[str, object], send: Messages, status: int, why: str) -> None:
        """Answer in front of the pipeline, and close the connection."""
        self._aside(f"{scope['method']} {scope['path']}: {status} in front of the pipeline: {why}")
        fields = [(b"Content-Type", b"text/plain; charset=utf-8"), (b"Connection", b"close")]
        if status == 503:
            fields.append((b"Retry-After", b"1"))
        await send({"type": "http.response.start", "status": status, "headers": fields})
        await send({"type": "http.response.body", "body": f"{why}\n".encode()})

    def _url(self, scope: dict[str, Any], host: bytes) -> Url:
        raw = scope["raw_path"]
        if not raw.startswith(b"/") and b"://" in raw:  # absolute form (RFC 9112 3.2.2)
            _, _, raw = raw.partition(b"://")
            raw = b"/" + raw.partition(b"/")[2]
        target = raw.decode("ascii", "replace")
        if query := scope["query_string"]:
            target = f"{target}?{query.decode('ascii', 'replace')}"
        return (self._origin or self._origin_of(scope, host)).at(target)

    def _origin_of(self, scope: dict[str, Any], host: bytes) -> Url:
        key = (scope["scheme"], host)
        if (found := self._origins.get(key)) is None:
            name, port = scope.get("server") or ("localhost", 80)
            try:
                found = parse_url(f"{key[0]}://{host.decode('latin-1') or f'{name}:{port}'}")
            except ValueError:
                found = Url(key[0], str(name), int(port or 80), "/", "")
            if len(self._origins) > 1000:
                self._origins.clear()
            self._origins[key] = found
        return found

    def _request(self, scope: dict[str, Any], body: bytes) -> Request:
        fields, host = Fields(), b""
        for name, value in scope["headers"]:
            if name == b"host":
                host = value
            if name not in _OF_CONNECTION:
                fields.add(_spelled(name), value.decode("latin-1"))
        url = self._url(scope, host)
        if self._origin is not None:
            fields.put("Host", url.authority)
        if body and "content-length" not in fields:
            fields.put("Content-Length", str(len(body)))
        return Request(scope["method"], url, fields, body, (scope.get("client") or ("127.0.0.1",))[0])

    # What becomes of it.

    async def _exchange(self, scope: dict[str, Any], body: bytes, receive: Messages, send: Messages) -> None:
        request, now = self._request(scope, body), self.clock.catch_up()
        x = self.run_state.admit(f"r{self.run_state.exchanges + 1}", request, now, watched=self._watched)
        walk_state = self._walk.start(x, self._patience)
        self.clock.catch_up()
        if not x.outcome:
            await self._wait(walk_state, receive)
        answer = x.answer
        if answer is not None and not walk_state.gave_up:
            await _answered(answer, send, closes=_framed_twice(scope))
        elif not self._ending:  # else the server has closed it
            await _closed(scope, x, receive)

    async def _wait(self, walk_state: WalkState, receive: Messages) -> None:
        """Until the exchange is finished, or its caller has gone."""
        loop = asyncio.get_running_loop()
        finished: asyncio.Future[None] = loop.create_future()
        self._waiting[walk_state.x.number] = walk_state, finished
        gone = asyncio.ensure_future(receive())
        try:
            await asyncio.wait({finished, gone}, return_when=asyncio.FIRST_COMPLETED)
        finally:
            gone.cancel()
            self._waiting.pop(walk_state.x.number, None)
            if not walk_state.x.outcome:
                self.clock.catch_up()
                self._walk.caller_leaves(walk_state)
                self.clock.catch_up()

    def _finished(self, x: Exchange) -> None:
        waiting = self._waiting.get(x.number)
        if waiting is not None and not waiting[1].done():
            waiting[1].set_result(None)


def _framed_twice(scope: dict[str, Any]) -> bool:
    """Whether a request says both lengths: somebody on its way may have read another one (RFC 9112 6.3)."""
    names = [name for name, _ in scope["headers"] if name in _LENGTHS]
    return b"transfer-encoding" in names and b"content-length" in names


async def _answered(answer: Answer, send: Messages, *, closes: bool) -> None:
    fields = [(name.encode("latin-1"), value.encode("latin-1", "replace")) for name, value in answer.fields.pairs()]
    if closes:
        fields.append((b"Connection", b"close"))
    await send({"type": "http.response.start", "status": answer.status, "headers": fields})
    # In parts: the server takes the next one only when there is room for it, so that nothing unread piles up.
    body, at = answer.body, 0
    while len(body) - at > PART:
        await send({"type": "http.response.body", "body": body[at : at + PART], "more_body": True})
        at += PART
    await send({"type": "http.response.body", "body": body[at:] if at else body})


async def _closed(scope: dict[str, Any], x: Exchange, receive: Messages) -> None:
    """Close the connection without an answer."""
    transport = scope.get("extensions", {}).get(CLOSES)
    if transport is None:
        raise ConnectionError(f"no answer: {x.outcome}")
    transport.close()
    try:
        async with asyncio.timeout(1):
            while (await receive())["type"] != "http.disconnect":
                pass
    except TimeoutError:
        transport.abort()


_spellings: dict[bytes, str] = {}


def _spelled(name: bytes) -> str:
    """A field's name as people write it; servers hand it over in small letters."""
    if (found := _spellings.get(name)) is None:
        found = name.decode("latin-1").title()
        if len(_spellings) < 1000:
            _spellings[name] = found
    return found
