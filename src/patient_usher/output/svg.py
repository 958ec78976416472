"""Requests as rows, stages as columns, as the terminal shows them: an SVG for a page or a README."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple
from xml.etree.ElementTree import Element, SubElement, tostring

from patient_usher.core.questions.compare import INSIDE
from patient_usher.core.verify.record import Record
from patient_usher.output.comparison import Compared, headline_of
from patient_usher.output.outcome import SIGNS, Outcome, headline
from patient_usher.output.palette import LIGHT, dark_fills
from patient_usher.output.redactor import printable
from patient_usher.output.replay_view import LEGEND, RARE, SIGN_OF, did_what, who

FILLS = {
    "continued": "soft", "skipped": "soft", "answered": "told", "raised": "odd", "raised-out": "odd",
    "caught": "caught", "nothing": "bad", "answered-and-continued": "bad",
}  # fmt: skip
"""By what a stage did, the colour of its sign."""
ROW, COLUMN = 20, 22
WORDS = {"font-family": "ui-monospace, monospace", "font-size": "13"}


def _in(colour: str) -> dict[str, str]:
    """Text in a colour: as it is on light ground, and a class by which dark ground changes it."""
    return {**WORDS, "fill": LIGHT[colour], "class": colour}


class Row(NamedTuple):
    """One row: a mark with its colour, what it is called, and the exchange."""

    mark: str
    colour: str
    label: str
    record: Record


def picture(title: str, foot: str, columns: Sequence[str], rows: Sequence[Row]) -> str:
    """The picture, on light ground or on dark as the reader's is; its title is read to whoever can't see it."""
    seen = {did for row in rows for did in did_what(row.record).values()}
    signs = {SIGN_OF[did][0] for did in seen}
    legend = "  ".join(part for part in f"{LEGEND}  {RARE}".split("  ") if part[0] in signs)
    left = 8 * max([len(row.label) for row in rows] + [8]) + 28
    top = 9 * max(map(len, columns)) * 0.72 + 56
    right = 8 * max([len(f"--- {who(row.record)}") for row in rows] + [8]) + 24
    width = max(left + COLUMN * len(columns) + right, 8 * max(len(foot), len(title) + 2, len(legend)) + 20)
    height = top + ROW * len(rows) + 60
    root = Element("svg", xmlns="http://www.w3.org/2000/svg", width=f"{width:.0f}", height=f"{height:.0f}", role="img")
    SubElement(root, "title").text = printable(f"{title}: {foot}")
    SubElement(root, "style").text = dark_fills()
    ground = {"width": "100%", "height": "100%", "fill": LIGHT["ground"], "rx": "6", "class": "ground"}
    SubElement(root, "rect", ground)
    SubElement(root, "text", {**_in("ink"), "font-weight": "600"}, x="10", y="22").text = printable(title)
    for at, name in enumerate(columns):
        x = left + COLUMN * at + 6
        turn = f"rotate(-45 {x} {top - 12:.0f})"
        SubElement(root, "text", _in("ink"), x=str(x), y=f"{top - 12:.0f}", transform=turn).text = printable(name)
    for number, row in enumerate(rows):
        _draw(root, row, columns, left, top + ROW * number)
    SubElement(root, "text", _in("soft"), x="10", y=f"{height - 34:.0f}").text = legend
    SubElement(root, "text", _in("ink"), x="10", y=f"{height - 14:.0f}").text = printable(foot)
    return f"{tostring(root, encoding='unicode')}\n"


def _draw(root: Element, row: Row, columns: Sequence[str], left: int, y: float) -> None:
    base = f"{y + 14:.0f}"
    SubElement(root, "text", _in(row.colour), x="10", y=base).text = row.mark
    SubElement(root, "text", _in("ink"), x="26", y=base).text = printable(row.label)
    dids = did_what(row.record)
    reached = [at for at, name in enumerate(columns) if name in dids]
    if reached:
        line = {
            "x1": str(left + 6),
            "x2": str(left + COLUMN * reached[-1] + 6),
            "stroke": LIGHT["rule"],
            "class": "line",
        }
        SubElement(root, "line", line, y1=f"{y + 10:.0f}", y2=f"{y + 10:.0f}")
    for at, name in enumerate(columns):
        if name in dids:
            place = {**_in(FILLS[dids[name]]), "text-anchor": "middle"}
            SubElement(root, "text", place, x=str(left + COLUMN * at + 6), y=base).text = SIGN_OF[dids[name]][0]
    response = row.record.response
    told = f"{response.status if response else '---'} {who(row.record)}"
    SubElement(root, "text", _in("ink"), x=str(left + COLUMN * len(columns) + 10), y=base).text = printable(told)


_COLOURS = {"good": "good", "bad": "bad", "dim": "soft"}


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
        rows += [Row("-", "soft", id_, before)] if before is not None else []
        rows += [Row("+", "bad", id_ if before is None else "", after)] if after is not None else []
    ran = (step.stage for row in (*compared.a, *compared.b) for step in row.journey if step.way == "in")
    columns = list(dict.fromkeys(ran)) or ["handler"]
    last = [name for name in ("router", "handler") if name in columns]
    ordered = [*(name for name in columns if name not in last), *last]
    return picture(compared.title, headline_of(compared), ordered, rows)
