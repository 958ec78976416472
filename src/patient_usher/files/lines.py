"""Traces as JSON Lines: a header line, then one request a line, read once and as they are needed."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Collection, Iterable, Iterator
from functools import lru_cache, partial
from ipaddress import ip_address
from itertools import chain, islice, pairwise
from pathlib import Path
from typing import Any, BinaryIO

import msgspec
from pydantic import ValidationError

from patient_usher.core.engine.bind.request_templates import Entry, RequestTemplate
from patient_usher.core.engine.bind.trace import BoundTrace, Maker, read_spec
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.http.messages import finite, nests_too_deep, no_constant, read_json, whole
from patient_usher.core.model.document import Json, JsonObject, Problem, Spot, Unusable, fill_from_environment
from patient_usher.core.model.enumerations import RESERVED
from patient_usher.core.model.text_types import MAX_TIME, UNITS
from patient_usher.core.model.trace import ChangeSpec, RequestSpec
from patient_usher.core.model.validation_messages import problems_of
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.files.ids import Ids
from patient_usher.files.pipeline import SiblingFiles
from patient_usher.files.unpacking import unpacked
from patient_usher.files.yaml_reader import SURROGATE, Twins, no_twins, open_file, parse_yaml

MAX_LINE = 16 << 20
_LOOKED_AT = 200
"""How many lines are looked at to see how wide a table of them gets."""
_UNITS = {unit.encode(): micros for unit, micros in UNITS.items()}
_REMEMBERED = 10_000
"""How many request templates are kept for lines that say the same."""

_HEAD = re.compile(
    rb'\s*\{\s*"id"\s*:\s*"([A-Za-z0-9][A-Za-z0-9_.-]*)"\s*,\s*'
    rb'(?:"(at|after)"\s*:\s*"([0-9]{1,15})(us|ms|s|m|h|d)"\s*,\s*)?'
    rb'(?P<lasted>"took"\s*:\s*"(?P<took>[0-9]{1,15})us"\s*,\s*)?'
)
"""How a line begins that a program has written: its id, its time in whole units, and how long it took."""


_ADDRESS = re.compile(rb',\s*"address"\s*:\s*"([0-9A-Fa-f:.]{2,45})"')
"""From where a request comes, or what a body says of an address: see ``_is_member``."""
_FLAT = re.compile(rb'(?:[^{}"\\]|"[^{}"\\]*"|\{(?:[^{}"\\]|"[^{}"\\]*")*\})*')


def _is_member(rest: bytes, at: int) -> bool:
    """Whether what begins there is surely the line's own, and stands in no object within it."""
    return b"{" not in rest[:at] or _FLAT.fullmatch(rest, 0, at) is not None


@lru_cache(maxsize=50_000)
def canonical_address(text: bytes) -> str | None:
    """An address as a caller has it, however it is spelt; None for what is none."""
    try:
        return str(ip_address(text.decode()))
    except ValueError:
        return None


class _Plain(msgspec.Struct, forbid_unknown_fields=True):
    """A line with nothing but a request line and header fields."""

    id: str
    send: str
    at: str = ""
    after: str = ""
    caller: str | None = None
    address: str | None = None
    headers: dict[str, str] = {}


_plain_of = msgspec.json.Decoder(_Plain).decode
_parts_of = msgspec.json.Decoder(dict[str, msgspec.Raw]).decode
_decode = json.JSONDecoder(
    object_pairs_hook=no_twins, parse_constant=no_constant, parse_float=finite, parse_int=whole
).decode
_text_of = msgspec.json.Decoder(str).decode


def header_of(first: bytes) -> JsonObject | None:
    """The header line of a JSON Lines trace, None where the file is of another format."""
    try:
        header = read_json(first.decode("utf-8-sig"))
    except ValueError:
        return None
    if not isinstance(header, dict) or "patient-usher" not in header or "requests" in header:
        return None
    return header


class Lines:
    """A trace that streams. What comes from a pipe can be replayed once."""

    recorded = False

    def __init__(
        self,
        name: str,
        read_file: SiblingFiles,
        path: Path,
        stream: BinaryIO | None,
        header: JsonObject,
        allow_env: Collection[str],
    ) -> None:
        self.name, self._read_file, self._allow_env = name, read_file, allow_env
        self._path, self.header = path, header
        self.picks: Callable[[int, bytes], bool] | None = None
        """Which lines are read, by their numbers and octets; None for all."""
        self.ids_differ = False
        """Whether it is known already that no id stands twice."""
        self._stream = stream

    def numbered(self) -> Iterator[tuple[int, bytes]]:
        """Every line behind the header that isn't blank, with its number; they are read away."""
        return self._lines()

    def stretches(self, count: int) -> list[tuple[int, int]]:
        """From which octet to which stretches of whole lines go, about equally long, which hold all behind the header;
        none where it is packed, or a stream.
        """
        if not self._path.is_file():
            return []
        with open_file(self._path) as stream:
            if unpacked(stream, self.name) is not stream:
                return []
            stream.readline(MAX_LINE)
            begin, end = stream.tell(), self._path.stat().st_size
            cuts = [begin]
            for share in range(1, count):
                stream.seek(max(begin + (end - begin) * share // count - 1, begin))
                stream.readline(MAX_LINE)
                cuts.append(max(stream.tell(), cuts[-1]))
        return [(one, two) for one, two in pairwise([*cuts, max(end, cuts[-1])]) if one < two]

    def within(self, begin: int, end: int) -> Iterator[tuple[int, bytes]]:
        """Every line of a stretch, blank ones too, numbered in such a way that those of the first have the numbers of
        lines and those of others go on from none.
        """
        with open_file(self._path) as stream:
            first = len(stream.readline(MAX_LINE)) == begin
            stream.seek(begin)
            for number, raw in enumerate(iter(partial(stream.readline, MAX_LINE), b""), 2 if first else 0):
                yield number, raw
                begin += len(raw)
                if begin >= end:
                    return

    @property
    def starts(self) -> int:
        """From when its times count, in microseconds since the epoch. Raises Unusable."""
        return read_spec(self.header).starts

    def unusable(self, what: str, mend: str) -> Unusable:
        """What can't be done with it, and what would be right."""
        return Unusable([Problem(Spot(self.name, 1, 1), what, mend)])

    def bound(self, pipeline: CompiledPipeline, *, known_only: bool = False) -> BoundTrace:
        """The trace made ready for a pipeline; a line that can't be used is told when it is come to."""
        problems = fill_from_environment(self.header, ENVIRONMENT, self._allow_env)
        try:
            spec = read_spec(self.header)
        except Unusable:
            spec = read_spec(parse_yaml(json.dumps(self.header), self.name))
        if problems:
            raise Unusable(problem._replace(spot=Spot(self.name, 1, 1)) for problem in problems)
        lines = self._lines()
        first = list(islice(lines, _LOOKED_AT))
        maker = Maker(spec, pipeline, self._read_file, known_only=known_only)
        return BoundTrace(
            spec.name or Path(self.name).name,
            spec.starts,
            _LineReader(self.name, maker, self._allow_env, ids_differ=self.ids_differ).entries(chain(first, lines)),
            maker.notes,
            [],
            [shown for _, raw in first if (shown := _shown(raw)) is not None],
            streams=True,
            base=spec.base.origin,
        )

    def _lines(self) -> Iterator[tuple[int, bytes]]:
        """Every line behind the header that isn't blank, with its number; none is read further than ``MAX_LINE``."""
        stream, self._stream = self._stream, None
        if stream is None:
            if not self._path.is_file():
                raise self.unusable("this stream has been read already", "save it in a file")
            stream = unpacked(open_file(self._path), self.name)
            stream.readline(MAX_LINE)
        with stream:
            for number, raw in enumerate(iter(partial(stream.readline, MAX_LINE), b""), 2):
                if not raw.isspace() and (self.picks is None or self.picks(number, raw)):
                    yield number, raw


def _shown(raw: bytes) -> tuple[str, str] | None:
    """A line's id and request line, as far as they can be told without reading it in earnest."""
    try:
        parts = _parts_of(raw)
        return _text_of(parts["id"]), _text_of(parts["send"])
    except (msgspec.MsgspecError, ValueError, KeyError):
        return None


_new: Any = tuple.__new__


class _LineReader:
    """Makes entries of lines. Lines that differ only in id and time share their request template."""

    def __init__(self, name: str, maker: Maker, allow_env: Collection[str], *, ids_differ: bool) -> None:
        self.ids_differ = ids_differ
        self.name, self.maker, self.allow_env = name, maker, allow_env
        self.ids = Ids()
        self.request_templates: dict[tuple[bytes, bytes | None], RequestTemplate] = {}
        self.order = 0

    def entries(self, lines: Iterator[tuple[int, bytes]]) -> Iterator[Entry]:
        """Every line as an entry. Raises Unusable at the first that can't be used."""
        for number, raw in lines:
            entry = self._known(number, raw) or self._read(number, raw)
            self.order += 1
            if entry.id and not self.ids_differ and not self.ids.add(entry.id):
                what = f"the id '{entry.id}' is taken"
                raise Unusable([Problem(entry.spot, what, "give each request an id of its own")])
            yield entry

    def _known(self, number: int, raw: bytes) -> Entry | None:
        """The entry, where a line before said the same but for id and time; None where this takes a closer look."""
        head = _HEAD.match(raw)
        if head is None:
            return None
        id_, which, amount, unit, _, lasted = head.groups()
        # What is left says the same, however often: with the same keys before it, and none of them twice.
        rest, address = raw[head.end() :], None
        if (
            b'"address"' in rest
            and (found := _ADDRESS.search(rest)) is not None
            and b'"caller"' not in rest
            and _is_member(rest, found.start())
        ):
            address = canonical_address(found[1])
            if address is not None:
                rest = rest[: found.start()] + rest[found.end() :]
        request_template = self.request_templates.get((rest, which))
        if request_template is None:
            begins = raw[: head.start("lasted")] if lasted is not None else raw[: head.end()]
            request_template = self._plain(begins + rest, rest, which)
            if request_template is None:
                request_template = self._thorough(number, begins + rest, rest, which)
            if request_template is None:
                return None
        name = id_.decode()
        if name in RESERVED:
            return None
        time = int(amount) * _UNITS[unit] if amount is not None else None
        if time is not None and time > MAX_TIME:
            return None
        at, after = (time, None) if which == b"at" else (None, time)
        # Made as tuples: their own constructors take twice as long.
        spot = _new(Spot, (self.name, number, 1))
        took = int(lasted) if lasted is not None else None
        entry: Entry = _new(Entry, (name, self.order, at, after, spot, request_template, None, took, address))
        return entry

    def _thorough(self, number: int, raw: bytes, rest: bytes, which: bytes | None) -> RequestTemplate | None:
        """A template for this line and those that say the same, whatever it has; None where it isn't a request's."""
        if (
            b"\\" in raw
            or b'"change"' in rest
            or b'"took"' in rest
            or raw.count(b'"id"') != 1
            or (which is None and b'"a' in rest)
        ):
            return None
        try:
            request_template = self._read(number, raw).request_template
        except Unusable:  # told once more of the whole line, with the places there
            return None
        if request_template is not None:
            self._remember(rest, which, request_template)
        return request_template

    def _remember(self, rest: bytes, which: bytes | None, request_template: RequestTemplate) -> None:
        if len(self.request_templates) >= _REMEMBERED:
            self.request_templates.clear()
        self.request_templates[rest, which] = request_template

    def _plain(self, raw: bytes, rest: bytes, which: bytes | None) -> RequestTemplate | None:
        """A template for this line and those that say the same, if it has nothing but a request line and fields."""
        if b"${" in raw or b"\\" in raw:
            return None
        try:
            line = _plain_of(raw)
        except (msgspec.MsgspecError, ValueError):
            return None
        # Every key is followed by a colon; were there more of them, one would stand twice.
        keys = (
            2
            + (which is not None)
            + (line.caller is not None)
            + (line.address is not None)
            + bool(line.headers)
            + len(line.headers)
        )
        if raw.count(b'":') != keys or (which is None and (line.at or line.after)):
            return None
        request_template = self.maker.plain(line.send, line.caller, line.headers, line.address)
        if request_template is not None:
            self._remember(rest, which, request_template)
        return request_template

    def _read(self, number: int, raw: bytes) -> Entry:
        """One line, read with all care. Raises Unusable."""
        spot = Spot(self.name, number, 1)
        doc = self._document(spot, raw)
        change = isinstance(doc, dict) and "change" in doc
        try:
            spec = ChangeSpec.model_validate(doc) if change else RequestSpec.model_validate(doc)
        except ValidationError as error:
            places = parse_yaml(raw.decode(), self.name)
            found = problems_of(error, places, ChangeSpec if change else RequestSpec)
            raise _moved(found, spot) from None
        return self.maker.make(spec, self.order, spot)

    def _document(self, spot: Spot, raw: bytes) -> Json:
        if len(raw) >= MAX_LINE:
            raise Unusable([Problem(spot, "this line is over 16 MiB", "cut the body short")])
        try:
            text = raw.decode().rstrip()
        except UnicodeDecodeError:
            raise Unusable([Problem(spot, "this is no UTF-8 text", "save the file as UTF-8")]) from None
        if nests_too_deep(text):
            raise Unusable([Problem(spot, "this is nested too deep", "flatten it")])
        try:
            doc = _decode(text)
            if SURROGATE.search(text):
                parse_yaml(text, self.name)  # for its complaint about half a character
        except Unusable as error:
            raise _moved(error.problems, spot) from None
        except Twins:
            try:
                parse_yaml(text, self.name)
            except Unusable as error:
                raise _moved(error.problems, spot) from None
            raise
        except ValueError as error:
            column = getattr(error, "colno", 1)
            problem = Problem(spot._replace(column=column), "this line is no JSON", "write one request a line")
            raise Unusable([problem]) from None
        if b"${env:" in raw and (problems := fill_from_environment(doc, ENVIRONMENT, self.allow_env)):
            raise Unusable(problem._replace(spot=spot) for problem in problems)
        return doc


def _moved(problems: Iterable[Problem], line: Spot) -> Unusable:
    """Complaints about one line, moved to where it stands in the file."""
    return Unusable(problem._replace(spot=line._replace(column=problem.spot.column)) for problem in problems)
