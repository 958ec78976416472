"""The rows of a replay as a file: a table, written as they come and whole or not at all."""

from __future__ import annotations

from contextlib import AbstractContextManager
from pathlib import Path
from typing import BinaryIO

from patient_usher.core.model.document import unusable
from patient_usher.core.verify.exchange_table import Row, rows_of
from patient_usher.core.verify.run import Judged
from patient_usher.files.atomic_write import writing
from patient_usher.output.redactor import REDACTOR

ENDINGS = (".jsonl", ".csv", ".parquet")


class RowsFile:
    """Where the rows of exchanges go; nowhere, where no file is named. Raises Unusable for a name of no table."""

    def __init__(self, path: Path | None) -> None:
        self._path = path
        if path is not None and path.suffix not in ENDINGS:
            raise unusable(f"{path} is no table's name", f"write FILE{', FILE'.join(ENDINGS)}", "--into")

    def __enter__(self) -> RowsFile:
        if self._path is not None:
            from patient_usher.output.tables import FORMATS

            self._writing: AbstractContextManager[BinaryIO] = writing(self._path)
            self._sink = FORMATS[self._path.suffix](self._writing.__enter__())
        return self

    def __exit__(self, *error: object) -> None:
        if self._path is not None:
            if error[0] is None:
                self._sink(None)
            self._writing.__exit__(*error)  # type: ignore[arg-type]

    def add(self, judged: Judged) -> None:
        """Write the rows of one send."""
        if self._path is not None:
            for row in rows_of(judged.send, judged.starts):
                self.put(row)

    def put(self, row: Row) -> None:
        """Write a row."""
        if self._path is not None:
            self._sink(REDACTOR.row(row))
