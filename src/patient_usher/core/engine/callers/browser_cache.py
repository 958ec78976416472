"""A browser's private cache (RFC 9111; Fetch 4.6, HTTP-network-or-cache fetch)."""

from __future__ import annotations

from typing import NamedTuple

from patient_usher.core.engine.callers.fetch import Fetch
from patient_usher.core.http.caching import (
    Stored,
    bars_storing,
    freshened,
    invalidates,
    may_use,
    validators,
    varies_alike,
    vary_of,
)
from patient_usher.core.http.conditional import CONDITIONS
from patient_usher.core.http.messages import Answer, Request

_TAKES_STALE = ("force-cache", "only-if-cached")
"""Cache modes in which any copy will do."""
_ANEW = (("Pragma", "no-cache"), ("Cache-Control", "no-cache"))
_SENT = {"no-store": _ANEW, "reload": _ANEW, "no-cache": (("Cache-Control", "max-age=0"),)}
"""What goes along by cache mode, where the page hasn't said it itself (Fetch 4.6).

A page that asks for a condition of its own is sent to validate, as browsers do it.
"""


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
        if not varies_alike(stored, request.fields):  # another variant: only its tag can tell whether it is the same
            tag = stored.answer.fields.get("etag")
            if tag is None:
                return None
            request.fields.put("If-None-Match", tag)
            return Copy(stored, validate=True)
        use = may_use(stored, request.fields, now, shared=False, heuristic=True)
        if fetch.cache in _TAKES_STALE or (use.how == "fresh" and fetch.cache != "no-cache"):
            return Copy(stored, validate=False)
        meanwhile = use.why == "stale-while-revalidate" and fetch.cache == "default" and request.method == "GET"
        for name, value in validators(stored):
            request.fields.put(name, value)
        return Copy(stored, validate=not meanwhile, meanwhile=meanwhile)

    def drop(self, request: Request) -> None:
        """Keep no copy of what the page may not read: browsers end the transfer, and what isn't whole isn't kept."""
        self._kept.pop(request.url.text, None)

    def keep(self, fetch: Fetch, request: Request, answer: Answer, copy: Copy | None, asked: int, now: int) -> Answer:
        """Store, merge or drop (RFC 9111 3, 4.3.4, 4.4). Returns what the page gets."""
        url = request.url.text
        if invalidates(request.method, answer.status):
            self._kept.pop(url, None)
        if copy is not None and answer.status == 304:
            fresh = freshened(copy.stored, answer.fields, asked, now)
            self._kept[url] = Stored(fresh.answer, asked, now, vary_of(request.fields, fresh.answer.fields))
            return fresh.answer.copy()
        method, status = request.method, answer.status
        if fetch.cache != "no-store" and not bars_storing(method, status, request.fields, answer.fields, shared=False):
            self._kept[url] = Stored(answer.copy(), asked, now, vary_of(request.fields, answer.fields))
        return answer
