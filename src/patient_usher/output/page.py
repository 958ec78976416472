"""A replay as one HTML file: no network, light and dark, for keys, screens of any size, and paper."""

from __future__ import annotations

import json
from importlib.resources import files
from itertools import groupby
from operator import itemgetter
from typing import TYPE_CHECKING, Any

from jinja2 import Environment, StrictUndefined

from patient_usher.core.http.messages import phrase
from patient_usher.core.model.enumerations import DID, OUTCOMES
from patient_usher.core.verify.always import told
from patient_usher.output.escaping import legal
from patient_usher.output.journey import journey
from patient_usher.output.replay_view import LEGEND, MARKS, RARE, did_what, failures, request_line, who
from patient_usher.output.terminal import plain

if TYPE_CHECKING:
    from patient_usher.output.reports import Outcome, Send

Record = dict[str, Any]


def render(outcome: Outcome) -> str:
    """The page. Rows are in the page; journeys stand in it as data, and unfold when they are opened."""
    from patient_usher.output.reports import headline

    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    template = environment.from_string(files(__package__).joinpath("page.html").read_text(encoding="utf-8"))
    columns = outcome.blueprint.columns()
    rows = [_row(send, columns) for send in outcome.sends]
    bad = outcome.summary.failed or any(statement.failed for statement in outcome.statements)
    journeys = [row.pop("journey") for row in rows]
    page: str = template.render(
        title=outcome.title,
        headline=headline(outcome),
        sign="✗" if bad else "✓",
        summary=outcome.summary.record(),
        statements=list(told(outcome.statements)),
        columns=columns,
        rows=rows,
        outcomes=[(name, OUTCOMES[name]) for name in OUTCOMES if any(row["outcome"] == name for row in rows)],
        legend=[part for part in f"{LEGEND}  {RARE}".split("  ") if part],
        first=FIRST,
        journeys=journeys,
        data=_data,
    )
    return legal(page)


FIRST = 200
"""How many rows stand in the page as it opens; the rest is put in by its script."""


def _data(value: Any) -> str:
    """JSON as it may stand in a script: only ``<`` could end it (HTML 13.2.5.17)."""
    return json.dumps(value, ensure_ascii=False).replace("<", "\\u003c")


def _row(send: Send, columns: list[str]) -> Record:
    final = send.final
    response, dids = final["response"], did_what(final)
    status = response["status"] if response else None
    base = (
        final["request"]["url"].partition("://")[0]
        + "://"
        + final["request"]["url"].partition("://")[2].partition("/")[0]
    )
    return {
        "id": send.id,
        "line": request_line(final, base),
        "status": status or "---",
        "phrase": phrase(status) if status else "no answer",
        "grade": "bad" if status is None or status >= 500 else "odd" if status >= 400 else "fine",
        "who": who(final),
        "outcome": final["outcome"],
        "state": "failed" if send.failed else "held" if final["checks"] else "silent",
        "mark": "✗" if send.failed else "✓" if final["checks"] else "•",
        "spoken": "not as expected" if send.failed else "as expected" if final["checks"] else "nothing expected",
        "track": _track(dids, columns),
        "ran": " ".join(dids),
        "told": ", ".join(f"{name} {DID.get(did, did)}" for name, did in dids.items()),
        "failures": [plain(pieces) for pieces in failures(final)],
        "journey": "\n\n".join("\n".join(map(plain, journey(record, whole=True))).strip() for record in send.records),
    }


def _track(dids: dict[str, str], columns: list[str]) -> list[tuple[str, str]]:
    """The marks of all columns in runs of one colour: what did, and its marks."""
    marks = [(did if did != "continued" else "", MARKS[did][0]) if (did := dids.get(n)) else ("", " ") for n in columns]
    return [(did, "".join(mark for _, mark in run)) for did, run in groupby(marks, key=itemgetter(0))]
