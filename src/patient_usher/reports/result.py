"""The result of a replay as JSON: one document, or one exchange a line; and the counts of its summary."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Iterable, Iterator
from typing import Any

import msgspec

from patient_usher.core.engine.blueprint import Blueprint
from patient_usher.core.engine.replay import Send
from patient_usher.core.verify.record import Record

VERSION = "result/1"

_encode = msgspec.json.Encoder().encode
_carefully = json.JSONEncoder(separators=(",", ":"), allow_nan=False).encode
_CONTROLS = re.compile("[\x7f-\x9f]")


def dump(value: Any) -> str:
    """JSON as results write it, on one line. What a terminal might take for a command is escaped."""
    try:
        text = _encode(value).decode()
    except (UnicodeEncodeError, msgspec.MsgspecError, TypeError):
        return _carefully(value)  # half a character, or a number that only Python can hold
    if text.isascii() and "\x7f" not in text:
        return text
    return _CONTROLS.sub(lambda match: f"\\u{ord(match[0]):04x}", text)


class Summary:
    """Counts, while a replay streams by."""

    def __init__(self) -> None:
        self.requests = self.exchanges = self.failed = 0
        self.by_status: Counter[int] = Counter()
        self.by_answerer: Counter[str] = Counter()

    def add(self, send: Send, *, failed: bool) -> None:
        """Count one send and its exchanges."""
        self.requests += 1
        self.failed += failed
        for x in send.exchanges:
            self.exchanges += 1
            if x.answer is not None:
                self.by_status[x.answer.status] += 1
                if x.answered_by is not None:
                    self.by_answerer[x.answered_by] += 1

    def record(self) -> Record:
        """The counts as the result writes them."""
        return {
            "requests": self.requests,
            "exchanges": self.exchanges,
            "failed": self.failed,
            "by_status": {str(status): count for status, count in sorted(self.by_status.items())},
            "by_answerer": dict(sorted(self.by_answerer.items(), key=lambda item: (-item[1], item[0]))),
        }


def document(
    blueprint: Blueprint, traces: Iterable[str], seed: int, summary: Summary, exchanges: list[Record]
) -> dict[str, Any]:
    """The whole result."""
    return {
        "patient-usher": VERSION,
        "pipeline": blueprint.name,
        "trace": ", ".join(traces),
        "environment": list(blueprint.environment),
        "seed": seed,
        "summary": summary.record(),
        "always": [],
        "exchanges": exchanges,
    }


def write_json(result: dict[str, Any]) -> Iterator[str]:
    """The document with one exchange a line, so that it can be read and compared by line."""
    head = {key: value for key, value in result.items() if key != "exchanges"}
    yield dump(head)[:-1] + ',"exchanges":['
    rows = result["exchanges"]
    for at, row in enumerate(rows):
        yield ("\n" if at == 0 else ",\n") + dump(row)
    yield "\n]}\n" if rows else "]}\n"
