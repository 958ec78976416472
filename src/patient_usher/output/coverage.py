"""Coverage for people: each stage and route, how much of what it can do has happened, and what has not."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence

from patient_usher.core.decisions.coverage import Coverage
from patient_usher.core.decisions.coverage_gaps import Closing
from patient_usher.core.verify.document_types import CoverageRecord, RequestDocument
from patient_usher.output.terminal import Line, Piece, fit, line, line_width

BAR = 10


def covered_lines(coverage: Coverage, closing: Sequence[Closing]) -> Iterator[Line]:
    """A line each, with a bar; then the requests that would close the gaps."""
    yield line(("coverage", "title"), (f"  {coverage.percent}% of all branches are taken", "dim"))
    entries: dict[tuple[str, str], list[tuple[str, int]]] = {}
    for outcome in coverage.possible:
        entries.setdefault(outcome[:2], []).append((outcome[2], coverage.hits[outcome]))
    width = min(max([len(id_) for _, id_ in entries] + [8]), 22)
    sort = ""
    for (kind, id_), outcomes in entries.items():
        if kind != sort:
            sort = kind
            yield line((kind, "dim"))
        hit = sum(1 for _, times in outcomes if times)
        full = BAR * hit // len(outcomes)
        gaps = [name for name, times in outcomes if not times]
        style = "good" if not gaps else "raised" if hit else "bad"
        head = f"  {fit(id_, width)}  "
        bar = "█" * full + "░" * (BAR - full)
        told = f"not yet: {', '.join(gaps)}" if gaps else ""
        counted = f"  {hit:>2} of {len(outcomes):<2}  "
        room = line_width() - len(head) - BAR - len(counted)
        for at, part in enumerate(textwrap.wrap(told, room, break_on_hyphens=False) or [""]):
            if at == 0:
                yield [Piece(head, "name"), Piece(bar, style), Piece(counted, "dim"), Piece(part)]
            else:
                yield line(" " * (line_width() - room), part)
    for _, id_, name in coverage.impossible:
        yield line(("no request can take  ", "dim"), (id_, "name"), f"  {name}")
    if coverage.missing:
        count = sum(len(one.closed) for one in closing)
        number = sum(len(one.requests) for one in closing)
        words = f"{number} requests would close {count} of {len(coverage.missing)} gaps; --append TRACE"
        yield line((words if closing else "no request was found that closes a gap", "dim"))


def coverage_document(coverage: Coverage, missing: list[RequestDocument]) -> CoverageRecord:
    """As JSON says it; ``missing`` are requests that would make the rest happen."""
    found: dict[str, dict[str, dict[str, int]]] = {"stages": {}, "routes": {}}
    for outcome in coverage.possible:
        sort, id_, name = outcome
        found[sort].setdefault(id_, {})[name] = coverage.hits[outcome]
    hit = len(coverage.possible) - len(coverage.missing)
    return CoverageRecord(
        hit=hit,
        of=len(coverage.possible),
        stages=found["stages"],
        routes=found["routes"],
        impossible=coverage.impossible,
        missing=missing,
    )
