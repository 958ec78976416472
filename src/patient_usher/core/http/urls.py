"""URLs as a server sees them (RFC 3986, RFC 9110 section 4)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from ipaddress import ip_address
from types import MappingProxyType
from urllib.parse import parse_qsl, quote, unquote, urljoin, urlsplit

DEFAULT_PORTS = {"http": 80, "https": 443}
_NO_PARAMS: Mapping[str, tuple[str, ...]] = MappingProxyType({})


class Url:
    """A parsed http or https URL, not to be changed.

    ``path`` and ``query`` are as sent, ``target`` is both: the request target in origin form
    (RFC 9112 3.2.1).
    """

    __slots__ = ("_params", "_segments", "authority", "host", "origin", "path", "port", "query", "scheme", "target")

    def __init__(self, scheme: str, host: str, port: int, path: str, query: str) -> None:
        self.scheme = scheme
        self.host = host
        self.port = port
        self.path = path or "/"
        self.query = query
        authority = f"[{host}]" if ":" in host else host
        if port != DEFAULT_PORTS.get(scheme):
            authority += f":{port}"
        self.authority = authority
        """Host and, unless it is the scheme's own, port: what Host carries (RFC 9110 7.2)."""
        self.origin = f"{scheme}://{authority}"
        self.target = f"{self.path}?{query}" if query else self.path
        self._segments: tuple[str, ...] | None = None
        self._params: Mapping[str, tuple[str, ...]] | None = None

    def at(self, target: str) -> Url:
        """The URL of a path and query on the same origin, which must be of legal characters."""
        twin = Url.__new__(Url)
        twin.scheme, twin.host, twin.port = self.scheme, self.host, self.port
        twin.authority, twin.origin = self.authority, self.origin
        path, _, query = target.partition("#")[0].partition("?")
        twin.path, twin.query = path or "/", query
        twin.target = f"{twin.path}?{query}" if query else twin.path
        twin._segments = twin._params = None
        return twin

    @property
    def text(self) -> str:
        """The whole URL; of the service as a whole (``*``), its origin (RFC 9110 7.1)."""
        return self.origin if self.target == "*" else self.origin + self.target

    @property
    def segments(self) -> tuple[str, ...]:
        """The path's segments, percent-decoded one by one: an encoded slash splits none (RFC 3986 2.2)."""
        found = self._segments
        if found is None:
            raw = self.path[1:].split("/")
            found = self._segments = tuple(map(unquote, raw)) if "%" in self.path else tuple(raw)
        return found

    @property
    def params(self) -> Mapping[str, tuple[str, ...]]:
        """Each query parameter's values, in order."""
        if not self.query:
            return _NO_PARAMS
        found = self._params
        if found is None:
            pairs: dict[str, list[str]] = {}
            for name, value in parse_qsl(self.query, keep_blank_values=True):
                pairs.setdefault(name, []).append(value)
            found = self._params = MappingProxyType({name: tuple(values) for name, values in pairs.items()})
        return found

    def __repr__(self) -> str:
        return f"Url({self.text!r})"


def target_uri(url: Url, authority: str, scheme: str = "") -> Url:
    """The URL with another scheme and authority, as a service puts its target URI together (RFC 9110 7.1, 9112 3.3).

    ``authority`` is what a Host field says; with one that names no host, the URL keeps its own. ``scheme``: the
    URL's own where it is empty. A port that is the default of the one scheme is so of the other.
    """
    scheme = scheme or url.scheme
    try:
        found = parse_url(f"{scheme}://{authority}") if not set("/?#\\").intersection(authority) else None
    except ValueError:
        found = None
    if found is not None:
        host, port = found.host, found.port
    else:
        host, port = url.host, DEFAULT_PORTS[scheme] if url.port == DEFAULT_PORTS[url.scheme] else url.port
    return Url(scheme, host, port, url.path, url.query)


def same_origin(url: Url, reference: str | None) -> Url | None:
    """Where a reference leads from a URL (RFC 3986 5.2), if that is a place of the same origin."""
    if not reference:
        return None
    try:
        found = parse_url(urljoin(url.text, reference))
    except ValueError:
        return None
    return found if found.origin == url.origin else None


def sendable(url: str) -> str:
    """A URL with what can't be sent in one as octets of UTF-8, percent-encoded (RFC 3986 2.5); the rest as it is."""
    return quote(url, safe="!#$%&'()*+,/:;=?@[]~-._", errors="replace")


_UNRESERVED = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")
_ENCODED = re.compile("%[0-9A-Fa-f]{2}")


def normal(text: str) -> str:
    """A path or query with no more percent-encoding than it needs, in capitals (RFC 3986 6.2.2.1, 6.2.2.2)."""
    if "%" not in text:
        return text
    return _ENCODED.sub(lambda match: _plain(match[0]), text)


def _plain(encoded: str) -> str:
    char = chr(int(encoded[1:], 16))
    return char if char in _UNRESERVED else encoded.upper()


def is_address(host: str) -> bool:
    """Whether a host is an IP address."""
    try:
        ip_address(host)
    except ValueError:
        return False
    return True


def loopback(host: str) -> bool:
    """Whether what is sent to a host stays on the machine."""
    host = host.removesuffix(".")
    if host == "localhost" or host.endswith(".localhost"):
        return True
    return is_address(host) and ip_address(host).is_loopback


def trustworthy(url: Url) -> bool:
    """Whether nobody on the way can read or change what is sent there (Secure Contexts 3.1)."""
    return url.scheme == "https" or loopback(url.host)


_UNSENDABLE = re.compile(r"[\s\x00-\x1f]")


def parse_url(text: str) -> Url:
    """Parse an absolute http or https URL. Raises ValueError saying what is wrong."""
    if _UNSENDABLE.search(text):
        raise ValueError("a URL holds no white space; write %20")
    parts = urlsplit(text)
    scheme = parts.scheme.lower()
    if scheme not in DEFAULT_PORTS:
        raise ValueError("a URL starts with http:// or https://")
    if not parts.hostname:
        raise ValueError("the URL names no host")
    if parts.username is not None:
        raise ValueError("credentials don't belong in a URL")
    port = DEFAULT_PORTS[scheme] if parts.port is None else parts.port
    return Url(scheme, parts.hostname, port, parts.path, parts.query)
