"""The result of a replay as JSON: one document, or one exchange a line."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator
from typing import Any

import msgspec

from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.verify.record import Record
from patient_usher.core.verify.summary import Summary

VERSION = "result/1"

_encode = msgspec.json.Encoder().encode
_carefully = json.JSONEncoder(separators=(",", ":"), allow_nan=False).encode
_CONTROLS = re.compile(rb"\xc2[\x80-\x9f]|\x7f")


def dump(value: Any) -> bytes:
    """JSON as results write it, on one line. What a terminal might take for a command is escaped."""
    try:
        text = _encode(value)
    except (UnicodeEncodeError, msgspec.MsgspecError, TypeError):
        return _carefully(value).encode()  # half a character, or a number that only Python can hold
    if text.isascii() and b"\x7f" not in text:
        return text
    return _CONTROLS.sub(lambda match: b"\\u%04x" % match[0][-1], text)


def document(
    blueprint: Blueprint,
    traces: Iterable[str],
    seed: int,
    summary: Summary,
    always: list[Record],
    exchanges: list[Record],
) -> dict[str, Any]:
    """The whole result."""
    return {
        "patient-usher": VERSION,
        "pipeline": blueprint.name,
        "trace": ", ".join(traces),
        "environment": list(blueprint.environment),
        "seed": seed,
        "summary": summary.record(),
        "always": always,
        "exchanges": exchanges,
    }


def write_json(result: dict[str, Any]) -> Iterator[bytes]:
    """The document with one exchange a line, so that it can be read and compared by line."""
    head = {key: value for key, value in result.items() if key != "exchanges"}
    yield dump(head)[:-1] + b',"exchanges":['
    rows = result["exchanges"]
    for at, row in enumerate(rows):
        yield (b"\n" if at == 0 else b",\n") + dump(row)
    yield b"\n]}\n" if rows else b"]}\n"
