"""The CORS protocol of the Fetch standard, as a browser applies it, in pure functions.

Sections are named as in the standard (fetch.spec.whatwg.org): 2.2.2 headers, 3.2 the CORS
protocol, 4.1 main fetch, 4.8 CORS-preflight fetch, 4.9 the preflight cache, 4.10 CORS check.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from patient_usher.core.http.dates import MICROSECONDS
from patient_usher.core.http.fields import TOKEN, Fields, list_items
from patient_usher.core.http.media import parse_media_type
from patient_usher.core.http.messages import Request

SAFELISTED_METHODS = frozenset({"GET", "HEAD", "POST"})
"""2.2.1."""
FORBIDDEN_METHODS = frozenset({"CONNECT", "TRACE", "TRACK"})
"""2.2.1."""
SAFELISTED_RESPONSE_FIELDS = frozenset(
    {"cache-control", "content-language", "content-length", "content-type", "expires", "last-modified", "pragma"}
)
"""2.2.2: what a page may read without being told."""
FORBIDDEN_RESPONSE_FIELDS = frozenset({"set-cookie", "set-cookie2"})
"""2.2.2."""
DEFAULT_MAX_AGE = 5
"""Seconds that a preflight's answer is remembered where it doesn't say (4.8, step 7.8)."""
MAX_AGE_LIMIT = 7200
"""The limit that the standard lets a browser impose (4.8, step 7.10), in seconds."""

_NORMALISED = frozenset({"DELETE", "GET", "HEAD", "OPTIONS", "POST", "PUT"})
_UNSAFE_BYTE = re.compile(r'[\x00-\x08\x0a-\x1f"():<>?@\[\\\]{}\x7f]')
_LANGUAGE = re.compile(r"[0-9A-Za-z *,\-.;=]*")
_RANGE = re.compile(r"bytes=([0-9]+)-([0-9]*)")
_SIMPLE_TYPES = frozenset({"application/x-www-form-urlencoded", "multipart/form-data", "text/plain"})
_FORBIDDEN_REQUEST_FIELDS = frozenset(
    {
        "accept-charset", "accept-encoding", "access-control-request-headers", "access-control-request-method",
        "connection", "content-length", "cookie", "cookie2", "date", "dnt", "expect", "host", "keep-alive", "origin",
        "referer", "set-cookie", "te", "trailer", "transfer-encoding", "upgrade", "via",
    }
)  # fmt: skip
_METHOD_OVERRIDES = frozenset({"x-http-method", "x-http-method-override", "x-method-override"})


def normalise_method(method: str) -> str:
    """2.2.1: six methods have no case, all others do: ``patch`` stays ``patch``."""
    return method.upper() if method.upper() in _NORMALISED else method


def is_forbidden_request_field(lower: str, value: str) -> bool:
    """2.2.2: fields that a page can't set."""
    if lower in _FORBIDDEN_REQUEST_FIELDS or lower.startswith(("proxy-", "sec-")):
        return True
    if lower in _METHOD_OVERRIDES:
        return any(item.upper() in FORBIDDEN_METHODS for item in list_items(value))
    return False


def is_safelisted(lower: str, value: str) -> bool:
    """2.2.2, CORS-safelisted request-header."""
    if len(value.encode("latin-1", "replace")) > 128:
        return False
    if lower == "accept":
        return _UNSAFE_BYTE.search(value) is None
    if lower in ("accept-language", "content-language"):
        return _LANGUAGE.fullmatch(value) is not None
    if lower == "content-type":
        return _UNSAFE_BYTE.search(value) is None and parse_media_type(value)[0] in _SIMPLE_TYPES
    if lower == "range":
        match = _RANGE.fullmatch(value)
        return match is not None and (not match[2] or int(match[1]) <= int(match[2]))
    return False


def unsafe_names(fields: Fields) -> list[str]:
    """2.2.2, CORS-unsafe request-header names, sorted; safelisted ones count when they add up to over 1024."""
    unsafe, maybe, size = [], [], 0
    for lower in fields.names():
        value = fields.get(lower) or ""
        if is_safelisted(lower, value):
            maybe.append(lower)
            size += len(value)
        else:
            unsafe.append(lower)
    return sorted(unsafe + maybe if size > 1024 else unsafe)


def no_cors_fields(fields: Fields) -> Fields:
    """2.2.2, no-CORS-safelisted: what is left of a page's fields in mode no-cors; the rest goes silently."""
    kept = Fields()
    for name, value in fields:
        lower = name.lower()
        if lower in ("accept", "accept-language", "content-language", "content-type") and is_safelisted(lower, value):
            kept.add(name, value)
    return kept


def _tokens(value: str | None) -> list[str] | None:
    """Extract header list values (2.2.2). None for no field; raises ValueError for one that can't be parsed."""
    if value is None:
        return None
    items = list_items(value)
    if not all(TOKEN.fullmatch(item) for item in items):
        raise ValueError(value)
    return items


class CorsVerdict(NamedTuple):
    """What failed, by code, and the value that it failed on; an empty code is success."""

    why: str
    what: str = ""


PASSED = CorsVerdict("")


def cors_check(answer: Fields, origin: str, *, credentials: bool) -> CorsVerdict:
    """4.10, CORS check. ``credentials``: whether the request's mode is include."""
    allowed = answer.get("access-control-allow-origin")
    if allowed is None:
        return CorsVerdict("origin-missing")
    if allowed == "*" and not credentials:
        return PASSED
    if allowed != origin:
        return CorsVerdict("wildcard-with-credentials" if allowed == "*" else "origin-mismatch", allowed)
    if not credentials or answer.get("access-control-allow-credentials") == "true":
        return PASSED
    return CorsVerdict("credentials-not-allowed", answer.get("access-control-allow-credentials") or "")


class Grant(NamedTuple):
    """What a preflight's answer allows, and for how many seconds."""

    methods: tuple[str, ...]
    names: tuple[str, ...]
    max_age: int


def preflight_check(
    status: int, answer: Fields, origin: str, method: str, names: Iterable[str], *, credentials: bool
) -> CorsVerdict | Grant:
    """4.8, CORS-preflight fetch, step 7: what the answer grants, or why the call isn't sent.

    ``names`` are the CORS-unsafe request-header names.
    """
    checked = cors_check(answer, origin, credentials=credentials)
    if checked.why:
        return checked
    if not 200 <= status <= 299:
        return CorsVerdict("preflight-status", str(status))
    try:
        methods = _tokens(answer.get("access-control-allow-methods")) or []
    except ValueError as error:
        return CorsVerdict("malformed-allow-methods", str(error))
    try:
        listed = [name.lower() for name in _tokens(answer.get("access-control-allow-headers")) or []]
    except ValueError as error:
        return CorsVerdict("malformed-allow-headers", str(error))
    if method not in methods and method not in SAFELISTED_METHODS and (credentials or "*" not in methods):
        return CorsVerdict("method-not-allowed", method)
    for name in names:
        if name == "authorization" and name not in listed:  # 2.2.2: the wildcard doesn't cover it
            return CorsVerdict("authorization-not-listed" if "*" in listed else "header-not-allowed", name)
    for name in names:
        if name not in listed and (credentials or "*" not in listed):
            return CorsVerdict("header-not-allowed", name)
    return Grant(tuple(methods), tuple(listed), _max_age(answer.get("access-control-max-age")))


def _max_age(value: str | None) -> int:
    if value is None or not value.strip().isdecimal():
        return DEFAULT_MAX_AGE
    return min(int(value), MAX_AGE_LIMIT)


class PreflightCache:
    """4.9, the CORS-preflight cache, on a virtual clock: each method and header name has its own end."""

    def __init__(self) -> None:
        self._ends: dict[tuple[str, str, bool, str, str], int] = {}

    def remember(self, origin: str, url: str, grant: Grant, now: int, *, credentials: bool) -> None:
        """Keep what a preflight granted, from ``now`` on."""
        end = now + grant.max_age * MICROSECONDS
        for sort, values in (("method", grant.methods), ("name", grant.names)):
            for value in values:
                self._ends[(origin, url, credentials, sort, value)] = end

    def forget(self, origin: str, url: str) -> None:
        """Clear cache entries (4.9), after a network error (4.1, main fetch)."""
        self._ends = {key: end for key, end in self._ends.items() if key[:2] != (origin, url)}

    def allows(self, origin: str, url: str, method: str, names: Iterable[str], now: int, *, credentials: bool) -> bool:
        """Whether the call may go without asking again."""

        def fits(sort: str, value: str) -> bool:
            wanted = [value] if value == "authorization" and sort == "name" else [value, "*"]
            kept = (True,) if credentials else (True, False)
            return any(self._ends.get((origin, url, c, sort, v), now) > now for c in kept for v in wanted)

        return (method in SAFELISTED_METHODS or fits("method", method)) and all(fits("name", name) for name in names)


def readable_names(answer: Fields, *, credentials: bool) -> list[str]:
    """4.1, main fetch, step 14, and 2.2.6: the names of an answer's fields that a page of another origin can read."""
    try:
        exposed = {name.lower() for name in _tokens(answer.get("access-control-expose-headers")) or ()}
    except ValueError:
        exposed = set()
    everything = "*" in exposed and not credentials
    return sorted(
        name
        for name in answer.names()
        if (everything or name in exposed or name in SAFELISTED_RESPONSE_FIELDS)
        and name not in FORBIDDEN_RESPONSE_FIELDS
    )


def matches_origin(pattern: str, origin: str) -> bool:
    """Whether an origin is an exact one, or below the host of ``https://*.host``."""
    if pattern in ("*", origin):
        return True
    scheme, star, host = pattern.partition("://*.")
    return bool(star) and origin.startswith(scheme + "://") and origin.endswith("." + host)


HEADERS_OF: Mapping[str, str] = {
    "origin": "Access-Control-Allow-Origin",
    "credentials": "Access-Control-Allow-Credentials",
    "methods": "Access-Control-Allow-Methods",
    "headers": "Access-Control-Allow-Headers",
    "max-age": "Access-Control-Max-Age",
    "expose": "Access-Control-Expose-Headers",
}
"""3.2.3: the response fields of the protocol."""


def is_preflight(request: Request) -> bool:
    """Whether a request asks for another's permission: OPTIONS with Origin and the method asked for (4.8)."""
    fields = request.fields
    return request.method == "OPTIONS" and "origin" in fields and "access-control-request-method" in fields
