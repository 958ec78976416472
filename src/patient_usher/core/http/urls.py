"""URLs as a server sees them (RFC 3986, RFC 9110 section 4)."""

from __future__ import annotations

from functools import lru_cache
from urllib.parse import parse_qsl, unquote, urlsplit

DEFAULT_PORTS = {"http": 80, "https": 443}


class Url:
    """A parsed http or https URL.

    ``path`` and ``query`` are as sent; ``segments`` are percent-decoded one by one, so an
    encoded slash does not split a segment (RFC 3986 2.2). ``params`` maps a query parameter to
    its values in order.
    """

    __slots__ = (
        "decoded_path",
        "host",
        "origin",
        "params",
        "path",
        "port",
        "query",
        "scheme",
        "segments",
        "target",
        "text",
    )

    def __init__(self, scheme: str, host: str, port: int, path: str, query: str) -> None:
        self.scheme = scheme
        self.host = host
        self.port = port
        self.path = path or "/"
        self.query = query
        authority = f"[{host}]" if ":" in host else host
        if port != DEFAULT_PORTS.get(scheme):
            authority += f":{port}"
        self.origin = f"{scheme}://{authority}"
        # Path and query: the request target in origin form (RFC 9112 3.2.1).
        self.target = self.path + (f"?{query}" if query else "")
        self.text = self.origin + self.target
        raw = self.path[1:].split("/")
        self.segments = tuple(unquote(segment) if "%" in segment else segment for segment in raw)
        self.decoded_path = unquote(self.path) if "%" in self.path else self.path
        self.params: dict[str, list[str]] = {}
        if query:
            for name, value in parse_qsl(query, keep_blank_values=True):
                self.params.setdefault(name, []).append(value)

    @property
    def authority(self) -> str:
        """Host and, unless it is the scheme's own, port: what Host carries (RFC 9110 7.2)."""
        return self.origin.partition("://")[2]

    def __repr__(self) -> str:
        return f"Url({self.text!r})"


@lru_cache(maxsize=4096)
def parse_url(text: str) -> Url:
    """Parse an absolute http or https URL. Raises ValueError saying what is wrong."""
    if any(char.isspace() or char < " " for char in text):
        raise ValueError("a URL holds no white space; write %20")
    parts = urlsplit(text)
    scheme = parts.scheme.lower()
    if scheme not in DEFAULT_PORTS:
        raise ValueError("a URL starts with http:// or https://")
    if not parts.hostname:
        raise ValueError("the URL names no host")
    if parts.username is not None:
        raise ValueError("credentials don't belong in a URL")
    return Url(scheme, parts.hostname, parts.port or DEFAULT_PORTS[scheme], parts.path, parts.query)
