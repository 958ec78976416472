"""Cookies (RFC 6265, with SameSite as in RFC 6265bis)."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import NamedTuple

from patient_usher.core.http.dates import MICROSECONDS, cookie_instant
from patient_usher.core.http.urls import Url, is_address, trustworthy


def parse_cookies(value: str | None) -> dict[str, str]:
    """A Cookie field's pairs; of a name that stands twice the first counts (RFC 6265 4.2.2, 5.4)."""
    pairs: dict[str, str] = {}
    for part in (value or "").split(";"):
        name, equals, text = part.strip().partition("=")
        if equals and name:
            pairs.setdefault(name, text.strip('"'))
    return pairs


def sign_value(value: str, secret: bytes) -> str:
    """A cookie value with its HMAC behind it."""
    import base64
    import hashlib
    import hmac

    mac = hmac.new(secret, value.encode(), hashlib.sha256).digest()
    return f"{value}.{base64.urlsafe_b64encode(mac).decode().rstrip('=')}"


def unsign_value(signed: str, secret: bytes) -> str | None:
    """The value of a signed cookie, None where the signature doesn't match."""
    import hmac

    value, dot, _ = signed.rpartition(".")
    made, given = sign_value(value, secret).encode(errors="replace"), signed.encode(errors="replace")
    return value if dot and hmac.compare_digest(made, given) else None


def set_cookie(
    name: str,
    value: str,
    *,
    max_age: int | None,
    secure: bool,
    path: str = "/",
    domain: str | None = None,
    same_site: str = "Lax",
) -> str:
    """A Set-Cookie value for a session (RFC 6265 4.1.1); ``max_age`` in seconds."""
    parts = [f"{name}={value}", f"Path={path}", "HttpOnly", f"SameSite={same_site}"]
    if domain is not None:
        parts.append(f"Domain={domain}")
    if secure:
        parts.append("Secure")
    if max_age is not None:
        parts.append(f"Max-Age={max_age}")
    return "; ".join(parts)


class Cookie(NamedTuple):
    """A stored cookie. ``same_site`` is empty where it says none; ``expires``: microseconds since the epoch, None for
    the session.
    """

    name: str
    value: str
    domain: str
    host_only: bool
    path: str
    secure: bool
    same_site: str
    expires: int | None
    created: int
    used: int = 0
    """When it was set, or last sent (6265bis 5.7: last-access-time)."""

    def is_over(self, now: int) -> bool:
        """Whether it has expired."""
        return self.expires is not None and self.expires <= now


def _domain_match(host: str, domain: str) -> bool:
    """RFC 6265 5.1.3."""
    if host == domain:
        return True
    return host.endswith("." + domain) and not is_address(host)


def _default_path(path: str) -> str:
    """RFC 6265 5.1.4."""
    return path[: path.rfind("/")] or "/"


def _path_match(path: str, cookie_path: str) -> bool:
    """RFC 6265 5.1.4."""
    if path == cookie_path:
        return True
    return path.startswith(cookie_path) and (cookie_path.endswith("/") or path[len(cookie_path)] == "/")


Registrable = Callable[[str], str | None]
"""The registrable domain of a host, None for one that nobody can register anything below."""

LONGEST = 400 * 86_400 * MICROSECONDS
"""No cookie lives longer than 400 days (6265bis 5.5)."""
MOST_OCTETS, MOST_OF_ATTRIBUTE, MOST_PER_DOMAIN = 4096, 1024, 180
"""6265bis 5.6, 6.1."""


def _attributes(parts: list[str]) -> dict[str, str]:
    """A cookie's attributes, names in lower case; one that is too long is not there (6265bis 5.6 step 6)."""
    given: dict[str, str] = {}
    for part in parts:
        key, _, argument = part.partition("=")
        if len(argument.strip().encode()) <= MOST_OF_ATTRIBUTE:
            given[key.strip().lower()] = argument.strip()
    return given


def _expiry(given: dict[str, str], now: int) -> int | None:
    """When the cookie ends: Max-Age goes before Expires, unless it can't be read (6265bis 5.6.2, 5.7 step 3)."""
    lifetime = given.get("max-age", "").removeprefix("+")  # browsers read a plus too
    if lifetime.removeprefix("-").isascii() and lifetime.removeprefix("-").isdecimal():
        return now + min(max(int(lifetime), -1) * MICROSECONDS, LONGEST)
    moment = cookie_instant(given["expires"]) if "expires" in given else None
    return min(moment, now + LONGEST) if moment is not None else None


def cookie_name(value: str) -> str:
    """The name in a Set-Cookie field, empty where it has none."""
    name, equals, _ = value.partition(";")[0].partition("=")
    return name.strip() if equals else ""


def parse_set_cookie(value: str, url: Url, now: int, registrable: Registrable) -> Cookie | str:
    """A Set-Cookie field as a cookie for this URL, or why it must be ignored (6265bis 5.6, 5.7)."""
    head, *attributes = value.split(";")
    name, text = cookie_name(value), head[head.find("=") + 1 :].strip()  # without a name it is kept too
    given = _attributes(attributes)
    domain = given.get("domain", "").removeprefix(".").lower()
    suffix = bool(domain) and registrable(domain) is None
    secure, path, same_site = "secure" in given, given.get("path", ""), given.get("samesite", "").lower()
    lower = (name or text).lower()  # step 22: nor may a nameless one pretend
    bars = (
        (not name + text, "it is empty"),
        (len((name + text).encode()) > MOST_OCTETS, f"it is longer than {MOST_OCTETS} octets"),
        # It would come back as another one's: the draft says nothing of it, browsers do.
        (not name and "=" in text, "it has no name"),
        # The tab too: browsers are stricter than the draft.
        (any(char < " " or char == "\x7f" for char in value), "it has a control character"),
        (domain and not _domain_match(url.host, domain), f"{url.host} isn't of its Domain {domain}"),
        (suffix and domain != url.host, f"nobody sets cookies for all of {domain}"),  # step 9
        # Step 12; browsers and curl take the own machine for secure.
        (secure and not trustworthy(url), "it is Secure, and came over plain HTTP"),
        (same_site == "none" and not secure, "it is SameSite=None without Secure"),  # step 18
        (lower.startswith("__secure-") and not secure, "__Secure- needs Secure"),  # step 20
        # Step 21; as written: browsers take no default here.
        (
            lower.startswith("__host-") and not (secure and not given.get("domain") and given.get("path") == "/"),
            "__Host- needs Secure, Path=/ and no Domain",
        ),
    )
    for barred, why in bars:
        if barred:
            return why
    domain = "" if suffix else domain  # a host that is a public suffix itself has it for itself alone
    path = path if path.startswith("/") else _default_path(url.path)
    same_site = same_site if same_site in ("strict", "lax", "none") else ""
    return Cookie(name, text, domain or url.host, not domain, path, secure, same_site, _expiry(given, now), now, now)


def cookie_header(cookies: Iterable[Cookie]) -> str | None:
    """The Cookie field that carries these (RFC 6265 5.4), None for none."""
    return "; ".join(f"{one.name}={one.value}" if one.name else one.value for one in cookies) or None


def not_taken(refused: Iterable[tuple[str, str]]) -> tuple[str, ...]:
    """A sentence on each cookie that wasn't taken, of its name and why."""
    named = ((f"the cookie {name}" if name else "a cookie without a name", why) for name, why in refused)
    return tuple(f"{cookie} wasn't taken: {why}" for cookie, why in named)


class Jar:
    """One caller's cookies. ``registrable`` knows which domains are public suffixes; ``unmarked`` is the SameSite of
    cookies that say none, ``lax`` by 6265bis 5.7, in some browsers still ``none``.
    """

    def __init__(self, registrable: Registrable, *, unmarked: str = "lax") -> None:
        self._cookies: dict[tuple[str, str, bool, str], Cookie] = {}
        self._registrable = registrable
        self._unmarked = unmarked

    def __bool__(self) -> bool:
        """Whether it holds any."""
        return bool(self._cookies)

    def store(self, values: tuple[str, ...], url: Url, now: int, *, same_site: bool = True) -> tuple[str, ...]:
        """Take over what an answer sets; a cookie that has expired goes (RFC 6265 5.3 step 11).

        Across sites only cookies for all sites are taken (6265bis 5.7 step 19). Returns a sentence on each that isn't.
        """
        refused: list[tuple[str, str]] = []
        for value in values:
            cookie = parse_set_cookie(value, url, now, self._registrable)
            why = cookie if isinstance(cookie, str) else self._barred(cookie, url, same_site=same_site)
            if why or isinstance(cookie, str):
                refused.append((cookie_name(value), why))
                continue
            key = (cookie.name, cookie.domain, cookie.host_only, cookie.path)  # 6265bis 5.7 step 23
            if cookie.is_over(now):
                self._cookies.pop(key, None)
                continue
            old = self._cookies.get(key)  # its place stays its place: much is set at one instant here
            if old is not None and old.is_over(now):
                del self._cookies[key]
                old = None
            self._cookies[key] = cookie._replace(created=old.created if old else now)
            self._bound(cookie.domain, now)
        return not_taken(refused)

    def _barred(self, cookie: Cookie, url: Url, *, same_site: bool) -> str:
        if not same_site and self._same_site(cookie) != "none":
            return "the page is of another site, and it isn't SameSite=None"
        if not trustworthy(url) and self._shadows(cookie):
            return "it came over plain HTTP, and a Secure one of this name is there"
        return ""

    def _shadows(self, cookie: Cookie) -> bool:
        """Whether a cookie set in clear would take the place of a Secure one (6265bis 5.7 step 16)."""
        return any(
            other.secure
            and other.name == cookie.name
            and (_domain_match(other.domain, cookie.domain) or _domain_match(cookie.domain, other.domain))
            and _path_match(cookie.path, other.path)
            for other in self._cookies.values()
        )

    def _bound(self, domain: str, now: int) -> None:
        """Of too many of a domain one that isn't Secure goes, else any: the one used longest ago (6265bis 5.7)."""
        own = [(key, cookie) for key, cookie in self._cookies.items() if key[1] == domain]
        if len(own) > MOST_PER_DOMAIN:
            going = min(own, key=lambda one: (not one[1].is_over(now), one[1].secure, one[1].used))
            del self._cookies[going[0]]

    def header(self, url: Url, now: int) -> str | None:
        """The Cookie field for a request of the same site (RFC 6265 5.4), None for none."""
        return cookie_header(self.going(url, now))

    def going(self, url: Url, now: int, *, same_site: bool = True, safe_navigation: bool = False) -> list[Cookie]:
        """The cookies that go along with a request, in their order.

        ``same_site`` says whether the request comes from the same site (SameSite, 6265bis 5.8.3).
        """
        fitting = self._fitting(url, now)
        going = [one for one in fitting if same_site or self._crosses(one, safe_navigation=safe_navigation)]
        for one in going:
            self._cookies[one.name, one.domain, one.host_only, one.path] = one._replace(used=now)
        return sorted(going, key=lambda cookie: (-len(cookie.path), cookie.created))

    def held_back(self, url: Url, now: int, *, safe_navigation: bool = False) -> list[Cookie]:
        """The cookies that a request from another site leaves behind."""
        return [one for one in self._fitting(url, now) if not self._crosses(one, safe_navigation=safe_navigation)]

    def _crosses(self, cookie: Cookie, *, safe_navigation: bool) -> bool:
        """Whether a cookie goes along from another site (6265bis 5.8.3)."""
        same_site = self._same_site(cookie)
        return same_site == "none" or (same_site == "lax" and safe_navigation)

    def _same_site(self, cookie: Cookie) -> str:
        return cookie.same_site or self._unmarked

    def _fitting(self, url: Url, now: int) -> list[Cookie]:
        """The cookies for a URL, wherever the request comes from; those that have expired go."""
        fitting, trusted = [], trustworthy(url)
        for key, cookie in list(self._cookies.items()):
            if cookie.is_over(now):
                del self._cookies[key]
                continue
            if cookie.host_only:
                fits = url.host == cookie.domain
            else:
                fits = _domain_match(url.host, cookie.domain)
            if not fits or not _path_match(url.path, cookie.path) or (cookie.secure and not trusted):
                continue
            fitting.append(cookie)
        return fitting

    def value(self, name: str) -> str | None:
        """The value of a cookie of this name."""
        return next((cookie.value for cookie in self._cookies.values() if cookie.name == name), None)
