"""Writing into files that people keep: comments and layout stay, and a file is written whole or not at all."""

from __future__ import annotations

import io
import os
import stat
import tempfile
from pathlib import Path
from typing import Any

from patient_usher.core.model.document import Problem, Spot, Unusable
from patient_usher.core.model.exchange import Exchange


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


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


def observed(x: Exchange) -> dict[str, Any]:
    """What came of an exchange, as an ``expect`` that holds for it."""
    expect: dict[str, Any] = {}
    if x.answer is not None:
        expect["status"] = x.answer.status
    else:
        expect["outcome"] = x.outcome
    if x.refused_by is not None:
        expect["refused-by"] = x.refused_by
        expect["why"] = x.why
    expect["handler"] = "reached" if x.handler_reached else "not-reached"
    return expect


def append_request(path: Path, spec: dict[str, Any], final: Exchange | None) -> None:
    """Append a request to a YAML trace, with what came of it as what is expected."""
    from ruamel.yaml import YAML
    from ruamel.yaml.comments import CommentedMap, CommentedSeq
    from ruamel.yaml.error import YAMLError

    entry = CommentedMap({**spec, **({"expect": observed(final)} if final is not None else {})})
    for key, value in list(entry.items()):
        if isinstance(value, dict):
            entry[key] = CommentedMap(value)
            entry[key].fa.set_flow_style()
    yaml = YAML()
    yaml.width = 4096
    yaml.preserve_quotes = True
    yaml.indent(mapping=2, sequence=4, offset=2)
    try:
        trace = (
            yaml.load(path.read_text(encoding="utf-8")) if path.exists() else CommentedMap({"patient-usher": "trace/1"})
        )
    except (OSError, YAMLError, UnicodeDecodeError):
        trace = None
    if not isinstance(trace, CommentedMap) or not isinstance(
        trace.setdefault("requests", CommentedSeq()), CommentedSeq
    ):
        raise Unusable(
            [
                Problem(
                    Spot(str(path), 1, 1),
                    "this is no YAML trace with a list of requests",
                    "name one, or a file that isn't there yet",
                )
            ]
        )
    requests = trace["requests"]
    if requests.fa.flow_style():
        requests.fa.set_block_style()
    requests.append(entry)
    out = io.StringIO()
    yaml.dump(trace, out)
    write_whole(path, out.getvalue())
