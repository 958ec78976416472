"""Pages of HTML that need nothing else: a replay, and a comparison. Light and dark, for keys, any screen, and paper."""

from __future__ import annotations

import json
from collections.abc import Sequence
from functools import cache
from importlib.resources import files
from itertools import groupby
from operator import itemgetter
from typing import NamedTuple

from jinja2 import Environment, FunctionLoader, StrictUndefined

from patient_usher.core.http.messages import phrase
from patient_usher.core.model.enumerations import DID, OUTCOMES
from patient_usher.core.verify.verdict import MARKS
from patient_usher.output.comparison import (
    GRAVE,
    Compared,
    changes_of,
    headline_of,
    kind_words,
    only_one,
    worked,
)
from patient_usher.output.door import printable
from patient_usher.output.journey import journey
from patient_usher.output.outcome import SIGNS, STATEMENT_MARKS, Outcome, Shown, headline
from patient_usher.output.replay_view import LEGEND, RARE, SIGN_OF, complaints, did_what, request_line, who
from patient_usher.output.terminal import plain

FIRST = 200
"""How many rows stand in the page as it opens; the rest is put in by its script."""


def _data(value: object) -> str:
    """JSON as it may stand in a script: only ``<`` could end it (HTML 13.2.5.17)."""
    return json.dumps(value, ensure_ascii=False).replace("<", "\\u003c")


@cache
def _templates() -> Environment:
    """The templates beside this file; what they print is escaped."""
    folder = files(__package__)
    return Environment(
        loader=FunctionLoader(lambda name: folder.joinpath(name).read_text(encoding="utf-8")),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )


def _rendered(name: str, **values: object) -> str:
    return printable(_templates().get_template(name).render(**values), lines=True) + "\n"


class PageRow(NamedTuple):
    """One request as the page shows it."""

    id: str
    line: str
    status: str
    grade: str
    who: str
    outcome: str
    mark: str
    sign: str
    spoken: str
    track: list[tuple[str, str]]
    ran: str
    told: str
    complaints: list[str]


def page(outcome: Outcome) -> str:
    """A replay. Rows are in the page; journeys stand in it as data, and unfold when they are opened."""
    columns = outcome.scene.columns
    rows = [_row(send, columns) for send in outcome.sends]
    sign, style = SIGNS[outcome.mark]
    return _rendered(
        "page.html",
        title=outcome.title,
        headline=headline(outcome),
        sign=sign,
        style=style,
        summary=outcome.summary,
        statements=[(*SIGNS[STATEMENT_MARKS[one.verdict]], one.sentence) for one in outcome.statements],
        columns=columns,
        rows=rows,
        marks=[(name, words) for name, words in MARKS.items() if any(row.mark == name for row in rows)],
        outcomes=[(name, OUTCOMES[name]) for name in OUTCOMES if any(row.outcome == name for row in rows)],
        legend=[part for part in f"{LEGEND}  {RARE}".split("  ") if part],
        first=FIRST,
        journeys=[_journeys(send) for send in outcome.sends],
        data=_data,
    )


def _journeys(send: Shown) -> str:
    return "\n\n".join("\n".join(map(plain, journey(record, whole=True))).strip() for record in send.records)


def _row(send: Shown, columns: Sequence[str]) -> PageRow:
    final = send.final
    dids = did_what(final)
    scheme, _, rest = final.request.url.partition("://")
    status = final.status
    return PageRow(
        id=send.id,
        line=request_line(final, f"{scheme}://{rest.partition('/')[0]}"),
        status=f"{status} {phrase(status)}" if status else "--- no answer",
        grade="bad" if status is None or status >= 500 else "odd" if status >= 400 else "fine",
        who=who(final),
        outcome=final.outcome,
        mark=send.mark,
        sign=SIGNS[send.mark][0],
        spoken=MARKS[send.mark],
        track=_track(dids, columns),
        ran=" ".join(dids),
        told=", ".join(f"{name} {DID.get(did, did)}" for name, did in dids.items()),
        complaints=[plain(pieces).strip() for pieces in complaints(send)],
    )


def comparison_page(compared: Compared) -> str:
    """A comparison: a group a section, each with one exchange worked through."""
    groups = [
        (kind_words(group.kind), group.example, "\n".join(map(plain, worked(compared, group.example))))
        for group in compared.comparison.groups
    ]
    changes = [
        (group.kind in GRAVE, ": ".join(dict.fromkeys((kind_words(group.kind), change, ids))))
        for group in compared.comparison.groups
        for change, ids, _ in changes_of(compared, group)
    ]
    title = f"{compared.title}: {headline_of(compared)}"
    return _rendered("comparison.html", title=title, changes=changes, only=only_one(compared), groups=groups)


def _track(dids: dict[str, str], columns: Sequence[str]) -> list[tuple[str, str]]:
    """The marks of all columns in runs of one colour: what did, and its marks."""
    marks = [
        (did if did != "continued" else "", SIGN_OF[did][0]) if (did := dids.get(n)) else ("", " ") for n in columns
    ]
    return [(did, "".join(mark for _, mark in run)) for did, run in groupby(marks, key=itemgetter(0))]
