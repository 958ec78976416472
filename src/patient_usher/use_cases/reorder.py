"""Which pairs of stages may swap, which must not, and which order meets what is wished for?"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import NamedTuple

from patient_usher.core.decisions.runner import BUDGET
from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.model.document import unusable
from patient_usher.core.questions.reorder.discriminate import Apart, distinguish_orders
from patient_usher.core.questions.reorder.swaps import SwapPair, swaps
from patient_usher.core.variants.orders import BUDGET as SEARCH_BUDGET
from patient_usher.core.variants.orders import Constraints, Found
from patient_usher.files.trace import Trace
from patient_usher.use_cases.session import Pipeline, bound_all


def _unwatched(done: int) -> None:
    """Nobody wants to know how far it is."""


class Reordered(NamedTuple):
    """What swapping does, and what a search came to: None where nothing was wished for and nothing is broken."""

    pairs: list[SwapPair]
    found: Found | None
    replays: int


def reorder(
    pipeline: Pipeline,
    *traces: Trace,
    wishes: Iterable[tuple[str, str]] = (),
    every: bool = False,
    budget: int = SEARCH_BUDGET,
    seed: int = 0,
) -> Reordered:
    """Swap neighbours (or, with ``every``, each pair) and look for the order with the fewest moves that has what is
    wished for: each wish a stage that comes before another. ``budget``: how many requests are replayed for that at
    most. Raises Unusable.
    """
    bound = bound_all(pipeline.compiled, traces)
    return reordered(pipeline.compiled, bound, wishes, every=every, seed=seed, budget=budget)


def reordered(
    compiled: CompiledPipeline,
    traces: list[BoundTrace],
    wishes: Iterable[tuple[str, str]],
    *,
    every: bool,
    seed: int,
    budget: int = SEARCH_BUDGET,
    swapped: Callable[[int], None] = _unwatched,
    replayed: Callable[[int], None] = _unwatched,
) -> Reordered:
    """The same of traces that are ready. ``swapped`` and ``replayed`` are told how far it is."""
    if any(trace.streams for trace in traces):
        raise unusable("a trace in bulk can't be replayed so often", "name one that people write")
    wishes = list(wishes)
    pairs = list(swaps(compiled, traces, every=every, seed=seed, watch=swapped)) if traces else []
    search = Constraints(compiled, traces, wishes, seed, budget)
    search.watch = replayed
    found = search.search() if wishes or search.broken(search.present) else None
    return Reordered(pairs, found, len(pairs) + bool(pairs) + search.replays)


def tell_apart(
    pipeline: Pipeline, *, budget: int = BUDGET, seed: int = 0, watch: Callable[[int], None] = _unwatched
) -> Apart:
    """The fewest requests whose answers tell orders apart."""
    return distinguish_orders(pipeline.compiled, seed=seed, budget=budget, watch=watch)
