"""What a replay came to, as everything that draws it needs it: values that have been through the door."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from msgspec import structs

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.http.dates import timestamp
from patient_usher.core.model.words import counted
from patient_usher.core.verify.always import StatementTold
from patient_usher.core.verify.record import Record, StatementRecord, SummaryRecord, final_of
from patient_usher.core.verify.run import Judged
from patient_usher.core.verify.verdict import fails
from patient_usher.output.redactor import REDACTOR

SIGNS = {"held": ("✓", "good"), "none": ("•", "dim"), "slipped": ("!", "bad"), "failed": ("✗", "bad")}
"""How each mark is drawn, and in which style."""
STATEMENT_MARKS = {"broken": "failed", "held": "held", "never-tried": "none"}
"""The mark of what became of a statement."""


class Shown(NamedTuple):
    """One send as it is drawn: its exchanges, its mark, and the names of the statements that it broke."""

    id: str
    request_id: str
    records: Sequence[Record]
    mark: str
    broken: tuple[str, ...] = ()

    @property
    def final(self) -> Record:
        """The exchange that ended it."""
        return final_of(self.records)

    def named(self, prefix: str) -> Shown:
        """The same with this in front of its ids: what it is called among several traces."""
        if not prefix:
            return self
        records = [structs.replace(record, id=prefix + record.id) for record in self.records]
        return self._replace(id=prefix + self.id, records=records)


def shown(judged: Judged) -> Shown:
    """A send as it may be drawn."""
    send, records = judged.send, [REDACTOR.record(record) for record in judged.records()]
    return Shown(REDACTOR.redacted(send.id), REDACTOR.redacted(send.entry.id), records, judged.mark, judged.broken)


class Scene(NamedTuple):
    """What a replay is of: the pipeline's name, its stages as columns, environments and traces."""

    pipeline: str
    environment: Sequence[str]
    columns: Sequence[str]
    traces: Sequence[str]
    seed: int
    starts: str | None = None
    """From when the times of the first trace count (RFC 3339)."""

    @property
    def title(self) -> str:
        """Pipeline, traces and environments in a line."""
        return f"{self.pipeline}: {', '.join(self.traces)}, {' and '.join(self.environment)}"


def scene_of(compiled: CompiledPipeline, traces: Sequence[str], seed: int, starts: int | None = None) -> Scene:
    """What is replayed, as it may be drawn; ``starts`` in microseconds since the epoch."""
    when = timestamp(starts) if starts is not None else None
    return REDACTOR.redacted(Scene(compiled.name, compiled.environment, compiled.columns(), list(traces), seed, when))


class Outcome(NamedTuple):
    """A whole replay. ``expecting``: of how many sends anything is expected; ``slips``: what nobody can have wanted,
    by outcome; ``strict``: a slip counts as a failure.
    """

    scene: Scene
    summary: SummaryRecord
    expecting: int
    slips: dict[str, int]
    statements: Sequence[StatementTold]
    always: Sequence[StatementRecord]
    sends: Sequence[Shown]
    strict: bool

    @property
    def title(self) -> str:
        """Pipeline, traces and environments in a line."""
        return self.scene.title

    @property
    def failed(self) -> bool:
        """Whether anything counts as a failure."""
        broken = any(one.verdict == "broken" for one in self.statements)
        return bool(self.summary.failed or broken or (self.strict and self.slips))

    def fails(self, send: Shown) -> bool:
        """Whether a send counts as a failure."""
        return fails(send.mark, strict=self.strict)

    @property
    def mark(self) -> str:
        """The mark of the whole: the worst of its parts."""
        if self.failed:
            return "failed"
        return "slipped" if self.slips else "held" if self.expecting else "none"


def headline(outcome: Outcome) -> str:
    """Whether all was as expected, and of how many requests anything is, in a sentence."""
    sent, failed, expecting = outcome.summary.requests, outcome.summary.failed, outcome.expecting
    count = counted(sent, "request")
    if failed:
        said = f"{failed} of {count} not as expected"
    elif not expecting:
        said = f"{count}; nothing is expected of {'it' if sent == 1 else 'any of them'}"
    elif expecting < sent:
        said = f"{expecting} of {count} expect something, and it held"
    else:
        said = f"{count}, all as expected"
    slips = [f"{number} {what}, which nobody expected" for what, number in outcome.slips.items()]
    broken = sum(one.verdict == "broken" for one in outcome.statements)
    always = [f"{broken} of {len(outcome.statements)} invariants broken"] if broken else []
    return "; ".join([said, *slips, *always])
