"""The landing stage's service, twice: as its model says, and as it was written in a hurry. Everything is made up.

Wrappers stand around a handler as middleware does. ``agreeing`` is an ASGI application, ``drifted`` a WSGI one.
"""

from __future__ import annotations

import json
import time
from collections.abc import Awaitable, Callable, Iterable
from typing import Any, NamedTuple

KEYS = {"marens-made-up-key": ("maren", "skipper"), "odiles-made-up-key": ("odile", "harbour-master")}
ORIGIN = "https://boaters.example"


class Call(NamedTuple):
    """A request as the wrappers see it."""

    method: str
    path: str
    headers: dict[str, str]
    address: str
    name: str = ""
    role: str = ""


class Reply(NamedTuple):
    """What comes back."""

    status: int
    headers: dict[str, str]
    body: bytes = b""


Handler = Callable[[Call], Reply]


def words(status: int, text: str, **headers: str) -> Reply:
    """A reply in plain words."""
    named = {name.replace("_", "-"): value for name, value in headers.items()}
    return Reply(status, {"content-type": "text/plain; charset=utf-8", **named}, text.encode())


def handler(call: Call) -> Reply:
    """The routes."""
    content: dict[str, object] = {
        "/tides": {"high": "06:12", "low": "12:21"},
        "/berths": {"for": call.name, "free": ["T07", "T12"]},
        "/ledger": {"owed": 1250},
    }
    if call.path not in content:
        return words(404, "There is nothing here")
    return Reply(200, {"content-type": "application/json"}, json.dumps(content[call.path]).encode())


def cross_origin(inner: Handler) -> Handler:
    """Preflights are answered, answers to the listed origin are marked."""

    def wrapped(call: Call) -> Reply:
        origin = call.headers.get("origin")
        mine = {"access-control-allow-origin": ORIGIN} if origin == ORIGIN else {}
        if origin and call.method == "OPTIONS" and "access-control-request-method" in call.headers:
            lists = {"access-control-allow-methods": "GET, HEAD, POST", "access-control-allow-headers": "x-harbour-key"}
            return Reply(204, {"vary": "Origin", **mine, **(lists if mine else {})})
        reply = inner(call)
        return reply._replace(headers={**reply.headers, "vary": "Origin", **mine})

    return wrapped


def unstored(inner: Handler) -> Handler:
    """No cache may keep an answer."""

    def wrapped(call: Call) -> Reply:
        reply = inner(call)
        return reply._replace(headers={**reply.headers, "cache-control": "no-store"})

    return wrapped


def authentication(inner: Handler) -> Handler:
    """Who is calling."""

    def wrapped(call: Call) -> Reply:
        key = call.headers.get("x-harbour-key")
        if key is None and call.path == "/tides":
            return inner(call)
        if key not in KEYS:
            return words(
                401, "Sign in first", www_authenticate='ApiKey realm="landing", in="header", name="X-Harbour-Key"'
            )
        name, role = KEYS[key]
        return inner(call._replace(name=name, role=role))

    return wrapped


def authorization(inner: Handler) -> Handler:
    """Whether the caller may."""

    def wrapped(call: Call) -> Reply:
        if call.path == "/ledger" and call.role != "harbour-master":
            return words(403, "You may not do this")
        return inner(call)

    return wrapped


def limit(quota: int) -> Callable[[Handler], Handler]:
    """So many requests a minute, by name or address."""

    def around(inner: Handler) -> Handler:
        counts: dict[tuple[str, int], int] = {}

        def wrapped(call: Call) -> Reply:
            now = time.time()
            window = (call.name or call.address, int(now // 60))
            counts[window] = counts.get(window, 0) + 1
            if counts[window] > quota:
                return words(429, "Too many requests", retry_after=str(60 - int(now % 60)))
            return inner(call)

        return wrapped

    return around


def stacked(inner: Handler, *wrappers: Callable[[Handler], Handler]) -> Handler:
    """The wrappers around the handler, the first of them outermost."""
    for wrapper in reversed(wrappers):
        inner = wrapper(inner)
    return inner


AS_IT_SHOULD = stacked(handler, cross_origin, unstored, authentication, authorization, limit(3))
IN_A_HURRY = stacked(handler, authentication, cross_origin, unstored, limit(5))
"""Three mistakes: authentication stands outside cross_origin, nothing asks for rights, and the quota is another."""


async def agreeing(
    scope: dict[str, Any],
    receive: Callable[[], Awaitable[dict[str, object]]],
    send: Callable[[dict[str, object]], Awaitable[None]],
) -> None:
    """ASGI."""
    if scope["type"] != "http":
        return
    headers = {name.decode(): value.decode("latin-1") for name, value in scope["headers"]}
    reply = AS_IT_SHOULD(Call(scope["method"], scope["path"], headers, scope["client"][0]))
    named = [(name.encode(), value.encode()) for name, value in reply.headers.items()]
    await send({"type": "http.response.start", "status": reply.status, "headers": named})
    await send({"type": "http.response.body", "body": reply.body})


def drifted(environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
    """WSGI."""
    named = ((key[5:].replace("_", "-").lower(), value) for key, value in environ.items() if key.startswith("HTTP_"))
    call = Call(environ["REQUEST_METHOD"], environ["PATH_INFO"], dict(named), environ["REMOTE_ADDR"])
    reply = IN_A_HURRY(call)
    start_response(f"{reply.status} made up", list(reply.headers.items()))
    return [reply.body]
