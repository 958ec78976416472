"""What changes between two results: for people at a terminal, and for a pull request."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence
from html import escape
from itertools import zip_longest
from typing import Any, NamedTuple

from patient_usher.core.analysis.compare import KINDS, Comparison, Difference, Group, only_here, parting
from patient_usher.core.model.enumerations import DID
from patient_usher.output.escaping import cell, fence, legal
from patient_usher.output.replay_view import WIDTH, value_text
from patient_usher.output.terminal import Line, Piece, fit, line, plain

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
        yield from worked(comparison, group.example, sides)


def worked(comparison: Comparison, id_: str, sides: Sides) -> Iterator[Line]:
    """One exchange on both sides, step by step, with the step marked where they part."""
    a, b = sides.pair(id_)
    request = (a or b or {"request": {"method": "", "url": ""}})["request"]
    yield line((f"{id_}  {request['method']} {request['url']}", "title"))
    if a is None or b is None:
        yield line((f"sent in {sides.names[0] if b is None else sides.names[1]} only", "raised"))
        return
    half = (WIDTH - 3) // 2
    yield line((fit(sides.names[0], half), "dim"), "   ", (sides.names[1], "dim"))
    same = parting(a, b)
    steps = zip_longest(a["journey"], b["journey"]) if a["journey"] and b["journey"] else ()  # else one never came
    for number, (left, right) in enumerate(steps):
        mark = " ≠ " if number == same else "   "
        style = "dim" if number < same else "raised" if number == same else ""
        yield [Piece(fit(_step(left), half), style), Piece(mark, "bad"), Piece(_step(right), style)]
    yield line((fit(_outcome(a), half), "name"), "   ", (_outcome(b), "name"))
    for difference in comparison.differs:
        if difference.id == id_ and difference.kind not in ("order", "opened"):
            yield from _both(difference)


_SHORT = {"caught": "caught it and answered"}
"""What is said in fewer words where two stand side by side."""


def _step(step: Record | None) -> str:
    if step is None:
        return ""
    did = (
        "dropped" if step["way"] == "error" and step["did"] == "skipped" else _SHORT.get(step["did"], DID[step["did"]])
    )
    return f"  {step['way']:<5} {step['stage']}: {did}"


def _outcome(record: Record) -> str:
    response = record["response"]
    return f"{response['status']} {record['answered_by']}" if response else record["outcome"]


def _both(difference: Difference) -> Iterator[Line]:
    if difference.kind in ("headers", "log"):
        gone, come = _apart(difference.a or [], difference.b or [])
        for sign, rows in (("-", gone), ("+", come)):
            for row in rows:
                name, value = row if difference.kind == "headers" else (f"log, {row[0]} {row[1]}", row[2])
                yield line((f"  {sign} {name}: ", "field"), fit(value, WIDTH - len(name) - 8).rstrip())
        return
    texts = [value[0] or value[1] if difference.kind == "body" and value else value for value in difference[3:]]
    name = difference.what.replace("_", "-")
    for sign, value in zip("-+", texts, strict=True):
        yield line((f"  {sign} {name}: ", "field"), fit(value_text(value), WIDTH - len(name) - 6).rstrip())


def _apart(a: Sequence[Any], b: Sequence[Any]) -> tuple[list[Any], list[Any]]:
    """What only one of two has; as often as it has it more."""
    gone, come = list(a), list(b)
    for row in a:
        if row in come:
            come.remove(row)
            gone.remove(row)
    return gone, come


# For a pull request.


def markdown(comparison: Comparison, sides: Sides) -> str:
    """The changes as Markdown: a headline, a table of groups, one worked journey of each unfolding."""
    out = [f"### {cell(sides.names[0])} → {cell(sides.names[1])}: {_headline(comparison)}", ""]
    if comparison.changed:
        out += ["| what changes | how | exchanges |", "| --- | --- | --- |"]
    for group in comparison.groups:
        for change, ids in _lines_of(comparison, group):
            grave = f"**{KINDS[group.kind]}**" if group.kind in GRAVE else KINDS[group.kind]
            out.append(f"| {grave} | {cell(change)} | {len(ids)}: {cell(_named(ids))} |")
    out += ["", *(f"- {cell(told)}" for told in _alone(sides)), ""]
    for group in comparison.groups:
        lines = list(map(plain, worked(comparison, group.example, sides)))
        marks = fence("\n".join(lines))
        title = f"{KINDS[group.kind]}: {group.example}"
        out += ["<details>", f"<summary>{escape(title)}</summary>", "", marks, *lines, marks, "", "</details>", ""]
    return "\n".join(out).rstrip() + "\n"


def page(comparison: Comparison, sides: Sides) -> str:
    """The changes as one HTML file that needs nothing else: a group a section, light and dark."""
    title = f"{sides.names[0]} → {sides.names[1]}: {_headline(comparison)}"
    out = [_HEAD.replace("TITLE", escape(title)), f"<h1>{escape(title)}</h1>", "<ul>"]
    for group in comparison.groups:
        for change, ids in _lines_of(comparison, group):
            parts = dict.fromkeys((KINDS[group.kind], change, _named(ids)))
            words = ": ".join(part for part in parts if part)
            out.append(f'<li class="{"grave" if group.kind in GRAVE else ""}">{escape(words)}</li>')
    out += [f"<li>{escape(told)}</li>" for told in _alone(sides)]
    out.append("</ul>")
    for group in comparison.groups:
        lines = list(map(plain, worked(comparison, group.example, sides)))
        label = escape(f"{KINDS[group.kind]}: {group.example}", quote=True)
        text = escape("\n".join(lines))
        out += [f"<h2>{label}</h2>", f'<pre tabindex="0" role="region" aria-label="{label}">{text}</pre>']
    return legal("\n".join([*out, "</main></body></html>"])) + "\n"


_HEAD = """<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<meta name="color-scheme" content="light dark"><title>TITLE</title>
<style>
:root { --ground: #fff; --ink: #1b1f24; --raise: #f3f5f7; --bad: #a40e26; }
@media (prefers-color-scheme: dark) { :root { --ground: #101318; --ink: #e6e9ed; --raise: #1a1f26; --bad: #ff8f88; } }
body { margin: 0; background: var(--ground); color: var(--ink); font: 15px/1.5 system-ui, sans-serif; }
main { max-width: 1240px; margin: 0 auto; padding: 0 1rem 2rem; }
h1 { font-size: 1.4rem; } h2 { font-size: 1rem; margin-top: 1.6rem; } .grave { color: var(--bad); }
li { overflow-wrap: anywhere; }
pre { overflow-x: auto; background: var(--raise); padding: .8rem; border-radius: 6px; }
pre { font: 13px/1.45 ui-monospace, monospace; }
</style></head><body><main>"""


def junit(comparison: Comparison, sides: Sides) -> str:
    """One test an exchange, which fails where anything changes."""
    from xml.etree.ElementTree import Element, SubElement, indent, tostring

    changes: dict[str, list[Difference]] = {}
    for difference in comparison.differs:
        changes.setdefault(difference.id, []).append(difference)
    ids = list(dict.fromkeys(record["id"] for record in (*sides.a, *sides.b)))
    name = legal(f"{sides.names[0]} → {sides.names[1]}")
    root = Element("testsuites", name=name)
    counts = {"tests": str(len(ids)), "failures": str(len(changes)), "errors": "0", "skipped": "0"}
    suite = SubElement(root, "testsuite", {"name": name, **counts})
    for id_ in ids:
        case = SubElement(suite, "testcase", classname="compare", name=legal(id_), time="0")
        if id_ in changes:
            message = "; ".join(_change(difference) or KINDS[difference.kind] for difference in changes[id_])
            SubElement(case, "failure", message=legal(message), type=changes[id_][0].kind)
    indent(root)
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{tostring(root, encoding="unicode")}\n'


def as_json(comparison: Comparison, sides: Sides) -> str:
    """The comparison as one document."""
    from patient_usher.output.result import dump

    return dump(comparison.document()).decode() + "\n"


def svg(comparison: Comparison, sides: Sides) -> str:
    """The picture of what ends otherwise: two rows an exchange, one of each side."""
    from patient_usher.output.svg import BAD, PLAIN, Row, picture

    ids = [id_ for group in comparison.groups if group.kind not in INSIDE for id_ in group.ids]
    rows = []
    for id_ in ids:
        before, after = sides.pair(id_)
        rows += [Row("-", PLAIN, id_, before)] if before is not None else []
        rows += [Row("+", BAD, id_ if before is None else "", after)] if after is not None else []
    ran = (step["stage"] for row in (*sides.a, *sides.b) for step in row["journey"] if step["way"] == "in")
    columns = list(dict.fromkeys(ran)) or ["handler"]
    last = [name for name in ("router", "handler") if name in columns]
    return picture(
        f"{sides.names[0]} → {sides.names[1]}",
        _headline(comparison),
        [*(name for name in columns if name not in last), *last],
        rows,
    )


FORMATS = {"md": markdown, "html": page, "json": as_json, "junit": junit, "svg": svg}
"""What ``--report FORMAT=FILE`` may name."""
