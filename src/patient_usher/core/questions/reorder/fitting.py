"""The orders that answer as a service did to requests that tell orders apart."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.questions.reorder.discriminate import Apart, in_common, nearest, orders_of
from patient_usher.core.variants.orders import Order, movable, reordered
from patient_usher.core.verify.outside import drifts
from patient_usher.core.verify.record import Record
from patient_usher.core.verify.run import run


class FittingOrder(NamedTuple):
    """The orders that answer as the service did.

    ``answers``: its statuses, by request sent. ``example``: the model's own order, or one of the others; None where no
    order answers so. ``before``: what all of them have in common beside what all orders have. ``present``: whether the
    model's own is among them. ``exact``: whether all were looked at. ``trouble``: what it did in place of answers.
    """

    apart: Apart
    answers: tuple[str, ...]
    fitting: tuple[Order, ...]
    example: Order | None
    before: tuple[tuple[str, str], ...]
    present: bool
    exact: bool
    trouble: str | None


def fitting(
    compiled: CompiledPipeline,
    apart: Apart,
    trace: BoundTrace,
    theirs: Sequence[list[Record]],
    seed: int,
    trouble: str | None,
) -> FittingOrder:
    """Which orders answer to the trace as the service did (``theirs``, by send)."""
    orders, exact = orders_of(compiled)
    found = [order for order in orders if _answers_so(compiled, order, trace, theirs, seed)]
    present = movable(compiled)
    return FittingOrder(
        apart,
        tuple("/".join(str(record.status or "none") for record in records) for records in theirs),
        tuple(found),
        nearest(present, found) if found else None,
        tuple(sorted(in_common(found) - in_common(orders))) if found else (),
        present in found,
        exact,
        trouble,
    )


def _answers_so(
    compiled: CompiledPipeline, order: Order, trace: BoundTrace, theirs: Sequence[list[Record]], seed: int
) -> bool:
    """Whether an order's answers are the service's, as far as callers can tell."""
    ours = run(RunState(reordered(compiled, order), seed), trace)
    return all(_alike(judged.records(), records) for judged, records in zip(ours, theirs, strict=True))


def _alike(ours: Sequence[Record], theirs: Sequence[Record]) -> bool:
    if [one.id for one in ours] != [one.id for one in theirs]:
        return False
    return not any(drifts(one, other) for one, other in zip(ours, theirs, strict=True))
