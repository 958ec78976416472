"""Why a service answers otherwise than its model: the fewest changes of the model that answer as the service did.

Every single change is tried on the traces; the best few are tried with each further one, as long as that explains more.
What no change explains is left, and said so. That a change explains an answer doesn't prove that the service has it:
others may answer alike, and the first of those are named beside it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import groupby
from typing import NamedTuple

from patient_usher.core.analysis.variants import NOBODY, Change, Seen, changed_by, changes_of
from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.engine.run.model_service import paced
from patient_usher.core.engine.run.world import World
from patient_usher.core.http.fields import list_items
from patient_usher.core.verify.outside import FIELDS, by_name, drifts, other_order
from patient_usher.core.verify.record import Record
from patient_usher.core.verify.run import prefix_of, run

BUDGET = 60_000
"""How many requests are replayed at most."""
BEST = 4
"""So many sets of changes are gone on with."""
DEEPEST = 4
"""Of so many changes at most."""
MOST_ALIKE = 3
"""How many changes are named that explain the same."""
NO_MATTER = 2**62
"""More things than any two can differ in."""
_FIGURES = re.compile(r"\d+")

Difference = tuple[str, str]
"""An exchange, and in what it differs."""


class Answered(NamedTuple):
    """What the service answered to a send, and the stages that it says ran, by exchange."""

    id: str
    records: list[Record]
    ran: Mapping[str, list[str]] = {}


class Explained(NamedTuple):
    """A change, the requests that answer alike with it (and those before it), and others that explain the same."""

    change: Change
    explains: tuple[str, ...]
    alike: tuple[Change, ...]


class Explanation(NamedTuple):
    """What came of the search. ``leaves``: requests that still differ; ``whole``: whether everything was tried."""

    changes: tuple[Explained, ...]
    leaves: tuple[str, ...]
    tried: int
    whole: bool

    @property
    def all_changes(self) -> list[Change]:
        """The changes alone."""
        return [one.change for one in self.changes]


class _Search:
    """Tries changes on traces, each set once, within the budget."""

    def __init__(
        self,
        blueprint: Blueprint,
        traces: Sequence[BoundTrace],
        answered: Sequence[Sequence[Answered]],
        seed: int,
        bodies: bool,
    ) -> None:
        self.blueprint, self.traces, self.answered, self.seed, self.bodies = blueprint, traces, answered, seed, bodies
        self.asked = [
            {record.id: round(record.at * 1_000_000) for one in own for record in one.records} for own in answered
        ]
        every = (stages for one in answered for send in one for stages in send.ran.values())
        self.shown = frozenset(stage for stages in every for stage in stages)
        self.watch: Callable[[int], None] = lambda tried: None
        self.sent = self.tried = 0
        self.whole = True
        self._known: dict[frozenset[str], frozenset[Difference] | None] = {}
        self._at_least: dict[frozenset[str], int] = {}

    def left(self, changes: Sequence[Change], fewer_than: int = NO_MATTER) -> frozenset[Difference] | None:
        """In what the service still differs from the model with these changes; None where it can't be so, the budget
        is used up, or it isn't in fewer things: then the replay ends as soon as that is known.
        """
        key = frozenset(one.words for one in changes)
        if self._at_least.get(key, 0) >= fewer_than:
            return None
        if key not in self._known:
            found = self._tried(changes, fewer_than)
            if found is not None and len(found) >= fewer_than:
                self._at_least[key] = len(found)
                return None
            self._known[key] = found
        return self._known[key]

    def _tried(self, changes: Sequence[Change], enough: int) -> frozenset[Difference] | None:
        """What differs, up to the request that makes it as much as is enough."""
        count = sum(len(one) for one in self.answered)
        if self.sent + count > BUDGET:
            self.whole = False
            return None
        variant = changed_by(self.blueprint, changes)
        if variant is None:
            return None
        self.tried += 1
        self.watch(self.tried)
        found: set[Difference] = set()
        world = World(variant, self.seed)
        for trace, answered, sent in zip(self.traces, self.answered, self.asked, strict=True):
            prefix = prefix_of(trace, self.traces)
            ours = run(world, trace, journeys=bool(self.shown), service=paced(world, sent))
            for judged, theirs in zip(ours, answered, strict=False):
                self.sent += 1
                found.update((prefix + id_, what) for id_, what in self._differences(judged.records(), theirs))
                if len(found) >= enough:
                    return frozenset(found)
        return frozenset(found)

    def _differences(self, ours: Sequence[Record], theirs: Answered) -> Iterator[Difference]:
        by_id = {record.id: record for record in theirs.records}
        for record in ours:
            other = by_id.pop(record.id, None)
            if other is None:
                yield record.id, "request"
            else:
                yield from ((record.id, one.what) for one in drifts(record, other, bodies=self.bodies))
                if record.id in theirs.ran and other_order(record, theirs.ran[record.id], self.shown):
                    yield record.id, "order"
        yield from ((id_, "request") for id_ in by_id)


def explained(
    blueprint: Blueprint,
    traces: Sequence[BoundTrace],
    answered: Sequence[Sequence[Answered]],
    *,
    seed: int = 0,
    bodies: bool = False,
    first: Sequence[str] = (),
    watch: Callable[[int], None] = lambda tried: None,
) -> Explanation:
    """The fewest changes that explain the most of what differs. ``first``: stages to look at first."""
    search = _Search(blueprint, traces, answered, seed, bodies)
    search.watch = watch
    present = search.left(())
    if not present:
        return Explanation((), (), search.tried, search.whole)
    singles = _scored(search, (), changes_of(blueprint, _seen(search, present), first), present)
    best: list[tuple[frozenset[Difference], tuple[Change, ...]]] = [(left, (one,)) for left, one in singles]
    level = best[:BEST]
    while level and level[0][0] and len(level[0][1]) < DEEPEST:
        further = []
        for left, changes in level:
            rest = [one for _, one in singles if one not in changes]
            further += [(less, (*changes, one)) for less, one in _scored(search, changes, rest, left)]
        further.sort(key=lambda one: len(one[0]))
        if not further or len(further[0][0]) >= len(level[0][0]):
            break
        level = further[:BEST]
    if not level:
        return Explanation((), _sends(present), search.tried, search.whole)
    left, changes = level[0]
    return Explanation(tuple(_each(search, present, changes, singles)), _sends(left), search.tried, search.whole)


def _scored(
    search: _Search, before: tuple[Change, ...], changes: Sequence[Change], left: frozenset[Difference]
) -> list[tuple[frozenset[Difference], Change]]:
    """The changes that leave less than there was, those that leave the least first."""
    found = []
    for one in changes:
        less = search.left((*before, one), fewer_than=len(left))
        if less is not None:
            found.append((less, one))
    found.sort(key=lambda pair: len(pair[0]))
    return found


def _each(
    search: _Search,
    present: frozenset[Difference],
    changes: tuple[Change, ...],
    singles: Sequence[tuple[frozenset[Difference], Change]],
) -> Iterator[Explained]:
    """Each change with what it explains, the one that explains the most first."""
    left = present
    chosen: tuple[Change, ...] = ()
    rest = list(changes)
    while rest:
        tried = {at: search.left((*chosen, one)) for at, one in enumerate(rest)}
        after = {at: found if found is not None else left for at, found in tried.items()}  # untried explains nothing
        at = min(after, key=lambda number: len(after[number]))
        change = rest.pop(at)
        chosen, now = (*chosen, change), after[at]
        alone = next((less for less, one in singles if one == change), None)
        alike = [one for less, one in singles if less == alone and one != change and one not in changes]
        yield Explained(change, _sends(left - now), tuple(alike[:MOST_ALIKE]))
        left = now


def _sends(differences: frozenset[Difference]) -> tuple[str, ...]:
    return tuple(sorted({id_.partition("/")[0] for id_, _ in differences}))


# What the service has shown.


def _seen(search: _Search, differences: frozenset[Difference]) -> Seen:
    numbers: set[int] = set()
    texts: dict[str, None] = {NOBODY: None}
    lists: dict[tuple[str, ...], None] = {}
    fields: dict[tuple[str, str | None], None] = {}
    paths: dict[tuple[str, str], None] = {}
    differing = {id_ for id_, _ in differences}
    whats = {what for _, what in differences}
    for trace, answered in zip(search.traces, search.answered, strict=True):
        prefix = prefix_of(trace, search.traces)
        numbers |= _runs(answered)
        for record in (record for send in answered for record in send.records):
            if record.response is None:
                continue
            values = by_name(record.response)
            if prefix + record.id in differing:
                path = record.request.url.partition("://")[2].partition("/")[2].partition("?")[0]
                paths[record.request.method, f"/{path}"] = None
                numbers.add(record.response.status)
            for name in FIELDS:
                given = values.get(name, [])
                if name in whats and prefix + record.id in differing:
                    fields[name, ", ".join(given) or None] = None
                for value in given if name in whats or name.startswith("access-control") else ():
                    numbers |= {int(one) for one in _FIGURES.findall(value) if len(one) < 10}
                    items = list_items(value)
                    lists[tuple(items)] = None
                    texts.update(dict.fromkeys(items))
                    texts.update(dict.fromkeys(re.findall(r'"([^"]*)"', value)))
            for name in values if "retry-after" in values else ():
                if name.startswith(("retry-after", "ratelimit")):
                    numbers |= {int(one) for value in values[name] for one in _FIGURES.findall(value) if len(one) < 10}
    return Seen(frozenset(numbers), tuple(texts)[:20], tuple(lists)[:10], tuple(fields)[:20], tuple(paths)[:6])


def _runs(answered: Sequence[Answered]) -> set[int]:
    """How many times in a row the service answered alike, and how often at all: what a quota may be."""
    statuses = [send.records[-1].status for send in answered if send.records]
    runs = {len(list(group)) for _, group in groupby(statuses)}
    by_request: dict[str, list[int | None]] = {}
    for send in answered:
        status = send.records[-1].status if send.records else None
        by_request.setdefault(send.id.partition("[")[0], []).append(status)
    for found in by_request.values():
        runs |= {len(list(group)) for _, group in groupby(found)}
    return runs | {sum(status is not None and status < 400 for status in statuses)}
