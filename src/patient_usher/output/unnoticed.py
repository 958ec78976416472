"""Changes that nothing notices, for people and as JSON."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.words import counted
from patient_usher.core.questions.unnoticed import Gap, Unnoticed
from patient_usher.core.verify.document_types import UnnoticedChange, UnnoticedRecord
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.terminal import Line, line
from patient_usher.output.yaml_snippet import yaml_of

SHOWN = 20
"""How many changes are printed; JSON has all."""


def unnoticed_lines(found: Unnoticed) -> Iterator[Line]:
    """The figures; then each change, the requests that answer otherwise, and what would notice."""
    figures = (
        f"  {counted(len(found.gaps), 'change')} of {found.changing:,} that change an answer; {found.changes:,} tried"
    )
    yield line(("unnoticed", "title"), (figures, "dim"))
    for gap in found.gaps[:SHOWN]:
        yield line(("• ", "raised"), gap.words)
        yield line(f"  changes the answer to {_named(gap.ids)}")
        for id_, expectation in gap.expectations.items():
            yield line("  expect of ", (id_, "name"), f": {yaml_of(REDACTOR.redacted(expectation), deep=0).strip()}")
        if not gap.expectations:
            yield line(("  no expectation can say the difference", "dim"))
    if len(found.gaps) > SHOWN:
        yield line((f"and {len(found.gaps) - SHOWN:,} more; --format json has all", "dim"))
    if not found.whole:
        yield line(("not all changes were tried: the trace is too long for that", "dim"))


def _named(ids: tuple[str, ...]) -> str:
    more = f" and {len(ids) - 3} more" if len(ids) > 3 else ""
    return ", ".join(ids[:3]) + more


def unnoticed_document(found: Unnoticed) -> UnnoticedRecord:
    """As JSON says it."""
    return UnnoticedRecord(
        tried=found.changes,
        changes=found.changing,
        noticed=found.noticed,
        whole=found.whole,
        unnoticed=[_record(gap) for gap in found.gaps],
    )


def _record(gap: Gap) -> UnnoticedChange:
    return UnnoticedChange(
        change=REDACTOR.redacted(gap.words), ids=list(gap.ids), expectation=REDACTOR.redacted(dict(gap.expectations))
    )
