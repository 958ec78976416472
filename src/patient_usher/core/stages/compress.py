"""``compress``: content codings by Accept-Encoding (RFC 9110 8.4, 12.5.3)."""

from __future__ import annotations

import re
from collections import OrderedDict
from collections.abc import Callable, Collection, Iterable, Sequence
from typing import Annotated, ClassVar, Literal

from pydantic import AfterValidator, Field

from patient_usher.core.http.caching import directives
from patient_usher.core.http.conditional import weakened
from patient_usher.core.http.fields import add_vary
from patient_usher.core.http.media import parse_media_type
from patient_usher.core.http.messages import OF_ALL_CONTENT, Answer
from patient_usher.core.http.negotiation import IDENTITY, choose_coding
from patient_usher.core.model import stage as base
from patient_usher.core.model.answer_factory import is_filler
from patient_usher.core.model.document import JsonMapping, JsonObject
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.errors import refusal
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.routes import RouteSpec
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.text_types import Names, Size, show, wrong

REMEMBERED = 32 << 20
"""Octets of compressed content that a stage remembers at most."""


_MEDIA = re.compile(r"\*/\*|\+[\w.-]+|[\w!#$&^.+-]+/(?:\*|[\w!#$&^.+-]+)", re.ASCII)


def _check_media(patterns: list[str]) -> list[str]:
    for pattern in patterns:
        if not _MEDIA.fullmatch(pattern):
            mend = "write a media type, text/* for all of a kind, +json for all that end so, or */* for all"
            raise wrong(f"{show(pattern)} fits no media type", mend)
    return [pattern.lower() for pattern in patterns]


class Options(StageOptions):
    """Which codings, best first; from which size; which media types; how hard."""

    trade_names: ClassVar[tuple[str, ...]] = ("brotli", "compression", "deflate", "encoding", "gzip")
    written: ClassVar[Collection[str]] = ("content-encoding", "vary")
    sentences: ClassVar[dict[str, str]] = {
        "codings": "Content codings, best first.",
        "from-size": "Smaller content is left as it is.",
        "media-types": "What is worth coding.",
        "level": "How hard to compress.",
    }

    codings: Annotated[list[Literal["br", "zstd", "gzip", "deflate"]], Field(min_length=1)] = Field(
        default=["br", "zstd", "gzip", "deflate"]
    )
    from_size: Size = 1024
    media_types: Annotated[Names, AfterValidator(_check_media)] = Field(
        default_factory=lambda: ["text/*", "application/json", "application/javascript", "+json", "+xml"]
    )
    level: Annotated[int, Field(ge=1, le=9)] = 6

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """The content is coded, in each of the codings, or left as it is."""
        return (*self.codings, "left as it is")

    def samples(self, route: RouteSpec) -> Iterable[JsonObject]:
        """Each coding alone, and none at all."""
        return ({"headers": {"Accept-Encoding": one}} for one in (*self.codings, "identity;q=0"))

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """By what it notes."""
        return (str(note.get("coding", "left as it is")),) if way == "out" else ()


def _gzip(body: bytes, level: int) -> bytes:
    import gzip

    return gzip.compress(body, level, mtime=0)


def _deflate(body: bytes, level: int) -> bytes:
    import zlib

    return zlib.compress(body, level)  # RFC 9110 8.4.1.2: the zlib format


def _br(body: bytes, level: int) -> bytes:
    import brotli

    octets: bytes = brotli.compress(body, quality=level)
    return octets


def _zstd(body: bytes, level: int) -> bytes:
    import zstandard

    return zstandard.ZstdCompressor(level=level).compress(body)


CODERS: dict[str, Callable[[bytes, int], bytes]] = {"gzip": _gzip, "deflate": _deflate, "br": _br, "zstd": _zstd}


class Saved:
    """The state: octets before and after coding, and what was coded last, since much of it comes again."""

    def __init__(self) -> None:
        self.before = self.after = self.made_up = 0
        self.remembered: OrderedDict[tuple[str, bytes], bytes] = OrderedDict()
        self.size = 0


class Stage(base.Stage):
    """Real octets: what it compresses decompresses to the same. The same content is compressed once."""

    out_work = "registered"

    def __init__(self, options: Options, setup: Setup) -> None:
        self.codings, self.from_size, self.level = options.codings, options.from_size, options.level
        self.media = options.media_types

    @property
    def partition_keys(self) -> tuple[str, ...]:
        """What it remembers only saves work."""
        return ()

    def fresh(self, seed: int) -> Saved:
        """Nothing is coded yet."""
        return Saved()

    def situations(self) -> Sequence[Callable[[], object]]:
        """What was saved is counted alone."""
        return ()

    @staticmethod
    def savings(states: Iterable[Saved]) -> str | None:
        """What coding saved, in a sentence."""
        each = [*states]
        before, after, made_up = (
            sum(getattr(state, name) for state in each) for name in ("before", "after", "made_up")
        )
        if not before:
            return None
        told = f"compression: {before:,} octets became {after:,}, {before - after:,} saved"
        if made_up:
            part = "all of it" if made_up == before else f"{made_up:,} octets of it"
            told += f"; {part} filler, which says nothing of what real content saves"
        return told

    def _suits(self, content_type: str | None) -> bool:
        essence = parse_media_type(content_type or "")[0]
        for pattern in self.media:
            if pattern.endswith("/*") and essence.startswith(pattern[:-1]):
                return True
            if pattern in (essence, "*/*") or (pattern.startswith("+") and essence.endswith(pattern)):
                return True
        return False

    def way_out(self, x: Exchange) -> Effect:
        """Code the content, or leave it and say why it might have been."""
        assert x.answer is not None
        answer = x.answer
        fields, body = answer.fields, answer.body
        accepts = x.request.fields.get("accept-encoding")
        if "content-encoding" in fields or "no-transform" in directives(fields):
            return None
        if answer.status == 304:
            self._mark_not_modified(x, accepts)
            return None
        if answer.status == 206 and answer.stands_for is not None and self._possible(answer.stands_for):
            add_vary(fields, "Accept-Encoding")  # RFC 9110 15.3.7: a part has the Vary of its 200
        if answer.status in (204, 205, 206) or not body:
            return None
        possible = self._possible(answer)
        coding = choose_coding(accepts, self.codings if possible else ())
        if possible:
            add_vary(fields, "Accept-Encoding")
        if coding is None:  # a 406 in the place of an answer that says what was done, or what failed, helps nobody
            refuses = possible and answer.status == 200 and x.request.method in ("GET", "HEAD")
            return refusal("NotAcceptable", "not-acceptable") if refuses else None
        if coding == IDENTITY:
            return None
        saved: Saved = x.memory[self.key]
        coded, remembered = self._coded(saved, coding, body)
        fields.put("Content-Encoding", coding)
        for name in (*OF_ALL_CONTENT, "repr-digest", "digest"):  # RFC 9530 2, 3: they are of what wasn't coded
            fields.drop(name)
        tag = fields.get("etag")
        if tag is not None:  # RFC 9110 8.8.3.3: other octets can't share a strong tag
            fields.put("ETag", weakened(tag))
        answer.body, answer.uncoded = coded, body
        saved.before += len(body)
        saved.after += len(coded)
        saved.made_up += len(body) * is_filler(body)
        x.note = {
            "coding": coding,
            "before": len(body),
            "after": len(coded),
            "done": "from memory" if remembered else "anew",
        }
        return None

    def _mark_not_modified(self, x: Exchange, accepts: str | None) -> None:
        """A 304 gets the Vary and the weak tag that its 200 would have had (15.4.5), but no coding."""
        assert x.answer is not None
        whole, fields = x.answer.stands_for, x.answer.fields
        if whole is None or not self._possible(whole):
            return
        add_vary(fields, "Accept-Encoding")
        coding = choose_coding(accepts, self.codings)
        if coding in (None, IDENTITY):
            return
        if (tag := fields.get("etag")) is not None:
            fields.put("ETag", weakened(tag))
        coded = x.answer.stands_for = whole.copy()  # what it stands for would be coded, and may get a tag of its own
        coded.uncoded = whole.content
        coded.fields.put("Content-Encoding", coding)

    def _possible(self, answer: Answer) -> bool:
        """Whether the content is of a size and a type to be coded."""
        return len(answer.body) >= self.from_size and self._suits(answer.fields.get("content-type"))

    def _coded(self, saved: Saved, coding: str, body: bytes) -> tuple[bytes, bool]:
        key = (coding, body)
        known = saved.remembered.get(key)
        if known is not None:
            saved.remembered.move_to_end(key)
            return known, True
        coded = CODERS[coding](body, self.level)
        saved.remembered[key] = coded
        saved.size += len(body) + len(coded)
        while saved.size > REMEMBERED and saved.remembered:
            (_, old), gone = saved.remembered.popitem(last=False)
            saved.size -= len(old) + len(gone)
        return coded, False

    def migrate(self, old: Stage, state: Saved) -> Saved:
        """What was coded harder or less hard is coded anew."""
        if old.level != self.level:
            state.remembered, state.size = OrderedDict(), 0
        return state
