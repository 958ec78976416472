"""The counts of a replay, made while it streams by."""

from __future__ import annotations

from collections import Counter

from patient_usher.core.verify.always import Statement
from patient_usher.core.verify.record import StatementRecord, SummaryRecord
from patient_usher.core.verify.run import Judged
from patient_usher.core.verify.verdict import slips_of


class Summary:
    """Counts, while a replay streams by.

    ``marks``: sends by mark; ``slips``: what of them nobody can have wanted, by outcome.
    """

    def __init__(self) -> None:
        self.requests = self.exchanges = 0
        self.expecting = 0  # of which anything is expected
        self.marks: Counter[str] = Counter()
        self.slips: Counter[str] = Counter()
        self.by_status: Counter[int] = Counter()
        self.by_answerer: Counter[str] = Counter()

    def add(self, judged: Judged) -> None:
        """Count one send and its exchanges."""
        self.requests += 1
        self.marks[judged.mark] += 1
        self.expecting += bool(judged.checks)
        if judged.mark == "slipped":
            self.slips.update(slips_of(judged.send, judged.checks))
        for x in judged.send.exchanges:
            self.exchanges += 1
            if x.answer is not None:
                self.by_status[x.answer.status] += 1
                if x.answered_by is not None:
                    self.by_answerer[x.answered_by] += 1

    def take(self, other: Summary) -> None:
        """Count what another has counted."""
        self.requests += other.requests
        self.exchanges += other.exchanges
        self.expecting += other.expecting
        for name in ("marks", "slips", "by_status", "by_answerer"):
            getattr(self, name).update(getattr(other, name))

    @property
    def failed(self) -> int:
        """How many sends were not as expected."""
        return self.marks["failed"]

    def fails(self, *, strict: bool = False) -> bool:
        """Whether any send counts as a failure; ``strict``: a slip does too."""
        return bool(self.failed or (strict and self.marks["slipped"]))

    def record(self) -> SummaryRecord:
        """The counts as the result writes them."""
        return SummaryRecord(
            requests=self.requests,
            exchanges=self.exchanges,
            failed=self.failed,
            by_status={str(status): count for status, count in sorted(self.by_status.items())},
            by_answerer=dict(sorted(self.by_answerer.items(), key=lambda item: (-item[1], item[0]))),
        )


def statement_record(statement: Statement) -> StatementRecord:
    """What became of a statement, as the result writes it."""
    tried = statement.held + statement.failed
    return StatementRecord(statement.id, statement.held, list(statement.broken), tried)
