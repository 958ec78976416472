"""The counts of a replay, made while it streams by."""

from __future__ import annotations

from collections import Counter

from patient_usher.core.engine.replay import Send
from patient_usher.core.model.enumerations import SLIPS
from patient_usher.core.verify.record import Record


class Summary:
    """Counts, while a replay streams by.

    ``expecting``: requests of which anything is expected; ``slips``: what nobody can have wanted of the others,
    by outcome.
    """

    def __init__(self) -> None:
        self.requests = self.exchanges = self.failed = self.expecting = 0
        self.slips: Counter[str] = Counter()
        self.by_status: Counter[int] = Counter()
        self.by_answerer: Counter[str] = Counter()

    def add(self, send: Send, *, failed: bool) -> None:
        """Count one send and its exchanges."""
        self.requests += 1
        self.failed += failed
        if send.recipe.expects or failed:
            self.expecting += 1
        elif send.final is not None and send.final.outcome in SLIPS:
            self.slips[send.final.outcome] += 1
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
