"""Swapping stages: which pairs may change places, which must not, and which request shows it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import combinations
from typing import NamedTuple

from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.questions.compare import KINDS, Comparison, compared
from patient_usher.core.variants.orders import Order, movable, reordered
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.record import Record
from patient_usher.core.verify.run import prefix_of, run

VERDICTS = {
    "free": "may swap freely",
    "fields": "changes only fields",
    "must-not": "must not swap",
    "mends": "mends what isn't as expected",
}
_HARMLESS = ("order",)
_FIELDS = ("headers", "log", "time")


class SwapOutcome(NamedTuple):
    """What came of traces: every exchange, and what didn't hold (requests, and statements that always should)."""

    records: list[Record]
    broken: frozenset[str]


class SwapPair(NamedTuple):
    """Two stages and what swapping them does. ``example``: the exchange that shows the worst of it, or the best."""

    a: str
    b: str
    verdict: str
    changed: int
    broken: tuple[str, ...]
    mended: tuple[str, ...]
    example: str | None
    comparison: Comparison
    swapped: list[Record]


def outcome(compiled: CompiledPipeline, traces: Sequence[BoundTrace], seed: int = 0) -> SwapOutcome:
    """Replay the traces, each in a run state of its own."""
    statements = Statements(compiled)
    records: list[Record] = []
    broken: set[str] = set()
    for trace in traces:
        before = prefix_of(trace, traces)
        for judged in run(RunState(compiled, seed), trace, statements=statements):
            if any(not check.ok for check in judged.checks):
                broken.add(before + judged.send.id)
            found = judged.records()
            for record in found:
                record.id = before + record.id
            records += found
    broken |= {f"invariant {statement.id}" for statement in statements.all if statement.failed}
    return SwapOutcome(records, frozenset(broken))


def pairs_of(order: Order, *, every: bool) -> list[tuple[int, int]]:
    """The places whose stages are swapped: neighbours, or every pair."""
    if every:
        return list(combinations(range(len(order)), 2))
    return [(at, at + 1) for at in range(len(order) - 1)]


def swaps(
    compiled: CompiledPipeline,
    traces: Sequence[BoundTrace],
    *,
    every: bool = False,
    seed: int = 0,
    watch: Callable[[int], None] = lambda done: None,
) -> Iterator[SwapPair]:
    """Each pair of neighbours (or each pair) swapped, and what that changes."""
    order = movable(compiled)
    present = outcome(compiled, traces, seed)
    for number, (first, second) in enumerate(pairs_of(order, every=every), 1):
        swapped = list(order)
        swapped[first], swapped[second] = swapped[second], swapped[first]
        after = outcome(reordered(compiled, swapped), traces, seed)
        watch(number)
        yield _pair(order[first], order[second], present, after)


def _pair(a: str, b: str, before: SwapOutcome, after: SwapOutcome) -> SwapPair:
    comparison = compared(before.records, after.records)
    kinds = {difference.kind for difference in comparison.differs}
    broken, mended = (tuple(sorted(less)) for less in (after.broken - before.broken, before.broken - after.broken))
    if mended and not broken:
        verdict = "mends"
    elif broken or kinds - {*_HARMLESS, *_FIELDS}:
        verdict = "must-not"
    else:
        verdict = "fields" if kinds & {*_FIELDS} else "free"
    worst = _worst(comparison, broken or mended)
    changed = {difference.id.partition("/")[0] for difference in comparison.differs if difference.kind not in _HARMLESS}
    requests = [id_ for id_ in broken if not id_.startswith("always ")]
    changed |= {*requests}
    worst = worst or (requests[0] if requests else None)
    return SwapPair(a, b, verdict, len(changed), broken, mended, worst, comparison, after.records)


def _worst(comparison: Comparison, broken: Sequence[str]) -> str | None:
    """The exchange with the gravest change; of those, one of which something was expected."""
    kinds = list(KINDS)
    ranked = sorted(
        (difference for difference in comparison.differs if difference.kind not in _HARMLESS),
        key=lambda difference: (kinds.index(difference.kind), difference.id.partition("/")[0] not in broken),
    )
    return ranked[0].id if ranked else None
