"""Trace files: YAML and JSON that people write, JSON Lines in bulk, and HAR recordings."""

from __future__ import annotations

import sys
from collections.abc import Collection, Mapping
from pathlib import Path
from typing import Any, BinaryIO, NamedTuple

from patient_usher.core.engine.bind.trace import BoundTrace, prepare, read_spec
from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.http.messages import read_json
from patient_usher.core.model.document import Unusable, fill_from_environment
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.files.pipeline import Beside
from patient_usher.files.yaml_reader import MAX_OCTETS, decoded, open_file, parse


class HarOptions(NamedTuple):
    """How to read a recording: its host, whose fresh credentials (``SCHEME:ACCOUNT``), and what to expect."""

    host: str | None = None
    sign: str | None = None
    expect_recorded: bool = False


AS_IT_IS = HarOptions()
"""Nothing said of recordings."""


def is_har(doc: Any) -> bool:
    """Whether a document is a HAR recording."""
    return isinstance(doc, dict) and isinstance(doc.get("log"), dict) and "entries" in doc["log"]


def header_of(first: bytes) -> dict[str, Any] | None:
    """The header line of a JSON Lines trace, None where the file is of another format."""
    try:
        header = read_json(first.decode("utf-8-sig"))
    except ValueError:
        return None
    if not isinstance(header, dict) or "patient-usher" not in header or "requests" in header:
        return None
    return header


class Trace:
    """A trace, read once and replayed as often as is wanted. It never changes.

    ``Trace.read(path)`` reads a file, ``Trace.of(requests)`` takes them as the file would say them.
    """

    def __init__(
        self,
        name: str,
        read_file: Beside,
        *,
        text: str = "",
        doc: Any = None,
        har: HarOptions,
        allow_env: Collection[str] = (),
    ) -> None:
        self.name = name
        self._allow_env = allow_env
        self._read_file, self._har = read_file, har
        self._text, self._doc = text, doc

    @staticmethod
    def read(
        path: str | Path, *, har: HarOptions = AS_IT_IS, allow_files: bool = False, allow_env: Collection[str] = ()
    ) -> Trace:
        """The trace in a file; ``-`` is standard input. The format is told from the content.

        ``har`` says how to read a recording, ``allow_env`` which variables of the environment it may read.
        Raises Unusable where the file can't be read; what is wrong inside, replaying tells.
        """
        path = Path(path)
        read_file = Beside(path.parent, allow_files)
        stream: BinaryIO = sys.stdin.buffer if str(path) == "-" else open_file(path, pipes=True)
        name = "standard input" if str(path) == "-" else str(path)
        first = stream.readline(MAX_OCTETS)
        header = header_of(first)
        if header is not None:
            from patient_usher.files.lines import Lines  # what people write needs none of it

            return Lines(name, read_file, har, path, stream, header, allow_env)
        with stream:
            raw = first + stream.read(MAX_OCTETS)
        return Trace(name, read_file, text=decoded(raw, name), har=har, allow_env=allow_env)

    @staticmethod
    def of(*requests: Mapping[str, Any], **header: Any) -> Trace:
        """A trace of these requests (and changes), each as the file would say it; ids are made where left out.

        ``header`` is what stands above the requests: starts, base, callers, name.
        """
        entries = [
            dict(entry) if "change" in entry else {"id": f"q{number}", **entry} for number, entry in enumerate(requests)
        ]
        doc = {"patient-usher": "trace/1", **header, "requests": entries}
        return Trace("trace", Beside(Path()), doc=doc, har=HarOptions())

    @property
    def recorded(self) -> bool:
        """Whether it is a recording."""
        doc = self._doc if self._doc is not None else parse(self._text, self.name, places=False)
        return is_har(doc)

    def document(self) -> Any:
        """What the file says, as data. Raises Unusable where it can't be read."""
        return self._doc if self._doc is not None else parse(self._text, self.name, places=True)

    def requests_for(self, pipeline: Blueprint) -> Any:
        """The trace as data, variables of the environment filled in, a recording as a trace. Raises Unusable."""
        return self._doc if self._doc is not None else self._parsed(pipeline, places=False)[0]

    def prepared(self, pipeline: Blueprint) -> BoundTrace:
        """The trace made ready for a pipeline. Raises Unusable with every problem."""
        if self._doc is not None:
            return self._ready(self._doc, [], pipeline)
        try:
            return self._ready(*self._parsed(pipeline, places=False), pipeline)
        except Unusable:
            return self._ready(*self._parsed(pipeline, places=True), pipeline)

    def _parsed(self, pipeline: Blueprint, *, places: bool) -> tuple[Any, list[str]]:
        doc = parse(self._text, self.name, places=places)
        notes: list[str] = []
        if is_har(doc):
            from patient_usher.files.har import trace_of_har

            doc, notes = trace_of_har(doc, pipeline, self._har)
        if problems := fill_from_environment(doc, ENVIRONMENT, self._allow_env):
            raise Unusable(problems)
        return doc, notes

    def _ready(self, doc: Any, notes: list[str], pipeline: Blueprint) -> BoundTrace:
        return prepare(read_spec(doc), doc, Path(self.name).name, pipeline, self._read_file, notes)
