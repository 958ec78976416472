"""Stages against routes, for people."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.partition import Tie
from patient_usher.core.questions.route_matrix import RouteRow, StageOnWay, Way
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.replay_view import staircase
from patient_usher.output.terminal import Line, Piece, fit, line, line_width

CELLS = {
    "runs": ("●", ""),
    "errors": ("◇", "dim"),
    "sometimes": ("◐", "raised"),
    "passed-over": ("○", "dim"),
    "off": ("–", "dim"),
    "never": ("·", "dim"),
    "elsewhere": ("", "dim"),
}
LEGEND = {
    "runs": "● runs",
    "sometimes": "◐ depends on the path (only, except)",
    "errors": "◇ for errors only",
    "passed-over": "○ passed over",
    "never": "· something in front answers first, or no error comes here",
    "off": "– switched off",
}


def matrix(compiled: CompiledPipeline, rows: list[RouteRow]) -> Iterator[Line]:
    """Every route against every stage, in running order."""
    columns = compiled.columns(switched_off=True)
    gap = "" if len(columns) > 22 else " "
    id_width = min(max([len(row.item.route.id) for row in rows] + [5]), 20)
    track = len(columns) * (1 + len(gap))
    places = [f"{row.item.route.method} {row.item.route.template.text}" for row in rows]
    place_width = min(max(map(len, places), default=10), line_width() - id_width - track - 22)
    reversed_ = ", listed innermost first" if compiled.spec.listed == "innermost-first" else ""
    flow = f"{compiled.spec.flow} flow{reversed_}, {' and '.join(compiled.environment)}"
    place_width = max(place_width, min(len(flow), line_width() - track - 22) - id_width - 1)
    left = id_width + 1 + place_width + 2
    title = [line((compiled.name, "title")), line((flow, "dim"))]
    yield from staircase(columns, title, left, gap)
    for row, place in zip(rows, places, strict=True):
        pieces = [Piece(fit(row.item.route.id, id_width) + " "), Piece(fit(place, place_width) + "  ")]
        order = compiled.order(row.item)
        last = max(columns.index(id_) for id_ in order)
        for at, id_ in enumerate(columns):
            if id_ in ("router", "handler") and row.stages[id_] == "runs":
                pieces.append(Piece("◆" if id_ == "handler" else "┼", "answered" if id_ == "handler" else "dim"))
            else:
                mark, style = CELLS[row.stages[id_]]
                pieces.append(Piece(mark or ("─" if at < last else " "), style))
            if gap:
                pieces.append(Piece("─" if at < last else " ", "dim"))
        pieces.append(Piece(f"  {row.access}", "bad" if row.access.endswith("checks it") else "dim"))
        yield pieces
    yield []
    seen = {state for row in rows for state in row.stages.values()}
    yield line(("  ".join([*(words for state, words in LEGEND.items() if state in seen), "◆ handler"]), "dim"))


def way_view(method: str, target: str, way: Way) -> Iterator[Line]:
    """What one request would meet."""
    if way.item is not None:
        route = way.item.route
        yield line((f"{method} {target}", "title"))
        groups = f", in {' in '.join(f'group {id_}' for id_ in reversed(route.groups))}" if route.groups else ""
        access = f"access {way.access}" if route.access else way.access
        yield line((f"route {route.id} ({route.method} {route.template.text}){groups}, {access}", "dim"))
    else:
        yield line((f"{method} {target}", "title"))
        yield line(("no route", "bad"))
    yield []
    number = 0
    for stage in way.on_way:
        number += stage.runs
        yield _row(f"{number:>3}" if stage.runs else f"  {CELLS[stage.state][0]}", stage)
    if way.elsewhere:
        yield []
        yield line(("not on its way", "dim"))
        for stage in way.elsewhere:
            yield _row("  ·", stage)


def _row(mark: str, stage: StageOnWay) -> Line:
    dim = "" if stage.runs else "dim"
    return line(
        (f"{mark}  ", "dim"),
        (fit(stage.id, 18) + " ", "name" if stage.runs else "dim"),
        (fit(stage.kind, 15) + " ", "dim"),
        (stage.why, dim),
    )


def state_lines(ties: Sequence[Tie], part: str | None, against: Sequence[Tie]) -> Iterator[Line]:
    """On what the state of a replay hangs, and whether it can be replayed in parts."""
    if not ties:
        yield line(("nothing is remembered from one request to the next", "title"))
    else:
        yield line(("what is remembered from one request to the next", "title"))
        width = max(len(REDACTOR.redacted(tie.who)) for tie in ties)
        for tie in ties:
            yield line(f"  {REDACTOR.redacted(tie.who).ljust(width)}  by ", (tie.told, "name"))
    if part is not None:
        by = "as one likes" if part == "nothing" else f"by {part}"
        yield line((f"requests may be replayed apart {by}: replay --cores N does", "dim"))
    else:
        who = ", ".join(REDACTOR.redacted(tie.who) for tie in against)
        yield line((f"{who}: requests meet there, so that replay --cores runs on one core", "dim"))
