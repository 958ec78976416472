"""What of a message is a credential, and how much of one is shown."""

from __future__ import annotations

import re
from functools import lru_cache
from urllib.parse import parse_qsl, urlencode

PARAMETERS = frozenset(
    {
        "access_token",
        "api_key",
        "apikey",
        "client_secret",
        "id_token",
        "password",
        "refresh_token",
        "secret",
        "sig",
        "signature",
        "token",
    }
)
"""Names of query parameters, and of members of a body, whose values are secrets."""
FIELDS = frozenset({"authorization", "proxy-authorization", "cookie", "set-cookie", "x-api-key", "x-auth-token"})
"""Header fields that carry credentials."""

HIDDEN = "hidden-by-the-import"
"""What stands in a trace where something that came in was secret."""

_MEMBER = re.compile(rf'("(?:{"|".join(sorted(PARAMETERS))})"\s*:\s*)"((?:[^"\\]|\\.)*)"', re.IGNORECASE)
_ENDS = tuple(f'{end}"' for end in ("token", "key", "secret", "password", "sig", "signature"))
"""How the names of ``PARAMETERS`` end in JSON: a look for these is cheaper than for the names."""
_STARTS = tuple(f"{name}=" for name in sorted((*PARAMETERS, "key")))
"""How ``PARAMETERS`` begin in a query."""
_PARTS = ("api-key", "apikey", "token", "secret")
"""What the name of a field of one's own says that carries a credential."""


def shortened(secret: str) -> str:
    """The beginning of a secret and its length: enough to tell two apart, too little to use."""
    return f"{secret[:4]}…({len(secret)})" if len(secret) > 12 else f"…({len(secret)})"


@lru_cache(maxsize=4096)
def carries(name: str) -> bool:
    """Whether a header field of this name carries credentials."""
    lower = name.lower()
    return lower in FIELDS or any(part in lower for part in _PARTS)


def shortened_field(name: str, value: str) -> str:
    """A header field's value with its credentials shortened; schemes, cookie names and attributes stay."""
    lower = name.lower()
    if lower in ("authorization", "proxy-authorization"):
        scheme, space, rest = value.partition(" ")
        return f"{scheme} {shortened(rest)}" if space else shortened(value)
    if lower == "set-cookie":
        pair, semicolon, rest = value.partition(";")
        return _cookie(pair) + semicolon + rest
    if lower == "cookie":
        return "; ".join(_cookie(pair.strip()) for pair in value.split(";"))
    return shortened(value) if carries(name) else value


def _cookie(pair: str) -> str:
    name, equals, value = pair.partition("=")
    return f"{name}={shortened(value)}" if equals and value else pair


def _has(text: str, parts: tuple[str, ...]) -> bool:
    """Whether any part stands in a text, in lower case. A plain loop: every message of every output comes by."""
    lower = text.lower()
    for part in parts:  # noqa: SIM110
        if part in lower:
            return True
    return False


def shortened_url(url: str) -> str:
    """A URL whose query's secrets are shortened."""
    head, mark, query = url.partition("?")
    if not mark or not _has(query, _STARTS):
        return url
    pairs = [
        (name, shortened(value) if name.lower() in PARAMETERS or name.lower() == "key" else value)
        for name, value in parse_qsl(query, keep_blank_values=True)
    ]
    return f"{head}?{urlencode(pairs, safe='()')}".replace("%E2%80%A6", "…")


def shortened_body(text: str) -> str:
    """JSON text, or a form, whose members with secret names are shortened."""
    if '"' in text:
        if not _has(text, _ENDS):
            return text
        return _MEMBER.sub(lambda match: f'{match[1]}"{shortened(match[2])}"', text)
    if "=" in text and "\n" not in text and not text.startswith("<"):
        return shortened_url(f"?{text}")[1:]
    return text
