"""Traces: YAML and JSON that people write, JSON Lines in bulk, and HAR recordings. The content tells which."""

from __future__ import annotations

import re
import sys
from pathlib import Path
from typing import Protocol

from patient_usher.core.engine.bind.trace import BoundTrace, prepare, read_spec
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.model.document import Json, JsonMapping, Problem, Spot, Unusable, fill_from_environment
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.files.har import AS_IT_IS, HarOptions, is_har, trace_of_har
from patient_usher.files.lines import Lines, header_of
from patient_usher.files.pipeline import SiblingFiles
from patient_usher.files.trust import NOTHING, Trust
from patient_usher.files.unpacking import unpacked
from patient_usher.files.yaml_reader import MAX_OCTETS, decoded, open_file, parse


class TraceSource(Protocol):
    """What a trace is read from. ``recorded``: whether it is a recording."""

    name: str

    @property
    def recorded(self) -> bool:
        """Whether it is a recording."""

    def bound(self, pipeline: CompiledPipeline, *, known_only: bool = False) -> BoundTrace:
        """The trace made ready for a pipeline. Raises Unusable with every problem."""


class Trace:
    """A trace, read once and replayed as often as is wanted. It never changes.

    ``Trace.read(path)`` reads a file, ``Trace.of(requests)`` takes them as the file would say them.
    """

    def __init__(self, source: TraceSource) -> None:
        self._source = source

    @staticmethod
    def read(path: str | Path, *, har: HarOptions = AS_IT_IS, trust: Trust = NOTHING) -> Trace:
        """The trace in a file, packed or not; ``-`` is standard input. A log is taken for one of its requests.

        ``har`` says how to read a recording. Raises Unusable where the file can't be read; what is wrong inside,
        replaying tells.
        """
        path = Path(path)
        read_file = SiblingFiles(path.parent, trust.files)
        name = "standard input" if str(path) == "-" else str(path)
        stream = unpacked(sys.stdin.buffer if str(path) == "-" else open_file(path, pipes=True), name)
        first = stream.readline(MAX_OCTETS)
        header = header_of(first)
        if header is not None:
            return Trace(Lines(name, read_file, path, stream, header, trust.env))
        with stream:
            head = first + stream.read(65_536)
            if _may_be_a_log(head) and path.is_file():
                from patient_usher.files.log_as_trace import log_lines  # most traces are none

                if (found := log_lines(path, read_file, trust.env)) is not None:
                    return Trace(found)
            raw = head + stream.read(MAX_OCTETS)
        return Trace(ReadDocument(name, read_file, har, trust, text=decoded(raw, name)))

    @staticmethod
    def of(*requests: JsonMapping, **header: object) -> Trace:
        """A trace of these requests (and changes), each as the file would say it; ids are made where left out.

        ``header`` is what stands above the requests: starts, base, callers, name.
        """
        entries = [
            dict(entry) if "change" in entry else {"id": f"q{number}", **entry} for number, entry in enumerate(requests)
        ]
        return Trace.document_of({"patient-usher": "trace/1", **header, "requests": entries}, "trace")

    @staticmethod
    def document_of(doc: Json, name: str, *, trust: Trust = NOTHING) -> Trace:
        """The trace that a document says; what it names is looked for in the present folder."""
        return Trace(ReadDocument(name, SiblingFiles(Path(), trust.files), AS_IT_IS, trust, doc=doc))

    @property
    def name(self) -> str:
        """What it is called in messages."""
        return self._source.name

    @property
    def lines(self) -> Lines | None:
        """The lines of a trace in JSON Lines; None of any other."""
        return self._source if isinstance(self._source, Lines) else None

    @property
    def recorded(self) -> bool:
        """Whether it is a recording."""
        return self._source.recorded

    def document(self) -> Json:
        """What the file says, as data. Raises Unusable where it can't be read, or is a trace in bulk."""
        return self._written().said()

    def requests_for(self, pipeline: CompiledPipeline) -> Json:
        """The trace as data, variables of the environment filled in, a recording as a trace. Raises Unusable."""
        return self._written().filled(pipeline)

    def bound(self, pipeline: CompiledPipeline, *, known_only: bool = False) -> BoundTrace:
        """The trace made ready for a pipeline. Raises Unusable with every problem.

        ``known_only``: what is expected of stages, routes and environments that the pipeline lacks is left out.
        """
        return self._source.bound(pipeline, known_only=known_only)

    def _written(self) -> ReadDocument:
        if not isinstance(self._source, ReadDocument):
            what = "this is a trace in bulk"
            raise Unusable([Problem(Spot(self.name, 1, 1), what, "name one that people write")])
        return self._source


def _may_be_a_log(head: bytes) -> bool:
    """Whether the beginning of a file, which may be cut off, is surely no trace's and no recording's."""
    first = head.lstrip().partition(b"\n")[0].rstrip()
    own = b"patient-usher" in head or re.match(rb'\{\s*"log"\s*:\s*\{', first) is not None
    return not own and (first[:1] != b"{" or first[-1:] == b"}")


class ReadDocument:
    """A trace that is held in memory, as text or as data."""

    def __init__(
        self, name: str, read_file: SiblingFiles, har: HarOptions, trust: Trust, *, text: str = "", doc: Json = None
    ) -> None:
        self.name = name
        self._read_file, self._har, self._env = read_file, har, trust.env
        self._text, self._doc = text, doc

    @property
    def recorded(self) -> bool:
        """Whether it is a recording."""
        return is_har(self._doc if self._doc is not None else parse(self._text, self.name, places=False))

    def said(self) -> Json:
        """What the file says, with places. Raises Unusable where it can't be read."""
        return self._doc if self._doc is not None else parse(self._text, self.name, places=True)

    def filled(self, pipeline: CompiledPipeline) -> Json:
        """The same with variables of the environment filled in, a recording as a trace."""
        return self._doc if self._doc is not None else self._parsed(pipeline, places=False)[0]

    def bound(self, pipeline: CompiledPipeline, *, known_only: bool = False) -> BoundTrace:
        """The trace made ready for a pipeline. Raises Unusable with every problem."""
        if self._doc is not None:
            return self._ready(self._doc, [], pipeline, known_only=known_only)
        try:
            return self._ready(*self._parsed(pipeline, places=False), pipeline, known_only=known_only)
        except Unusable:
            return self._ready(*self._parsed(pipeline, places=True), pipeline, known_only=known_only)

    def _parsed(self, pipeline: CompiledPipeline, *, places: bool) -> tuple[object, list[str]]:
        doc = parse(self._text, self.name, places=places)
        notes: list[str] = []
        if is_har(doc):
            doc, notes = trace_of_har(doc, pipeline, self._har)
        if problems := fill_from_environment(doc, ENVIRONMENT, self._env):
            raise Unusable(problems)
        return doc, notes

    def _ready(self, doc: Json, notes: list[str], pipeline: CompiledPipeline, *, known_only: bool) -> BoundTrace:
        name = Path(self.name).name
        return prepare(read_spec(doc), doc, name, pipeline, self._read_file, notes, known_only=known_only)
