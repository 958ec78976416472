"""What comes in may hold secrets; the keeper puts stand-ins in their place, and counts them by sort.

A secret is known by the name that it goes by (of a field, a parameter, a member of a body, however coded), or by its
looks anywhere: a JSON Web Token, a password in a URL, an e-mail address, a card's number, a key in PEM, long random
text. Equal secrets get equal stand-ins, of the same shape where a shape may matter; a token's tells until when it
counts. Not everything can be known: whoever hands a trace on looks through it first.
"""

from __future__ import annotations

import base64
import json
import re
from collections import Counter
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from itertools import pairwise
from urllib.parse import quote, unquote, unquote_plus

from patient_usher.core.http.dates import MICROSECONDS, moment, numeric_date
from patient_usher.core.http.media import is_json, parse_media_type
from patient_usher.core.http.messages import nests_too_deep
from patient_usher.core.http.secrets import secret_name
from patient_usher.core.model.document import Json, JsonObject

REMEMBERED = 50_000
"""How many different secrets get stand-ins that tell them apart; all others of a sort share one."""

_LINKS = frozenset({"location", "content-location", "referer", "origin"})
_NOT_BY_LOOKS = frozenset({
    "etag", "if-none-match", "if-match", "if-range", "traceparent", "content-digest", "digest",
})  # fmt: skip
"""Fields that hold long random text and no secret."""
_HASHES = frozenset({
    "v", "ver", "version", "hash", "rev", "revision", "etag", "checksum", "digest", "md5", "sha1", "sha256",
    "commit", "build", "trace", "id",
})  # fmt: skip
"""Last words of names whose values may look random and tell nothing."""
_LINK_WORDS = frozenset({
    "reset", "verify", "confirm", "invite", "invitation", "activate", "unsubscribe", "magic", "share", "token",
    "recover",
})  # fmt: skip
"""Segments of a path behind which a secret stands."""

# Every pattern begins where a run of its characters begins, or is bounded: no text takes more than linear time.
_JWT = r"(?<![\w-])eyJ[\w-]{6,}\.[\w-]{6,}\.[\w-]*"
_MAIL = r"(?<![\w.+-])[\w.+-]{1,64}(?:@|%40)[\w-]{1,63}(?:\.[\w-]{1,63}){0,8}\.[A-Za-z]{2,24}"
_CARD = r"(?<![\w.-])[3-6]\d{3}(?:[ -]?\d{4}){2}[ -]?\d{1,7}(?![\w-])"
_PEM = r"-----BEGIN [A-Z ]*PRIVATE KEY-----.*?(?:-----END [A-Z ]*PRIVATE KEY-----|$)"
_USERINFO = r"(?<=://)[^/?#\s@:]*:[^/?#\s@]+(?=@)"
_RUN = r"[A-Za-z0-9_+/~=-]{20,}"
_ISSUED = r"(?<![\w-])(?:(?:AKIA|ASIA)[A-Z0-9]{16}(?![\w-])|xox[a-z]-[\w-]{10,200})"
"""Keys and tokens that begin so wherever they are issued."""
_SORTS = {"pem": _PEM, "issued": _ISSUED, "jwt": _JWT, "userinfo": _USERINFO, "mail": _MAIL, "card": _CARD, "run": _RUN}
_LOOKS = re.compile("|".join(f"(?P<{sort}>{pattern})" for sort, pattern in _SORTS.items()), re.DOTALL)
_NAMED = re.compile(
    r"""([A-Za-z][\w.-]*)(\\?["']?\s*[:=]\s*)(?:(\\?["'])([^"'\\\n]{1,4096})(?=\3)|(\\?["']?)([^\s"'&,;\\]+))"""
)
"""A name and its value in free text: ``password=...``, ``"token": "..."``, ``secret='two words'``."""
_SAID = re.compile(r"\b([A-Za-z][\w-]{1,40})( is:? )((?=[^\s]*\d)[^\s,;\"']{4,200})")
"""The same in a sentence, where the value has a digit: ``Password is ...``."""
_ELEMENT = re.compile(r"<([A-Za-z][\w.:-]{0,60})>([^<>]{1,4096})(?=</)")
"""An element of XML that holds text alone."""
_ADDRESS = re.compile(r"https?://[^\s\"'<>\\]{1,8192}")
_CAMEL = re.compile(r"[a-z]*(?:[A-Z][a-z]+)+")
_UUID = re.compile(r"[0-9a-f]{8}-?[0-9a-f]{4}-?[1-8][0-9a-f]{3}-?[89ab][0-9a-f]{3}-?[0-9a-f]{12}", re.IGNORECASE)
_SORTABLE = re.compile(r"0[0-9A-HJKMNP-TV-Z]{25}")
_HEX = re.compile(r"[0-9a-f]{32,}|[0-9A-F]{32,}")
_SEPARATORS = re.compile(r"[^A-Za-z0-9]+")
_OF_SCHEMAS = frozenset({"example", "examples", "default", "const", "enum", "value"})
"""Members of a schema that hold values of what it describes."""
_MEMBERS = frozenset({"properties", "patternProperties", "$defs", "definitions", "dependentSchemas"})
"""Members of a schema that hold schemas by the names of what they describe."""
_HIDDEN = re.compile(r"hidden-[a-z]+-\d+(?:-until-\w+)?")
_STEPS = re.compile("[/_-]")
_RELATIVE = re.compile(r"/[^\s?#]{0,2000}[?#][^\s]{1,8000}")
_SIGNING_IN = frozenset(
    {"login", "signin", "sign-in", "callback", "oauth", "oauth2", "authorize", "token", "auth", "sso"}
)
_BARE = {"key": "key", "code": "code"}
"""Parameters that are secrets in a query only; a code where somebody signs in."""
_OWN_FIELDS = ("-auth", "-access", "-session")
_ENDING = re.compile(r"\.[A-Za-z0-9]{1,5}(?![\w-])")
_PART_NAME = re.compile(r'[\s;]name="([^"]{0,200})"')


# Runs of fewer than twenty characters, and what parts them: in one pass, nothing is looked at twice.
_PLAIN_PATH = re.compile(r"/(?:[A-Za-z0-9_+~-]{0,19}+[./!*()',&])*+[A-Za-z0-9_+~-]{0,19}+")
_PLAIN_QUERY = re.compile(r"(?:[A-Za-z0-9_~/+-]{0,19}+[.=&!*()',])*+[A-Za-z0-9_~/+-]{0,19}+")
_PLAIN_TEXT = re.compile(r"(?:[A-Za-z0-9_+/~-]{0,19}+[ .!*()',;])*+[A-Za-z0-9_+/~-]{0,19}+")
SHORT_TARGET = (
    r"/(?:[A-Za-z0-9_+~-]{0,12}+[./!*()',&])*+[A-Za-z0-9_+~-]{0,12}+"
    r"(?:\?(?:[A-Za-z0-9_~/+-]{0,12}+[.=&!*()',])*+[A-Za-z0-9_~/+-]{0,12}+)?+"
)
"""Such a target of runs of at most twelve: no card's number is so short, and only its names can tell of secrets."""
_VALUES = re.compile(r"=[^&=]*(?=&|$)")
_LIKE_A_CARD = re.compile(r"[3-6]\d{3}(?:[ +-]?\d{4}){2}[ +-]?\d")
_PLAIN_ORIGIN = re.compile(r"https?://[a-z][a-z0-9-]{0,30}(?:\.[a-z0-9-]{1,30}){0,4}(?=[/?]|$)")


def _random(text: str) -> bool:
    """Whether a run of characters is long random text: letters of both sorts and digits change all the time."""
    if _UUID.fullmatch(text) or _SORTABLE.fullmatch(text):
        return False
    if _HEX.fullmatch(text):
        return True
    plain = _SEPARATORS.sub("", text)
    if len(plain) < 18 or plain.isdigit():
        return False
    if _CAMEL.fullmatch(plain) and 4 * sum(map(str.isupper, plain)) <= len(plain):  # words, written as one
        return False
    sorts = [0 if c.isdigit() else 1 if c.isupper() else 2 for c in plain]
    changes = sum(a != b for a, b in pairwise(sorts))
    return changes / len(plain) >= 0.34


def _luhn(digits: str) -> bool:
    doubled = [int(d) * (1 + at % 2) for at, d in enumerate(reversed(digits))]
    return sum(d - 9 if d > 9 else d for d in doubled) % 10 == 0


def _expiry(token: str) -> str:
    """Until when a token says that it counts."""
    part = token.split(".")[1]
    try:
        claims = json.loads(base64.urlsafe_b64decode(part + "=" * (-len(part) % 4)))
        until = numeric_date(claims.get("exp"))
        return f"-until-{moment(until // MICROSECONDS * MICROSECONDS):%Y%m%dT%H%M%SZ}" if until is not None else ""
    except (ValueError, AttributeError, RecursionError, OverflowError):
        return ""


class SecretKeeper:
    """Hides secrets; ``keeps`` lets everything pass. ``names`` are further names of secrets, in lower case."""

    def __init__(self, *, keeps: bool = False, names: frozenset[str] = frozenset()) -> None:
        self.keeps, self.names = keeps, names
        self.counts: Counter[str] = Counter()
        self._known: dict[tuple[str, str], str] = {}
        self._numbers: Counter[str] = Counter()
        self.named = lru_cache(maxsize=4096)(self._named)
        self._plain_path = lru_cache(maxsize=REMEMBERED)(self._plain_segments)
        self.nothing_in_target = lru_cache(maxsize=4096)(self._nothing_in_target)
        self._tell = lru_cache(maxsize=4096)(self._names_tell)

    def _named(self, name: str) -> str:
        """Of which sort what goes by a name is; nothing, where the name says nothing of it."""
        plain = unquote_plus(name)
        return "secret" if plain.lower() in self.names else secret_name(plain)

    def hidden(self, sort: str, value: str) -> str:
        """The stand-in for a secret; what stands in for one already stays."""
        if _HIDDEN.fullmatch(value):
            return value
        self.counts[sort] += 1
        found = self._known.get((sort, value))
        if found is None:
            if len(self._known) >= REMEMBERED:
                return _stand_in(sort, 0, value)
            self._numbers[sort] += 1
            found = self._known[sort, value] = _stand_in(sort, self._numbers[sort], value)
        return found

    # By name and by looks.

    def value(self, name: str, value: str) -> str:
        """The value that goes by a name."""
        if self.keeps or not value:
            return value
        if len(value) < 5 or self.nothing_in_text(value):
            return self.hidden(sort, value) if (sort := self.named(name)) else value
        if looks := _LOOKS.fullmatch(value):
            if looks.lastgroup in ("jwt", "pem", "issued"):
                return self.hidden(str(looks.lastgroup), value)
            if looks.lastgroup == "card" and _luhn(re.sub(r"\D", "", value)):
                return self.hidden("card", value)
        if sort := self.named(name):
            return self.hidden(sort, value)
        words = _SEPARATORS.split(re.sub(r"([a-z])([A-Z])", r"\1-\2", name).lower())
        return self.text(value, random=words[-1] not in _HASHES)

    def text(self, text: str, *, random: bool = True) -> str:
        """Text of any sort; without ``random``, what is only random in it stays."""
        if self.keeps or len(text) < 5:
            return text

        if "://" in text and (address := _ADDRESS.search(text)) is not None and ("?" in text or "#" in text):
            before, behind = text[: address.start()], text[address.end() :]
            return self.text(before, random=random) + self.url(address[0]) + self.text(behind, random=random)
        if _RELATIVE.fullmatch(text):
            return self.url(text)

        def named(match: re.Match[str]) -> str:
            name, between, *groups = match.groups()
            mark, value = groups[-2:] if groups[-1] is not None or len(groups) < 4 else groups[:2]
            sort = "" if value.startswith("hidden-") else self.named(name)
            return name + between + (mark or "") + self.hidden(sort, value) if sort else match[0]

        found = _LOOKS.sub(lambda match: self._looked(match, random), text)
        found = _NAMED.sub(named, found) if "=" in found or ":" in found else found
        if " is" in found:
            found = _SAID.sub(lambda match: self._said(match, match[1] + match[2], match[3]), found)
        if "</" in found:
            found = _ELEMENT.sub(lambda match: self._said(match, f"<{match[1]}>", match[2]), found)
        return found

    def _said(self, match: re.Match[str], before: str, value: str) -> str:
        sort = "" if value.startswith("hidden-") else self.named(match[1].rpartition(":")[2])
        return before + self.hidden(sort, value) if sort else match[0]

    def _looked(self, match: re.Match[str], random: bool) -> str:
        value, sort = match[0], str(match.lastgroup)
        if sort == "card" and not _luhn(re.sub(r"\D", "", value)):
            return value
        if sort == "userinfo":
            user, _, password = value.partition(":")
            return f"{user}:{self.hidden('password', password)}"
        if sort != "run":
            return self.hidden(sort, unquote(value) if sort == "mail" else value)
        if not random or _ENDING.match(match.string, match.end()):  # a file's name
            return value
        parts = [value] if _random(value) else value.split("/")
        return "/".join(self.hidden("token", part) if _random(part) else part for part in parts)

    # What certainly holds nothing: said quickly, of most of what comes.

    def _nothing_in_target(self, target: str) -> bool:
        """Whether a path and query hold nothing that would be hidden, and can be sent as they are. No: perhaps."""
        path, _, query = target.partition("?")
        if not self._plain_path(path):
            return False
        if not query:
            return True
        if _PLAIN_QUERY.fullmatch(query) is None or "eyJ" in query or _LIKE_A_CARD.search(query):
            return False
        return not self._tell(_VALUES.sub("", query))

    def nothing_in_short(self, target: str) -> bool:
        """The same of a ``SHORT_TARGET``: most of the look was taken when it was read."""
        path, _, query = target.partition("?")
        if not self._plain_path(path) or "eyJ" in query:
            return False
        return not query or not self._tell(_VALUES.sub("", query))

    def _plain_segments(self, path: str) -> bool:
        if _PLAIN_PATH.fullmatch(path) is None or "//" in path or "eyJ" in path or _LIKE_A_CARD.search(path):
            return False
        return _LINK_WORDS.isdisjoint(_STEPS.split(path.lower()))

    def _names_tell(self, names: str) -> bool:
        """Whether one of the names of a query, parted by ``&``, may stand for a secret; or a value held another."""
        return "=" in names or any(name.lower() in _BARE or self.named(name) for name in names.split("&"))

    def nothing_in_text(self, text: str) -> bool:
        """Whether a text holds nothing that would be hidden, and can stand in a field as it is. No: perhaps."""
        if _PLAIN_TEXT.fullmatch(text) is None or "eyJ" in text or " is" in text:
            return False
        return not _LIKE_A_CARD.search(text)

    def nothing_in_link(self, url: str) -> bool:
        """The same of a whole URL with a plain host."""
        origin = _PLAIN_ORIGIN.match(url)
        return origin is not None and self.nothing_in_target(url[origin.end() :] or "/")

    # Parts of a request.

    def url(self, url: str) -> str:
        """A URL or the target of one: what stands in its host part, path, query and fragment."""
        if self.keeps:
            return url
        rest, hash_, fragment = url.partition("#")
        head, mark, query = rest.partition("?")
        origin, scheme, path = "", *head.partition("://")[1:]
        if scheme:
            host, slash, path = path.partition("/")
            origin, path = self.text(head[: head.index("://")] + scheme + host, random=False), slash + path
        else:
            path = head
        found = origin + self._path(path)
        if mark:
            signs_in = not _SIGNING_IN.isdisjoint(path.lower().split("/"))
            found += mark + "&".join(self._pair(pair, signs_in=signs_in) for pair in query.split("&"))
        return found + hash_ + "&".join(map(self._pair, fragment.split("&")))

    def _path(self, path: str) -> str:
        made, before = [], ""
        for segment in path.split("/"):
            plain, *matrix = segment.split(";")
            shown = unquote(plain)
            linked = len(shown) >= 16 and not _LINK_WORDS.isdisjoint(_STEPS.split(before))
            known = self.hidden("token", shown) if linked else self.text(shown)
            made.append(";".join([plain if known == shown else quote(known, safe="@"), *map(self._pair, matrix)]))
            before = plain.lower()
        return "/".join(made)

    def _pair(self, pair: str, *, signs_in: bool = False) -> str:
        name, equals, value = pair.partition("=")
        if not equals:
            return pair if (known := self.text(shown := unquote_plus(pair))) == shown else quote(known, safe="@")
        shown = unquote_plus(value)
        sort = _BARE.get(unquote_plus(name).lower(), "") if shown else ""
        sort = "" if sort == "code" and not signs_in else sort
        known = self.hidden(sort, shown) if sort else self.value(name, shown)
        return pair if known == shown else f"{name}={quote(known, safe='@')}"

    def field(self, name: str, value: str) -> str:
        """A header field's value; schemes and cookies' names stay."""
        lower = name.lower()
        if self.keeps or lower in _NOT_BY_LOOKS:
            return value
        if lower in ("authorization", "proxy-authorization"):
            scheme, space, rest = value.partition(" ")
            if not space:
                return self.hidden("token", value)
            sort = "password" if scheme.lower() == "basic" else "jwt" if re.fullmatch(_JWT, rest) else "token"
            return f"{scheme} {self.hidden(sort, rest)}"
        if lower in ("cookie", "set-cookie"):
            pairs = value.split(";") if lower == "cookie" else [value.partition(";")[0]]
            shown = ";".join(self._cookie(pair) for pair in pairs)
            return shown if lower == "cookie" else shown + "".join(value.partition(";")[1:])
        if lower in _LINKS:
            return self.url(value)
        return self.hidden("token", value) if value and lower.endswith(_OWN_FIELDS) else self.value(name, value)

    def _cookie(self, pair: str) -> str:
        name, equals, value = pair.partition("=")
        return f"{name}={self.hidden('cookie', value)}" if equals and value else pair

    def body(self, octets: bytes, media: str) -> bytes:
        """A body by its media type: members of JSON, forms and their parts, or text. What is no text stays."""
        if self.keeps:
            return octets
        essence, params = parse_media_type(media)
        if essence.startswith("multipart/"):
            return self._multipart(octets, dict(params).get("boundary", ""))
        is_text = is_json(essence) or essence == "application/x-www-form-urlencoded" or essence.startswith("text/")
        try:
            text = octets.decode(errors="surrogateescape" if is_text else "strict")
        except UnicodeDecodeError:
            return octets
        return self._text_body(text, essence).encode(errors="surrogateescape")

    def _text_body(self, text: str, essence: str) -> str:
        if (is_json(essence) or text.lstrip()[:1] in ("{", "[")) and not nests_too_deep(text):
            try:
                tree = json.loads(text)
            except (ValueError, RecursionError):
                return self.text(text)
            kept = self.json(tree)
            return text if kept == tree else json.dumps(kept, ensure_ascii=False)
        if essence == "application/x-www-form-urlencoded":
            return "&".join(map(self._pair, text.split("&")))
        return self.text(text)

    def _multipart(self, octets: bytes, boundary: str) -> bytes:
        """Parts between delimiters (RFC 2046 5.1.1), which are long and random and hide nothing."""
        delimiter = b"--" + boundary.encode()
        if not boundary or delimiter not in octets:
            delimiter = b"\n--"
        return delimiter.join(map(self._part, octets.split(delimiter)))

    def _part(self, part: bytes) -> bytes:
        """One part of a form (RFC 7578), or what stands around them. A part that is no text stays."""
        blank = next((blank for blank in (b"\r\n\r\n", b"\n\n") if blank in part), b"")
        head, _, content = part.partition(blank) if blank else (b"", b"", part)
        text = content.rstrip(b"\r\n")
        name = _PART_NAME.search(head.decode("latin-1"))
        try:
            shown = self.value(name[1], text.decode()) if name is not None else self.text(text.decode())
        except UnicodeDecodeError:
            return part
        return head + blank + shown.encode() + content[len(text) :]

    def schema(self, tree: Json, name: str = "") -> Json:
        """A JSON Schema with the secrets hidden of what it gives as examples; what it asks of values stays as it is."""
        if self.keeps:
            return tree
        if isinstance(tree, list):
            return [self.schema(one, name) if isinstance(one, dict | list) else one for one in tree]
        if not isinstance(tree, dict):
            return tree
        listed = "enum" in tree or "const" in tree
        shown: JsonObject = {}
        for key, value in tree.items():
            if key in ("enum", "const") or (key == "default" and listed):
                shown[key] = value
            elif key in ("example", "examples", "default"):
                shown[key] = self.json(value, name)
            elif key in _MEMBERS and isinstance(value, dict):
                shown[key] = {member: self.schema(below, member) for member, below in value.items()}
            elif key in ("title", "description") and isinstance(value, str):
                shown[key] = self.text(value)
            else:
                shown[key] = self.schema(value, name)
        return shown

    def json(self, tree: Json, name: str = "") -> Json:
        """A tree with the secrets of its members hidden."""
        if self.keeps:
            return tree
        if isinstance(tree, dict):
            named = next((tree[key] for key in ("name", "key") if isinstance(tree.get(key), str)), "")
            if named and tree.keys() <= {"name", "key", "value", "type", "id"} and "value" in tree:
                return {key: self.json(value, named if key == "value" else str(key)) for key, value in tree.items()}
            below = {key: name if name and key in _OF_SCHEMAS else str(key) for key in tree}
            return {key: self.json(value, below[key]) for key, value in tree.items()}
        if isinstance(tree, list):
            return [self.json(value, name) for value in tree]
        if isinstance(tree, str):
            return self.value(name, tree)
        if isinstance(tree, int) and not isinstance(tree, bool):
            shown = self.value(name, str(tree))
            return tree if shown == str(tree) else shown
        return tree

    def told(self) -> list[str]:
        """What was hidden, in words: how often of each sort."""
        if not self.counts:
            return []
        sorts = ", ".join(f"{times:,} {_WORDS[sort][times != 1]}" for sort, times in sorted(self.counts.items()))
        return [f"hidden: {sorts}; look through it before you hand it on; --keep-secrets keeps all"]


MINTED = ("bearer", "basic", "api-key", "same")
"""How a fresh credential is given in the place of a hidden one; ``same``: by the scheme that it had."""


def signed_anew(row: JsonObject, scheme: str, account: str, starts: str | None) -> JsonObject:
    """A request whose hidden credential is minted afresh when it is sent: over at once, where it was over then.

    ``starts`` is when the trace does (RFC 3339).
    """
    headers: JsonObject = row.get("headers", {})
    had = {name: values[0] if isinstance(values, list) else values for name, values in headers.items()}
    found = next((name for name, value in had.items() if secret_name(name) and "hidden-" in value), None)
    if found is None or found.lower() == "cookie":
        return row
    kept = {name: value for name, value in headers.items() if name != found}
    words = had[found].lower().split(" ")
    own = words[0] if words[0] in ("bearer", "basic") else "api-key"
    sign: JsonObject = {own if scheme == "same" else scheme: account}
    until = re.search(r"-until-(\d{8}T\d{6})Z", had[found])
    if until is not None and starts is not None:
        began = datetime.fromisoformat(starts.replace("Z", "+00:00"))
        sent = began + timedelta(microseconds=int(str(row.get("at", "0us")).removesuffix("us")))
        if datetime.strptime(until[1], "%Y%m%dT%H%M%S").replace(tzinfo=UTC) <= sent:
            sign["expires-in"] = "0s"
    rest = {key: value for key, value in row.items() if key != "headers"}
    return {**rest, "sign": sign, **({"headers": kept} if kept else {})}


def _stand_in(sort: str, number: int, value: str) -> str:
    """Of the same shape where a shape may matter."""
    if sort == "mail":
        return f"hidden-{number}@mail.example"
    if sort == "card":
        digits = f"4999{number:011}"
        return digits + next(str(last) for last in range(10) if _luhn(digits + str(last)))
    return f"hidden-{sort}-{number}{_expiry(value) if sort == 'jwt' else ''}"


_WORDS: dict[str, tuple[str, str]] = {
    "card": ("card number", "card numbers"),
    "code": ("code", "codes"),
    "cookie": ("cookie", "cookies"),
    "issued": ("issued key", "issued keys"),
    "jwt": ("signed token", "signed tokens"),
    "key": ("key", "keys"),
    "mail": ("e-mail address", "e-mail addresses"),
    "password": ("password", "passwords"),
    "pem": ("private key", "private keys"),
    "secret": ("secret", "secrets"),
    "session": ("session", "sessions"),
    "signature": ("signature", "signatures"),
    "token": ("token", "tokens"),
}
