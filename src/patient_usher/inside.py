"""The order from inside: which of a service's own stages ran, written into its answers for ``usher drift``.

``named`` goes around a middleware of an ASGI 3 or WSGI (PEP 3333) application, wrapped as it is:

    app = named("browsers", Cors(named("who", Auth(named("handler", app)))))

or ``named_list`` wraps a list of them. Each answer then has a Server-Timing field (W3C Server Timing 3.2) with the
stages that the request came to, in their order. A stage that never passed on is the last one named.

This module imports nothing of the rest, and runs with Python 3.9 and newer: it may be copied into a service.
"""

from __future__ import annotations

import inspect
import re
from typing import Any, Callable, Iterable  # noqa: UP035  (3.9 has these at run time, too)

KEY = "patient_usher.inside"
Application = Callable[..., Any]


def named(name: str, app: Application) -> Application:
    """The application, of which answers say that the request came to it. Raises ValueError for what is no token."""
    if not re.fullmatch(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+", name):
        raise ValueError(f"{name!r} is no token (RFC 9110 5.6.2); name the stage as the pipeline does")

    return _asgi(name, app) if _is_asgi(app) else _wsgi(name, app)


def named_list(layers: Iterable[tuple[str, Callable[[Application], Application]]], app: Application) -> Application:
    """The application within layers, the first outermost: each a name and what wraps an application."""
    wrapped = named("handler", app)
    for name, wrap in reversed(list(layers)):
        wrapped = named(name, wrap(wrapped))
    return wrapped


def _is_asgi(app: Application) -> bool:
    """Whether it takes scope, receive and send: servers ask in the same way, by what is a coroutine function."""
    called = getattr(app, "__call__", None)  # noqa: B004
    if inspect.iscoroutinefunction(app) or inspect.iscoroutinefunction(called):
        return True
    try:
        return len(inspect.signature(app).parameters) == 3
    except (TypeError, ValueError):
        return False


def _asgi(name: str, app: Application) -> Application:
    async def called(scope: Any, receive: Any, send: Any) -> None:
        names = scope.get(KEY)
        if names is not None:
            names.append(name)
        if names is not None or scope.get("type") != "http":
            await app(scope, receive, send)
            return
        names = [name]

        async def sending(message: Any) -> None:
            if message["type"] == "http.response.start":
                field = (b"server-timing", _field(names).encode())
                message = {**message, "headers": [*message.get("headers", ()), field]}
            await send(message)

        await app({**scope, KEY: names}, receive, sending)

    return called


def _wsgi(name: str, app: Application) -> Application:
    def called(environ: Any, start_response: Any) -> Any:
        names = environ.get(KEY)
        if names is not None:
            names.append(name)
            return app(environ, start_response)
        environ[KEY] = names = [name]

        def starting(status: str, headers: Any, *more: Any) -> Any:
            return start_response(status, [*headers, ("Server-Timing", _field(names))], *more)

        return app(environ, starting)

    return called


def _field(names: Iterable[str]) -> str:
    return ", ".join(dict.fromkeys(names))
