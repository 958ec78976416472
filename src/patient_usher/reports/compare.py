"""What changes between two results: for people at a terminal, and for a pull request."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence
from itertools import zip_longest
from typing import Any, NamedTuple

from patient_usher.core.analysis.compare import KINDS, Comparison, Difference, Group, only_here, parting
from patient_usher.core.model.words import DID
from patient_usher.reports.paint import Line, Piece, fit, line
from patient_usher.reports.text import WIDTH, value_text

Record = dict[str, Any]
MOST_IDS = 12
GRAVE = ("opened", "shared", "told")
INSIDE = ("order", "log", "time")
"""Changes that no caller sees but by waiting."""


class Sides(NamedTuple):
    """Two results and what to call them."""

    names: tuple[str, str]
    a: Sequence[Record]
    b: Sequence[Record]

    def pair(self, id_: str) -> tuple[Record | None, Record | None]:
        """The two exchanges of an id."""
        return next((r for r in self.a if r["id"] == id_), None), next((r for r in self.b if r["id"] == id_), None)


def _count(number: int, word: str = "request") -> str:
    return f"{number} {word}{'' if number == 1 else 's'}"


def _gravest(comparison: Comparison, group: Group) -> dict[str, Difference]:
    """The difference that put each exchange into its group."""
    found: dict[str, Difference] = {}
    for difference in comparison.differs:
        if difference.id in group.ids:
            found.setdefault(difference.id, difference)
    return found


def _change(difference: Difference) -> str:
    """From what to what, in a few words; long values by what they are."""
    if difference.kind == "told":
        return ""
    a, b = value_text(difference.a), value_text(difference.b)
    if max(len(a), len(b)) > 40 or difference.kind in ("order", "headers", "body", "log"):
        return KINDS[difference.kind]
    return f"{difference.what} {a} → {b}"


def _named(ids: Sequence[str]) -> str:
    return ", ".join(ids[:MOST_IDS]) + (f" and {len(ids) - MOST_IDS} more" if len(ids) > MOST_IDS else "")


def _headline(comparison: Comparison) -> str:
    if not comparison.changed:
        return f"{_count(comparison.requests)}, none changes"
    inside = {id_.partition("/")[0] for group in comparison.groups if group.kind in INSIDE for id_ in group.ids}
    outside = {id_.partition("/")[0] for group in comparison.groups if group.kind not in INSIDE for id_ in group.ids}
    more = f"{len(inside - outside)}{' more' if outside else ' of ' + _count(comparison.requests)} only inside"
    verb = "ends" if len(outside) == 1 else "end"
    ends = f"{len(outside)} of {_count(comparison.requests)} {verb} otherwise"
    return "; ".join([*([ends] if outside else []), *([more] if inside - outside else [])])


def _lines_of(comparison: Comparison, group: Group) -> list[tuple[str, list[str]]]:
    """What changes in a group, each change with the exchanges in which it does."""
    changes: dict[str, list[str]] = {}
    for id_, difference in _gravest(comparison, group).items():
        changes.setdefault(_change(difference), []).append(id_)
    return sorted(changes.items(), key=lambda item: -len(item[1]))


def _alone(sides: Sides) -> list[str]:
    told = []
    for name, ours, theirs in ((sides.names[0], sides.a, sides.b), (sides.names[1], sides.b, sides.a)):
        if stages := only_here(ours, theirs):
            told.append(f"only {name} ever runs {', '.join(stages)}")
    return told


# For a terminal.


def compared(comparison: Comparison, sides: Sides) -> Iterator[Line]:
    """The changes, the gravest first, each group with one exchange worked through on both sides."""
    yield line((f"{sides.names[0]} → {sides.names[1]}", "title"))
    style = "bad" if comparison.changed else "good"
    yield line((f"{'✗' if comparison.changed else '✓'} {_headline(comparison)}", style))
    for group in comparison.groups:
        for change, ids in _lines_of(comparison, group):
            grave = KINDS[group.kind] if group.kind in GRAVE else ""
            told = ": ".join(part for part in (grave, change, _named(ids)) if part)
            for part in textwrap.wrap(told, WIDTH - 2, subsequent_indent="  ", break_on_hyphens=False):
                yield line(("  ", ""), (part, "bad" if group.kind in GRAVE else "raised"))
    for told in _alone(sides):
        yield line((f"  {told}", "dim"))
    for group in comparison.groups:
        yield []
        head = f"── {KINDS[group.kind]}: {_count(len(group.ids), 'exchange')} "
        yield line((head + "─" * max(WIDTH - len(head), 0), "dim"))
        yield from _worked(comparison, group, sides)


def _worked(comparison: Comparison, group: Group, sides: Sides) -> Iterator[Line]:
    a, b = sides.pair(group.example)
    request = (a or b or {"request": {"method": "", "url": ""}})["request"]
    yield line((f"{group.example}  {request['method']} {request['url']}", "title"))
    if a is None or b is None:
        yield line((f"sent in {sides.names[0] if b is None else sides.names[1]} only", "raised"))
        return
    half = (WIDTH - 3) // 2
    yield line((fit(sides.names[0], half), "dim"), "   ", (sides.names[1], "dim"))
    same = parting(a, b)
    for number, (left, right) in enumerate(zip_longest(a["journey"], b["journey"])):
        mark = " ≠ " if number == same else "   "
        style = "dim" if number < same else "raised" if number == same else ""
        yield [Piece(fit(_step(left), half), style), Piece(mark, "bad"), Piece(_step(right), style)]
    yield line((fit(_outcome(a), half), "name"), "   ", (_outcome(b), "name"))
    for difference in comparison.differs:
        if difference.id == group.example and difference.kind not in ("order", "opened"):
            yield from _both(difference)


def _step(step: Record | None) -> str:
    if step is None:
        return ""
    did = "dropped" if step["way"] == "error" and step["did"] == "skipped" else DID[step["did"]]
    return f"  {step['way']:<5} {step['stage']}: {did}"


def _outcome(record: Record) -> str:
    response = record["response"]
    return f"{response['status']} {record['answered_by']}" if response else record["outcome"]


def _both(difference: Difference) -> Iterator[Line]:
    if difference.kind == "headers":
        gone, come = _apart(difference.a or [], difference.b or [])
        for sign, pairs in (("-", gone), ("+", come)):
            for name, value in pairs:
                yield line((f"  {sign} {name}: ", "field"), fit(value, WIDTH - len(name) - 8).rstrip())
        return
    texts = [value[0] or value[1] if difference.kind == "body" and value else value for value in difference[3:]]
    name = difference.what.replace("_", "-")
    for sign, value in zip("-+", texts, strict=True):
        yield line((f"  {sign} {name}: ", "field"), fit(value_text(value), WIDTH - len(name) - 6).rstrip())


def _apart(a: list[list[str]], b: list[list[str]]) -> tuple[list[list[str]], list[list[str]]]:
    return [pair for pair in a if pair not in b], [pair for pair in b if pair not in a]


# For a pull request.


def markdown(comparison: Comparison, sides: Sides) -> str:
    """The changes as Markdown: a headline, a table of groups, one worked journey of each unfolding."""
    out = [f"### {_cell(sides.names[0])} → {_cell(sides.names[1])}: {_headline(comparison)}", ""]
    if comparison.changed:
        out += ["| what changes | how | exchanges |", "| --- | --- | --- |"]
    for group in comparison.groups:
        for change, ids in _lines_of(comparison, group):
            grave = f"**{KINDS[group.kind]}**" if group.kind in GRAVE else KINDS[group.kind]
            out.append(f"| {grave} | {_cell(change)} | {len(ids)}: {_cell(_named(ids))} |")
    out += ["", *(f"- {_cell(told)}" for told in _alone(sides)), ""]
    for group in comparison.groups:
        lines = ["".join(piece.text for piece in pieces).rstrip() for pieces in _worked(comparison, group, sides)]
        fence = "`" * (max([3, *(len(run) + 1 for text in lines for run in _ticks(text))]))
        title = f"{KINDS[group.kind]}: {group.example}"
        out += ["<details>", f"<summary>{_escaped(title)}</summary>", "", fence, *lines, fence, "", "</details>", ""]
    return "\n".join(out).rstrip() + "\n"


def _ticks(text: str) -> list[str]:
    return [run for run in "".join(char if char == "`" else " " for char in text).split() if len(run) > 2]


def _escaped(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")


def _cell(text: str) -> str:
    """Text in a table: what Markdown or HTML would take for a mark is escaped."""
    marked = "".join(f"\\{char}" if char in "\\`*_[]|#~" else char for char in _escaped(text))
    return marked.replace("\n", " ")
