"""A log in a trace's place: read as an import with no options reads it, line by line, as often as it takes."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from pathlib import Path

from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.http.dates import timestamp
from patient_usher.core.model.document import Unusable
from patient_usher.core.model.values import literal
from patient_usher.core.model.words import counted as count_of
from patient_usher.files.lines import Lines
from patient_usher.files.log_members import FORMATS
from patient_usher.files.log_trace import Callers, ImportStats, Writing, lines, of_hosts, trace_lines
from patient_usher.files.pipeline import SiblingFiles
from patient_usher.files.secret_keeper import SecretKeeper
from patient_usher.files.sources import InputSource, format_of

BASE = "https://service.example"
"""Where requests go of which a log says no more than a path."""
_LOOKED_AT = 200


class LogLines(Lines):
    """The lines of a log as those of a trace. Raises Unusable where none can be replayed."""

    def __init__(self, source: InputSource, kind: str, read_file: SiblingFiles, allow_env: Collection[str]) -> None:
        self._source, self._kind = source, kind
        counted = ImportStats()
        first = next(self._timed(counted), None)
        if first is None:
            raise source.unusable("no line of it can be replayed", "see what usher import says of it")
        name = literal(source.path.name)
        header = {"patient-usher": "trace/1", "name": name, "starts": timestamp(first[0]), "base": BASE}
        super().__init__(source.name, read_file, source.path, None, header, allow_env)
        self._starts, self._notes = first[0], list[str]()

    def bound(self, pipeline: CompiledPipeline, *, known_only: bool = False) -> BoundTrace:
        """The trace made ready; when all has been read, its notes say what could not be."""
        return super().bound(pipeline)._replace(notes=self._notes)

    def stretches(self, count: int) -> list[tuple[int, int]]:
        """None: lines of a log are told in order of time."""
        return []

    def _timed(self, counted: ImportStats) -> Iterator[tuple[int, str]]:
        """Each request's time, and its line but for id and time."""
        seen = lines(self._source.opened(), self._source.name, FORMATS[self._kind]({}), Callers(), counted)
        for at, row, _ in trace_lines(of_hosts(seen, (), counted), Writing(SecretKeeper()), counted):
            yield at, row

    def _lines(self) -> Iterator[tuple[int, bytes]]:
        counted = ImportStats()
        for number, (at, row) in enumerate(self._timed(counted), 1):
            raw = f'{{"id":"r{number}","at":"{at - self._starts}us",{row}\n'.encode()
            if self.picks is None or self.picks(number, raw):
                yield number, raw
        self._notes[:] = ["read as a log; usher import says what is taken for what, and signs requests"]
        if counted.odd:
            file, line, why, text = counted.first[0]
            told = f"{count_of(counted.odd, 'line')} of {counted.read:,} can't be read or replayed"
            self._notes.append(f"{told}; the first, {file}:{line}: {why}: {text}")


def log_lines(path: Path, read_file: SiblingFiles, allow_env: Collection[str]) -> LogLines | None:
    """A log as a trace; None where the file is none, or no line of its beginning can be read."""
    source = InputSource(str(path), path)
    try:
        kind = format_of(source)
    except Unusable:
        return None
    if kind not in FORMATS or not _reads(source, kind):
        return None
    return LogLines(source, kind, read_file, allow_env)


def _reads(source: InputSource, kind: str) -> bool:
    """Whether any line of the beginning says what was asked."""
    counted = ImportStats()
    seen = lines(source.opened(), source.name, FORMATS[kind]({}), Callers(), counted)
    return next(seen, None) is not None and counted.read <= _LOOKED_AT
