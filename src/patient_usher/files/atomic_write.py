"""Writing into files that people keep: comments and layout stay, and a file is written whole or not at all."""

from __future__ import annotations

import atexit
import errno
import io
import json
import os
import stat
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from patient_usher.core.http.messages import read_json
from patient_usher.core.model.document import Json, JsonObject, Problem, Spot, Unusable
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.verify.observed_expectations import observed
from patient_usher.files.yaml_reader import MAX_OCTETS, decoded, open_file


def write_whole(path: Path, text: str) -> None:
    """Write a text so that its file is never seen half-written. Raises Unusable where it can't be."""
    try:
        octets = text.encode()
    except UnicodeEncodeError as error:
        raise _unwritable(path, f"it holds what is no text: {error}") from None
    write_octets(path, octets)


def write_octets(path: Path, octets: bytes) -> None:
    """Write a file so that it is never seen half-written. Raises Unusable where it can't be."""
    with writing(path) as out:
        out.write(octets)


def _unwritable(path: Path, reason: str) -> Unusable:
    what = f"the file can't be written: {reason}"
    return Unusable(
        [Problem(Spot(str(path), 1, 1), what, "check the folder, its permissions and the room on its disk")]
    )


@contextmanager
def writing(path: Path) -> Iterator[BinaryIO]:
    """A file to be written piece by piece, seen only when it is whole. Raises Unusable where it can't be.

    A link stays one, and what it leads to is written; a file that is there keeps its owner and its mode. What is no
    regular file (a pipe, a device) takes what comes as it comes.
    """
    try:
        there = _stat(path)
        streams = _is_stream(path, there)
        out = _stream(path) if streams else _Beside(path, there)
    except (OSError, ValueError) as error:
        raise _unwritable(path, _reason(error)) from None
    try:
        if isinstance(out, _Beside):
            with out as stream:
                yield stream
        else:
            with out:
                yield out
    except OSError as error:
        if error.filename is not None or isinstance(error, BrokenPipeError):
            raise
        raise _unwritable(path, _reason(error)) from None


def _reason(error: Exception) -> str:
    return (error.strerror or str(error)) if isinstance(error, OSError) else str(error)


def _stat(path: Path) -> os.stat_result | None:
    try:
        return path.stat()
    except FileNotFoundError:
        return None


def _is_ours(path: Path) -> bool:
    """Whether a path names a file that this process has open already, such as /dev/stdout."""
    return str(path).startswith(("/dev/fd/", "/proc/self/fd/")) or str(path) in ("/dev/stdout", "/dev/stderr")


def _stream(path: Path) -> BinaryIO:
    """What takes octets as they come. Our own streams are used as they are: who opened them may be somebody else."""
    if not _is_ours(path):
        return path.open("wb")
    name = path.name
    number = {"stdout": 1, "stderr": 2}.get(name, int(name) if name.isdecimal() else -1)
    sys.stdout.flush()
    return os.fdopen(os.dup(number), "wb")


def _is_stream(path: Path, there: os.stat_result | None) -> bool:
    if there is not None and stat.S_ISDIR(there.st_mode):
        raise IsADirectoryError(errno.EISDIR, "it is a folder")
    return _is_ours(path) or (there is not None and not stat.S_ISREG(there.st_mode))


_half_made: set[str] = set()


@atexit.register
def _clear_away() -> None:
    """A signal may come between the making of a file and whoever would clear it away."""
    for name in _half_made:
        Path(name).unlink(missing_ok=True)


def _new_file(folder: Path, like: str) -> tuple[str, BinaryIO]:
    """A file that nobody else may read, its name noted before it is there: a signal may come at any moment."""
    while True:
        name = str(folder / f".{like[:200]}.{os.urandom(6).hex()}")
        _half_made.add(name)
        try:
            return name, open(name, "xb", 1 << 20, opener=lambda path, flags: os.open(path, flags, 0o600))
        except FileExistsError:
            _half_made.discard(name)


class _Beside:
    """A file made beside another, in whose place it is put when it is whole."""

    def __init__(self, path: Path, there: os.stat_result | None) -> None:
        import tempfile

        self.target, self.there = Path(os.path.realpath(path)), there
        if there is not None and not os.access(self.target, os.W_OK):
            raise PermissionError(errno.EACCES, os.strerror(errno.EACCES))
        self.in_place = there is not None and there.st_nlink > 1  # another name of it must not keep the old content
        folder = Path(tempfile.gettempdir()) if self.in_place else self.target.parent
        self.name, self.stream = _new_file(folder, self.target.name)

    def __enter__(self) -> BinaryIO:
        return self.stream

    def __exit__(self, kind: object, *_: object) -> None:
        try:
            self.stream.close()
            if kind is None:
                self._put()
        finally:
            Path(self.name).unlink(missing_ok=True)
            _half_made.discard(self.name)

    def _put(self) -> None:
        there = self.there
        if there is not None and not self.in_place:
            os.chmod(self.name, stat.S_IMODE(there.st_mode))
            try:
                if (there.st_uid, there.st_gid) != (os.geteuid(), os.getegid()):
                    os.chown(self.name, there.st_uid, there.st_gid)
            except PermissionError:
                self.in_place = True  # only its owner can give it away: what it holds is replaced, and it stays theirs
        if self.in_place:
            import shutil

            with open(self.name, "rb") as made, self.target.open("r+b") as out:
                out.truncate()
                shutil.copyfileobj(made, out)
            return
        if there is None:
            os.chmod(self.name, 0o666 & ~_umask())
        os.replace(self.name, self.target)


@contextmanager
def alone(path: Path) -> Iterator[None]:
    """Nobody else who asks changes files in this one's folder meanwhile."""
    try:
        import fcntl
    except ImportError:
        yield  # no such locks on this system
        return
    try:
        folder = os.open(path.resolve().parent, os.O_RDONLY)
    except OSError as error:
        raise _unwritable(path, _reason(error)) from None
    try:
        fcntl.flock(folder, fcntl.LOCK_EX)
        yield
    finally:
        os.close(folder)


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


def append_request(path: Path, spec: JsonObject, final: Exchange | None) -> None:
    """Append a request to a trace, with what came of it as what is expected. As ``append_requests``."""
    append_requests(path, [{**spec, **({"expect": observed(final)} if final is not None else {})}])


def append_requests(path: Path, entries: Sequence[JsonObject]) -> None:
    """Append requests to a trace.

    YAML keeps its comments, JSON stays JSON, line ends and a byte order mark stay as they are. Raises
    Unusable, with the file untouched, where it is no trace.
    """
    with alone(path):
        text, mark, ends = _text_of(path)
        appended = _appended_json(text, entries) if text.lstrip()[:1] == "{" else _appended_yaml(text, entries)
        if appended is None:
            what = "this is no trace with a list of requests"
            raise Unusable([Problem(Spot(str(path), 1, 1), what, "name one, or a file that isn't there yet")])
        write_whole(path, mark + appended.replace("\n", ends))


def _text_of(path: Path) -> tuple[str, str, str]:
    """A file's text with plain line ends, its byte order mark, and the line ends that it has."""
    if not path.exists():
        return "", "", "\n"
    with open_file(path) as stream:
        raw = stream.read(MAX_OCTETS)
    text = decoded(raw, str(path))
    mark = "\ufeff" if raw.startswith(b"\xef\xbb\xbf") else ""
    return text.replace("\r\n", "\n"), mark, "\r\n" if "\r\n" in text else "\n"


def _is_trace(doc: Json) -> bool:
    return isinstance(doc, dict) and doc.get("patient-usher") == "trace/1" and isinstance(doc.get("requests", []), list)


def _appended_json(text: str, entries: Sequence[JsonObject]) -> str | None:
    try:
        doc = read_json(text)
    except ValueError:
        return None
    if not _is_trace(doc):
        return None
    doc.setdefault("requests", []).extend(entries)
    indent = len(text.split("\n")[1]) - len(text.split("\n")[1].lstrip()) if "\n" in text.strip() else None
    return json.dumps(doc, indent=indent, ensure_ascii=False) + ("\n" if text.endswith("\n") else "")


def _appended_yaml(text: str, entries: Sequence[JsonObject]) -> str | None:
    from ruamel.yaml import YAML
    from ruamel.yaml.comments import CommentedMap, CommentedSeq
    from ruamel.yaml.error import YAMLError

    rows = [CommentedMap(entry) for entry in entries]
    for row in rows:
        for key, value in list(row.items()):
            if isinstance(value, dict):
                row[key] = CommentedMap(value)
                row[key].fa.set_flow_style()
    yaml = YAML()
    yaml.width = 4096
    yaml.preserve_quotes = True
    yaml.indent(mapping=2, sequence=4, offset=2)
    try:
        trace = yaml.load(text) if text else CommentedMap({"patient-usher": "trace/1"})
    except (YAMLError, ValueError, RecursionError):
        return None
    if not _is_trace(trace):
        return None
    requests = trace.setdefault("requests", CommentedSeq())
    if requests.fa.flow_style():
        requests.fa.set_block_style()
    requests.extend(rows)
    out = io.StringIO()
    yaml.dump(trace, out)
    return out.getvalue()
