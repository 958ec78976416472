"""Changes that explain something, as lines and as part of a document."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from patient_usher.core.variants.search import Explained, Explanation
from patient_usher.core.verify.document_types import ChangeRecord, ExplanationRecord
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.terminal import Line, line, wrapped


class Words(NamedTuple):
    """What stands over the changes, over none, before their requests, and before those of none."""

    title: str
    none: str
    each: str
    left: str


SERVICE = Words(
    "with these changes the model answers as the service does",
    "no change of the model explains it",
    "explains",
    "left unexplained:",
)
EXPECTED = Words(
    "with these changes everything comes that the trace expects",
    "no change that was tried brings what the trace expects",
    "then as expected:",
    "still not as expected:",
)


def explanation(why: Explanation, words: Words) -> Iterator[Line]:
    """The changes, under a title, then what no option says, then what nothing explains."""
    tried = f"{why.tried:,} variants tried"
    more = "" if why.whole else ", and not all that there are"
    yield []
    changes = [one for one in why.changes if one.change.deviation is None]
    yield line((words.title if changes else words.none, "title"), (f" ({tried}{more})", "dim"))
    for one in changes:
        yield from _explained(one, words)
        if one.alike:
            others = "; ".join(REDACTOR.redacted(other.words) for other in one.alike)
            rest = f"; and {one.others - len(one.alike)} more" if one.others > len(one.alike) else ""
            yield from indented(f"these explain the same: {others}{rest}", "dim")
        else:
            yield from indented("no other change that was tried explains the same", "dim")
    if len(changes) < len(why.changes):
        yield line(("what no option of the model says", "title"), ("  described from the answers alone", "dim"))
    for one in why.changes:
        if one.change.deviation is not None:
            yield from _explained(one, words)
    if why.leaves:
        yield from indented(f"{words.left} {_ids(why.leaves, 8)}", "bad", indent=2)


def _explained(one: Explained, words: Words) -> Iterator[Line]:
    """A change or a deviation, with the requests that it explains."""
    first, *rest = wrapped(REDACTOR.redacted(one.change.words), 4)
    yield line(("  ● ", "raised"), (first, "name"))
    yield from (line("    ", (part, "name")) for part in rest)
    yield from indented(f"{words.each} {_ids(one.explains, 6)}" if one.explains else "what else differs there", "")


def _ids(ids: tuple[str, ...], most: int) -> str:
    return REDACTOR.redacted(", ".join(ids[:most])) + (f" and {len(ids) - most} more" if len(ids) > most else "")


def indented(text: str, style: str, indent: int = 4) -> Iterator[Line]:
    """A text in lines that all begin so far in."""
    space = " " * indent
    for part in wrapped(text, indent, "  "):
        yield line(space, (part, style))


def explanation_record(why: Explanation) -> ExplanationRecord:
    """As JSON says it."""
    changes = [
        ChangeRecord(
            one.change.where,
            one.change.words,
            list(one.explains),
            [other.words for other in one.alike],
            one.others,
            one.change.deviation is not None,
        )
        for one in why.changes
    ]
    return ExplanationRecord(changes, list(why.leaves), why.tried, why.whole)
