"""A service over sockets: one origin, HTTP/1.1, each answer within its caller's patience."""

from __future__ import annotations

import ssl
from concurrent.futures import Future, ThreadPoolExecutor
from time import monotonic

import httpx

from patient_usher.core.http.messages import Request
from patient_usher.core.http.urls import Url, parse_url
from patient_usher.wire.application import MOST_AT_ONCE, MOST_OCTETS, Asked, NoAnswer

_OWN = frozenset({"host", "content-length", "connection", "transfer-encoding"})
"""Fields that belong to the connection, and so to whoever makes it (RFC 9110 7.6.1)."""

NOT_THERE = "isn't there"
"""How it is said that nobody listens."""


class AtUrl:
    """Asks the service at an origin for whatever goes to the trace's base; what goes elsewhere isn't sent."""

    def __init__(self, at: Url, base: str, tls: ssl.SSLContext | bool = True) -> None:
        self._at, self._base = at, base
        self._pool = ThreadPoolExecutor(MOST_AT_ONCE)
        # Connections alone: no cookies, no proxy and no redirects but those of the trace's callers.
        # A connection a request: octets that a service sends too many are never another request's answer.
        once = httpx.Limits(max_keepalive_connections=0)
        self._connections = httpx.HTTPTransport(http1=True, http2=False, trust_env=False, verify=tls, limits=once)

    def ask(self, request: Request, patience: float) -> Future[Asked]:
        """The answer that is to come, or NoAnswer."""
        return self._pool.submit(self._ask, request, patience)

    def _ask(self, request: Request, patience: float) -> Asked:
        url = request.url
        if url.origin != self._base:
            raise NoAnswer(f"wasn't asked: {url.origin} is another host than the trace's base, {self._base}")
        fields = [(name, value) for name, value in request.fields.pairs() if name.lower() not in _OWN]
        ends = monotonic() + patience
        asked = httpx.Request(
            request.method,
            f"{self._at.origin}/",
            headers=[(name.encode("latin-1", "replace"), value.encode("latin-1", "replace")) for name, value in fields],
            content=request.body if request.body else None,
            extensions={
                "target": url.target.encode("latin-1", "replace"),  # as it stands: nothing is resolved
                "timeout": httpx.Timeout(patience).as_dict(),
            },
        )
        try:
            answer = self._connections.handle_request(asked)
            try:
                body = bytearray()
                for chunk in answer.iter_raw():
                    body += chunk
                    if len(body) > MOST_OCTETS:
                        raise NoAnswer(f"answered with more than {MOST_OCTETS:,} octets")
                    if monotonic() > ends:
                        raise NoAnswer(f"was still answering after {patience:g} s")
            finally:
                answer.close()
        except httpx.TimeoutException:
            raise NoAnswer(f"gave no answer within {patience:g} s") from None
        except httpx.ConnectError as error:
            raise NoAnswer(_unreached(error, self._at)) from None
        except httpx.RemoteProtocolError as error:
            raise NoAnswer(f"speaks no HTTP/1.1, or closed the connection: {error}") from None
        except NoAnswer:
            raise
        except Exception as error:  # whatever the client makes of what a stranger's service sends
            raise NoAnswer(f"gave no answer: {error or type(error).__name__}") from None
        pairs = [(name.decode("latin-1"), value.decode("latin-1")) for name, value in answer.headers.raw]
        return answer.status_code, [(name, self._as_of_base(name, value)) for name, value in pairs], bytes(body)

    def close(self) -> None:
        """Close the connections."""
        self._pool.shutdown(wait=False, cancel_futures=True)
        self._connections.close()

    def _as_of_base(self, name: str, value: str) -> str:
        """A Location that leads back to the service, as the trace's base has it."""
        own = self._at.origin
        here = name.lower() == "location" and (value == own or value.startswith((f"{own}/", f"{own}?")))
        return self._base + value.removeprefix(own) if here else value


def trusted(certificates: bytes | None) -> ssl.SSLContext | bool:
    """What checks a service's certificate: these (PEM) are trusted beside the system's. Raises ValueError."""
    if certificates is None:
        return True
    context = ssl.create_default_context()
    try:
        context.load_verify_locations(cadata=certificates.decode("ascii"))
    except (ssl.SSLError, UnicodeDecodeError):
        raise ValueError("these are no certificates; write PEM, as serve --certificate does") from None
    return context


def _unreached(error: httpx.ConnectError, at: Url) -> str:
    cause: BaseException | None = error
    while cause is not None and not isinstance(cause, ssl.SSLError):
        cause = cause.__cause__ or cause.__context__
    if cause is not None:
        return f"can't be trusted at {at.origin}: {cause}"
    return f"{NOT_THERE} at {at.origin}: {error}"


def origin_of(text: str) -> Url:
    """The origin that a URL names. Raises ValueError."""
    url = parse_url(text)
    if url.scheme not in ("http", "https") or url.path not in ("", "/") or url.query:
        raise ValueError(f"'{text}' names no origin; write http://HOST:PORT")
    return url
