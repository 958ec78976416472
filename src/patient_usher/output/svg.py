"""Requests as rows, stages as columns, as the terminal shows them: an SVG for a page or a README."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple
from xml.etree.ElementTree import Element, SubElement, tostring

from patient_usher.core.analysis.compare import INSIDE
from patient_usher.core.verify.record import Record
from patient_usher.output.comparison import Compared, headline_of
from patient_usher.output.door import printable
from patient_usher.output.outcome import SIGNS, Outcome, headline
from patient_usher.output.replay_view import SIGN_OF, did_what, who

BAD, GOOD, PLAIN = "#cf222e", "#1a7f37", "#57606a"
COLOURS = {
    "continued": "#57606a",
    "skipped": "#8c959f",
    "answered": "#0969da",
    "raised": "#9a6700",
    "raised-out": "#9a6700",
    "caught": "#8250df",
    "nothing": "#cf222e",
    "answered-and-continued": "#cf222e",
}
ROW, COLUMN = 20, 22
WORDS = {"font-family": "ui-monospace, monospace", "font-size": "13", "fill": "#1f2328"}


class Row(NamedTuple):
    """One row: a mark with its colour, what it is called, and the exchange."""

    mark: str
    colour: str
    label: str
    record: Record


def picture(title: str, foot: str, columns: Sequence[str], rows: Sequence[Row]) -> str:
    """The picture, on white ground whatever the page's is; the title is read to whoever can't see it."""
    left = 8 * max([len(row.label) for row in rows] + [8]) + 28
    top = 9 * max(map(len, columns)) * 0.72 + 26
    right = 8 * max([len(f"--- {who(row.record)}") for row in rows] + [8]) + 24
    width = max(left + COLUMN * len(columns) + right, 8 * len(foot) + 20)
    height = top + ROW * len(rows) + 40
    root = Element("svg", xmlns="http://www.w3.org/2000/svg", width=f"{width:.0f}", height=f"{height:.0f}", role="img")
    SubElement(root, "title").text = printable(f"{title}: {foot}")
    SubElement(root, "rect", width="100%", height="100%", fill="#ffffff", rx="6")
    for at, name in enumerate(columns):
        x = left + COLUMN * at + 6
        turn = f"rotate(-45 {x} {top - 12:.0f})"
        SubElement(root, "text", WORDS, x=str(x), y=f"{top - 12:.0f}", transform=turn).text = printable(name)
    for number, row in enumerate(rows):
        _draw(root, row, columns, left, top + ROW * number)
    SubElement(root, "text", WORDS, x="10", y=f"{height - 14:.0f}").text = printable(foot)
    return f"{tostring(root, encoding='unicode')}\n"


def _draw(root: Element, row: Row, columns: Sequence[str], left: int, y: float) -> None:
    base = f"{y + 14:.0f}"
    SubElement(root, "text", {**WORDS, "fill": row.colour}, x="10", y=base).text = row.mark
    SubElement(root, "text", WORDS, x="26", y=base).text = printable(row.label)
    dids = did_what(row.record)
    reached = [at for at, name in enumerate(columns) if name in dids]
    if reached:
        line = {"x1": str(left + 6), "x2": str(left + COLUMN * reached[-1] + 6), "stroke": "#d0d7de"}
        SubElement(root, "line", line, y1=f"{y + 10:.0f}", y2=f"{y + 10:.0f}")
    for at, name in enumerate(columns):
        if name in dids:
            place = {**WORDS, "fill": COLOURS[dids[name]], "text-anchor": "middle"}
            SubElement(root, "text", place, x=str(left + COLUMN * at + 6), y=base).text = SIGN_OF[dids[name]][0]
    response = row.record.response
    told = f"{response.status if response else '---'} {who(row.record)}"
    SubElement(root, "text", WORDS, x=str(left + COLUMN * len(columns) + 10), y=base).text = printable(told)


_COLOURS = {"good": GOOD, "bad": BAD, "dim": PLAIN}


def picture_of(outcome: Outcome) -> str:
    """Requests against stages."""
    rows = []
    for send in outcome.sends:
        sign, style = SIGNS[send.mark]
        rows.append(Row(sign, _COLOURS[style], send.id, send.final))
    return picture(outcome.title, headline(outcome), outcome.scene.columns, rows)


def picture_of_comparison(compared: Compared) -> str:
    """What differs for callers: two rows an exchange, one of each side."""
    ids = [id_ for group in compared.comparison.groups if group.kind not in INSIDE for id_ in group.ids]
    rows = []
    for id_ in ids:
        before, after = compared.pair(id_)
        rows += [Row("-", PLAIN, id_, before)] if before is not None else []
        rows += [Row("+", BAD, id_ if before is None else "", after)] if after is not None else []
    ran = (step.stage for row in (*compared.a, *compared.b) for step in row.journey if step.way == "in")
    columns = list(dict.fromkeys(ran)) or ["handler"]
    last = [name for name in ("router", "handler") if name in columns]
    ordered = [*(name for name in columns if name not in last), *last]
    return picture(compared.title, headline_of(compared), ordered, rows)
