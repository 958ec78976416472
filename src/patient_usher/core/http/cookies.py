"""Cookies (RFC 6265, with SameSite as in RFC 6265bis)."""

from __future__ import annotations

from ipaddress import ip_address
from typing import NamedTuple

from patient_usher.core.http.dates import MICROSECONDS, instant
from patient_usher.core.http.urls import Url


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
    return value if dot and hmac.compare_digest(sign_value(value, secret), signed) else None


def set_cookie(name: str, value: str, *, max_age: int | None, secure: bool, path: str = "/") -> str:
    """A Set-Cookie value for a session (RFC 6265 4.1.1); ``max_age`` in seconds."""
    parts = [f"{name}={value}", f"Path={path}", "HttpOnly", "SameSite=Lax"]
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
    return host.endswith("." + domain) and not _is_address(host)


def _is_address(host: str) -> bool:
    try:
        ip_address(host)
    except ValueError:
        return False
    return True


def _default_path(path: str) -> str:
    """RFC 6265 5.1.4."""
    return path[: path.rfind("/")] or "/"


def _path_match(path: str, cookie_path: str) -> bool:
    """RFC 6265 5.1.4."""
    if path == cookie_path:
        return True
    return path.startswith(cookie_path) and (cookie_path.endswith("/") or path[len(cookie_path)] == "/")


def site(host: str) -> str:
    """The registrable domain, by the made-up rule that it has two labels; a bare name or address is its own."""
    if _is_address(host):
        return host
    return ".".join(host.split(".")[-2:])


def parse_set_cookie(value: str, url: Url, now: int) -> Cookie | None:
    """A Set-Cookie field as a cookie for this URL, None where it must be ignored (RFC 6265 5.2, 5.3)."""
    head, *attributes = value.split(";")
    name, equals, text = head.partition("=")
    name, text = name.strip(), text.strip()
    if not equals or not name:
        return None
    given: dict[str, str] = {}
    for attribute in attributes:
        key, _, argument = attribute.partition("=")
        given[key.strip().lower()] = argument.strip()
    expires: int | None = None
    if "max-age" in given:  # 5.3 step 3: Max-Age goes before Expires
        try:
            expires = now + int(given["max-age"]) * MICROSECONDS
        except ValueError:
            expires = None
    elif "expires" in given:
        from email.utils import parsedate_to_datetime  # slow to import, and rarely needed

        try:
            expires = instant(parsedate_to_datetime(given["expires"]))
        except (ValueError, TypeError):
            expires = None
    domain = given.get("domain", "").lstrip(".").lower()
    if domain and not _domain_match(url.host, domain):
        return None
    if domain and "." not in domain and domain != url.host:
        return None
    secure = "secure" in given
    if secure and url.scheme != "https":  # 6265bis 5.7 step 8
        return None
    same_site = given.get("samesite", "").lower()
    if same_site not in ("strict", "lax", "none"):
        same_site = "lax"
    if same_site == "none" and not secure:  # 6265bis 5.7 step 18
        return None
    path = given.get("path", "")
    return Cookie(
        name,
        text,
        domain or url.host,
        not domain,
        path if path.startswith("/") else _default_path(url.path),
        secure,
        same_site,
        expires,
        now,
    )


class Jar:
    """One caller's cookies."""

    def __init__(self) -> None:
        self._cookies: dict[tuple[str, str, str], Cookie] = {}

    def store(self, values: tuple[str, ...], url: Url, now: int, *, same_site: bool = True) -> None:
        """Take over what an answer sets; a cookie that has expired goes (RFC 6265 5.3 step 11).

        Across sites only cookies for all sites are taken (6265bis 5.7 step 19).
        """
        for value in values:
            cookie = parse_set_cookie(value, url, now)
            if cookie is None or (not same_site and cookie.same_site != "none"):
                continue
            key = (cookie.name, cookie.domain, cookie.path)
            old = self._cookies.pop(key, None)
            if cookie.expires is None or cookie.expires > now:
                self._cookies[key] = cookie._replace(created=old.created if old else now)

    def header(self, url: Url, now: int, *, same_site: bool = True, safe_navigation: bool = False) -> str | None:
        """The Cookie field for a request (RFC 6265 5.4), None for none.

        ``same_site`` says whether the request comes from the same site (SameSite, 6265bis 5.8.3).
        """
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
            if not same_site and cookie.same_site != "none" and not (cookie.same_site == "lax" and safe_navigation):
                continue
            fitting.append(cookie)
        fitting.sort(key=lambda cookie: (-len(cookie.path), cookie.created))
        return "; ".join(f"{cookie.name}={cookie.value}" for cookie in fitting) or None

    def value(self, name: str) -> str | None:
        """The value of a cookie of this name."""
        return next((cookie.value for cookie in self._cookies.values() if cookie.name == name), None)
