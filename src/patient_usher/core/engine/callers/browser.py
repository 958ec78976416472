"""The browser's side of a call, by the Fetch standard: main fetch, redirects, preflights, the verdict.

Out of scope: CSP, CORP, workers, navigation.
"""

from __future__ import annotations

from collections.abc import Generator

from patient_usher.core.engine.callers.blame import blame
from patient_usher.core.engine.callers.script import Conversation, Outgoing
from patient_usher.core.engine.callers.sites import registrable, site
from patient_usher.core.engine.world import World
from patient_usher.core.http import cors
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
from patient_usher.core.http.cookies import Jar
from patient_usher.core.http.dates import MICROSECONDS
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer, Request
from patient_usher.core.http.redirects import LIMIT, STATUSES, redirected, target
from patient_usher.core.http.urls import Url, parse_url
from patient_usher.core.model.exchange import Exchange, Verdict
from patient_usher.core.model.trace import CallerSpec, RequestSpec

_LOCAL = ("localhost", "127.0.0.1", "::1")


_TAKES_STALE = ("force-cache", "only-if-cached")
"""Cache modes in which any copy will do."""


class Fetch:
    """One call of a page: how it was asked for, and how far it has got."""

    def __init__(self, origin: str, spec: RequestSpec, request: Request) -> None:
        self.origin = origin
        self.mode = spec.mode or "cors"
        self.credentials = spec.credentials or "same-origin"
        self.redirect = spec.redirect or "follow"
        self.cache = spec.cache or "default"
        self.method = cors.normalise_method(request.method)
        self.fields = Fields()
        self.body = request.body
        self.urls = [request.url]
        self.peer = request.peer
        self.hops = 0

    @property
    def url(self) -> Url:
        """The current URL (2.2.5)."""
        return self.urls[-1]

    @property
    def crosses(self) -> bool:
        """Whether the answer is tainted: not of the page's own origin all the way (2.2.5, 4.1)."""
        return any(url.origin != self.origin for url in self.urls)

    @property
    def includes(self) -> bool:
        """Whether credentials go along even across origins."""
        return self.credentials == "include"

    @property
    def sent_origin(self) -> str:
        """Serializing a request origin: null once a redirect has left a foreign origin (2.2.5)."""
        last = None
        for url in self.urls:
            if last is not None and url.origin != last.origin and self.origin != last.origin:
                return "null"
            last = url
        return self.origin


class Browser:
    """One browser of a trace: its cookies, preflight cache, private cache and known TLS-only hosts."""

    talks = True

    def __init__(self, name: str, spec: CallerSpec) -> None:
        self.name = name
        self.spec = spec
        self.origin = spec.origin or ""
        self._own = parse_url(self.origin) if "://" in self.origin else None
        self.jar = Jar(registrable)
        self.preflights = cors.PreflightCache()
        self._kept: dict[str, list[Stored]] = {}
        self._tls_only: dict[str, tuple[int, bool]] = {}

    def conversation(self, request: Request, now: int, world: World, spec: RequestSpec) -> Conversation:
        """Fetch: 4.1 main fetch to 4.4 HTTP-redirect fetch, as one loop."""
        fetch = Fetch(self.origin, spec, request)
        for name, value in request.fields:
            lower = name.lower()
            if lower not in ("host", "content-length") and not cors.is_forbidden_request_field(lower, value):
                fetch.fields.add(name, value.strip(" \t\r\n"))  # 2.2.2, normalize a byte sequence
        why = _cant_start(fetch)
        if fetch.mode == "no-cors":
            fetch.fields = cors.no_cors_fields(fetch.fields)
        suffix, asked = "", now
        while True:
            self._upgrade(fetch, now)
            why = why or _cant_go(fetch)
            if why:
                yield from self._unsent(fetch, suffix, why, world)
                return
            if fetch.mode == "cors" and fetch.crosses:
                failed = yield from self._preflight(fetch, suffix, now, world)
                if isinstance(failed, str):
                    return
                now = failed
            kind, request = "redirect" if suffix else "call", self._request(fetch, now)
            kept, validating = self._own_copy(fetch, request, now)
            if kept is not None and not validating:
                copy = kept.answer.copy()
                if fetch.method == "HEAD":
                    copy.body = b""
                x = yield Outgoing(kind, suffix, request, sends=False, kept=copy)
            elif fetch.cache == "only-if-cached":
                yield from self._unsent(fetch, suffix, "nothing-cached", world)
                return
            else:
                asked = now
                x = yield Outgoing(kind, suffix, request)
                now = x.finished
            answer = x.answer
            if answer is None:
                self._judge(x, "blocked", "no-answer", world)
                return
            if x.outcome != "from-caller-cache":
                self._receive(fetch, answer.fields, now)
                answer = self._keep(fetch, request, answer, kept, asked, now)
            if fetch.mode == "cors" and fetch.crosses:
                checked = cors.cors_check(answer.fields, fetch.sent_origin, credentials=fetch.includes)
                if checked.why:
                    self._judge(x, "blocked", checked.why, world, checked.what)
                    return
            if answer.status not in STATUSES or "location" not in answer.fields:
                self._finish(fetch, x, answer)
                return
            if fetch.redirect == "manual":
                x.browser = Verdict("opaque", "redirect-not-followed", "the page asked not to follow redirects")
                return
            why = "redirect-refused" if fetch.redirect == "error" else self._follow(fetch, x, answer.status)
            if why:
                if why == "redirect-limit":
                    x.outcome = "redirect-loop"
                self._judge(x, "blocked", why, world)
                return
            suffix = f"/redirect[{fetch.hops}]"

    # Before the call.

    def _preflight(self, fetch: Fetch, suffix: str, now: int, world: World) -> Generator[Outgoing, Exchange, int | str]:
        """4.8, where one is needed and none is remembered. Returns the time, or what blocked the call."""
        names = cors.unsafe_names(fetch.fields)
        if fetch.method in cors.SAFELISTED_METHODS and not names:
            return now
        origin, url, includes = fetch.sent_origin, fetch.url.text, fetch.includes
        if self.preflights.allows(origin, url, fetch.method, names, now, credentials=includes):
            return now
        fields = Fields([("Host", fetch.url.authority), ("Accept", "*/*"), ("Origin", origin)])
        fields.put("Access-Control-Request-Method", fetch.method)
        if names:
            fields.put("Access-Control-Request-Headers", ",".join(names))
        x = yield Outgoing("preflight", f"{suffix}/preflight", Request("OPTIONS", fetch.url, fields, b"", fetch.peer))
        if x.answer is None:
            why, what = "no-answer", ""
        else:
            granted = cors.preflight_check(
                x.answer.status, x.answer.fields, origin, fetch.method, names, credentials=includes
            )
            if isinstance(granted, cors.Grant):
                self.preflights.remember(origin, url, granted, x.finished, credentials=includes)
                return x.finished
            why, what = granted
        yield from self._unsent(fetch, suffix, why, world, what, x)
        return why

    def _unsent(
        self, fetch: Fetch, suffix: str, why: str, world: World, what: str = "", preflight: Exchange | None = None
    ) -> Generator[Outgoing, Exchange, None]:
        request = Request(fetch.method, fetch.url, fetch.fields.copy(), fetch.body, fetch.peer)
        x = yield Outgoing("redirect" if suffix else "call", suffix, request, sends=False)
        code, reason = blame(world.blueprint, self.origin, why, what, preflight or x, fetch.method)
        x.browser = Verdict("blocked", code, reason)

    def _request(self, fetch: Fetch, now: int) -> Request:
        fields = Fields([("Host", fetch.url.authority)])
        if "accept" not in fetch.fields:
            fields.put("Accept", "*/*")
        # What every browser adds by itself (Fetch 4.6; Fetch Metadata 2, to trustworthy URLs only).
        fields.put("Accept-Encoding", "gzip, deflate, br, zstd" if fetch.url.scheme == "https" else "gzip, deflate")
        if fetch.url.scheme == "https" or fetch.url.host in _LOCAL:
            fields.put("Sec-Fetch-Site", self._fetch_site(fetch))
            fields.put("Sec-Fetch-Mode", fetch.mode)
            fields.put("Sec-Fetch-Dest", "empty")
        fields.update(fetch.fields)
        foreign = fetch.mode == "cors" and fetch.crosses
        if foreign or fetch.method not in ("GET", "HEAD"):  # 2.2.5, append a request Origin header
            fields.put("Origin", fetch.sent_origin)
        if fetch.includes or (fetch.credentials == "same-origin" and not fetch.crosses):
            cookies = self.jar.header(fetch.url, now, same_site=self._same_site(fetch.url))
            if cookies is not None:
                fields.put("Cookie", cookies)
        if fetch.body:
            fields.put("Content-Length", str(len(fetch.body)))
        return Request(fetch.method, fetch.url, fields, fetch.body, fetch.peer)

    def _fetch_site(self, fetch: Fetch) -> str:
        """Sec-Fetch-Site: the farthest that any URL on the way was (Fetch Metadata 2.3)."""
        if not fetch.crosses:
            return "same-origin"
        return "same-site" if all(self._same_site(url) for url in fetch.urls) else "cross-site"

    def _same_site(self, url: Url) -> bool:
        own = self._own
        return own is not None and own.scheme == url.scheme and site(own.host) == site(url.host)

    def _upgrade(self, fetch: Fetch, now: int) -> None:
        """RFC 6797 8.3: plain URLs of known hosts become secure ones before anything is sent."""
        url = fetch.url
        if url.scheme != "http":
            return
        labels = url.host.split(".")
        for at in range(len(labels)):
            ends, below = self._tls_only.get(".".join(labels[at:]), (0, False))
            if ends > now and (at == 0 or below):
                fetch.urls[-1] = Url("https", url.host, 443 if url.port == 80 else url.port, url.path, url.query)
                return

    # After the answer.

    def _receive(self, fetch: Fetch, fields: Fields, now: int) -> None:
        if fetch.includes or (fetch.credentials == "same-origin" and not fetch.crosses):
            same_site = self._same_site(fetch.url)
            self.jar.store(fields.values("set-cookie"), fetch.url, now, same_site=same_site)
        policy = fields.get("strict-transport-security")
        if policy is not None and fetch.url.scheme == "https":  # RFC 6797 8.1
            parts = [part.strip().lower() for part in policy.split(";")]
            age = next((part[8:].strip('"') for part in parts if part.startswith("max-age=")), "")
            if age.isdecimal():
                self._tls_only[fetch.url.host] = (now + int(age) * MICROSECONDS, "includesubdomains" in parts)

    def _follow(self, fetch: Fetch, x: Exchange, status: int) -> str:
        """4.4, HTTP-redirect fetch. Returns what forbids it, or nothing."""
        assert x.answer is not None
        url = target(fetch.url, x.answer)
        if url is None:
            return "redirect-nowhere"
        fetch.hops += 1
        if fetch.hops > LIMIT:
            return "redirect-limit"
        following = redirected(Request(fetch.method, fetch.url, fetch.fields, fetch.body, fetch.peer), status, url)
        fetch.method, fetch.fields, fetch.body = following.method, following.fields, following.body
        fetch.fields.drop("host")
        fetch.urls.append(url)
        return ""

    def _own_copy(self, fetch: Fetch, request: Request, now: int) -> tuple[Stored | None, bool]:
        """4.6, HTTP-network-or-cache fetch: the browser's own copy, and whether it must be validated.

        Puts the fields that ask for validation, or for a reload, onto the request.
        """
        if fetch.cache == "reload":
            request.fields.put("Cache-Control", "no-cache")
            request.fields.put("Pragma", "no-cache")
        if fetch.cache in ("reload", "no-store") or request.method not in ("GET", "HEAD"):
            return None, False
        if any(name in fetch.fields for name in CONDITIONS):
            return None, False  # the page asks for itself
        variants = self._kept.get(fetch.url.text, [])
        stored = next((one for one in reversed(variants) if varies_alike(one, request.fields)), None)
        if stored is None:
            return None, False
        use = may_use(stored, request.fields, now, shared=False, heuristic=True)
        if fetch.cache in _TAKES_STALE or (use.how == "fresh" and fetch.cache != "no-cache"):
            return stored, False
        if fetch.cache == "no-cache":
            request.fields.put("Cache-Control", "max-age=0")
        for name, value in validators(stored):
            request.fields.put(name, value)
        return stored, True

    def _keep(
        self, fetch: Fetch, request: Request, answer: Answer, kept: Stored | None, asked: int, now: int
    ) -> Answer:
        """Store, merge or drop, as a private cache does (RFC 9111 3, 4.3.4, 4.4). Returns what the page gets."""
        url = fetch.url.text
        if invalidates(request.method, answer.status):
            self._kept.pop(url, None)
        if kept is not None and answer.status == 304:
            fresh = freshened(kept, answer.fields, asked, now)
            # Another call may have dropped or replaced the copy while this one was under way.
            others = [one for one in self._kept.get(url, []) if one is not kept and one.vary != fresh.vary]
            self._kept[url] = [*others, fresh]
            return fresh.answer.copy()
        method, status = request.method, answer.status
        if fetch.cache != "no-store" and not bars_storing(method, status, request.fields, answer.fields, shared=False):
            stored = Stored(answer.copy(), asked, now, vary_of(request.fields, answer.fields))
            others = [one for one in self._kept.get(url, []) if one.vary != stored.vary]
            self._kept[url] = [*others, stored]
        return answer

    def _finish(self, fetch: Fetch, x: Exchange, answer: Answer) -> None:
        fields = answer.fields
        if not fetch.crosses:
            names = sorted(name for name in fields.names() if name not in cors.FORBIDDEN_RESPONSE_FIELDS)
            x.browser = Verdict("readable", None, None, tuple(names))
        elif fetch.mode == "no-cors":
            x.browser = Verdict("opaque", "no-cors", "in mode no-cors a page sees nothing of the answer")
        else:
            x.browser = Verdict("readable", None, None, tuple(cors.readable_names(fields, credentials=fetch.includes)))

    def _judge(self, x: Exchange, verdict: str, why: str, world: World, what: str = "") -> None:
        code, reason = blame(world.blueprint, self.origin, why, what, x, x.sent.method)
        x.browser = Verdict(verdict, code, reason)


def _cant_start(fetch: Fetch) -> str:
    """What fetch() itself refuses (5.4, the Request constructor)."""
    if fetch.method.upper() in cors.FORBIDDEN_METHODS:
        return "forbidden-method"
    if fetch.method in ("GET", "HEAD") and fetch.body:
        return "body-not-allowed"
    if fetch.mode == "no-cors" and fetch.method not in cors.SAFELISTED_METHODS:
        return "no-cors-method"
    return ""


def _cant_go(fetch: Fetch) -> str:
    """What main fetch refuses at each hop (4.1)."""
    if fetch.origin.startswith("https://") and fetch.url.scheme == "http" and fetch.url.host not in _LOCAL:
        return "mixed-content"
    if fetch.mode == "same-origin" and fetch.crosses:
        return "mode-same-origin"
    if fetch.mode == "no-cors" and fetch.crosses and fetch.redirect != "follow":
        return "no-cors-redirect"
    return ""
