"""A table in Parquet, read as its rows: a line of JSON each, as a log in JSON has them."""

from __future__ import annotations

import io
import json
from collections.abc import Iterator
from typing import Any, BinaryIO

from patient_usher.core.model.document import Problem, Spot, Unusable

FREE, RATIO = 16 << 20, 200
"""A table of more than so much, in its columns or as lines, may have so many times the file's size, and no more."""
AT_ONCE = 1024
MOST_COLUMNS = 1000


class ParquetLines(io.RawIOBase):
    """The rows of a table, in order. Raises Unusable where it is broken, or larger than its file allows."""

    def __init__(self, stream: BinaryIO, name: str) -> None:
        self._stream, self._name = stream, name
        self._rows = self._read()
        self._ready = memoryview(b"")

    def readable(self) -> bool:
        """Always."""
        return True

    def readinto(self, buffer: Any) -> int:
        """Fill what there is room for."""
        while not self._ready:
            row = next(self._rows, None)
            if row is None:
                return 0
            self._ready = memoryview(row)
        size = min(len(buffer), len(self._ready))
        buffer[:size], self._ready = self._ready[:size], self._ready[size:]
        return size

    def _read(self) -> Iterator[bytes]:
        try:
            from pyarrow import parquet
        except ImportError:
            what = "this is a table in Parquet, and what reads it isn't installed"
            raise self._unusable(what, "pip install 'patient-usher[tables]'") from None
        try:
            about = parquet.read_metadata(self._stream)
            groups = [about.row_group(at) for at in range(about.num_row_groups)]
            octets = sum(one.column(at).total_uncompressed_size for one in groups for at in range(one.num_columns))
            most = max(FREE, RATIO * self._stream.seek(0, io.SEEK_END))
            if octets > most:
                raise self._too_large()
            if about.num_columns > MOST_COLUMNS:
                raise self._unusable(f"this table has {about.num_columns:,} columns", f"leave {MOST_COLUMNS:,} at most")
            self._stream.seek(0)
            texts = [field.name for field in about.schema.to_arrow_schema() if str(field.type) in ("string", "binary")]
            table = parquet.ParquetFile(self._stream, read_dictionary=texts)  # a text that stands often is held once
            for batch in table.iter_batches(batch_size=AT_ONCE):
                columns = [(name, batch.column(at)) for at, name in enumerate(batch.schema.names)]
                for row in range(batch.num_rows):
                    cells = ((name, column[row].as_py()) for name, column in columns)
                    line = _line({name: value for name, value in cells if value is not None})
                    most -= len(line)
                    if most < 0:
                        raise self._too_large()
                    yield line
        except Unusable:
            raise
        except MemoryError:
            raise
        except Exception as error:  # the library has errors of many sorts
            told = str(error).splitlines()[0][:120] if str(error) else type(error).__name__
            raise self._unusable(f"this table in Parquet can't be read: {told}", "write it again") from None

    def _too_large(self) -> Unusable:
        return self._unusable(f"this table unpacks to over {RATIO} times its size", "give it as lines")

    def _unusable(self, what: str, mend: str) -> Unusable:
        return Unusable([Problem(Spot(self._name, 1, 1), what, mend)])


def _line(row: dict[str, Any]) -> bytes:
    return json.dumps(row, default=_plain).encode() + b"\n"


def _plain(value: Any) -> str:
    """What JSON has no word for: times as ISO 8601, octets as text, all else as it prints."""
    if isinstance(value, bytes):
        return value.decode(errors="replace")
    return str(value.isoformat()) if hasattr(value, "isoformat") else str(value)
