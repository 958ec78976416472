"""HTTP caching (RFC 9111; RFC 5861 for the stale-* directives), as pure functions of messages and times.

Times are integer microseconds since the epoch. ``shared`` tells a shared cache from a private one.
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import NamedTuple

from patient_usher.core.http.dates import MICROSECONDS, http_date, http_instant, two_digit_year
from patient_usher.core.http.fields import Fields, list_items, unquoted
from patient_usher.core.http.messages import Answer

HEURISTICALLY_CACHEABLE = frozenset({200, 203, 204, 206, 300, 301, 308, 404, 405, 410, 414, 501})
"""RFC 9110 15.1."""
UNDERSTOOD = frozenset(
    {200, 203, 204, 300, 301, 302, 303, 307, 308, 404, 405, 410, 414, 421, 451, 500, 501, 502, 503, 504}
)
"""Status codes whose caching rules are followed here: others are not stored where they must be understood (3)."""
_PARTIAL = frozenset({206, 304})
"""What is not stored by itself: these rules aren't followed here (3.3, 4.3.4)."""

COVERED = frozenset({500, 502, 503, 504})
"""The errors for which a stale copy may stand in (RFC 5861 4)."""

Directives = dict[str, str | None]


@lru_cache(maxsize=256)  # an answer says mostly what the one before it said
def _directives(value: str) -> tuple[tuple[str, str | None], ...]:
    found: dict[str, str | None] = {}
    for item in list_items(value):
        name, equals, argument = item.partition("=")
        text = unquoted(argument.strip()) if equals else None
        found.setdefault(name.strip().lower(), text)  # 4.2.1: of two, the first counts
    return tuple(found.items())


def directives(fields: Fields) -> Directives:
    """Cache-Control (5.2), names in lower case; of a directive that stands twice the first."""
    value = fields.get("cache-control")
    return dict(_directives(value)) if value else {}


def says_freshness(answer: Fields) -> bool:
    """Whether an answer says itself for how long it is fresh, to a shared cache (4.2.1), or that it never is."""
    cc = directives(answer)
    return "expires" in answer or bool(cc.keys() & {"max-age", "s-maxage", "no-cache"})


def unshared_fields(answer: Fields) -> list[str]:
    """Lower-case names of fields that a shared copy must not have: ``no-cache="..."``, ``private="..."``.

    What they name would have to be confirmed before each use (5.2.2.4), or is one user's own (5.2.2.7).
    """
    cc = directives(answer)
    named = [names for directive in ("no-cache", "private") if (names := cc.get(directive))]
    if not answer.has_none(_OF_ONE_CONNECTION):
        named += answer.values("connection")
        named += [name for name in answer.names() if name in _OF_ONE_CONNECTION]
    return [name.strip().lower() for names in named for name in names.split(",") if name.strip()]


_OF_ONE_CONNECTION = frozenset(
    {
        "connection",
        "keep-alive",
        "proxy-authenticate",
        "proxy-authentication-info",
        "proxy-authorization",
        "proxy-connection",
        "te",
        "transfer-encoding",
        "upgrade",
    }
)
"""RFC 9111 3.1; RFC 9110 7.6.1."""


def seconds(argument: str | None) -> int | None:
    """Delta-seconds (1.2.2) as microseconds, None for anything else."""
    if argument is None or not argument.isascii() or not argument.isdecimal():
        return None
    return (min(int(argument), 2**31) if len(argument) < 11 else 2**31) * MICROSECONDS


_DATE = re.compile(
    r"(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun), \d\d [A-Z][a-z]{2} \d{4} \d\d:\d\d:\d\d GMT"
    r"|(?:Mon|Tues|Wednes|Thurs|Fri|Satur|Sun)day, \d\d-[A-Z][a-z]{2}-\d\d \d\d:\d\d:\d\d GMT"
    r"|(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun) [A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d \d{4}"
)


@lru_cache(maxsize=256)
def _parsed(value: str) -> int | None:
    return http_instant(value) if _DATE.fullmatch(value.strip()) else None


def parse_date(value: str | None, now: int) -> int | None:
    """An HTTP date in one of its three forms (RFC 9110 5.6.7), None for anything else: a list, another zone.

    A year of two digits that seems to be more than fifty years ahead of ``now`` is the last one that ended so.
    """
    found = _parsed(value) if value is not None else None
    return found if found is None or value is None or "day, " not in value else two_digit_year(found, now)


class Stored(NamedTuple):
    """A stored answer: when it was asked for and came, and the request's fields that it varies on."""

    answer: Answer
    request_time: int
    response_time: int
    vary: tuple[tuple[str, str | None], ...] = ()
    lifetime: int | None = None
    """A lifetime that a stage gives it, whatever its fields say."""


def bars_storing(method: str, status: int, request: Fields, answer: Fields, *, shared: bool) -> str:
    """Why an answer must not be stored (3), or nothing."""
    cc = directives(answer)
    if method != "GET":
        return "method"
    if status in _PARTIAL or ("must-understand" in cc and status not in UNDERSTOOD):  # 5.2.2.3
        return "status"
    if "no-store" in directives(request):  # 5.2.1.5
        return "request-no-store"
    if "no-store" in cc and "must-understand" not in cc:  # 5.2.2.3, 5.2.2.5
        return "no-store"
    if shared and "private" in cc and cc["private"] is None:  # 5.2.2.7; a list of fields bars only those
        return "private"
    if shared and "authorization" in request and not cc.keys() & {"must-revalidate", "public", "s-maxage"}:  # 3.5
        return "authorization"
    lifetimes = ("max-age", "s-maxage") if shared else ("max-age",)
    explicit = "expires" in answer or "public" in cc or any(seconds(cc.get(name)) is not None for name in lifetimes)
    if explicit or (not shared and "private" in cc) or status in HEURISTICALLY_CACHEABLE:
        return ""
    return "nothing-permits"


def freshness_lifetime(status: int, answer: Fields, response_time: int, *, shared: bool, heuristic: bool) -> int:
    """For how long an answer is fresh (4.2.1; 4.2.2 where heuristics are wanted), in microseconds."""
    cc = directives(answer)
    for name in ("s-maxage", "max-age") if shared else ("max-age",):
        if name in cc:
            return seconds(cc[name]) or 0  # 4.2.1: what can't be read counts as stale
    date = parse_date(answer.get("date"), response_time)
    date = response_time if date is None else date
    if "expires" in answer:
        expires = parse_date(answer.get("expires"), response_time)  # 5.3: an invalid one has expired
        return max((expires or 0) - date, 0)
    modified = parse_date(answer.get("last-modified"), response_time)
    if heuristic and modified is not None and (status in HEURISTICALLY_CACHEABLE or "public" in cc):
        return max(date - modified, 0) // 10
    return 0


def current_age(stored: Stored, now: int) -> int:
    """4.2.3, in microseconds."""
    fields = stored.answer.fields
    date = parse_date(fields.get("date"), now)
    # Date has whole seconds, so the time of the answer counts as whole seconds here too.
    came = stored.response_time // MICROSECONDS * MICROSECONDS
    apparent = max(0, came - date) if date is not None else 0
    age = seconds((fields.get("age") or "").partition(",")[0].strip()) or 0
    corrected = age + (stored.response_time - stored.request_time)
    return max(apparent, corrected) + (now - stored.response_time)


def vary_of(request: Fields, answer: Fields) -> tuple[tuple[str, str | None], ...]:
    """The request's fields that the answer varies on, normalised (4.1)."""
    names = sorted({name.lower() for name in list_items(answer.get("vary") or "")})
    return tuple((name, _normal(name, request.get(name))) for name in names)


_LISTS = frozenset({
    "accept", "accept-charset", "accept-encoding", "accept-language", "access-control-request-headers", "cache-control",
    "connection", "forwarded", "if-match", "if-none-match", "pragma", "prefer", "te", "via",
})  # fmt: skip
"""Request fields that are lists, so that white space and empty members between commas say nothing (4.1)."""


def _normal(name: str, value: str | None) -> str | None:
    return value if value is None or name not in _LISTS else ", ".join(list_items(value))


def varies_alike(stored: Stored, request: Fields) -> bool:
    """Whether the request would have got this one of the variants; of ``*`` nobody can say (4.1)."""
    return all(name != "*" and _normal(name, request.get(name)) == value for name, value in stored.vary)


class Use(NamedTuple):
    """Whether a stored answer may be used: ``fresh``, ``stale`` (still allowed) or ``validate``."""

    how: str
    age: int
    lifetime: int
    why: str = ""


def may_use(
    stored: Stored, request: Fields, now: int, *, shared: bool, heuristic: bool, honours_request: bool = True
) -> Use:
    """Whether a stored answer satisfies a request (4), by both sides' directives (4.2.4, 5.2).

    ``honours_request``: whether the request's own directives count.
    """
    fields = stored.answer.fields
    cc = directives(fields)
    age = current_age(stored, now)
    lifetime = stored.lifetime
    if lifetime is None:
        lifetime = freshness_lifetime(
            stored.answer.status, fields, stored.response_time, shared=shared, heuristic=heuristic
        )
    asked = directives(request) if honours_request else {}
    if honours_request and not asked and "no-cache" in list_items((request.get("pragma") or "").lower()):  # 5.4
        asked = {"no-cache": None}
    if "no-cache" in cc and cc["no-cache"] is None:  # 5.2.2.4; a list of fields does not bar the rest
        return Use("validate", age, lifetime, "no-cache")
    if "no-cache" in asked:  # 5.2.1.4
        return Use("validate", age, lifetime, "request-no-cache")
    oldest = seconds(asked.get("max-age")) if "max-age" in asked else None
    if oldest is not None and age > oldest:  # 5.2.1.1
        return Use("validate", age, lifetime, "request-max-age")
    margin = (seconds(asked.get("min-fresh")) or 0) if "min-fresh" in asked else 0  # 5.2.1.3
    if age < lifetime and age + margin <= lifetime:
        return Use("fresh", age, lifetime)
    if "min-fresh" in asked:  # what is stale is no fresher for being allowed
        return Use("validate", age, lifetime, "request-min-fresh")
    if "must-revalidate" in cc or (shared and cc.keys() & {"proxy-revalidate", "s-maxage"}):  # 4.2.4
        tempts = cc.keys() & {"stale-while-revalidate", "stale-if-error"}
        return Use("validate", age, lifetime, "no-stale-allowed" if tempts else "expired")
    if "max-stale" in asked:  # 5.2.1.2
        most = asked["max-stale"]
        if most is None or age - lifetime <= (seconds(most) or 0):
            return Use("stale", age, lifetime, "max-stale")
    grace = seconds(cc.get("stale-while-revalidate"))
    if grace is not None and age - lifetime < grace and "max-age" not in asked:  # RFC 5861 3; RFC 9111 5.2.1.1
        return Use("stale", age, lifetime, "stale-while-revalidate")
    return Use("validate", age, lifetime, "expired")


def may_cover_error(stored: Stored, now: int, *, shared: bool, heuristic: bool, asked: Fields | None = None) -> bool:
    """Whether a stale answer may stand in for an error (RFC 5861 4): where it says so, or the request does.

    ``asked``: the request's fields, where its directives count.
    """
    cc = directives(stored.answer.fields)
    grace = seconds((directives(asked) if asked is not None else {}).get("stale-if-error"))
    grace = max(filter(None, (grace, seconds(cc.get("stale-if-error")))), default=None)
    unvalidated = "no-cache" in cc and cc["no-cache"] is None
    if (
        grace is None
        or unvalidated
        or "must-revalidate" in cc
        or (shared and cc.keys() & {"proxy-revalidate", "s-maxage"})
    ):
        return False
    lifetime = stored.lifetime
    if lifetime is None:
        fields = stored.answer.fields
        lifetime = freshness_lifetime(
            stored.answer.status, fields, stored.response_time, shared=shared, heuristic=heuristic
        )
    return current_age(stored, now) - lifetime < grace


def freshened(stored: Stored, answer: Fields, request_time: int, now: int) -> Stored:
    """The stored answer with a 304's fields laid over it (3.2, 4.3.4)."""
    merged = stored.answer.copy()
    newer = answer.copy()
    if "date" not in newer:
        newer.put("Date", http_date(now))
    for name in ("content-length", "content-encoding", "content-type", "content-range"):
        newer.drop(name)
    merged.fields.drop("age")
    merged.fields.update(newer)
    return stored._replace(answer=merged, request_time=request_time, response_time=now)


def validators(stored: Stored) -> list[tuple[str, str]]:
    """The fields that ask whether a stored answer still holds (4.3.1)."""
    fields = stored.answer.fields
    pairs = [("If-None-Match", fields.get("etag")), ("If-Modified-Since", fields.get("last-modified"))]
    return [(name, value) for name, value in pairs if value is not None]


def invalidates(method: str, status: int) -> bool:
    """Whether what is stored for the URL must go (4.4)."""
    return method not in ("GET", "HEAD", "OPTIONS", "TRACE") and 200 <= status < 400
