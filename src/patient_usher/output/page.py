"""Pages of HTML that need nothing else: a replay, and a comparison. Light and dark, for keys, any screen, and paper."""

from __future__ import annotations

import json
from collections import Counter
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
    outcome_of,
    rows_of,
    steps_of,
)
from patient_usher.output.journey import journeys
from patient_usher.output.outcome import SIGNS, STATEMENT_MARKS, Outcome, Shown, headline
from patient_usher.output.palette import variables
from patient_usher.output.redactor import printable
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
    return printable(_templates().get_template(name).render(palette=variables(), **values), lines=True) + "\n"


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
    bursts = sorted(_bursts(outcome.sends), key=lambda burst: burst[0].mark not in ("failed", "slipped"))
    rows = [_row(burst, columns) for burst in bursts]
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
        journeys=[_journeys(burst[0]) for burst in bursts],
        data=_data,
    )


def _journeys(send: Shown) -> str:
    return "\n".join(map(plain, journeys(send.records, whole=True))).strip()


def _bursts(sends: Sequence[Shown]) -> list[list[Shown]]:
    """Sends one by one, but repetitions of a request together, the first with the gravest mark in front."""
    found: list[list[Shown]] = []
    for send in sends:
        if found and send.id != send.request_id and found[-1][0].request_id == send.request_id:
            found[-1].append(send)
        else:
            found.append([send])
    grave = ["failed", "slipped", "held", "none"]
    return [sorted(burst, key=lambda send: grave.index(send.mark)) for burst in found]


def _row(burst: Sequence[Shown], columns: Sequence[str]) -> PageRow:
    send = burst[0]
    final = send.final
    dids = did_what(final)
    scheme, _, rest = final.request.url.partition("://")
    status = final.status
    return PageRow(
        id=f"{send.request_id} ×{len(burst)}" if len(burst) > 1 else send.id,
        line=request_line(final, f"{scheme}://{rest.partition('/')[0]}"),
        status=_tally(burst) if len(burst) > 1 else f"{status} {phrase(status)}" if status else "--- no answer",
        grade="bad" if status is None or status >= 500 else "odd" if status >= 400 else "fine",
        who="" if len(burst) > 1 else who(final),
        outcome=final.outcome,
        mark=send.mark,
        sign=SIGNS[send.mark][0],
        spoken=MARKS[send.mark],
        track=_track(dids, columns),
        ran=" ".join(dids),
        told=", ".join(f"{name} {DID.get(did, did)}" for name, did in dids.items()),
        complaints=[plain(pieces).strip() for pieces in complaints(send)],
    )


class Side(NamedTuple):
    """One exchange that differs, worked through: steps side by side, and what differs, before and after."""

    id: str
    line: str
    steps: list[tuple[str, str, str]]
    ends: tuple[str, str]
    rows: list[tuple[str, str, str]]


def comparison_page(compared: Compared) -> str:
    """A comparison: what changes in a table, then a group a section, with one exchange worked through."""
    groups = [
        (kind_words(group.kind), group.size, _side(compared, group.example)) for group in compared.comparison.groups
    ]
    changes = [
        (group.kind in GRAVE, kind_words(group.kind), change, count, ids)
        for group in compared.comparison.groups
        for change, ids, count in changes_of(compared, group)
    ]
    return _rendered(
        "comparison.html",
        title=compared.title,
        names=compared.names,
        headline=headline_of(compared),
        changed=bool(compared.comparison.changed),
        changes=changes,
        only=only_one(compared),
        groups=groups,
    )


def _side(compared: Compared, id_: str) -> Side:
    a, b = compared.pair(id_)
    either = a or b
    assert either is not None, "an exchange that differs is on one side at least"
    rows = [row for difference in compared.told(id_) for row in rows_of(difference)]
    request = f"{either.request.method} {either.request.url}"
    ends = tuple(outcome_of(one) if one is not None else "not sent" for one in (a, b))
    return Side(id_, request, list(steps_of(a, b)), (ends[0], ends[1]), rows)


def _tally(burst: Sequence[Shown]) -> str:
    """How often each status came."""
    counted = Counter(str(send.final.status or send.final.outcome) for send in burst)
    return ", ".join(f"{count} × {status}" for status, count in counted.most_common())


def _track(dids: dict[str, str], columns: Sequence[str]) -> list[tuple[str, str]]:
    """The signs of all columns, and the line that joins them, in runs of one colour: what did, and its signs."""
    last = max((at for at, name in enumerate(columns) if name in dids), default=-1)
    marks: list[tuple[str, str]] = []
    for at, name in enumerate(columns):
        did, joined = dids.get(name, ""), "─" if at < last else " "
        marks += [(did, SIGN_OF[did][0]) if did else ("", joined), ("", joined)]
    return [(did, "".join(mark for _, mark in run)) for did, run in groupby(marks[:-1], key=itemgetter(0))]
