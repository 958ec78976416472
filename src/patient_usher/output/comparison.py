"""What changes between two results, for people at a terminal; and the words that every report of it uses."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import zip_longest
from typing import NamedTuple

from patient_usher.core.http.messages import read_json
from patient_usher.core.model.enumerations import DID
from patient_usher.core.model.words import counted
from patient_usher.core.questions.compare import (
    KINDS,
    Comparison,
    Difference,
    Group,
    compared,
    only_here,
    parting,
)
from patient_usher.core.verify.record import Record, StepRecord
from patient_usher.output.replay_view import value_text
from patient_usher.output.terminal import Line, Piece, chopped, fit, line, line_width, wrapped

MOST_IDS = 12
GRAVE = ("opened", "shared", "told")


class Compared(NamedTuple):
    """Two results, what to call them, and what differs."""

    names: tuple[str, str]
    a: Sequence[Record]
    b: Sequence[Record]
    comparison: Comparison

    @property
    def title(self) -> str:
        """Both names in a line."""
        return f"{self.names[0]} → {self.names[1]}"

    def pair(self, id_: str) -> tuple[Record | None, Record | None]:
        """The two exchanges of an id."""
        return next((r for r in self.a if r.id == id_), None), next((r for r in self.b if r.id == id_), None)

    def told(self, id_: str) -> list[Difference]:
        """In what an exchange differs, but for what its journeys show."""
        return [one for one in self.comparison.differs if one.id == id_ and one.kind not in ("order", "opened")]

    def by_id(self) -> dict[str, list[Difference]]:
        """What differs, by exchange."""
        found: dict[str, list[Difference]] = {}
        for difference in self.comparison.differs:
            found.setdefault(difference.id, []).append(difference)
        return found


def compared_of(names: tuple[str, str], a: Sequence[Record], b: Sequence[Record]) -> Compared:
    """Hold two results that may be shown against each other."""
    return Compared(names, a, b, compared(a, b))


def kind_words(kind: str) -> str:
    """What changes, in the words of its kind."""
    return KINDS[kind]


def change_words(difference: Difference) -> str:
    """From what to what, in a few words; long values by what they are."""
    if difference.kind == "told":
        return KINDS["told"]
    a, b = value_text(difference.a), value_text(difference.b)
    if max(len(a), len(b)) > 40 or difference.kind in ("order", "headers", "body", "counts", "log") or a == b:
        return KINDS[difference.kind]
    return f"{difference.what.replace('_', '-')} {a} → {b}"


def named(ids: Sequence[str], beyond: int = 0) -> str:
    """Ids as a sentence lists them, with the count of those that it doesn't."""
    more = max(len(ids) - MOST_IDS, 0) + beyond
    return ", ".join(ids[:MOST_IDS]) + (f" and {more:,} more" if more else "")


def headline_of(compared: Compared) -> str:
    """How many requests differ, for their callers and only inside."""
    comparison = compared.comparison
    found = comparison.concerned()
    requests = counted(comparison.requests, "request")
    if not found:
        return f"{requests}, none differs"
    told = []
    if outside := found["caller"]:
        told.append(f"{outside:,} of {requests} {'differs' if outside == 1 else 'differ'}")
    for which, words in (("counts", "only in fields that count"), ("inside", "only inside")):
        if found[which]:
            told.append(f"{found[which]:,} {'more' if told else f'of {requests}'} {words}")
    return "; ".join(told)


def changes_of(compared: Compared, group: Group) -> list[tuple[str, str, int]]:
    """What changes in a group, each change with the exchanges in which it does: as a sentence lists them, counted."""
    changes: dict[str, list[str]] = {}
    beyond: Counter[str] = Counter()
    by_id = compared.by_id()
    for id_ in group.ids:
        changes.setdefault(change_words(by_id[id_][0]), []).append(id_)
    for change, count in compared.comparison.beyond.exchanges.items():
        if change.kind == group.kind:
            beyond[change_words(change)] += count
    most = sorted(changes.items(), key=lambda item: -len(item[1]) - beyond[item[0]])
    return [(words, named(ids, beyond[words]), len(ids) + beyond[words]) for words, ids in most]


def only_one(compared: Compared) -> list[str]:
    """Stages that run on one side only, a sentence each."""
    told = []
    sides = ((compared.names[0], compared.a, compared.b), (compared.names[1], compared.b, compared.a))
    for name, ours, theirs in sides:
        if stages := only_here(ours, theirs):
            told.append(f"only {name} ever runs {', '.join(stages)}")
    return told


def comparison_lines(compared: Compared, *, details: bool = False) -> Iterator[Line]:
    """One exchange of each group worked through, or all (``details``); then the changes, gravest first, and a sum."""
    comparison = compared.comparison
    yield line((compared.title, "title"))
    for group in comparison.groups:
        yield []
        head = f"── {KINDS[group.kind]}: {counted(group.size, 'exchange')} "
        yield line((head + "─" * max(line_width() - len(head), 0), "dim"))
        for number, id_ in enumerate(group.ids if details else (group.example,)):
            if number:
                yield []
            yield from worked(compared, id_, details=details)
    if comparison.groups:
        yield []
    for group in comparison.groups:
        for change, ids, _ in changes_of(compared, group):
            grave = KINDS[group.kind] if group.kind in GRAVE and change != KINDS[group.kind] else ""
            told = ": ".join(part for part in (grave, change, ids) if part)
            for part in wrapped(told, 2, "  "):
                yield line(("  ", ""), (part, "bad" if group.kind in GRAVE else "raised"))
    for sentence in only_one(compared):
        yield line((f"  {sentence}", "dim"))
    style = "bad" if comparison.changed else "good"
    yield line((f"{'✗' if comparison.changed else '✓'} {headline_of(compared)}", style))


def worked(compared: Compared, id_: str, *, details: bool = False) -> Iterator[Line]:
    """One exchange on both sides, step by step, with the step marked where they part."""
    a, b = compared.pair(id_)
    either = a or b
    if either is None:
        return
    yield line((f"{id_}  {either.request.method} {either.request.url}", "title"))
    if a is None or b is None:
        yield line((f"sent in {compared.names[0] if b is None else compared.names[1]} only", "raised"))
        return
    half = (line_width() - 3) // 2
    yield line((fit(compared.names[0], half), "dim"), "   ", (compared.names[1], "dim"))
    for where, left, right in steps_of(a, b):
        mark, style = {"same": ("   ", "dim"), "part": (" ≠ ", "raised"), "after": ("   ", "")}[where]
        yield [
            Piece(fit(f"  {left}" if left else "", half), style),
            Piece(mark, "bad"),
            Piece(fit(f"  {right}" if right else "", half).rstrip(), style),
        ]
    yield line((fit(outcome_of(a), half), "name"), "   ", (outcome_of(b), "name"))
    for difference in compared.told(id_):
        for sign, name, value in rows_of(difference):
            head = f"  {sign} {name}: "
            room = line_width() - len(head)
            for at, part in enumerate(chopped(value, room) if details else [fit(value, room)]):
                style = "raised" if sign == "-" else "good"
                yield line((head if at == 0 else " " * len(head), style), part.rstrip())


def steps_of(a: Record | None, b: Record | None) -> Iterator[tuple[str, str, str]]:
    """The steps of two journeys side by side: ``same`` until they ``part``, and what comes ``after``."""
    if a is None or b is None or not (a.journey and b.journey):  # one never came, or none is kept
        return
    same = parting(a, b)
    for number, (left, right) in enumerate(zip_longest(a.journey, b.journey)):
        yield "same" if number < same else "part" if number == same else "after", _step(left), _step(right)


_SHORT = {"caught": "caught it and answered"}
"""What is said in fewer words where two stand side by side."""


def _step(step: StepRecord | None) -> str:
    if step is None:
        return ""
    did = "dropped" if step.way == "error" and step.did == "skipped" else _SHORT.get(step.did, DID[step.did])
    return f"{step.way:<5} {step.stage}: {did}"


def outcome_of(record: Record) -> str:
    """How an exchange ended: the status and who answered."""
    return f"{record.response.status} {record.answered_by}" if record.response else record.outcome


def rows_of(difference: Difference) -> list[tuple[str, str, str]]:
    """What differs: sign, name and value, fields and lines that one side alone has, values where they part."""
    if difference.kind in ("headers", "counts", "log"):
        gone, come = _apart(difference.a or [], difference.b or [])
        pairs = [("-", row) for row in gone] + [("+", row) for row in come]
        if difference.kind == "log":
            return [(sign, f"log, {stage} {level}", message) for sign, (stage, level, message) in pairs]
        return [(sign, name, value) for sign, (name, value) in pairs]
    if difference.kind == "body":
        return [(sign, name, text) for name, a, b in _parts(difference) for sign, text in (("-", a), ("+", b))]
    name = difference.what.replace("_", "-")
    return [("-", name, value_text(difference.a)), ("+", name, value_text(difference.b))]


def _parts(difference: Difference) -> list[tuple[str, str, str]]:
    """Where two bodies part: JSON by its members, other text cut around the first difference."""
    a, b = difference.a, difference.b
    texts = [value_text((value[0] or value[1]) if value else None) for value in (a, b)]
    try:
        ours, theirs = (read_json(text) for text in texts)
    except ValueError:
        pass
    else:
        if type(ours) is type(theirs) and isinstance(ours, dict | list):
            return [(f"body {at}", _json(one), _json(other)) for at, one, other in _members(ours, theirs, "")]
    pairs = enumerate(zip(*texts, strict=False))
    alike = next((at for at, (one, other) in pairs if one != other), min(map(len, texts)))
    start = max(alike - 20, 0)
    one, other = (("…" if start else "") + text[start:] for text in texts)
    return [("body", one, other)]


_NOTHING = object()


def _json(value: object) -> str:
    return "nothing" if value is _NOTHING else json.dumps(value, ensure_ascii=False)


def _members(a: object, b: object, at: str) -> Iterator[tuple[str, object, object]]:
    """Every member in which two JSON values differ, by JSON Pointer (RFC 6901)."""
    if isinstance(a, dict) and isinstance(b, dict):
        for key in dict.fromkeys([*a, *b]):
            step = f"{at}/{str(key).replace('~', '~0').replace('/', '~1')}"
            yield from _members(a.get(key, _NOTHING), b.get(key, _NOTHING), step)
    elif isinstance(a, list) and isinstance(b, list):
        for number, (one, other) in enumerate(zip_longest(a, b, fillvalue=_NOTHING)):
            yield from _members(one, other, f"{at}/{number}")
    elif a != b or isinstance(a, bool) != isinstance(b, bool):
        yield at or "/", a, b


Rows = Sequence[tuple[str, ...]]


def _apart(a: Rows, b: Rows) -> tuple[Rows, Rows]:
    """What only one of two has; as often as it has it more."""
    gone, come = list(a), list(b)
    for row in a:
        if row in come:
            come.remove(row)
            gone.remove(row)
    return gone, come
