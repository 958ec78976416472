"""The one door to the outside: whatever any command, report, table or export writes has come through here.

Two things happen to it, on values, before any format escapes them. What is secret is replaced: a value that came from
the environment by the name that the file gives it, a credential by its beginning and its length. And what a terminal
would obey, or can't write, is seen as an escape.

Secrets are known by where they stand (fields, query parameters, cookies and members that carry credentials, those that
the pipeline declares among them) and by what they are (values of the environment, the credentials of accounts, and
every credential that stood in one of these places in a message): the latter are found wherever they stand, in whatever
spelling, also where something has cut them short.
"""

from __future__ import annotations

import base64
import json
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from copy import copy
from functools import lru_cache
from typing import Any, TypeVar, cast
from urllib.parse import quote, quote_plus

import msgspec
from msgspec import UNSET, Struct, UnsetType, structs

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.compile.credentials import credentials_of, places_of
from patient_usher.core.http.secrets import Places, shortened
from patient_usher.core.verify.exchange_table import Row
from patient_usher.core.verify.record import AnswerRecord, RateRecord, Record, RequestRecord
from patient_usher.core.verify.totals import Totals

T = TypeVar("T")

SHORTEST = 4
"""Shorter values are not hidden: they stand in too many places by chance."""
SHORTEST_MET = 8
"""Of credentials that were met in messages: cookies say many short words."""
MOST_MET = 20_000
"""How many spellings of credentials that were met are remembered, those met last."""
_START = 8
"""By how many characters at its start a credential that was met is looked for."""


class Redactor:
    """What is known to be secret in this process, and how a value leaves it.

    ``environment`` maps values of the environment that files have read to what stands for them, and may grow.
    """

    def __init__(self) -> None:
        self._environment: Mapping[str, str] = {}
        self._declared: dict[str, str] = {}
        self.places = Places()
        self._size = -1
        self._spellings: dict[str, str] = {}
        self._pattern: re.Pattern[str] | None = None
        self._quick: Any = None  # the same for a record as JSON: whether it need be looked through at all
        self._met: dict[str, str] = {}
        self._starts: dict[str, list[str]] = {}
        self._begin: tuple[int, re.Pattern[str]] | None = None

    def watch(self, environment: Mapping[str, str]) -> None:
        """Values of the environment, each with what stands for it; what is added later counts too."""
        self._environment, self._size = environment, -1

    def learn(self, compiled: CompiledPipeline, environment: Mapping[str, str]) -> None:
        """A pipeline of whose credentials, and of whose values of the environment, it knows from now on."""
        self.watch(environment)
        self.declare(places_of(compiled), credentials_of(compiled))

    def declare(self, places: Places, values: Iterable[str]) -> None:
        """What a pipeline says of its credentials: where they stand, and which there are."""
        self.places = self.places | places
        self._declared.update({value: shortened(value) for value in values if len(value) >= SHORTEST})
        self._size = -1

    def meet(self, records: Iterable[Record]) -> list[str]:
        """Learn the credentials of exchanges, for what is put out beside them. Returns them in every form."""
        return [
            spelling
            for record in records
            for message in (record.request, record.response, record.second_answer)
            if message is not None
            for spelling in self._learn(message)
        ]

    def _learn(self, message: RequestRecord | AnswerRecord) -> Iterator[str]:
        url = message.url if isinstance(message, RequestRecord) else ""
        for secret in self.places.credentials(message.headers, url, message.body):
            if len(secret) < SHORTEST_MET:
                continue
            forms = (secret, *_forms(secret))
            yield from forms
            if secret not in self._met:
                told = shortened(secret)
                for spelling in forms:
                    if self._met.setdefault(spelling, told) is told:
                        self._starts.setdefault(spelling[:_START], []).append(spelling)
        while len(self._met) > MOST_MET:
            oldest = next(iter(self._met))
            del self._met[oldest]
            alike = self._starts[oldest[:_START]]
            alike.remove(oldest)
            if not alike:
                del self._starts[oldest[:_START]]

    def _tells(self, text: str, own: Iterable[str]) -> bool:
        return any(spelling in text for spelling in own) or self._hides(text)

    def _hides(self, text: str) -> bool:
        """Whether a text seems to hold a credential that was met, at the start of a word."""
        starts = self._starts
        return any(match[1] in starts for match in _WORD.finditer(text))

    def _without_met(self, text: str) -> str:
        """The text without credentials that were met: whole ones, and those of which an ellipsis cuts the rest off."""
        done, parts = 0, list[str]()
        for match in self._beginnings().finditer(text):
            at, start = match.start(), match[1]
            if at < done or start not in self._starts:
                continue
            for spelling in sorted(self._starts[start], key=len, reverse=True):
                end = at + _alike(spelling, text[at : at + len(spelling)])
                if end - at == len(spelling) or text.startswith(_CUT, end):
                    parts += [text[done:at], self._met[spelling]]
                    done = end
                    break
        return "".join((*parts, text[done:])) if parts else text

    def _beginnings(self) -> re.Pattern[str]:
        """What finds where credentials that were met may begin: of a few these alone, of many every place."""
        if len(self._starts) > _FEW:
            return _EVERYWHERE
        if self._begin is None or self._begin[0] != len(self._met):
            listed = "|".join(map(re.escape, sorted(self._starts)))
            self._begin = len(self._met), re.compile(f"(?=({listed}))")
        return self._begin[1]

    # On values.

    def redacted(self, value: T) -> T:
        """The value as it may be put out: everything in it that is text, however deep."""
        if isinstance(value, Record):
            return cast("T", self.record(value))
        found = self._find()
        return cast("T", self._deep(value, found)) if found is not None or self._met else value

    def record(self, record: Record) -> Record:
        """An exchange as it may be put out. It stays as it is; where nothing is secret, it is given back."""
        return self.record_and_json(record)[0]

    def record_and_json(self, record: Record) -> tuple[Record, bytes | None]:
        """An exchange as it may be put out, and as JSON, if it had to be written for a look through it."""
        changed: dict[str, object] = {}
        own = self.meet((record,))
        request = self._message(record.request)
        if request is not record.request:
            changed["request"] = request
        for name, answer in (("response", record.response), ("second_answer", record.second_answer)):
            if answer is not None and (told := self._message(answer)) is not answer:
                changed[name] = told
        page = record.browser
        if page is not None and page.got is not None and (got := self._message(page.got)) is not page.got:
            changed["browser"] = structs.replace(page, got=got)
        if record.rates and any(rate.stage in self.places.limits for rate in record.rates):
            changed["rates"] = [self._rate(rate) for rate in record.rates]
        if changed:
            record = structs.replace(record, **changed)
        found = self._find()
        if (found is None or self._quick is None) and not self._met:
            return record, None
        if not (record.request.body_base64 or (record.response is not None and record.response.body_base64)):
            try:
                text = encoded(record)
            except NOT_ENCODED:
                text = None
            looked = text if text is not None else _carefully(record)
            known = self._quick is not None and self._quick.search(looked) is not None
            if not known and not (self._met and self._tells(looked.decode(errors="replace"), own)):
                return record, text
        return cast("Record", self._deep(record, found)), None

    def row(self, row: Row) -> Row:
        """A row of a table as it may be put out."""
        if row["limit"] in self.places.limits and isinstance(row["limit_for"], str):
            row = {**row, "limit_for": shortened(row["limit_for"])}
        if isinstance(query := row.get("query"), str):
            shown = self.places.shortened_url(f"https://x/?{query}").partition("?")[2]
            row = row if shown == query else {**row, "query": shown}
        return self.redacted(row)

    def counts(self, counts: Totals) -> Totals:
        """Totals as they may be put out: those whom a limit counts by a credential under a shortened name."""
        told = copy(counts)
        told.limits = Counter()
        for (stage, whom), count in counts.limits.items():
            told.limits[stage, shortened(whom) if stage in self.places.limits else whom] += count
        for name in ("limits", "callers", "callers_refused", "routes", "routes_refused", "hits", "refusals", "caches"):
            setattr(told, name, Counter(self.redacted(dict(getattr(told, name)))))
        return told

    def text(self, text: str) -> str:
        """Text as it may be put out, whatever format it is of already: the last look at what leaves."""
        return self._hidden(text, self._find())

    def _hidden(self, text: str, found: re.Pattern[str] | None) -> str:
        if found is not None:
            if found.search(text):
                text = found.sub(lambda match: self._spellings[match[0]], text)
            if _CUT[0] in text or _CUT[1] in text:
                text = self._without_cut(text)
        return self._without_met(text) if self._met else text

    def _without_cut(self, text: str) -> str:
        """The text without what is left of a known secret of which something has cut the end or the beginning off."""
        for secret, told in self._spellings.items():
            if len(secret) < _LEFT:
                continue
            for at in _places(text, secret[:_LEFT]):
                end = at + _alike(secret, text[at:])
                if text.startswith(_CUT, end):
                    return self._without_cut(text[:at] + told + text[end:])
            for at in _places(text, secret[-_LEFT:]):
                end = at + _LEFT
                begin = end - _alike(secret[::-1], text[:end][::-1])
                if text.endswith(_CUT, 0, begin):
                    return self._without_cut(text[:begin] + told + text[end:])
        return text

    def _rate(self, rate: RateRecord) -> RateRecord:
        return structs.replace(rate, for_=shortened(rate.for_)) if rate.stage in self.places.limits else rate

    def _message(self, message: M) -> M:
        places = self.places
        changed: dict[str, object] = {}
        headers = places.shortened_fields(message.headers)
        if headers is not message.headers:
            changed["headers"] = headers
        if message.body and (short := places.shortened_body(message.body)) is not message.body:
            changed["body"] = short
        if isinstance(message, RequestRecord) and (url := places.shortened_url(message.url)) is not message.url:
            changed["url"] = url
        return structs.replace(message, **changed) if changed else message

    def _find(self) -> re.Pattern[str] | None:
        """What finds every known secret in every spelling; None where there is none."""
        size = len(self._environment) + len(self._declared)
        if size != self._size:
            self._size = size
            known = {**self._declared, **{v: told for v, told in self._environment.items() if len(v) >= SHORTEST}}
            self._spellings = {}
            for secret in sorted(known, key=len, reverse=True):
                for spelling in _spellings(secret):
                    self._spellings.setdefault(spelling, known[secret])
            longest = sorted(self._spellings, key=len, reverse=True)
            self._pattern = re.compile("|".join(map(re.escape, longest))) if longest else None
            self._quick = _finder(longest) if longest else None
        return self._pattern

    def _deep(self, value: object, found: re.Pattern[str] | None) -> object:
        if isinstance(value, str):
            return self._hidden(value, found)
        if value is None or isinstance(value, bool | int | float):
            return value
        if isinstance(value, dict):
            return {self._deep(key, found): self._deep(item, found) for key, item in value.items()}
        if isinstance(value, list):
            return [self._deep(item, found) for item in value]
        if isinstance(value, tuple):
            parts = [self._deep(item, found) for item in value]
            return value._make(parts) if hasattr(value, "_make") else tuple(parts)
        if isinstance(value, Struct):
            changed: dict[str, object] = {}
            for name in value.__struct_fields__:
                part = getattr(value, name)
                told = self._octets(part, found) if name == "body_base64" else self._deep(part, found)
                if told is not part:
                    changed[name] = told
            return structs.replace(value, **changed) if changed else value
        return value

    def _octets(self, coded: str | UnsetType, found: re.Pattern[str] | None) -> str | UnsetType:
        """Octets that are no text: those that hold a secret aren't shown at all."""
        if coded is UNSET:
            return UNSET
        raw = base64.b64decode(coded).decode("latin-1")
        octets = any(spelling.encode().decode("latin-1") in raw for spelling in self._spellings)
        octets = octets or (found is not None and found.search(raw) is not None) or self._without_met(raw) != raw
        return base64.b64encode(b"hidden").decode() if octets else coded


M = TypeVar("M", RequestRecord, AnswerRecord)


def _finder(texts: Iterable[str]) -> object:
    """A linear search for any of many texts in JSON."""
    import re2

    def written(text: str) -> bytes:
        try:
            return encoded(text)[1:-1]
        except NOT_ENCODED:
            return _carefully(text)[1:-1]

    return re2.compile(b"|".join(re2.escape(written(text)) for text in texts))


def _carefully(value: object) -> bytes:
    return json.dumps(msgspec.to_builtins(value, str_keys=True), ensure_ascii=False).encode(errors="surrogatepass")


encoded = msgspec.json.Encoder().encode
"""A value as JSON. Raises one of ``NOT_ENCODED`` for half a character, or a number that only Python can hold."""
NOT_ENCODED = (UnicodeEncodeError, msgspec.MsgspecError, TypeError)


def _spellings(secret: str) -> set[str]:
    """A text as formats write it: JSON, form, URL, HTML and XML, Python, and half of Basic's base64."""
    inside = json.dumps(secret)[1:-1]
    plain = json.dumps(secret, ensure_ascii=False)[1:-1]
    found = {secret, inside, plain, quote(secret, safe=""), quote(secret), quote_plus(secret), repr(secret)[1:-1]}
    found |= {json.dumps(inside)[1:-1], json.dumps(plain)[1:-1], secret.encode("unicode_escape").decode()}
    for text in (secret, plain):
        for html in (text.translate(_HTML), text.translate(_HTML_QUOTED)):
            found |= {html, "".join(f"\\{char}" if char in _MARKDOWN else char for char in html)}
    return {spelling for spelling in found if len(spelling) >= SHORTEST}


_CUT = ("…", "...")
"""What stands where something was cut off."""
_LEFT = 12
"""Of how many characters what is left of a secret is still hidden."""


_FEW = 400
_EVERYWHERE = re.compile(f"(?=(.{{{_START}}}))", re.DOTALL)
_WORD = re.compile(r"(?<![A-Za-z0-9])(?=([\w+/=.~%-]{8}))")
"""Where a credential may begin: its first characters, as many as are looked up."""


def _alike(one: str, other: str) -> int:
    """How many characters two texts have in common at their beginning."""
    pairs = enumerate(zip(one, other, strict=False))
    return next((at for at, (ours, theirs) in pairs if ours != theirs), min(len(one), len(other)))


def _places(text: str, part: str) -> Iterator[int]:
    at = text.find(part)
    while at >= 0:
        yield at
        at = text.find(part, at + 1)


@lru_cache(maxsize=4096)
def _forms(secret: str) -> set[str]:
    """What else a credential becomes: its spellings, and its octets in base64 of both alphabets (RFC 4648 4, 5)."""
    octets = secret.encode(errors="surrogatepass")
    coded = {base64.b64encode(octets).decode(), base64.urlsafe_b64encode(octets).decode()}
    found = _spellings(secret) | {text.rstrip("=") for text in coded} | {quote(text, safe="") for text in coded}
    return {text for text in found if len(text) >= SHORTEST_MET} - {secret}


_HTML = {ord("&"): "&amp;", ord("<"): "&lt;", ord(">"): "&gt;"}
_HTML_QUOTED = {**_HTML, ord('"'): "&quot;", ord("'"): "&#x27;"}
"""As ``html.escape`` writes them, which nearly every command would have to wait for."""
_MARKDOWN = "\\`*_[]|#~"
_OBEYED = re.compile("[\x00-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ufeff\ud800-\udfff]")
_KEPT = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ufeff\ud800-\udfff\ufffe\uffff]"
)


def _escape(match: re.Match[str]) -> str:
    return match[0].encode("unicode_escape", "surrogatepass").decode()


def printable(text: str, *, lines: bool = False) -> str:
    """Text of which a terminal obeys nothing and XML can hold all (XML 1.0 2.2): controls are seen as escapes.

    ``lines``: line ends and tabs stay.
    """
    return (_KEPT if lines else _OBEYED).sub(_escape, text)


REDACTOR = Redactor()
"""This process's."""
