"""``cors``: answers preflights, and marks answers for pages of other origins (Fetch 3.2)."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Sequence
from typing import Annotated, ClassVar

from pydantic import Field, model_validator

from patient_usher.core.http.cors import HEADERS_OF, SAFELISTED_METHODS, matches_origin
from patient_usher.core.http.dates import MICROSECONDS
from patient_usher.core.http.fields import Fields, add_vary, list_items
from patient_usher.core.http.messages import Answer
from patient_usher.core.model import stage as base
from patient_usher.core.model.document import JsonMapping, JsonObject, Path
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.errors import Raised, refusal
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.routes import RouteSpec
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.text_types import Duration, Names, no_items, wrong

_ORIGIN = re.compile(r"\*|null|https?://(\*\.)?[^/*?#\s]+")
_PLAIN_AUTHORITY = re.compile(
    r"(?!.*xn--)([a-z0-9_-]+\.)*[a-z_-][a-z0-9_-]*(:(?!(?:80|443)$)[1-9][0-9]{0,3})?", re.ASCII
)
"""Hosts and ports that the URL standard leaves as they are."""


class Options(StageOptions):
    """Who may call from where, and what pages may send and read."""

    trade_names: ClassVar[tuple[str, ...]] = ("cross-origin", "preflight")
    written: ClassVar[Collection[str]] = (*(name.lower() for name in HEADERS_OF.values()), "vary")
    sentences: ClassVar[dict[str, str]] = {
        "allow-origins": 'Whose pages may read answers: exact origins, https://*.host, or "*".',
        "allow-methods": "Methods that preflights are granted.",
        "allow-headers": "Request fields that preflights are granted.",
        "reflect-headers": "Whether preflights are granted whatever fields they ask for.",
        "expose-headers": "Answer fields that pages may read beside the usual ones.",
        "allow-credentials": "Whether calls with cookies or credentials may be read.",
        "max-age": "How long browsers may remember a preflight.",
        "preflight-status": "The status of granted preflights.",
        "reject-unlisted": "Whether calls of other origins are refused with 403, not only left unmarked.",
    }

    allow_origins: Annotated[Names, Field(min_length=1)]
    allow_methods: Names = Field(default=["GET", "HEAD", "POST"])
    allow_headers: Names = Field(default_factory=no_items)
    reflect_headers: bool = False
    expose_headers: Names = Field(default_factory=no_items)
    allow_credentials: bool = False
    max_age: Duration | None = None
    preflight_status: Annotated[int, Field(ge=200, le=299)] = 204
    reject_unlisted: bool = False

    @model_validator(mode="after")
    def _fits(self) -> Options:
        for origin in self.allow_origins:
            if not _ORIGIN.fullmatch(origin):
                mend = 'write https://host, https://*.host or "*", with no path and no slash at the end'
                raise wrong(f"'{origin}' is no origin", mend)
            if (sent := _as_sent(origin)) != origin:
                raise wrong(f"no browser sends the origin '{origin}'", f"write {sent}" if sent else "name a host")
        return self

    def doubtful(self) -> Iterable[tuple[Path, str, str]]:
        """A classic mistake: browsers take the star literally where credentials go along."""
        if self.allow_credentials and "*" in [*self.allow_origins, *self.allow_methods, *self.allow_headers]:
            what = '"*" counts for nothing in calls with credentials: browsers take it literally'
            yield ("allow-credentials",), what, "list what is allowed"

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """Each origin that is listed, a foreign one and none; preflights for what is listed, and for what isn't."""
        return ["no origin", *map(_origin_branch, self.allow_origins), _FOREIGN, *_PREFLIGHTS]

    def classes(self, fact: str) -> Sequence[str | None] | None:
        """Each origin that is listed and one that isn't; what preflights ask for, listed or not."""
        if fact == "header.origin":
            origins = ("https://boaters.example" if one == "*" else one for one in self.allow_origins)
            listed = [origin.replace("*.", "made-up.") for origin in origins]
            return [None, *listed, "https://strangers.example", *["${own}"] * self.reject_unlisted]
        if fact == "header.access-control-request-method":
            return [None, *self.allow_methods, *SAFELISTED_METHODS, "UNLINK"]
        if fact == "header.access-control-request-headers":
            return [None, *[", ".join(self.allow_headers)] * bool(self.allow_headers), "x-made-up"]
        return ("${own}",) if fact in ("host", "scheme") and self.reject_unlisted else None

    def samples(self, route: RouteSpec) -> Iterable[JsonObject]:
        """Pages of each origin and of a foreign one; preflights for what is listed and for what isn't."""
        listed = ["https://boaters.example" if one == "*" else one.replace("*.", "www.") for one in self.allow_origins]
        for origin in (*listed, "https://strangers.example"):
            yield {"headers": {"Origin": origin}}
        methods = (*self.allow_methods, *SAFELISTED_METHODS)
        other = next((one for one in ("PUT", "PATCH", "DELETE", "LINK") if one not in methods), "UNLINK")
        for asked, names in ((methods[0], ""), (other, ""), (methods[0], "x-made-up")):
            preflight = {"Origin": listed[0], "Access-Control-Request-Method": asked}
            yield {
                "method": "OPTIONS",
                "headers": {**preflight, **({"Access-Control-Request-Headers": names} if names else {})},
            }

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """By what the request says of its origin, and what a preflight asks for."""
        fields = x.sent.fields
        origin = fields.get("origin")
        if way != "in" or origin is None:
            return ("no origin",) if way == "in" else ()
        found = [_origin_branch(one) for one in self.allow_origins if matches_origin(one, origin)][:1] or [_FOREIGN]
        if "preflight" in note:
            asked = str(note["preflight"])
            names = list_items(fields.get("access-control-request-headers") or "")
            listed = {name.lower() for name in self.allow_headers}
            if asked not in (*self.allow_methods, *SAFELISTED_METHODS) and "*" not in self.allow_methods:
                found.append(_PREFLIGHTS[1])
            elif "*" in listed or self.reflect_headers or all(name.lower() in listed for name in names):
                found.append(_PREFLIGHTS[0])
            else:
                found.append(_PREFLIGHTS[2])
        return found

    def pages_send(self) -> tuple[list[str], list[str]]:
        """What is listed."""
        return list(self.allow_methods), list(self.allow_headers)

    def pages_from(self) -> Collection[str]:
        """Those that are allowed."""
        return self.allow_origins


_FOREIGN = "origin not listed"
_PREFLIGHTS = ("preflight", "preflight for another method", "preflight for another header")


def _origin_branch(listed: str) -> str:
    return f"origin {listed}"


def _as_sent(origin: str) -> str:
    """An origin as browsers send it (RFC 6454 6.2; URL Standard 3.5), empty for none; one with a star likewise."""
    if origin in ("*", "null"):
        return origin
    scheme, _, authority = origin.partition("://")
    star = authority.startswith("*.")
    if _PLAIN_AUTHORITY.fullmatch(authority.removeprefix("*.")):
        return origin
    from ada_url import URL  # hosts are mostly plain

    try:
        host = URL(f"{scheme}://{authority[2:] if star else authority}").host
    except ValueError:
        return ""
    return f"{scheme}://{'*.' * star}{host}"


class Stage(base.Stage):
    """``Vary: Origin`` goes onto every answer that depends on the origin, also where none came."""

    def __init__(self, options: Options, setup: Setup) -> None:
        self.origins = options.allow_origins
        self.any_origin = "*" in options.allow_origins
        self.methods, self.status = options.allow_methods, options.preflight_status
        self.listed = {name.lower() for name in options.allow_headers}
        self.reflects, self.rejects = options.reflect_headers, options.reject_unlisted
        self.marks = Fields()
        if options.allow_credentials:
            self.marks.put(HEADERS_OF["credentials"], "true")
        self.exposed = ", ".join(options.expose_headers)
        self.granted = Fields([(HEADERS_OF["methods"], ", ".join(options.allow_methods))])
        if options.allow_headers:
            self.granted.put(HEADERS_OF["headers"], ", ".join(options.allow_headers))
        if options.max_age is not None:
            self.granted.put(HEADERS_OF["max-age"], str(options.max_age // MICROSECONDS))

    def _allows(self, origin: str) -> bool:
        return any(matches_origin(pattern, origin) for pattern in self.origins)

    def _mark(self, fields: Fields, origin: str | None) -> bool:
        """Put what the answer says of the origin; whether the origin may."""
        if not self.any_origin:
            add_vary(fields, "Origin")
        if self.any_origin:  # Fetch, "CORS protocol and HTTP caches": marked for everybody, a copy may go to any page
            origin = "*"
        elif origin is None or not self._allows(origin):
            return False
        fields.put(HEADERS_OF["origin"], origin)
        fields.update(self.marks)
        return True

    def way_in(self, x: Exchange) -> Effect:
        """Answer a preflight; refuse what isn't listed, where that is wanted."""
        fields = x.request.fields
        origin = fields.get("origin")
        if origin is None:
            return None
        asked = fields.get("access-control-request-method") if x.request.method == "OPTIONS" else None
        allowed = self._allows(origin)
        x.note = {"origin": "allowed" if allowed else "not on the list"}
        if self.rejects and not allowed and origin != x.request.url.origin:  # its own pages cross no border
            return self._refused(origin, "origin-not-allowed", f"the origin {origin} isn't on the list")
        if asked is None:
            return None
        x.note["preflight"] = asked
        return self._preflight(x, origin, asked)

    def _preflight(self, x: Exchange, origin: str, asked: str) -> Effect:
        names = [name.lower() for name in list_items(x.request.fields.get("access-control-request-headers") or "")]
        if self.rejects:
            if asked not in self.methods and asked not in SAFELISTED_METHODS and "*" not in self.methods:
                return self._refused(origin, "method-not-listed", f"the method {asked} isn't on the list")
            unlisted = [name for name in names if name not in self.listed and "*" not in self.listed]
            if unlisted and not self.reflects:
                return self._refused(origin, "header-not-listed", f"the header {unlisted[0]} isn't on the list")
        answer = Answer(self.status, Fields())
        if self._mark(answer.fields, origin):
            answer.fields.update(self.granted)
            if self.reflects:
                add_vary(answer.fields, "Access-Control-Request-Headers")
                if names:
                    answer.fields.put(HEADERS_OF["headers"], ", ".join(names))
        return answer

    def _refused(self, origin: str, why: str, message: str) -> Raised:
        fields = Fields()
        self._mark(fields, origin)
        return refusal("Forbidden", why, message, fields=fields)

    def way_out(self, x: Exchange) -> Effect:
        """Mark the answer."""
        assert x.answer is not None
        if self._mark(x.answer.fields, x.request.fields.get("origin")) and self.exposed:
            x.answer.fields.put(HEADERS_OF["expose"], self.exposed)
        return None
