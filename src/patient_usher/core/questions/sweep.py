"""Settings tried in every combination: what comes of each, which are no worse than all others, which meets a goal."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from itertools import product
from typing import Any, NamedTuple

from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.compile.compiler import overlaid
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.model.document import Json, JsonMapping, JsonObject
from patient_usher.core.model.overlays import named, place_of
from patient_usher.core.questions.goals import Goal
from patient_usher.core.questions.metrics import Figures, Select
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.run import run

Combination = tuple[tuple[str, Any], ...]
"""Settings, each with its value."""

MOST = 10_000
"""How many combinations are tried at most."""


class Trial(NamedTuple):
    """One combination, and what came of it. ``best``: no other is better in one figure and worse in none."""

    combination: Combination
    figures: Figures
    broken_always: int
    best: bool = False


_RANGE = re.compile(r"(-?\d{1,15})\.\.(-?\d{1,15})")


def values_of(text: str) -> list[str]:
    """``10,20,50`` or ``1..6`` as a list of texts."""
    match = _RANGE.fullmatch(text.strip())
    if match is not None:
        first, last = int(match[1]), int(match[2])
        step = 1 if first <= last else -1
        return [str(number) for number in range(first, last + step, step)[: MOST + 1]]
    return [part.strip() for part in text.split(",") if part.strip()]


def combinations_of(tries: Mapping[str, Sequence[object]]) -> list[Combination]:
    """Every combination of the settings' values. Raises ValueError where there are too many."""
    count = 1
    for values in tries.values():
        count *= len(values)
    if count > MOST:
        raise ValueError(f"there are {count:,} combinations; try fewer values, {MOST:,} at most")
    return [tuple(zip(tries, chosen, strict=True)) for chosen in product(*tries.values())]


def present_of(doc: JsonMapping, combination: Combination) -> JsonObject:
    """What the settings of a combination are in a document."""
    found: JsonObject = {}
    for name, _ in combination:
        first, *rest = place_of(name)
        node: Json = named(doc, first) if first in ("stages", "routes") else doc.get(first)
        for key in rest:
            node = node.get(key) if isinstance(node, dict) else None
        found[name] = node
    return found


def overlay_of(combination: Combination) -> JsonObject:
    """A combination as an overlay: ``STAGE.OPTION``, ``routes.ROUTE.SETTING`` or ``deployment.KEY``."""
    overlay: JsonObject = {}
    for name, value in combination:
        *outer, last = place_of(name)
        node = overlay
        for key in outer:
            node = node.setdefault(key, {})
        node[last] = value
    return overlay


def tried(
    compiled: CompiledPipeline,
    combination: Combination,
    prepared: BoundTrace,
    seed: int = 0,
    named: Iterable[Select] | None = None,
) -> Trial:
    """One combination replayed in a run state of its own; figures of those that are ``named`` alone, if any are. Raises
    Unusable where it gives no pipeline.
    """
    variant = overlaid(compiled.source, overlay_of(combination), "a change") if combination else compiled
    figures, statements = Figures(), Statements(variant)
    for judged in run(RunState(variant, seed), prepared, statements=statements, journeys=False, release_sends=True):
        figures.add(judged.send, failed=any(not check.ok for check in judged.checks))
    return Trial(combination, figures.end(named), sum(statement.failed for statement in statements.all))


def marked(trials: Sequence[Trial]) -> list[Trial]:
    """The trials, those marked to which no other is better in one figure and worse in none."""

    def costs(trial: Trial) -> tuple[float, ...]:
        figures = trial.figures
        return figures.share(None), figures.latency(), figures.broken + trial.broken_always

    known = [(costs(trial), trial.figures.handled) for trial in trials]

    def beaten(cost: tuple[float, ...], runs: int) -> bool:
        """By one that is no worse in anything; runs of handlers count where all else is equal."""
        return any(
            all(a <= b for a, b in zip(other, cost, strict=True)) and (other != cost or fewer < runs)
            for other, fewer in known
        )

    return [trial._replace(best=not beaten(*cost)) for trial, cost in zip(trials, known, strict=True)]


def nearest(trials: Sequence[Trial], wanted: Goal, present: JsonMapping) -> tuple[Trial, float]:
    """The trial that meets a goal with the least change, or comes nearest to it; and by how much that misses it."""

    def change(trial: Trial) -> tuple[int, float]:
        moved = [(present.get(name), value) for name, value in trial.combination if present.get(name) != value]
        far = sum(abs(a - b) / max(abs(b), 1) if _number(a) and _number(b) else 1.0 for a, b in moved)
        return len(moved), far

    return min(((trial, wanted.short(trial.figures)) for trial in trials), key=lambda pair: (pair[1], change(pair[0])))


def _number(value: Json) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)
