"""An application in this process as a service: ASGI 3, or WSGI (PEP 3333)."""

from __future__ import annotations

import asyncio
import inspect
import io
import sys
from collections.abc import Callable, Coroutine
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from threading import Thread
from traceback import extract_tb
from typing import Any, Protocol, TypeVar
from urllib.parse import unquote_to_bytes

from patient_usher.core.http.messages import Request

Application = Callable[..., Any]
T = TypeVar("T")
Asked = tuple[int, list[tuple[str, str]], bytes]
"""A status, header fields, content."""
MOST_AT_ONCE = 64
"""Requests under way at one time; further ones wait."""
MOST_OCTETS = 64 << 20
"""More of an answer isn't taken."""


class NoAnswer(Exception):
    """The service gave none: in a sentence what it did instead."""


class Asks(Protocol):
    """Whoever asks a real service, whatever it is."""

    def ask(self, request: Request, patience: float) -> Future[Asked]:
        """The answer that is to come, within so many seconds where that can be seen to; or NoAnswer."""

    def close(self) -> None:
        """Nothing more is asked."""


class Asgi:
    """Asks an ASGI application, whose lifespan begins before the first request and ends with ``close``."""

    def __init__(self, app: Application) -> None:
        self._app = app
        self._events: asyncio.Queue[object] | None = None
        self._living: asyncio.Task[object] | None = None
        self._loop = asyncio.new_event_loop()
        self._thread = Thread(target=self._loop.run_forever, daemon=True)
        self._thread.start()
        self._run(self._begin()).result()

    def ask(self, request: Request, patience: float) -> Future[Asked]:
        """The answer that is to come, or NoAnswer."""
        return self._run(self._ask(request, patience))

    def close(self) -> None:
        """Let the lifespan end."""
        with suppress(Exception):
            self._run(self._end()).result(6)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)

    def _run(self, what: Coroutine[object, object, T]) -> Future[T]:
        return asyncio.run_coroutine_threadsafe(what, self._loop)

    async def _begin(self) -> None:
        self._events, started = asyncio.Queue(), asyncio.Event()

        async def send(message: dict[str, Any]) -> None:
            if message["type"].startswith("lifespan."):
                started.set()

        async def live() -> None:
            scope = {"type": "lifespan", "asgi": {"version": "3.0", "spec_version": "2.0"}, "state": {}}
            try:
                await self._app(scope, self._events.get, send)  # type: ignore[union-attr]
            except Exception:  # an application may do without (ASGI, lifespan protocol)
                pass
            finally:
                started.set()

        await self._events.put({"type": "lifespan.startup"})
        self._living = asyncio.ensure_future(live())
        with suppress(TimeoutError):
            await asyncio.wait_for(started.wait(), 30)

    async def _end(self) -> None:
        if self._events is not None and self._living is not None and not self._living.done():
            await self._events.put({"type": "lifespan.shutdown"})
            with suppress(TimeoutError, Exception):
                await asyncio.wait_for(self._living, 5)

    async def _ask(self, request: Request, patience: float) -> Asked:
        url, got = request.url, Got()
        scope = {
            "type": "http",
            "asgi": {"version": "3.0", "spec_version": "2.3"},
            "http_version": "1.1",
            "method": request.method,
            "scheme": url.scheme,
            "path": unquote_to_bytes(url.path).decode("utf-8", "replace"),
            "raw_path": url.path.encode(),
            "query_string": (url.query or "").encode(),
            "root_path": "",
            "headers": [
                (n.lower().encode("latin-1"), v.encode("latin-1", "replace")) for n, v in request.fields.pairs()
            ],
            "client": (request.peer, 50_000),
            "server": (url.host, url.port),
            "state": {},
        }
        coming = [{"type": "http.request", "body": request.body, "more_body": False}]
        gone = asyncio.Event()

        async def receive() -> dict[str, object]:
            if coming:
                return coming.pop(0)
            await gone.wait()
            return {"type": "http.disconnect"}

        async def send(message: dict[str, object]) -> None:
            got.take(message)

        try:
            await asyncio.wait_for(self._app(scope, receive, send), patience)
        except TimeoutError:
            raise NoAnswer(f"gave no answer within {patience:g} s") from None
        except NoAnswer:
            raise
        except Exception as error:
            if not got.whole:
                raise NoAnswer(told(error)) from error
        finally:
            gone.set()
        if not got.whole:
            raise NoAnswer("returned without an answer")
        return got.answer


class Got:
    """What an ASGI application has sent so far."""

    def __init__(self) -> None:
        self.status, self.fields, self.body = 0, list[tuple[str, str]](), bytearray()
        self.whole = False

    def take(self, message: dict[str, Any]) -> None:
        """One message. Raises NoAnswer for what is none."""
        sort = message.get("type")
        if sort == "http.response.start":
            if self.status:
                raise NoAnswer(f"answered a second time, with {int(message['status'])}")
            self.status = int(message["status"])
            self.fields = [
                (bytes(n).decode("latin-1"), bytes(v).decode("latin-1")) for n, v in message.get("headers", ())
            ]
        elif sort == "http.response.body" and self.status:
            if self.whole and message.get("body"):
                raise NoAnswer("sent more when its answer was whole")
            self.body += message.get("body", b"")
            if len(self.body) > MOST_OCTETS:
                raise NoAnswer(f"answered with more than {MOST_OCTETS:,} octets")
            self.whole = self.whole or not message.get("more_body", False)
        else:
            raise NoAnswer(f"sent {sort!r} where an answer should come")

    @property
    def answer(self) -> Asked:
        """The answer."""
        return self.status, self.fields, bytes(self.body)


class Wsgi:
    """Asks a WSGI application, in threads of their own so that it may be given up."""

    def __init__(self, app: Application) -> None:
        self._app = app
        self._pool = ThreadPoolExecutor(MOST_AT_ONCE)

    def ask(self, request: Request, patience: float) -> Future[Asked]:
        """The answer that is to come, or NoAnswer."""
        return self._pool.submit(self._told, request)

    def close(self) -> None:
        """Wait for nobody."""
        self._pool.shutdown(wait=False, cancel_futures=True)

    def _told(self, request: Request) -> Asked:
        try:
            return self._ask(request)
        except NoAnswer:
            raise
        except Exception as error:
            raise NoAnswer(told(error)) from error

    def _ask(self, request: Request) -> Asked:
        url, begun = request.url, list[Any]()
        environ: dict[str, object] = {
            "REQUEST_METHOD": request.method,
            "SCRIPT_NAME": "",
            "PATH_INFO": unquote_to_bytes(url.path).decode("latin-1"),
            "QUERY_STRING": url.query or "",
            "SERVER_NAME": url.host,
            "SERVER_PORT": str(url.port),
            "SERVER_PROTOCOL": "HTTP/1.1",
            "REMOTE_ADDR": request.peer,
            "CONTENT_LENGTH": str(len(request.body)),
            "wsgi.version": (1, 0),
            "wsgi.url_scheme": url.scheme,
            "wsgi.input": io.BytesIO(request.body),
            "wsgi.errors": sys.stderr,
            "wsgi.multithread": True,
            "wsgi.multiprocess": False,
            "wsgi.run_once": False,
        }
        for name in dict.fromkeys(name.lower() for name, _ in request.fields.pairs()):
            key = name.upper().replace("-", "_")
            value = ("; " if name == "cookie" else ", ").join(request.fields.values(name))
            environ[key if key in ("CONTENT_TYPE", "CONTENT_LENGTH") else f"HTTP_{key}"] = value
        written = bytearray()

        def start_response(status: str, headers: Any, exc_info: Any = None) -> Callable[[bytes], None]:
            if begun and exc_info is None:  # PEP 3333
                raise NoAnswer(f"answered a second time, with {status.split(' ', 1)[0]}")
            begun[:] = [int(status.split(" ", 1)[0]), [(str(n), str(v)) for n, v in headers]]
            return written.extend

        parts = self._app(environ, start_response)
        try:
            for part in parts:
                written += part
                if len(written) > MOST_OCTETS:
                    raise NoAnswer(f"answered with more than {MOST_OCTETS:,} octets")
        finally:
            if hasattr(parts, "close"):
                parts.close()
        if not begun:
            raise NoAnswer("returned without calling start_response")
        return begun[0], begun[1], bytes(written)


def told(error: BaseException) -> str:
    """An exception of the application in a sentence, with its place."""
    frames = extract_tb(error.__traceback__)
    place = f", {frames[-1].filename.rpartition('/')[2]}:{frames[-1].lineno}" if frames else ""
    return f"raised {type(error).__name__}: {error}{place}"


def asker(app: Application) -> Asgi | Wsgi:
    """What asks an application, by what it is. Raises ValueError for what is none."""
    if not callable(app):
        raise ValueError(f"this is {type(app).__name__}, no application; name what is called with each request")
    call = app if inspect.isroutine(app) else type(app).__call__
    if inspect.iscoroutinefunction(call):
        return Asgi(app)
    try:
        count = len(inspect.signature(app).parameters)
    except (TypeError, ValueError):
        count = 2
    if count == 3:
        return Asgi(app)
    if count == 2:
        return Wsgi(app)
    raise ValueError(
        "this takes neither (scope, receive, send), as ASGI has it, nor (environ, start_response), as WSGI"
    )
