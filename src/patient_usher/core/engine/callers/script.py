"""Callers: what a script does around its requests, as a conversation.

A conversation is a generator: it yields what is to be sent, is sent the finished exchange, and
ends when the caller is content. A caller that only sends needs none.
"""

from __future__ import annotations

from collections.abc import Generator
from typing import TYPE_CHECKING, NamedTuple

from patient_usher.core.engine.callers.service import Service
from patient_usher.core.http.messages import Answer, Request
from patient_usher.core.http.redirects import LIMIT, redirected, target
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.trace import CallerSpec, RequestSpec

if TYPE_CHECKING:
    from patient_usher.core.http.cookies import Jar


class Outgoing(NamedTuple):
    """One request: what it is, its id behind that of the send, and whether it goes out at all."""

    kind: str
    suffix: str
    request: Request
    sends: bool = True
    kept: Answer | None = None
    """The caller's own copy, where it needs no other."""
    meanwhile: bool = False
    """Sent when the caller has its answer already."""


Conversation = Generator[Outgoing, Exchange, None]


class Caller:
    """One caller of a trace, and what it remembers."""

    def __init__(self, name: str, spec: CallerSpec) -> None:
        self.name = name
        self.spec = spec
        self.jar: Jar | None = None
        if spec.cookies == "keep":
            from patient_usher.core.engine.callers.public_suffix import registrable
            from patient_usher.core.http.cookies import Jar

            self.jar = Jar(registrable)
        self.talks = self.jar is not None or spec.redirects == "follow"

    def conversation(self, request: Request, now: int, service: Service, spec: RequestSpec) -> Conversation:
        """Send, keep cookies, follow redirects."""
        seen: set[tuple[str, str, str | None]] = set()
        kind, suffix, hops = "call", "", 0
        while True:
            # What the jar adds is worked out anew for every URL; only what was written travels on.
            sent = request if self.jar is None else self._with_cookies(request, now)
            seen.add((sent.method, sent.url.text, sent.fields.get("cookie")))
            x = yield Outgoing(kind, suffix, sent)
            now, answer = x.finished, x.answer
            if answer is None:
                return
            if self.jar is not None:
                x.cookies_told = self.jar.store(answer.fields.values("set-cookie"), request.url, now)
            url = target(request.url, answer) if self.spec.redirects == "follow" else None
            if url is None:
                return
            hops += 1
            request = redirected(request, answer.status, url)
            cookie = self.jar.header(url, now) if self.jar is not None else request.fields.get("cookie")
            if hops > LIMIT or (request.method, url.text, cookie) in seen:
                x.outcome = "redirect-loop"
                return
            kind, suffix = "redirect", f"/redirect[{hops}]"

    def _with_cookies(self, request: Request, now: int) -> Request:
        assert self.jar is not None
        header = self.jar.header(request.url, now)
        if header is None:
            return request
        fields = request.fields.copy()
        written = fields.get("cookie")
        fields.put("Cookie", header if written is None else f"{written}; {header}")
        return request.with_fields(fields)
