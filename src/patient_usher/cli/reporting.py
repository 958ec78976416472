"""``--report FORMAT=FILE``: what a replay came to, kept while it streams and written at its end."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path

from patient_usher.cli.arguments import unusable
from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.engine.replay import Send
from patient_usher.core.model.document import did_you_mean
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.record import Record
from patient_usher.core.verify.summary import Summary
from patient_usher.files.atomic_write import write_whole
from patient_usher.files.environment import ENVIRONMENT

FORMATS = ("junit", "md", "html", "json", "svg")


def wanted(texts: Iterable[str], formats: Sequence[str] = FORMATS) -> list[tuple[str, Path]]:
    """The reports that the command line asks for. Raises Unusable."""
    found: list[tuple[str, Path]] = []
    for text in texts:
        form, equals, name = text.partition("=")
        if not equals or not name or form not in formats:
            whole = equals and name
            what = f"there is no report of the form '{form}'" if whole else f"'{text}' names no report"
            mend = "write FORMAT=FILE, as in html=report.html" if not whole else did_you_mean(form, formats)
            raise unusable(what, mend, "--report")
        if any(Path(name) == path for _, path in found):
            raise unusable(f"two reports go to {name}", "give each a file of its own", "--report")
        found.append((form, Path(name)))
    return found


class Reports:
    """All that reports need of a replay."""

    def __init__(
        self, files: Sequence[tuple[str, Path]], blueprint: Blueprint, traces: Sequence[str], seed: int
    ) -> None:
        self.files, self.blueprint, self.traces, self.seed = files, blueprint, traces, seed
        self.summary, self.statements = Summary(), Statements(blueprint)
        self._sends: list[tuple[str, list[Record]]] = []

    def add(self, trace: str, send: Send, records: list[Record], *, failed: bool) -> None:
        """Keep one send, whose records may be put out."""
        self.summary.add(send, failed=failed)
        self.statements.add(send)
        mark = f"{Path(trace).stem}: " if len(self.traces) > 1 else ""
        self._sends.append((mark + send.id, [{**record, "id": mark + record["id"]} for record in records]))

    def write(self) -> None:
        """Write every file, each whole. Raises Unusable where one can't be."""
        from patient_usher.output.reports import FORMATS as WRITERS
        from patient_usher.output.reports import Outcome
        from patient_usher.output.reports import Send as Row

        sends = [Row(id_, records) for id_, records in self._sends]
        outcome = Outcome(self.blueprint, self.traces, self.seed, self.summary, self.statements.all, sends)
        for form, path in self.files:
            write_whole(path, ENVIRONMENT.hidden(WRITERS[form](outcome)))
