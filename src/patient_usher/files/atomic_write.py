"""Writing into files that people keep: comments and layout stay, and a file is written whole or not at all."""

from __future__ import annotations

import io
import json
import os
import stat
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from patient_usher.core.http.messages import read_json
from patient_usher.core.model.document import Json, JsonObject, Problem, Spot, Unusable
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.verify.observed_expectations import observed
from patient_usher.files.yaml_reader import MAX_OCTETS, decoded, open_file


def write_whole(path: Path, text: str) -> None:
    """Write a file so that it is never seen half-written. Raises Unusable where it can't be."""
    name = None
    try:
        mode = stat.S_IMODE(path.stat().st_mode) if path.exists() else 0o666 & ~_umask()
        handle, name = tempfile.mkstemp(dir=path.parent or Path("."), prefix=f".{path.name}.")
        with os.fdopen(handle, "w", encoding="utf-8", newline="") as stream:
            stream.write(text)
        os.chmod(name, mode)
        os.replace(name, path)
    except (OSError, ValueError) as error:
        if name is not None:
            Path(name).unlink(missing_ok=True)
        reason = error.strerror if isinstance(error, OSError) else str(error)
        problem = Problem(
            Spot(str(path), 1, 1), f"the file can't be written: {reason}", "check the folder and its permissions"
        )
        raise Unusable([problem]) from None


@contextmanager
def writing(path: Path) -> Iterator[BinaryIO]:
    """A file to be written piece by piece, seen only when it is whole. Raises Unusable where it can't be made."""
    try:
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    except OSError as error:
        what = f"the file can't be written: {error.strerror}"
        raise Unusable([Problem(Spot(str(path), 1, 1), what, "check the folder and its permissions")]) from None
    try:
        with os.fdopen(handle, "wb", buffering=1 << 20) as out:
            yield out
        os.chmod(name, stat.S_IMODE(path.stat().st_mode) if path.exists() else 0o666 & ~_umask())
        os.replace(name, path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


def append_request(path: Path, spec: JsonObject, final: Exchange | None) -> None:
    """Append a request to a trace, with what came of it as what is expected.

    YAML keeps its comments, JSON stays JSON, line ends and a byte order mark stay as they are. Raises
    Unusable, with the file untouched, where it is no trace.
    """
    entry = {**spec, **({"expect": observed(final)} if final is not None else {})}
    text, mark, ends = _text_of(path)
    appended = _appended_json(text, entry) if text.lstrip()[:1] == "{" else _appended_yaml(text, entry)
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


def _appended_json(text: str, entry: JsonObject) -> str | None:
    try:
        doc = read_json(text)
    except ValueError:
        return None
    if not _is_trace(doc):
        return None
    doc.setdefault("requests", []).append(entry)
    indent = len(text.split("\n")[1]) - len(text.split("\n")[1].lstrip()) if "\n" in text.strip() else None
    return json.dumps(doc, indent=indent, ensure_ascii=False) + ("\n" if text.endswith("\n") else "")


def _appended_yaml(text: str, entry: JsonObject) -> str | None:
    from ruamel.yaml import YAML
    from ruamel.yaml.comments import CommentedMap, CommentedSeq
    from ruamel.yaml.error import YAMLError

    row = CommentedMap(entry)
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
    requests.append(row)
    out = io.StringIO()
    yaml.dump(trace, out)
    return out.getvalue()
