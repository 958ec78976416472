"""``read-body``: makes the request's body readable for what is behind it."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Sequence
from functools import cache
from typing import Any, ClassVar, Literal, NoReturn
from urllib.parse import parse_qsl

from pydantic import Field

from patient_usher.core.http.fields import Fields
from patient_usher.core.http.media import is_json, parse_media_type
from patient_usher.core.http.messages import read_json
from patient_usher.core.http.negotiation import ALIASES
from patient_usher.core.model import stage as base
from patient_usher.core.model.document import Json, JsonMapping, JsonObject
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.errors import Fault, refusal
from patient_usher.core.model.exchange import UNREAD, Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.routes import RouteSpec
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.text_types import Size, no_items


class Options(StageOptions):
    """Which media are read, and how much of them."""

    trade_names: ClassVar[tuple[str, ...]] = ("body", "body-limit", "body-size", "form", "json", "parse-body")
    sentences: ClassVar[dict[str, str]] = {
        "media": "Which bodies are read.",
        "max-size": "How large a body may be, decoded.",
        "other-media": "Whether any other body is refused with 415, or passed on unread to a stage behind.",
        "codings": "Content codings that are decoded; any other is refused with 415.",
    }

    media: list[Literal["json", "form", "multipart", "text"]] = Field(
        default=["json", "form", "multipart", "text"], min_length=1
    )
    other_media: Literal["refused", "passed-on"] = "refused"
    max_size: Size = 1 << 20
    codings: list[Literal["gzip", "deflate", "br", "zstd"]] = Field(default_factory=no_items)

    def leaves(self) -> Collection[str]:
        """The body."""
        return ("body",)

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """A body of each sort is read; one is refused, and why; there is none."""
        others = "passed on" if self.other_media == "passed-on" else _REFUSED["media-type"]
        return [*(f"{medium} read" for medium in self.media), "too large", "malformed", others, "no body"]

    def samples(self, route: RouteSpec) -> Iterable[JsonObject]:
        """A body of each sort, and those that are refused."""
        if route.at.method in ("GET", "HEAD", "DELETE", "OPTIONS"):
            return
        yield from (_BODIES[medium] for medium in self.media)
        yield {"headers": {"Content-Type": "application/json"}, "text": "{"}
        yield {"headers": {"Content-Type": "application/xml"}, "text": "<a/>"}
        limit = self.max_size if route.body_limit is None else route.body_limit
        if limit <= LARGEST_SAMPLE:
            yield {"headers": {"Content-Type": "text/plain"}, "text": "x" * (limit + 1)}

    def bodies(self, route: RouteSpec | None) -> Sequence[JsonObject] | None:
        """Each medium that is read; one of another; one that is too large, can't be decoded or can't be read."""
        own = route.body_limit if route is not None else None
        limit = self.max_size if own is None else own
        if limit > _LARGEST_TRIED:
            return None
        found = [dict(_BODIES[medium]) for medium in self.media]
        found += [{"headers": {"Content-Type": "text/plain"}, "text": "x" * (limit + 1)}]
        found += [{"headers": {"Content-Type": "application/xml"}, "text": "<a/>"}, {"headers": {}, "text": "a"}]
        malformed = {"json": "application/json", "multipart": "multipart/form-data; boundary=b"}
        found += [
            {"headers": {"Content-Type": type_}, "text": "{"} for name, type_ in malformed.items() if name in self.media
        ]
        for medium in self.media:
            plain = {"json": "application/json", "form": "application/x-www-form-urlencoded"}.get(medium, "text/plain")
            found += [
                {"headers": {"Content-Type": f"{plain}; charset=made-up"}, "text": "a=1"},
                {"headers": {"Content-Type": plain, "Content-Encoding": "made-up"}, "text": "a=1"},
                *(
                    {"headers": {"Content-Type": plain, "Content-Encoding": one}, "text": "a=1"}
                    for one in self.codings[:1]
                ),
            ]
        return found

    def classes(self, fact: str) -> Sequence[str | None] | None:
        """The fields that tell of the body belong to it."""
        return () if fact in ("header.content-type", "header.content-encoding") else None

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """By what it notes."""
        if way != "in":
            return ()
        if did != "continued":
            return (_REFUSED.get(x.why or "", "malformed"),)
        if "read" in note:
            return (f"{note['read']} read",)
        return ("passed on",) if "passed on" in note else ("no body",) if not x.sent.body else ()

    def largest_body(self) -> int | None:
        """What is decoded may have."""
        return self.max_size


_LARGEST_TRIED = 1 << 21
LARGEST_SAMPLE = 1 << 16
"""A body over a limit is only made where the limit isn't over this."""
_PART = '--made-up\r\nContent-Disposition: form-data; name="note"\r\n\r\nmade up\r\n--made-up--\r\n'
_BODIES: dict[str, JsonObject] = {
    "json": {"json": {"note": "made up"}},
    "form": {"form": {"note": "made up"}},
    "multipart": {"headers": {"Content-Type": "multipart/form-data; boundary=made-up"}, "text": _PART},
    "text": {"headers": {"Content-Type": "text/plain"}, "text": "made up"},
}
_REFUSED = {"too-large": "too large", "malformed-body": "malformed", "media-type": "another media type"}
"""Why a body is refused -> the branch."""


def _medium(essence: str) -> str | None:
    if is_json(essence):
        return "json"
    if essence == "application/x-www-form-urlencoded":
        return "form"
    if essence == "multipart/form-data":
        return "multipart"
    return "text" if essence.startswith("text/") else None


def _malformed(what: str) -> NoReturn:
    raise Fault(refusal("MalformedBody", "malformed-body", what))


_CHARSETS = re.compile(
    r"utf-?8|us-ascii|ascii|latin-?1|iso-8859-\d{1,2}|windows-125[0-8]|utf-16(le|be)?|koi8-[ru]|shift_jis|euc-(jp|kr)|gb18030|gbk|big5",
    re.IGNORECASE,
)
"""Character sets that bodies come in; what else Python calls an encoding is none."""


def _decoded(body: bytes, params: dict[str, str]) -> str:
    charset = params.get("charset", "utf-8")
    if not _CHARSETS.fullmatch(charset):
        raise Fault(refusal("UnsupportedMedia", "charset", f"the character set {charset} isn't known"))
    try:
        return body.decode(charset)
    except LookupError:
        raise Fault(refusal("UnsupportedMedia", "charset", f"the character set {charset} isn't known")) from None
    except UnicodeDecodeError as error:
        _malformed(f"octet {error.start} isn't {charset}")


def _json(body: bytes, params: dict[str, str]) -> object:
    """JSON is UTF-8, whatever ``charset`` says: the parameter has no meaning (RFC 8259 8.1, 11)."""
    try:
        return read_json(_decoded(body, {}))
    except ValueError as error:
        _malformed(str(error))


def _gathered(pairs: list[tuple[str, Any]]) -> JsonObject:
    """Repeated names become lists."""
    found: dict[str, list[Json]] = {}
    for name, value in pairs:
        found.setdefault(name, []).append(value)
    return {name: values[0] if len(values) == 1 else values for name, values in found.items()}


def _form(body: bytes, params: dict[str, str]) -> object:
    return _gathered(parse_qsl(_decoded(body, params), keep_blank_values=True))


@cache
def _parser() -> Any:
    """The parser of multipart bodies, whose own log lines would reach standard error: what is wrong is ours to say."""
    from logging import NullHandler, getLogger

    from python_multipart import MultipartParser

    getLogger("python_multipart").addHandler(NullHandler())
    return MultipartParser


def _multipart(body: bytes, params: dict[str, str]) -> object:
    """multipart/form-data (RFC 7578): fields as text, files as name, type and size."""
    from python_multipart.exceptions import FormParserError

    boundary = params.get("boundary")
    if not boundary:
        _malformed("multipart/form-data without a boundary")
    parts: list[tuple[dict[str, str], bytearray]] = []
    name, value = bytearray(), bytearray()

    def header_end() -> None:
        parts[-1][0][name.decode("latin-1").lower()] = value.decode(errors="replace")
        name.clear()
        value.clear()

    ended = []
    callbacks: Any = {
        "on_part_begin": lambda: parts.append(({}, bytearray())),
        "on_header_field": lambda data, start, end: name.extend(data[start:end]),
        "on_header_value": lambda data, start, end: value.extend(data[start:end]),
        "on_header_end": header_end,
        "on_part_data": lambda data, start, end: parts[-1][1].extend(data[start:end]),
        "on_end": lambda: ended.append(True),
    }
    try:
        parser = _parser()(boundary, callbacks)
        parser.write(_delimited(body, boundary))
        parser.finalize()
    except (FormParserError, ValueError) as error:
        _malformed(str(error) if isinstance(error, FormParserError) else "its boundary can't be used")
    if not ended:
        _malformed("the last boundary is missing")
    pairs: list[tuple[str, object]] = []
    for fields, content in parts:
        disposition = dict(
            parse_media_type("form-data/x;" + fields.get("content-disposition", "").partition(";")[2])[1]
        )
        if "name" not in disposition:
            _malformed("a part has no name")
        if "filename" in disposition:
            media = fields.get("content-type", "text/plain")
            entry: Json = {"filename": disposition["filename"], "content-type": media, "size": len(content)}
        else:
            entry = bytes(content).decode(errors="replace")
        pairs.append((disposition["name"], entry))
    return _gathered(pairs)


def _delimited(body: bytes, boundary: str) -> bytes:
    """The parts without a preamble, and delimiters without padding (RFC 2046 5.1.1): the parser takes neither."""
    mark = re.escape(boundary.encode("latin-1", "replace"))
    first = re.search(rb"(?:\A|\r\n)(?=--" + mark + rb"(?:--)?[ \t]*(?:\r\n|\Z))", body)
    rest = body[first.end() :] if first is not None else body
    return re.sub(rb"((?:\A|\r\n)--" + mark + rb"(?:--)?)[ \t]+(?=\r\n|\Z)", rb"\1", rest)


class BadCoding(Exception):
    """The content isn't coded as it says."""


def _whole(body: bytes, limit: int, decoder_of: Callable[[], Any], bad: type[Exception], *, joined: bool) -> bytes:
    """A coded body, decoded to its end: one that is cut off, or goes on behind it, isn't what it says.

    ``joined``: whether members may follow one another (RFC 1952 2.2, RFC 8878 3.1). Decodes in small steps, so that a
    bomb is noticed before it has gone off: a little more than the limit is made at most.
    """
    found, rest = bytearray(), body
    while rest:
        decoder, ended = decoder_of(), False
        try:
            while rest and not ended and len(found) <= limit:
                found += decoder.decompress(rest[:64])
                ended, rest = decoder.eof, (decoder.unused_data if decoder.eof else b"") + rest[64:]
        except bad:
            raise BadCoding from None
        if len(found) > limit:
            return bytes(found[: limit + 1])
        if not ended or (rest and not joined):
            raise BadCoding
    return bytes(found)


def _inflated(body: bytes, limit: int, window: int, *, joined: bool) -> bytes:
    import zlib

    return _whole(body, limit, lambda: zlib.decompressobj(window), zlib.error, joined=joined)


def _unbrotlied(body: bytes, limit: int) -> bytes:
    import brotli

    decoder, found = brotli.Decompressor(), bytearray()
    try:
        steps = [body[at : at + 64] for at in range(0, len(body), 64)]
        steps[-1:] = [octet.to_bytes() for octet in steps[-1]] if steps else []  # to see what stands behind the end
        for step in steps:
            if decoder.is_finished():
                raise BadCoding
            found += decoder.process(step)
            if len(found) > limit:
                return bytes(found[: limit + 1])
    except brotli.error:
        raise BadCoding from None
    if not decoder.is_finished():
        raise BadCoding
    return bytes(found)


def _unzstd(body: bytes, limit: int) -> bytes:
    import zstandard

    return _whole(body, limit, zstandard.ZstdDecompressor().decompressobj, zstandard.ZstdError, joined=True)


DECODERS: dict[str, Callable[[bytes, int], bytes]] = {
    "gzip": lambda body, limit: _inflated(body, limit, 31, joined=True),
    "deflate": lambda body, limit: _inflated(body, limit, 15, joined=False),
    "br": _unbrotlied,
    "zstd": _unzstd,
}
"""What undoes a coding (RFC 9110 8.4.1): at most one octet more than the limit is given."""

_READERS = {"json": _json, "form": _form, "multipart": _multipart, "text": _decoded}


class Stage(base.Stage):
    """Reads by media type: 413, 415 and 400 (RFC 9110 15.5.14, 15.5.16, 15.5.1) where it can't."""

    def __init__(self, options: Options, setup: Setup) -> None:
        self.media, self.limit = frozenset(options.media), options.max_size
        self.codings = options.codings
        self.passes_others = options.other_media == "passed-on"

    def way_in(self, x: Exchange) -> Effect:
        """Read the body, or refuse it; one that is read already passes on."""
        if x.body is not UNREAD:
            return None
        body = x.request.body
        if not body:
            x.body = None
            return None
        declared = x.request.fields.get("content-type") or ""
        essence, params = parse_media_type(declared)
        medium = _medium(essence)
        if self.passes_others and medium not in self.media:
            x.note = {"passed on": f"the body is {essence or 'of no type'}"}
            return None
        own = x.route.settings.body_limit if x.route is not None else None
        limit = own if own is not None else self.limit
        if len(body) > limit:
            x.note = {"size": len(body), "limit": limit}
            return refusal("TooLarge", "too-large", f"{len(body)} octets, over the limit of {limit}")
        coding = (x.request.fields.get("content-encoding") or "identity").strip().lower()
        if coding != "identity":
            if ALIASES.get(coding, coding) not in self.codings:
                fields = Fields([("Accept-Encoding", ", ".join(self.codings) or "identity")])  # RFC 9110 15.5.16
                return refusal("UnsupportedMedia", "media-type", f"the body is coded as {coding}", fields=fields)
            try:
                body = DECODERS[ALIASES.get(coding, coding)](body, limit)
            except BadCoding:
                _malformed(f"it is no {coding}")
            if len(body) > limit:
                x.note = {"size": f"over {limit} when decoded", "limit": limit}
                return refusal("TooLarge", "too-large", f"over the limit of {limit} octets when decoded")
        if medium is None or medium not in self.media:
            what = f"the body is {essence or 'of no type'}" if declared else "the body says no Content-Type"
            return refusal("UnsupportedMedia", "media-type", f"{what}; read here: {', '.join(sorted(self.media))}")
        x.body = _READERS[medium](body, dict(params))
        x.note = {"read": medium, "size": len(body)}
        return None
