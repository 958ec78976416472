"""The browser's side of a call, by the Fetch standard: main fetch, preflights, navigation, the verdict.

Out of scope: CSP, CORP, workers.
"""

from __future__ import annotations

from collections.abc import Generator

from patient_usher.core.engine.callers.browser_cache import Copy, PrivateCache
from patient_usher.core.engine.callers.fetch import Fetch
from patient_usher.core.engine.callers.public_suffix import registrable, site
from patient_usher.core.engine.callers.script import Conversation, Outgoing
from patient_usher.core.engine.callers.service import Service
from patient_usher.core.http import cors
from patient_usher.core.http.cookies import Cookie, Jar, cookie_header, cookie_name, not_taken
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer, Request
from patient_usher.core.http.transport_security import policy
from patient_usher.core.http.urls import Url, is_address, loopback, parse_url
from patient_usher.core.model.exchange import Exchange, Verdict
from patient_usher.core.model.trace import CallerSpec, RequestSpec


class Browser:
    """One browser of a trace: its cookies, preflight cache, private cache and known TLS-only hosts."""

    talks = True

    def __init__(self, name: str, spec: CallerSpec) -> None:
        self.name = name
        self.spec = spec
        self.origin = spec.origin or ""
        self.jar = Jar(registrable, unmarked="lax" if spec.unmarked_cookies == "lax" else "none")
        self.preflights = cors.PreflightCache()
        self.copies = PrivateCache()
        self._tls_only: dict[str, tuple[int, bool]] = {}

    def conversation(self, request: Request, now: int, service: Service, spec: RequestSpec) -> Conversation:
        """Fetch: 4.1 main fetch to 4.4 HTTP-redirect fetch, as one loop."""
        fetch = Fetch(self.origin, spec, request)
        why = fetch.cant_start()
        if fetch.mode == "no-cors":
            fetch.fields = cors.no_cors_fields(fetch.fields)
        stale = yield from self._call(fetch, now, service, why)
        if stale is not None:  # 4.6: the page has its answer, and a fresh copy is fetched
            asking, copy = stale
            x = yield Outgoing("call", "/revalidation", asking, meanwhile=True)
            if x.answer is not None:
                x.cookies_told = self._receive(fetch, x.answer.fields, x.finished)
                self.copies.keep(fetch, asking, x.answer, copy, x.at, x.finished)

    def _call(
        self, fetch: Fetch, now: int, service: Service, why: str
    ) -> Generator[Outgoing, Exchange, tuple[Request, Copy] | None]:
        """Up to what the page gets. Returns a copy that is to be made fresh now, and what asks for that.

        That is one that was stale, of what the page itself asked for and now has: browsers do no more.
        """
        stale = None
        suffix, asked = "", now
        while True:
            why = why or ("mixed-content" if fetch.is_mixed() else "")
            if not why:  # 4.1: what is mixed is blocked before anything is upgraded
                self._upgrade(fetch, now)
                why = fetch.cant_go()
            if why:
                yield from self._unsent(fetch, suffix, why, service)
                return None
            if fetch.checked:
                failed = yield from self._preflight(fetch, suffix, now, service)
                if isinstance(failed, str):
                    return None
                now = failed
            kind, (request, left) = "redirect" if suffix else "call", self._request(fetch, now)
            copy = self.copies.copy_for(fetch, request, now)
            if copy is not None and not copy.validate:
                x = yield Outgoing(kind, suffix, request, sends=False, kept=copy.answer(fetch.method))
                if copy.meanwhile and not fetch.hops:
                    stale = request, copy
            elif fetch.cache == "only-if-cached":
                yield from self._unsent(fetch, suffix, "nothing-cached", service)
                return None
            else:
                asked = now
                x = yield Outgoing(kind, suffix, request)
                now, x.cookies_told = x.finished, left
            answer = x.answer
            if answer is None:
                self._block(fetch, x, "no-answer", service)
                return None
            if x.outcome != "from-caller-cache":
                x.cookies_told += self._receive(fetch, answer.fields, now)
                answer = self.copies.keep(fetch, request, answer, copy, asked, now)
            if fetch.checked:
                checked = cors.cors_check(answer.fields, fetch.sent_origin, credentials=fetch.includes)
                if checked.why:
                    came = answer is x.answer and x.outcome != "from-caller-cache"
                    if came and not fetch.redirects(answer.status, answer.fields):  # nobody reads on behind a redirect
                        self.copies.drop(fetch, request)
                    self._block(fetch, x, checked.why, service, checked.what)
                    return None
            if not fetch.redirects(answer.status, answer.fields):
                self._finish(fetch, x, answer)
                return stale
            if fetch.redirect == "manual":
                x.browser = Verdict("opaque", "redirect-not-followed", "the page asked not to follow redirects")
            else:
                why = "redirect-refused" if fetch.redirect == "error" else fetch.follow(x)
                if not why:
                    suffix = f"/redirect[{fetch.hops}]"
                    continue
                if why == "redirect-limit":
                    x.outcome = "redirect-loop"
                self._block(fetch, x, why, service)
            return None

    # Before the call.

    def _preflight(
        self, fetch: Fetch, suffix: str, now: int, service: Service
    ) -> Generator[Outgoing, Exchange, int | str]:
        """4.8, where one is needed and none is remembered. Returns the time, or what blocked the call."""
        if not fetch.needs_preflight:
            return now
        names = cors.unsafe_names(fetch.fields)
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
        self.preflights.forget(origin, url)  # also of a preflight that failed (4.1, main fetch)
        yield from self._unsent(fetch, suffix, why, service, what, x)
        return why

    def _unsent(
        self, fetch: Fetch, suffix: str, why: str, service: Service, what: str = "", preflight: Exchange | None = None
    ) -> Generator[Outgoing, Exchange, None]:
        request = Request(fetch.method, fetch.url, fetch.fields.copy(), fetch.body, fetch.peer)
        x = yield Outgoing("redirect" if suffix else "call", suffix, request, sends=False)
        code, reason = service.blocked(fetch.origin, why, what, preflight or x, fetch.method)
        x.browser = Verdict("blocked", code, reason)

    def _request(self, fetch: Fetch, now: int) -> tuple[Request, tuple[str, ...]]:
        """What this hop sends, and which cookies it leaves behind, in sentences."""
        fields = fetch.own_fields(_fetch_site(fetch))
        cookies, left = self._cookies(fetch, now)
        if cookies is not None:
            fields.put("Cookie", cookies)
        if fetch.body:
            fields.put("Content-Length", str(len(fetch.body)))
        return Request(fetch.method, fetch.url, fields, fetch.body, fetch.peer), left

    def _cookies(self, fetch: Fetch, now: int) -> tuple[str | None, tuple[str, ...]]:
        """The Cookie field of this hop; what stays behind, and why."""
        if not self.jar:
            return None, ()
        same, safe = _same_site(fetch.origin, fetch.url), fetch.navigates and fetch.method in ("GET", "HEAD")
        barred = self._bars_cookies(fetch, same_site=same)
        going = self.jar.going(fetch.url, now, same_site=same, safe_navigation=safe)
        if barred:
            return None, _left(barred, [cookie.name for cookie in going])
        kept = [] if same else self.jar.held_back(fetch.url, now, safe_navigation=safe)
        names = [f"{cookie.name} ({_marked(cookie)})" for cookie in kept]
        return cookie_header(going), _left("the page is of another site", names)

    def _bars_cookies(self, fetch: Fetch, *, same_site: bool) -> str:
        """Why no cookies are sent or taken on this hop, or nothing."""
        if not fetch.has_credentials:
            return f"credentials are {fetch.credentials}"
        foreign = not (same_site or fetch.navigates)
        return "third-party cookies are blocked" if foreign and self.spec.third_party_cookies == "blocked" else ""

    def _upgrade(self, fetch: Fetch, now: int) -> None:
        """RFC 6797 8.3: plain URLs of known hosts become secure ones before anything is sent."""
        url = fetch.url
        if url.scheme != "http" or is_address(url.host):
            return
        labels = url.host.split(".")
        for at in range(len(labels)):
            ends, below = self._tls_only.get(".".join(labels[at:]), (0, False))
            if ends > now and (at == 0 or below):
                fetch.urls[-1] = Url("https", url.host, 443 if url.port == 80 else url.port, url.path, url.query)
                return

    # After the answer.

    def _receive(self, fetch: Fetch, fields: Fields, now: int) -> tuple[str, ...]:
        """Keep what an answer leaves with the browser. Returns which cookies it doesn't take, in sentences."""
        policies = fields.values("strict-transport-security")
        if policies and fetch.url.scheme == "https" and not (is_address(fetch.url.host) or loopback(fetch.url.host)):
            given = policy(policies[0])  # 8.1: of several fields the first
            if given is not None:
                self._tls_only[fetch.url.host] = (now + given[0], given[1])
        set_cookies = fields.values("set-cookie")
        if not set_cookies:
            return ()
        same = _same_site(fetch.origin, fetch.url)
        if why := self._bars_cookies(fetch, same_site=same):
            return not_taken((cookie_name(value), why) for value in set_cookies)
        # A navigation takes any cookie (6265bis 5.7 step 19).
        return self.jar.store(set_cookies, fetch.url, now, same_site=same or fetch.navigates)

    def _finish(self, fetch: Fetch, x: Exchange, answer: Answer) -> None:
        fields = answer.fields
        got = None if answer is x.answer or (fetch.crosses and fetch.mode == "no-cors") else answer
        if not fetch.crosses:
            names = sorted(name for name in fields.names() if name not in cors.FORBIDDEN_RESPONSE_FIELDS)
            x.browser = Verdict("readable", None, None, tuple(names), got)
        elif fetch.navigates:
            text = "the browser shows the answer; no page sees it"
            x.browser = Verdict("opaque", "navigated", text, got=got)
        elif fetch.mode == "no-cors":
            text = "in mode no-cors a page sees nothing of the answer"
            x.browser = Verdict("opaque", "no-cors", text)
        else:
            names = cors.readable_names(fields, credentials=fetch.includes)
            x.browser = Verdict("readable", None, None, tuple(names), got)

    def _block(self, fetch: Fetch, x: Exchange, why: str, service: Service, what: str = "") -> None:
        """The page gets a network error; what a preflight had granted is forgotten (4.1, main fetch)."""
        if fetch.checked and fetch.needs_preflight:
            self.preflights.forget(fetch.sent_origin, fetch.url.text)
        code, reason = service.blocked(fetch.origin, why, what, x, x.sent.method)
        x.browser = Verdict("blocked", code, reason)


def _marked(cookie: Cookie) -> str:
    return f"SameSite={cookie.same_site.capitalize()}" if cookie.same_site else "no SameSite, so Lax"


def _left(why: str, names: list[str]) -> tuple[str, ...]:
    return (f"{why}, so {' and '.join(names)} stayed behind",) if names else ()


def _fetch_site(fetch: Fetch) -> str:
    """Sec-Fetch-Site: the farthest that any URL on the way was (Fetch Metadata 2.3)."""
    if fetch.origin == "none":
        return "none"
    if not fetch.crosses:
        return "same-origin"
    return "same-site" if all(_same_site(fetch.origin, url) for url in fetch.urls) else "cross-site"


def _same_site(origin: str, url: Url) -> bool:
    """Whether a page of this origin is of the URL's site; what the person typed themselves is of any."""
    if origin == "none":
        return True
    own = parse_url(origin)
    return own.scheme == url.scheme and site(own.host) == site(url.host)
