"""Documents as JSON: a result whole, or an exchange a line; and every other document that a command prints."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence

import msgspec

from patient_usher.core.questions.compare import Comparison
from patient_usher.core.verify.document_types import Compare, DifferenceRecord, GroupRecord
from patient_usher.core.verify.record import Record, Result, StatementRecord, SummaryRecord
from patient_usher.output.comparison import Compared
from patient_usher.output.outcome import Outcome, Scene
from patient_usher.output.redactor import NOT_ENCODED, REDACTOR, encoded

_carefully = json.JSONEncoder(separators=(",", ":"), allow_nan=False).encode
# C1 controls and DEL, marks that turn text about, separators of lines, the byte order mark: as UTF-8.
_ASCII = bytes(range(0x7F))
_CONTROLS = re.compile(
    rb"\xc2[\x80-\x9f]|\x7f|\xd8\x9c|\xe2\x80[\x8e\x8f\xa8-\xae]|\xe2\x81[\xa6-\xa9]|\xef\xbb\xbf|\xef\xbf[\xbe\xbf]"
)


def dump(value: object) -> bytes:
    """JSON as results write it, on one line. What a terminal might take for a command is escaped."""
    try:
        text = encoded(value)
    except NOT_ENCODED:
        return _carefully(msgspec.to_builtins(value, str_keys=True)).encode()
    return _escaped(text)


def _escaped(text: bytes) -> bytes:
    if text.isascii() and b"\x7f" not in text:
        return text
    rest = text.translate(None, _ASCII)  # in most texts little is left to be looked through
    if not rest or _CONTROLS.search(rest) is None:
        return text
    return _CONTROLS.sub(lambda match: b"\\u%04x" % ord(match[0].decode()), text)


def exchange_line(record: Record) -> bytes:
    """An exchange as a line of JSON, through the door."""
    told, text = REDACTOR.record_and_json(record)
    return (_escaped(text) if text is not None else dump(told)) + b"\n"


def document(value: object) -> bytes:
    """A document that a command prints: one line of JSON, through the door."""
    return dump(REDACTOR.redacted(value)) + b"\n"


def result_of(
    scene: Scene, summary: SummaryRecord, always: Sequence[StatementRecord], exchanges: list[Record]
) -> Result:
    """The whole result."""
    return Result(
        pipeline=scene.pipeline,
        trace=", ".join(scene.traces),
        environment=list(scene.environment),
        seed=scene.seed,
        starts=scene.starts,
        summary=summary,
        always=list(always),
        exchanges=exchanges,
    )


def write_json(result: Result) -> Iterator[bytes]:
    """The document with one exchange a line, so that it can be read and compared by line."""
    rows, head = result.exchanges, msgspec.structs.replace(result, exchanges=[])
    yield dump(head)[:-3] + b"["
    for at, row in enumerate(rows):
        yield (b"\n" if at == 0 else b",\n") + dump(row)
    yield b"\n]}\n" if rows else b"]}\n"


def result_json(outcome: Outcome) -> str:
    """The result, as ``replay --format json`` prints it."""
    records = [record for send in outcome.sends for record in send.records]
    return b"".join(write_json(result_of(outcome.scene, outcome.summary, outcome.always, records))).decode()


def comparison_json(compared: Compared) -> str:
    """The comparison as one document."""
    return document(_comparison(compared.comparison)).decode()


def _comparison(comparison: Comparison) -> Compare:
    return Compare(
        requests=comparison.requests,
        changed=comparison.changed,
        groups=[GroupRecord(group.kind, list(group.ids), group.example, group.size) for group in comparison.groups],
        differs=[DifferenceRecord(*difference) for difference in comparison.differs],
    )
