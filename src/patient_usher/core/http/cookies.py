"""Cookies (RFC 6265, with SameSite as in RFC 6265bis)."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from patient_usher.core.http.dates import MICROSECONDS, cookie_instant
from patient_usher.core.http.urls import Url, is_address


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
    """A stored cookie. ``expires``: microseconds since the epoch, None for the session."""

    name: str
    value: str
    domain: str
    host_only: bool
    path: str
    secure: bool
    same_site: str
    expires: int | None
    created: int


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


def _crosses(cookie: Cookie, *, safe_navigation: bool) -> bool:
    """Whether a cookie goes along from another site (6265bis 5.8.3)."""
    return cookie.same_site == "none" or (cookie.same_site == "lax" and safe_navigation)


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


def parse_set_cookie(value: str, url: Url, now: int, registrable: Registrable) -> Cookie | None:
    """A Set-Cookie field as a cookie for this URL, None where it must be ignored (6265bis 5.6, 5.7)."""
    head, *attributes = value.split(";")
    name, equals, text = head.partition("=")
    name, text = (name.strip(), text.strip()) if equals else ("", name.strip())  # without a name it is kept too
    if not name + text or len((name + text).encode()) > MOST_OCTETS:
        return None
    if any(char < " " or char == "\x7f" for char in value):  # the tab too: browsers are stricter than the draft
        return None
    given = _attributes(attributes)
    domain = given.get("domain", "").removeprefix(".").lower()
    if domain and not _domain_match(url.host, domain):
        return None
    if domain and domain != url.host and registrable(domain) is None:
        return None  # step 9: nobody sets a cookie for a public suffix
    if domain and domain == url.host and registrable(domain) is None:
        domain = ""
    secure, path = "secure" in given, given.get("path", "")
    path = path if path.startswith("/") else _default_path(url.path)
    if secure and url.scheme != "https":  # step 12
        return None
    same_site = given.get("samesite", "").lower()
    if same_site not in ("strict", "lax", "none"):
        same_site = "lax"
    if same_site == "none" and not secure:  # step 18
        return None
    lower = (name or text).lower()  # step 22: nor may a nameless one pretend
    if lower.startswith("__secure-") and not secure:  # step 20
        return None
    if lower.startswith("__host-") and not (secure and not domain and path == "/" and "path" in given):  # step 21
        return None
    return Cookie(name, text, domain or url.host, not domain, path, secure, same_site, _expiry(given, now), now)


class Jar:
    """One caller's cookies. ``registrable`` knows which domains are public suffixes."""

    def __init__(self, registrable: Registrable) -> None:
        self._cookies: dict[tuple[str, str, bool, str], Cookie] = {}
        self._registrable = registrable

    def store(self, values: tuple[str, ...], url: Url, now: int, *, same_site: bool = True) -> None:
        """Take over what an answer sets; a cookie that has expired goes (RFC 6265 5.3 step 11).

        Across sites only cookies for all sites are taken (6265bis 5.7 step 19).
        """
        for value in values:
            cookie = parse_set_cookie(value, url, now, self._registrable)
            if cookie is None or (not same_site and cookie.same_site != "none"):
                continue
            if url.scheme != "https" and self._shadows(cookie):
                continue
            key = (cookie.name, cookie.domain, cookie.host_only, cookie.path)  # 6265bis 5.7 step 23
            old = self._cookies.pop(key, None)
            if cookie.expires is None or cookie.expires > now:
                self._cookies[key] = cookie._replace(created=old.created if old else now)
                self._bound(cookie.domain)

    def _shadows(self, cookie: Cookie) -> bool:
        """Whether a cookie set in clear would take the place of a Secure one (6265bis 5.7 step 16)."""
        return any(
            other.secure
            and other.name == cookie.name
            and (_domain_match(other.domain, cookie.domain) or _domain_match(cookie.domain, other.domain))
            and _path_match(cookie.path, other.path)
            for other in self._cookies.values()
        )

    def _bound(self, domain: str) -> None:
        """Of too many cookies of a domain the oldest goes (6265bis 6.1)."""
        own = [key for key in self._cookies if key[1] == domain]
        if len(own) > MOST_PER_DOMAIN:
            del self._cookies[min(own, key=lambda key: self._cookies[key].created)]

    def header(self, url: Url, now: int, *, same_site: bool = True, safe_navigation: bool = False) -> str | None:
        """The Cookie field for a request (RFC 6265 5.4), None for none.

        ``same_site`` says whether the request comes from the same site (SameSite, 6265bis 5.8.3).
        """
        fitting = [
            cookie
            for cookie in self._fitting(url, now)
            if same_site or _crosses(cookie, safe_navigation=safe_navigation)
        ]
        fitting.sort(key=lambda cookie: (-len(cookie.path), cookie.created))
        pairs = (f"{cookie.name}={cookie.value}" if cookie.name else cookie.value for cookie in fitting)
        return "; ".join(pairs) or None

    def held_back(self, url: Url, now: int, *, safe_navigation: bool = False) -> list[str]:
        """The cookies that a request from another site leaves behind, each with its SameSite."""
        kept = [cookie for cookie in self._fitting(url, now) if not _crosses(cookie, safe_navigation=safe_navigation)]
        return [f"{cookie.name} (SameSite={cookie.same_site.capitalize()})" for cookie in kept]

    def _fitting(self, url: Url, now: int) -> list[Cookie]:
        """The cookies for a URL, wherever the request comes from; those that have expired go."""
        fitting = []
        for key, cookie in list(self._cookies.items()):
            if cookie.expires is not None and cookie.expires <= now:
                del self._cookies[key]
                continue
            if cookie.host_only:
                fits = url.host == cookie.domain
            else:
                fits = _domain_match(url.host, cookie.domain)
            if not fits or not _path_match(url.path, cookie.path) or (cookie.secure and url.scheme != "https"):
                continue
            fitting.append(cookie)
        return fitting

    def value(self, name: str) -> str | None:
        """The value of a cookie of this name."""
        return next((cookie.value for cookie in self._cookies.values() if cookie.name == name), None)
