"""Orders of a pipeline's server-wide stages: made from one another, and searched.

An order is a tuple of ids in running order. Stages that are switched off keep their places. A move takes one
stage elsewhere; how many it takes from one order to another is what the longest common run leaves over.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import combinations, permutations
from typing import Any, NamedTuple

from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.plan.route_table import running_order
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.model.document import JsonMapping
from patient_usher.core.model.pipeline import MARKER
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.run import run

Order = tuple[str, ...]

EXACT = 9
"""Up to so many stages every order is looked at."""
FARTHEST = 2
"""With more stages: how many moves away it is searched."""
BUDGET = 60_000
"""So many requests are replayed in search of an order, where nobody says: some ten seconds."""


def standing_order(compiled: CompiledPipeline) -> Order:
    """The server-wide stages in running order, those that are switched off too, and the marker."""
    ids = [entry if isinstance(entry, str) else entry["id"] for entry in compiled.spec.stages]
    return tuple(ids[::-1] if _reversed(compiled) else ids)


def _reversed(compiled: CompiledPipeline) -> bool:
    return compiled.spec.listed == "innermost-first" and not compiled.sequential


def movable(compiled: CompiledPipeline) -> Order:
    """Those that may change places: what is switched on, and in a sequential flow the routes."""
    options = compiled.options
    return tuple(id_ for id_ in standing_order(compiled) if id_ == MARKER or options[id_].enabled)


def whole(compiled: CompiledPipeline, order: Sequence[str]) -> Order:
    """An order of the movable stages with the others at their places."""
    moving, rest = set(order), iter(order)
    return tuple(next(rest) if id_ in moving else id_ for id_ in standing_order(compiled))


def as_listed(compiled: CompiledPipeline, order: Sequence[str]) -> list[str]:
    """An order of the movable stages as a variant's ``order`` has it."""
    ids = list(whole(compiled, order))
    return ids[::-1] if _reversed(compiled) else ids


def reordered(compiled: CompiledPipeline, order: Sequence[str]) -> CompiledPipeline:
    """The pipeline with its movable stages in this order. Nothing is compiled anew: its plans' steps change places."""
    listed = as_listed(compiled, order)
    by_id = {entry if isinstance(entry, str) else entry["id"]: entry for entry in compiled.spec.stages}
    spec = compiled.spec.model_copy(update={"stages": [by_id[id_] for id_ in listed]})
    doc = {**compiled.source.doc, "stages": [by_id[id_] for id_ in listed]}
    plans: dict[str | None, Any] = {}
    for item in [*compiled.placed, None]:
        key = item.route.id if item is not None else None
        plan = compiled.plans[key]
        steps = {step.id: step for step in plan.steps}
        ids = [id_ for id_ in running_order(spec, item) if id_ in steps]
        at = ids.index("router") if item is not None or not compiled.sequential else _offered(listed, steps)
        plans[key] = plan.of(tuple(steps[id_] for id_ in ids), at)
    source = compiled.source._replace(doc=doc, plain=None)
    return replace(compiled, source=source, spec=spec, plans=plans, changes={})


def _offered(listed: Sequence[str], steps: JsonMapping) -> int:
    """Where an unmatched request of a sequential flow was offered to the routes."""
    return sum(id_ in steps for id_ in listed[: listed.index(MARKER)])


def moves(before: Sequence[str], after: Sequence[str]) -> int:
    """The fewest moves that make the one order of the other: what the longest increasing run leaves over."""
    at = {id_: number for number, id_ in enumerate(before)}
    tails: list[int] = []
    for number in (at[id_] for id_ in after):
        place = bisect_left(tails, number)
        tails[place : place + 1] = [number]
    return len(after) - len(tails)


def one_move_away(order: Order) -> Iterator[Order]:
    """Every other order that takes one move."""
    seen = {order}
    for start in range(len(order)):
        rest = order[:start] + order[start + 1 :]
        for end in range(len(order)):
            other = (*rest[:end], order[start], *rest[end:])
            if other not in seen:
                seen.add(other)
                yield other


def by_moves(order: Order) -> Iterator[Order]:
    """Every order, from the fewest moves to the most; beyond EXACT stages those up to FARTHEST moves away."""
    yield order
    first = list(one_move_away(order))
    yield from first
    if len(order) > EXACT:
        seen = {order, *first}
        level = first
        for _ in range(FARTHEST - 1):
            level = [*dict.fromkeys(other for one in level for other in one_move_away(one) if other not in seen)]
            seen.update(level)
            yield from level
        return
    farther: dict[int, list[Order]] = {}
    for other in permutations(order):
        count = moves(order, other)
        if count > 1:
            farther.setdefault(count, []).append(other)
    for count in sorted(farther):
        yield from farther[count]


# What is wished for, and whether an order has it.


class Found(NamedTuple):
    """What a search came to.

    ``order`` has all that is wished for, with the fewest ``moves``; None where none was found. ``exact``:
    whether every order was looked at that might have had it with fewer. ``conflict``: where there is none, a
    smallest set of wishes and requests that no order meets. ``never``: what no order meets by itself. ``whole``:
    whether the budget was enough.
    """

    order: Order | None
    moves: int
    exact: bool
    conflict: tuple[str, ...]
    never: tuple[str, ...]
    replays: int
    whole: bool = True


class _UsedUp(Exception):
    """The budget was."""


class Constraints:
    """Wishes, and a trace's expectations, to be held against orders. Each order is replayed no more than it must."""

    def __init__(
        self,
        compiled: CompiledPipeline,
        traces: Sequence[BoundTrace],
        wishes: Iterable[tuple[str, str]] = (),
        seed: int = 0,
        budget: int = BUDGET,
    ) -> None:
        self.compiled, self.traces, self.seed, self.budget = compiled, traces, seed, budget
        self.wishes = {f"{before}<{after}": (before, after) for before, after in wishes}
        self.present = movable(compiled)
        self.replays = 0
        self._broken: dict[Order, set[str]] = {}
        self._whole: set[Order] = set()
        self.watch: Callable[[int], None] = lambda replays: None
        """Told how many replays there have been."""

    @property
    def items(self) -> frozenset[str]:
        """All that may be met or not: wishes, requests of which something is expected, statements."""
        requests = (
            entry.id
            for trace in self.traces
            for entry in trace.entries
            if entry.request_template and entry.request_template.expects
        )
        always = (statement.id for statement in Statements(self.compiled).all) if self.traces else ()
        return frozenset([*self.wishes, *requests, *(f"invariant {id_}" for id_ in always)])

    def broken(self, order: Order, wanted: frozenset[str] | None = None) -> set[str]:
        """What an order doesn't meet: all of it, or, of what is ``wanted``, one at least where there is any."""
        known = self._broken.setdefault(order, self._against(order))
        if order in self._whole or (wanted is not None and known & wanted):
            return known if wanted is None else known & wanted
        if wanted is not None and wanted <= self.wishes.keys():
            return set()
        known |= self._replayed(order, wanted)
        return known if wanted is None else known & wanted

    def _against(self, order: Order) -> set[str]:
        return {name for name, (a, b) in self.wishes.items() if order.index(a) > order.index(b)}

    def _replayed(self, order: Order, wanted: frozenset[str] | None) -> set[str]:
        """Replay until something that is wanted is broken; to the end, where all is to be known. Raises _UsedUp."""
        if self.budget <= 0:
            raise _UsedUp
        self.replays += 1
        self.watch(self.replays)
        compiled = reordered(self.compiled, order)
        statements = Statements(compiled)
        found: set[str] = set()
        for trace in self.traces:
            for judged in run(
                RunState(compiled, self.seed), trace, statements=statements, journeys=False, release_sends=True
            ):
                self.budget -= 1
                if any(not check.ok for check in judged.checks):
                    id_ = judged.send.entry.id
                    found.add(id_)
                    if wanted is not None and id_ in wanted:
                        return found
        found |= {f"invariant {statement.id}" for statement in statements.all if statement.failed}
        self._whole.add(order)
        return found

    # The search.

    def search(self, wanted: frozenset[str] | None = None) -> Found:
        """The order with the fewest moves that meets all that is wanted; or why there is none."""
        wanted = self.items if wanted is None else wanted
        all_orders, exact = len(self.present) <= EXACT, False
        try:
            order = self._first(wanted)
            if order is not None:
                return Found(order, moves(self.present, order), all_orders, (), (), self.replays)
            if not all_orders:
                return Found(None, 0, False, (), (), self.replays)
            exact = True
            conflict = self._conflict(wanted)
            never = tuple(sorted(item for item in wanted if self._first(frozenset([item])) is None))
            return Found(None, 0, True, conflict, never, self.replays)
        except _UsedUp:
            return Found(None, 0, exact, (), (), self.replays, whole=False)

    def _first(self, wanted: frozenset[str]) -> Order | None:
        return next((order for order in by_moves(self.present) if not self.broken(order, wanted)), None)

    def _conflict(self, wanted: frozenset[str]) -> tuple[str, ...]:
        """A smallest set that no order meets: one that hits all that orders break, until no order meets it."""
        breaks = [frozenset(self.broken(self.present) & wanted)]
        while True:
            core = _hitting(breaks)
            order = self._first(core)
            if order is None:
                return tuple(sorted(core))
            breaks.append(frozenset(self.broken(order) & wanted))


def _hitting(sets: Sequence[frozenset[str]]) -> frozenset[str]:
    """A smallest set that has something in common with each of these."""
    least = [one for one in set(sets) if not any(other < one for other in sets)]
    names = sorted(frozenset().union(*least))
    for size in range(1, len(names) + 1):
        for chosen in combinations(names, size):
            core = frozenset(chosen)
            if all(core & one for one in least):
                return core
    return frozenset(names)
