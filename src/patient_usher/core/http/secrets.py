"""Which parts of a message carry credentials, and how much of one is shown."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from functools import cached_property
from itertools import pairwise
from urllib.parse import parse_qsl, urlencode

from patient_usher.core.http.authentication import basic_pair

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

_PARTS = ("api-key", "apikey", "token", "secret")
"""What the name of a field of one's own says that carries a credential."""
_LINKS = frozenset({"location", "content-location", "referer"})
"""Fields that hold a URL."""


_SORTS: dict[str, tuple[str, ...]] = {
    "password": ("password", "passwd", "pwd", "passphrase", "passcode", "pw"),
    "token": ("token", "jwt", "bearer", "csrf", "xsrf", "assertion", "authorization"),
    "key": ("apikey",),
    "secret": ("secret", "credential", "credentials", "ssn", "iban"),
    "signature": ("signature", "sig", "hmac"),
    "session": ("sid", "sessionid", "jsessionid", "phpsessid"),
    "code": ("otp", "totp", "pin", "cvv", "cvc"),
}
"""Words of names whose values are secrets, by sort."""
_BY_WORD = {word: sort for sort, words in _SORTS.items() for word in words}
_BY_PAIR = {
    ("session", "id"): "session",
    ("code", "verifier"): "secret",
    ("saml", "response"): "token",
    ("remember", "me"): "cookie",
    ("one", "time"): "code",
    ("security", "answer"): "secret",
    ("connection", "string"): "secret",
    ("access", "key"): "key",
    ("user", "pass"): "password",
    **{(word, "code"): "code" for word in ("mfa", "auth", "verification", "security", "recovery", "backup")},
}
_WHOLE = {
    "pass": "password",
    "auth": "secret",
    "_csrf": "token",
    "card": "card",
    "pan": "card",
    "ticket": "token",
    "sas": "token",
}
_NO_SECRET = frozenset({
    "type", "count", "expires", "expiry", "in", "at", "ttl", "size", "length", "limit", "url", "uri",
    "endpoint", "age", "policy", "algorithm", "alg", "hint", "rules", "required", "enabled", "used", "strength",
})  # fmt: skip
"""Last words of names that only speak of a secret."""
_OTHER_KEYS = frozenset({
    "sort", "partition", "idempotency", "primary", "foreign", "cache", "routing", "object", "group", "order",
    "map",
})  # fmt: skip
_NAME_WORDS = re.compile(r"[A-Z]+(?=[A-Z][a-z])|[A-Z]?[a-z]+|[A-Z]+|[0-9]+")


_ENDS = {"token": "token", "password": "password", "secret": "secret"}
"""How words end that are several in one: authtoken, userpassword."""


def secret_name(name: str) -> str:
    """Of which sort the value is that goes by a name (of a field, a parameter, a member); nothing for none."""
    words = [word.lower() for word in _NAME_WORDS.findall(name)]
    if not words or words[-1] in _NO_SECRET:
        return ""
    if (one := words[-1].removesuffix("s")) in _BY_WORD or one in ("key", "code"):  # several of them
        words[-1] = one
    if (whole := _WHOLE.get(name.lower())) is not None:
        return whole
    for pair in pairwise(words):
        if pair in _BY_PAIR:
            return _BY_PAIR[pair]
    for word in words:
        if word in _BY_WORD:
            return _BY_WORD[word]
    if joined := next((sort for end, sort in _ENDS.items() if words[-1].endswith(end)), ""):
        return joined
    own_key = words[-1] == "key" and len(words) > 1 and words[-2] not in _OTHER_KEYS
    return "key" if own_key else ""


def shortened(secret: str) -> str:
    """The beginning of a secret and its length: enough to tell two apart, too little to use."""
    return f"{secret[:4]}…({len(secret)})" if len(secret) > 12 else f"…({len(secret)})"


class _Carriers(dict[str, bool]):
    """By name, whether a header field may carry credentials: all that were asked for, up to some thousand."""

    def __init__(self, carries: Callable[[str], bool]) -> None:
        super().__init__()
        self._carries = carries

    def __missing__(self, name: str) -> bool:
        if len(self) >= 4096:
            self.clear()
        found = self[name] = self._carries(name) or name.lower() in _LINKS
        return found


class Places:
    """Where credentials stand in messages: those that everybody knows, and those that a pipeline declares.

    ``fields`` are names of header fields, ``parameters`` of query parameters and members of bodies; ``limits`` the
    stages that count by a credential, so that whom they count for is one.
    """

    def __init__(self, fields: Iterable[str] = (), parameters: Iterable[str] = (), limits: Iterable[str] = ()) -> None:
        self.fields = frozenset(name.lower() for name in fields)
        self.parameters = frozenset(name.lower() for name in parameters)
        self.limits = frozenset(limits)
        self._carriers = _Carriers(self.carries)

    def __or__(self, other: Places) -> Places:
        return Places(self.fields | other.fields, self.parameters | other.parameters, self.limits | other.limits)

    def carries(self, name: str) -> bool:
        """Whether what stands in a header field of this name is a credential."""
        lower = name.lower()
        return lower in FIELDS or lower in self.fields or any(part in lower for part in _PARTS)

    def parameter(self, name: str) -> bool:
        """Whether a query parameter, or a member of a body, of this name is a credential."""
        lower = name.lower()
        return lower in PARAMETERS or lower in self.parameters or lower == "key"

    def shortened_field(self, name: str, value: str) -> str:
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
        if lower in _LINKS:
            return self.shortened_url(value)
        return shortened(value) if self._carriers[name] else value

    def shortened_fields(self, pairs: list[tuple[str, str]]) -> list[tuple[str, str]]:
        """Header fields with their credentials shortened; the same object where there are none."""
        carriers = self._carriers
        for name, _ in pairs:
            if carriers[name]:
                return [pair if not carriers[pair[0]] else (pair[0], self.shortened_field(*pair)) for pair in pairs]
        return pairs

    def credentials(self, pairs: Iterable[tuple[str, str]], url: str = "", body: str | None = None) -> Iterator[str]:
        """The credentials of a message, by where they stand: in its fields, its URL and the members of its body.

        Of Basic both the pair as it is sent and its password (RFC 7617 2); of cookies their values.
        """
        for name, value in pairs:
            if not self._carriers[name]:
                continue
            lower = name.lower()
            if lower in ("authorization", "proxy-authorization"):
                scheme, _, rest = value.partition(" ")
                yield rest or value
                if scheme.lower() == "basic" and (pair := basic_pair(rest)) is not None:
                    yield pair[1]
            elif lower in ("cookie", "set-cookie"):
                for part in value.split(";")[: 1 if lower == "set-cookie" else None]:
                    yield part.partition("=")[2].strip()
            elif lower in _LINKS:
                yield from self._of_query(value)
            else:
                yield value
        yield from self._of_query(url)
        if body and '"' in body:
            if _has(body, self._ends):
                yield from (match[2] for match in self._member.finditer(body) if match[2])
        elif body and "=" in body and "\n" not in body and not body.startswith("<"):
            yield from self._of_query(f"?{body}")

    def _of_query(self, url: str) -> Iterator[str]:
        _, mark, query = url.partition("?")
        if mark and _has(query, self._starts):
            yield from (value for name, value in parse_qsl(query) if self.parameter(name))

    def shortened_url(self, url: str) -> str:
        """A URL whose query's secrets are shortened; the same object where it has none."""
        head, mark, query = url.partition("?")
        if not mark or not _has(query, self._starts):
            return url
        pairs = [
            (name, shortened(value) if value and self.parameter(name) else value)
            for name, value in parse_qsl(query, keep_blank_values=True)
        ]
        return f"{head}?{urlencode(pairs, safe='()')}".replace("%E2%80%A6", "…")

    def shortened_body(self, text: str) -> str:
        """JSON text, or a form, whose members with secret names are shortened; the same object where it has none."""
        if '"' in text:
            if not _has(text, self._ends):
                return text
            return self._member.sub(lambda match: f'{match[1]}"{shortened(match[2] or match[3])}"', text)
        if "=" in text and "\n" not in text and not text.startswith("<"):
            told = self.shortened_url(f"?{text}")[1:]
            return text if told == text else told
        return text

    @cached_property
    def _names(self) -> frozenset[str]:
        return PARAMETERS | self.parameters | self.fields | FIELDS

    @cached_property
    def _member(self) -> re.Pattern[str]:
        names = "|".join(map(re.escape, sorted(self._names, key=len, reverse=True)))
        return re.compile(rf'("(?:{names})"\s*:\s*)(?:"((?:[^"\\]|\\.)+)"|(-?\d[\d.eE+-]*))', re.IGNORECASE)

    @cached_property
    def _ends(self) -> tuple[str, ...]:
        """How the names of members end in JSON: a look for these is cheaper than for the names."""
        own = {f'{name}"' for name in (*self.parameters, *self.fields, "authorization", "cookie")}
        return (*(f'{end}"' for end in ("token", "key", "secret", "password", "sig", "signature")), *sorted(own))

    @cached_property
    def _starts(self) -> tuple[str, ...]:
        """How secret parameters begin in a query."""
        return tuple(f"{name}=" for name in sorted((*PARAMETERS, *self.parameters, "key")))


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
