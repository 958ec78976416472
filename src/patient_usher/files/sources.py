"""What comes in: files packed or not, standard input and pipes; and of what format each is, found by looking."""

from __future__ import annotations

import json
import re
import shutil
import sys
import tempfile
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, BinaryIO, NamedTuple, TypeVar

from patient_usher.core.model.document import JsonObject, Problem, Spot, Unusable
from patient_usher.files.log_lines import UnreadableLine
from patient_usher.files.log_members import any_line, is_head
from patient_usher.files.unpacking import unpacked
from patient_usher.files.yaml_reader import MAX_OCTETS, decoded, open_file, parse

_T = TypeVar("_T")
_HEAD = 65_536
_OURS = re.compile(r"""^[\s{]*["']?patient-usher["']?\s*:\s*["']?([a-z]+)""", re.MULTILINE)
_DESCRIPTION = re.compile(rb"""^["']?(?:openapi|swagger)["']?\s*:""", re.MULTILINE)
_COMMAND = re.compile(r"^(?:\$ )?curl(?:\.exe)?\s", re.MULTILINE)
_DIRECTIVES = ("#Version", "#Fields", "#Software", "#Date")
_MEND = "name a log, curl commands, a recording, a description or a trace, or say --from"
_NOT_TO_IMPORT = {
    "pipeline": "this is a pipeline already; replay, show and check read it as it is",
    "result": "this is a result; usher export hands it on",
}


class InputSource(NamedTuple):
    """A file that comes in: what it is called in messages, and where its octets are."""

    name: str
    path: Path

    def opened(self) -> BinaryIO:
        """Its octets, unpacked as they are read where they are packed. Raises Unusable."""
        return unpacked(open_file(self.path, self.name), self.name)

    def text(self) -> str:
        """All of it. Raises Unusable where it is too large, or no UTF-8."""
        with self.opened() as stream:
            return decoded(stream.read(MAX_OCTETS + 1), self.name)

    def read(self, use: Callable[[Any], _T]) -> _T:
        """What ``use`` makes of the data that it holds. Raises Unusable; what ``use`` raises gets its places."""
        text = self.text()
        try:
            return use(parse(text, self.name))
        except Unusable:
            return use(parse(text, self.name, places=True))

    @property
    def size(self) -> int:
        """How many octets it has, packed as it is."""
        return self.path.stat().st_size

    def unusable(self, what: str, mend: str, line: int = 1) -> Unusable:
        """What is wrong with it, and what would be right."""
        return Unusable([Problem(Spot(self.name, line, 1), what, mend)])


@contextmanager
def sources(paths: Iterable[Path]) -> Iterator[list[InputSource]]:
    """The files of a command line; what comes from standard input or a pipe is kept beside until it has been read.

    Raises Unusable where one can't be read.
    """
    with tempfile.TemporaryDirectory(prefix="usher-") as folder:
        found = []
        for number, path in enumerate(paths):
            if str(path) == "-":
                found.append(_kept(sys.stdin.buffer, "standard input", Path(folder, str(number))))
            elif path.is_fifo() or path.is_char_device():
                with open_file(path, pipes=True) as stream:
                    found.append(_kept(stream, str(path), Path(folder, str(number))))
            else:
                found.append(InputSource(str(path), path))
        yield found


def _kept(stream: BinaryIO, name: str, path: Path) -> InputSource:
    with path.open("wb") as out:
        shutil.copyfileobj(stream, out)
    return InputSource(name, path)


def format_of(source: InputSource) -> str | None:
    """Of what format it is, by what stands in it; None for nothing but blanks. Raises Unusable where none is known."""
    with source.opened() as stream:
        raw = stream.read(_HEAD)
    head = raw.decode(errors="replace").lstrip("\ufeff \t\r\n")
    if not head:
        return None
    if head.startswith(_DIRECTIVES):
        return "w3c"
    if (ours := _OURS.search(head)) is not None:
        if ours[1] in _NOT_TO_IMPORT:
            raise source.unusable(_NOT_TO_IMPORT[ours[1]], "name a trace, a log, a recording or a description")
        return "trace"
    if head.startswith("{"):
        return _of_json(source, head)
    if head.startswith("[") and _object(head[1:].lstrip().partition("\n")[0].rstrip(",]")) is not None:
        return "json-lines"
    lines = head.splitlines()
    if _COMMAND.search(head):
        return "curl"
    if is_head(lines[0]):
        return "csv"
    if any(_is_of_log(line) for line in lines[:200]):
        return "log"
    with source.opened() as stream:
        if _DESCRIPTION.search(stream.read(MAX_OCTETS)):
            return "openapi"
    what = f"its format isn't known; it begins with {lines[0][:60]!r}"
    raise source.unusable(what, _MEND)


def _is_of_log(line: str) -> bool:
    try:
        any_line({})(line.encode())
    except UnreadableLine:
        return False
    return True


def _of_json(source: InputSource, head: str) -> str:
    """The format of what begins as JSON does: a document by its members, objects one a line are a log's."""
    line = _object(head.partition("\n")[0])
    doc = line if line is not None else source.read(lambda doc: doc)
    if isinstance(doc.get("openapi", doc.get("swagger")), str):
        return "openapi"
    if isinstance(doc.get("log"), dict):
        return "har"
    if "patient-usher" in doc:
        return "trace"
    if line is not None:
        return "json-lines"
    raise source.unusable("its format isn't known: no member of it is 'log', 'openapi' or 'patient-usher'", _MEND)


def _object(line: str) -> JsonObject | None:
    try:
        found = json.loads(line)
    except (ValueError, RecursionError):
        return None
    return found if isinstance(found, dict) else None
