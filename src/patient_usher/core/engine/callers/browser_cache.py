"""A browser's private cache (RFC 9111; Fetch 4.6, HTTP-network-or-cache fetch)."""

from __future__ import annotations

from typing import NamedTuple

from patient_usher.core.engine.callers.fetch import Fetch
from patient_usher.core.http.caching import (
    Stored,
    directives,
    freshened,
    invalidates,
    may_use,
    validators,
    varies_alike,
    vary_of,
)
from patient_usher.core.http.conditional import CONDITIONS
from patient_usher.core.http.fields import list_items
from patient_usher.core.http.messages import Answer, Request

_TAKES_STALE = ("force-cache", "only-if-cached")
"""Cache modes in which any copy will do."""
_ANEW = (("Pragma", "no-cache"), ("Cache-Control", "no-cache"))
_SENT = {"no-store": _ANEW, "reload": _ANEW, "no-cache": (("Cache-Control", "max-age=0"),)}
"""What goes along by cache mode, where the page hasn't said it itself (Fetch 4.6).

A page that asks for a condition of its own is sent to validate, as browsers do it.
"""
_GUESSED = frozenset({200, 203})
"""Statuses of answers that are taken to be fresh for a tenth of their age (RFC 9111 4.2.2) where they say nothing."""
_LASTING = frozenset({300, 301, 308, 410})
"""Those that are taken to stay fresh for ever: who has once been sent elsewhere for good asks no more."""
_FOR_EVER = 2**62
_NEVER_KEPT = frozenset({206, 304})
"""Parts, and answers about what is kept: they are no copies by themselves."""


def _assumed(answer: Answer) -> int | None:
    """The lifetime that browsers give to an answer, whatever it says; None for what its own fields say."""
    cc = directives(answer.fields)
    if "no-cache" in list_items((answer.fields.get("pragma") or "").lower()):  # as Cache-Control: no-cache
        return 0
    if "max-age" in cc or "expires" in answer.fields:
        return None
    if answer.status in _LASTING:
        return _FOR_EVER
    return None if answer.status in _GUESSED and "must-revalidate" not in cc else 0


class Copy(NamedTuple):
    """A copy that fits, and whether it must be validated, or may be while the page has it already."""

    stored: Stored
    validate: bool
    meanwhile: bool = False

    def answer(self, method: str) -> Answer:
        """What the page gets of it."""
        answer = self.stored.answer.copy()
        if method == "HEAD":
            answer.body = b""
        return answer


class PrivateCache:
    """One browser's copies: one a URL, as browsers keep them, whatever it varies by."""

    def __init__(self) -> None:
        self._kept: dict[str, Stored] = {}

    def copy_for(self, fetch: Fetch, request: Request, now: int) -> Copy | None:
        """The copy that fits this request, if there is one and the cache mode wants any.

        Puts the fields that go with the cache mode, or ask for validation, onto the request.
        """
        own = any(name in fetch.fields for name in CONDITIONS)
        for name, value in _SENT.get("no-cache" if own and fetch.cache == "default" else fetch.cache, ()):
            if name.lower() not in fetch.fields:
                request.fields.put(name, value)
        if fetch.cache in ("reload", "no-store") or request.method not in ("GET", "HEAD"):
            return None
        if "range" in fetch.fields or own:
            return None  # the page asks for itself
        stored = self._kept.get(fetch.url.text)
        if stored is None:
            return None
        asks = stored.answer.status == 200  # whether others still hold, browsers don't ask: they fetch them anew
        if not varies_alike(stored, request.fields):  # another variant: only its tag can tell whether it is the same
            tag = stored.answer.fields.get("etag")
            if tag is None or not asks:
                return None
            request.fields.put("If-None-Match", tag)
            return Copy(stored, validate=True)
        use = may_use(stored, request.fields, now, shared=False, heuristic=True)
        if fetch.cache in _TAKES_STALE or (use.how == "fresh" and fetch.cache != "no-cache"):
            return Copy(stored, validate=False)
        tolerates = fetch.cache == "default" and fetch.first_method == "GET"
        meanwhile = use.why == "stale-while-revalidate" and tolerates
        for name, value in validators(stored) if asks else ():
            request.fields.put(name, value)
        return Copy(stored, validate=not meanwhile, meanwhile=meanwhile)

    def drop(self, fetch: Fetch, request: Request) -> None:
        """Keep no copy of what the page may not read: browsers end the transfer, and what isn't whole isn't kept."""
        if request.method == "GET" and fetch.cache != "no-store":
            self._kept.pop(request.url.text, None)

    def keep(self, fetch: Fetch, request: Request, answer: Answer, copy: Copy | None, asked: int, now: int) -> Answer:
        """Store, merge or drop (RFC 9111 3, 4.3.4, 4.4). Returns what the page gets."""
        url = request.url.text
        if fetch.cache == "no-store":
            return answer
        own = any(name in fetch.fields for name in CONDITIONS)  # then the page keeps what it gets itself
        known = answer.status == 200 if own else request.method == "HEAD" and fetch.cache != "reload"  # 4.3.5, simply
        if known or invalidates(request.method, answer.status):  # 4.4
            self._kept.pop(url, None)
        if own:
            return answer
        if copy is not None and answer.status == 304:
            fresh = freshened(copy.stored, answer.fields, asked, now)
            self._kept[url] = _stored(fresh.answer, request, asked, now)
            return fresh.answer.copy()
        if not _barred(request, answer):
            self._kept[url] = _stored(answer.copy(), request, asked, now)
        return answer


def _barred(request: Request, answer: Answer) -> bool:
    """Whether no copy is kept: where somebody says so. For want of a lifetime it is kept, to be asked about."""
    said = directives(request.fields).keys() | directives(answer.fields).keys()
    return request.method != "GET" or answer.status in _NEVER_KEPT or "no-store" in said


def _stored(answer: Answer, request: Request, asked: int, now: int) -> Stored:
    return Stored(answer, asked, now, vary_of(request.fields, answer.fields), _assumed(answer))
