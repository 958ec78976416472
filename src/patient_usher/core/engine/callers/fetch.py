"""One call of a page, by the Fetch standard: how it was asked for, how far it has got, what it may do."""

from __future__ import annotations

from patient_usher.core.engine.callers.url_standard import located, normalised
from patient_usher.core.http import cors
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Request
from patient_usher.core.http.redirects import LIMIT, STATUSES, redirected
from patient_usher.core.http.urls import Url, trustworthy
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.trace import RequestSpec

_DOCUMENT = "text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8"
"""The Accept field of a navigation (Fetch 4.1 step 12)."""


class Fetch:
    """One call of a page, or its navigation elsewhere."""

    def __init__(self, origin: str, spec: RequestSpec, request: Request) -> None:
        self.origin = origin if spec.origin is None else spec.origin
        self.mode = spec.mode or "cors"
        self.navigates = self.mode == "navigate"
        self.credentials = "include" if self.navigates else spec.credentials or "same-origin"
        self.redirect = spec.redirect or "follow"
        self.cache = spec.cache or "default"
        self.method = self.first_method = cors.normalise_method(request.method)
        self.fields = Fields()
        self.body = request.body
        url = normalised(request.url)
        self.urls = [url or request.url]
        self.goes_nowhere = url is None
        self.peer = request.peer
        self.hops = 0
        self.tells_page = self._may_tell(self.url)
        """Whether Referer goes along: not behind a hop to which it didn't (Fetch 4.1 step 8)."""
        for name, value in request.fields:
            lower = name.lower()
            if self.navigates and lower != "content-type":
                continue  # links and forms set none
            if lower not in ("host", "content-length") and not cors.is_forbidden_request_field(lower, value):
                self.fields.add(name, value.strip(" \t\r\n"))  # 2.2.2, normalize a byte sequence

    @property
    def url(self) -> Url:
        """The current URL (2.2.5)."""
        return self.urls[-1]

    @property
    def crosses(self) -> bool:
        """Whether the answer is tainted: not of the page's own origin all the way (2.2.5, 4.1)."""
        return any(url.origin != self.origin for url in self.urls)

    @property
    def checked(self) -> bool:
        """Whether the CORS protocol decides about this call."""
        return self.mode == "cors" and self.crosses

    @property
    def needs_preflight(self) -> bool:
        """Whether the service is asked first (4.1 step 12): for its method, or for fields of the page's own."""
        return self.method not in cors.SAFELISTED_METHODS or bool(cors.unsafe_names(self.fields))

    @property
    def includes(self) -> bool:
        """Whether credentials go along even across origins."""
        return self.credentials == "include"

    @property
    def has_credentials(self) -> bool:
        """Whether cookies are sent and taken on this hop."""
        return self.includes or (self.credentials == "same-origin" and not self.crosses)

    @property
    def sent_origin(self) -> str:
        """Serializing a request origin (2.2.5), and what goes along to plain URLs (append a request Origin header).

        Null once a redirect has left a foreign origin; and, without CORS, from a page of https to plain http.
        """
        if self.origin == "none":
            return "null"
        last = None
        for url in self.urls:
            if last is not None and url.origin != last.origin and self.origin != last.origin:
                return "null"
            last = url
        if self.mode != "cors" and self.origin.startswith("https:") and self.url.scheme == "http":
            return "null"
        return self.origin

    def own_fields(self, site: str) -> Fields:
        """The fields of a request, with those that every browser adds by itself (4.6; Fetch Metadata 2).

        ``site`` says how far away the URLs are; that is told to trustworthy URLs only.
        """
        fields = Fields([("Host", self.url.authority)])
        if "accept" not in self.fields:
            fields.put("Accept", _DOCUMENT if self.navigates else "*/*")
        trusted = trustworthy(self.url)
        codings = "gzip, deflate, br, zstd" if trusted else "gzip, deflate"
        fields.put("Accept-Encoding", "identity" if "range" in self.fields else codings)
        if trusted:
            fields.put("Sec-Fetch-Site", site)
            fields.put("Sec-Fetch-Mode", self.mode)
            fields.put("Sec-Fetch-Dest", "document" if self.navigates else "empty")
            if self.navigates:
                fields.put("Sec-Fetch-User", "?1")
        if self.navigates:
            fields.put("Upgrade-Insecure-Requests", "1")
        if self.tells_page:
            fields.put("Referer", f"{self.origin}/")
        fields.update(self.fields)
        if self.checked or self.method not in ("GET", "HEAD"):
            fields.put("Origin", self.sent_origin)
        return fields

    def cant_start(self) -> str:
        """What fetch() itself refuses (5.4, the Request constructor), or nothing."""
        if self.goes_nowhere:
            return "no-url"
        if self.method.upper() in cors.FORBIDDEN_METHODS:
            return "forbidden-method"
        if self.method in ("GET", "HEAD") and self.body:
            return "body-not-allowed"
        if self.mode == "no-cors" and self.method not in cors.SAFELISTED_METHODS:
            return "no-cors-method"
        if self.navigates and self.method not in ("GET", "POST"):
            return "navigate-method"
        return ""

    def is_mixed(self) -> bool:
        """Whether a page of https would call plain HTTP, by the URL as it was written (Mixed Content 4.4)."""
        secure_page = self.origin.startswith("https://")
        return secure_page and not self.navigates and not trustworthy(self.url)

    def cant_go(self) -> str:
        """What main fetch refuses at each hop (4.1), or nothing."""
        if self.mode == "same-origin" and self.crosses:
            return "mode-same-origin"
        if self.mode == "no-cors" and self.crosses and self.redirect != "follow":
            return "no-cors-redirect"
        return ""

    def redirects(self, status: int, fields: Fields) -> bool:
        """Whether an answer sends the call elsewhere."""
        return status in STATUSES and "location" in fields

    def follow(self, x: Exchange) -> str:
        """4.4, HTTP-redirect fetch. Returns what forbids it, or nothing."""
        assert x.answer is not None
        locations = {*x.answer.fields.values("location")}
        url, holds_credentials = located(self.url, min(locations))
        if url is None or len(locations) > 1:  # 4.4 step 2: several lead nowhere
            return "redirect-nowhere"
        if holds_credentials and self.mode == "cors" and (self.crosses or url.origin != self.origin):  # steps 7, 8
            return "redirect-nowhere"
        self.hops += 1
        if self.hops > LIMIT:
            return "redirect-limit"
        asked = Request(self.method, self.url, self.fields, self.body, self.peer)
        following = redirected(asked, x.answer.status, url)
        self.method, self.fields, self.body = following.method, following.fields, following.body
        self.fields.drop("host")
        self.urls.append(url)
        self.tells_page = self.tells_page and self._may_tell(url)
        return ""

    def _may_tell(self, url: Url) -> bool:
        """By the policy of pages that have none (Referrer Policy 8.3): from a secure page nothing is told in clear.

        That is by the URL as it was written, before HSTS makes it secure. A page stands at the root of its origin
        here, so the origin is all that there is to tell.
        """
        if self.origin in ("none", "null"):
            return False
        return trustworthy(url) or not self.origin.startswith("https:")  # of a page, browsers ask the scheme alone
