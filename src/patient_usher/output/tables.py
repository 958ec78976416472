"""Tables of exchanges as files: JSON Lines, CSV or Parquet, written as they come and whole or not at all."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from typing import Any, BinaryIO

from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.verify.exchange_table import COLUMNS
from patient_usher.output.door import printable
from patient_usher.output.result import dump

Row = JsonObject
Sink = Callable[[Row | None], None]
"""Takes a row; None ends the table."""

BATCH = 20_000
"""How many rows a Parquet row group has."""


def _json_lines(out: BinaryIO) -> Sink:
    def take(row: Row | None) -> None:
        if row is not None:
            out.write(dump(row) + b"\n")

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
            writer.writerow({name: _harmless(value) for name, value in row.items()})

    return take


def _harmless(value: Json) -> Any:
    """A text that no spreadsheet takes for a formula, and in which nothing is obeyed."""
    if not isinstance(value, str):
        return value
    return printable(f"'{value}" if value[:1] in ("=", "+", "-", "@", "\t", "\r") else value, lines=True)


def _parquet(out: BinaryIO) -> Sink:
    import pyarrow
    from pyarrow import parquet

    types = {"text": pyarrow.string(), "whole": pyarrow.int64(), "number": pyarrow.float64(), "truth": pyarrow.bool_()}
    fields = [
        pyarrow.field(name, types[column.sort], metadata={"says": column.says}) for name, column in COLUMNS.items()
    ]
    schema = pyarrow.schema(fields)
    writer = parquet.ParquetWriter(out, schema, compression="zstd")
    held: list[Row] = []

    def take(row: Row | None) -> None:
        if row is not None:
            held.append(row)
        if held and (row is None or len(held) >= BATCH):
            writer.write_table(pyarrow.Table.from_pylist(held, schema=schema))
            held.clear()
        if row is None:
            writer.close()

    return take


FORMATS: dict[str, Callable[[BinaryIO], Sink]] = {".jsonl": _json_lines, ".csv": _csv, ".parquet": _parquet}
"""By the file's ending, what takes its rows."""
