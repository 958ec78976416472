"""Tables of exchanges as files: JSON Lines, CSV or Parquet, written as they come and whole or not at all."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from typing import Any, BinaryIO

from patient_usher.core.http.dates import timestamp
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.verify.exchange_table import COLUMNS
from patient_usher.output.extras import needed
from patient_usher.output.redactor import printable
from patient_usher.output.result import dump

Row = JsonObject
Sink = Callable[[Row | None], None]
"""Takes a row; None ends the table."""

BATCH = 20_000
"""How many rows a Parquet row group has."""


def _json_lines(out: BinaryIO) -> Sink:
    def take(row: Row | None) -> None:
        if row is not None:
            out.write(dump(_told(row)) + b"\n")

    return take


def _csv(out: BinaryIO) -> Sink:
    text = io.TextIOWrapper(out, encoding="utf-8", newline="", write_through=False)
    writer = csv.DictWriter(text, list(COLUMNS))
    writer.writeheader()

    def take(row: Row | None) -> None:
        if row is None:
            text.flush()
            text.detach()
        else:
            writer.writerow({name: _harmless(value) for name, value in _told(row).items()})

    return take


_TIMES = [name for name, column in COLUMNS.items() if column.sort == "time"]
_SAME = (
    "kind",
    "caller",
    "identity",
    "method",
    "host",
    "route",
    "outcome",
    "answered_by",
    "refused_by",
    "why",
    "cache",
    "limit",
    "browser",
)
"""Columns in which the same few words stand again and again."""


def _told(row: Row) -> Row:
    """The row with its times as texts."""
    return {**row, **{name: timestamp(row[name]) for name in _TIMES if row.get(name) is not None}}


def _harmless(value: Json) -> object:
    """A text that no spreadsheet takes for a formula, and in which nothing is obeyed."""
    if not isinstance(value, str):
        return value
    return printable(f"'{value}" if value[:1] in ("=", "+", "-", "@", "\t", "\r") else value, lines=True)


def _parquet(out: BinaryIO) -> Sink:
    needed("tables", "--into")
    import pyarrow
    from pyarrow import parquet

    types = {
        "text": pyarrow.string(), "whole": pyarrow.int64(), "number": pyarrow.float64(), "truth": pyarrow.bool_(),
        "time": pyarrow.timestamp("us", tz="UTC"),
    }  # fmt: skip
    words = pyarrow.dictionary(pyarrow.int32(), pyarrow.string())
    schema = pyarrow.schema(
        [
            pyarrow.field(name, words if name in _SAME else types[column.sort], metadata={"says": column.says})
            for name, column in COLUMNS.items()
        ]
    )
    held: list[Row] = []
    writers: list[Any] = []

    def write() -> None:
        if not writers:
            first = held[0] if held else {}
            known = first.get("time") is not None
            starts = timestamp(first["time"] - round(first["at"] * 1_000_000)) if known else ""
            told = schema.with_metadata({"starts": starts} if starts else {})
            writers.append(parquet.ParquetWriter(out, told, compression="zstd"))
        writers[0].write_table(pyarrow.Table.from_pylist(held, schema=writers[0].schema))
        held.clear()

    def take(row: Row | None) -> None:
        if row is not None:
            held.append(row)
        if len(held) >= BATCH or row is None:
            write()
        if row is None:
            writers[0].close()

    return take


FORMATS: dict[str, Callable[[BinaryIO], Sink]] = {".jsonl": _json_lines, ".csv": _csv, ".parquet": _parquet}
"""By the file's ending, what takes its rows."""
