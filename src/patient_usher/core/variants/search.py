"""What change of a pipeline makes these requests end as they did at a service?

Every near change is tried on the traces. One fits where the differences that it is about are gone and no new one is
there; a part of a group of differences is never enough. Changes that fit apart are tried together. What no change
says is described by the differences alone (``deviation``). That a change fits doesn't prove that the service has it:
others that fit as well are named beside it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from itertools import combinations
from typing import NamedTuple

from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.run.model_service import paced
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.model.document import Unusable
from patient_usher.core.variants.candidates import changes_of
from patient_usher.core.variants.change import Change, changed_by
from patient_usher.core.variants.deviation import Deviation, deviations
from patient_usher.core.variants.seen import Pair, Seen, seen_in, seen_in_expectations
from patient_usher.core.verify.outside import ROOTS, Differs, Drift, DriftResult, Read, apart, compared, settled
from patient_usher.core.verify.record import Record, final_of
from patient_usher.core.verify.run import Judged, prefix_of, run

BUDGET = 120_000
"""How many requests are replayed at most."""
_FURTHER = 3
"""What each further change costs besides: that two are there at once is less likely."""
MOST_PARTS = 12
"""So many changes that fit in part are tried with each other."""
MOST_REFINED = 3
"""Of so many changes that explain a part another option of the same stage is tried."""
MOST_TOGETHER = 3
"""Of so many changes at most an explanation consists."""
MOST_ALIKE = 3
"""How many changes are named that explain the same."""

Difference = tuple[str, str]
"""An exchange, and in what it differs."""


class Explained(NamedTuple):
    """A change, the requests that answer alike with it (and those before it), and others that explain the same.

    ``others``: how many those are in all.
    """

    change: Change
    explains: tuple[str, ...]
    alike: tuple[Change, ...] = ()
    others: int = 0


class Explanation(NamedTuple):
    """What came of the search. ``leaves``: requests that still differ; ``whole``: whether the budget sufficed."""

    changes: tuple[Explained, ...]
    leaves: tuple[str, ...]
    tried: int
    whole: bool

    @property
    def all_changes(self) -> list[Change]:
        """The changes alone that options and orders can say."""
        return [one.change for one in self.changes if one.change.deviation is None]


class _Tried(NamedTuple):
    """Changes, and in what the service still differs from the model with them; ``new``: in how much that is new."""

    changes: tuple[Change, ...]
    left: frozenset[Difference]
    new: int

    @property
    def cost(self) -> int:
        return sum(one.cost for one in self.changes) + _FURTHER * max(len(self.changes) - 1, 0)


class Spent:
    """How many requests were replayed."""

    sent = 0


class _Search:
    """Tries changes, each set once, within the budget: ``differences`` says in what a variant still differs."""

    def __init__(
        self,
        compiled: CompiledPipeline,
        before: frozenset[Difference],
        sends: int,
        differences: Callable[[CompiledPipeline, Spent], Iterator[Difference]],
        watch: Callable[[int], None],
    ) -> None:
        self.compiled, self.before, self.sends, self.differences = compiled, before, sends, differences
        self.watch = watch
        self.tried, self.whole, self.spent = 0, True, Spent()
        self.differing = {id_.partition("/")[0] for id_, _ in before}

    def left(self, changes: tuple[Change, ...]) -> _Tried | None:
        """In what the pipeline with these changes still differs.

        None where it can't be so, the budget is used up, or a request differs that didn't: the replay ends there.
        """
        if self.spent.sent + self.sends > BUDGET:
            self.whole = False
            return None
        variant = changed_by(self.compiled, changes)
        if variant is None:
            return None
        self.tried += 1
        self.watch(self.tried)
        found: set[Difference] = set()
        try:
            for id_, what in self.differences(variant, self.spent):
                if (id_, what) not in self.before and id_.partition("/")[0] not in self.differing:
                    return None
                found.add((id_, what))
        except Unusable:  # what the trace itself changes doesn't go with it
            return None
        new = len(found - self.before)
        roots = {id_ for id_, what in found if what in ROOTS}  # what else differs there comes of it
        return _Tried(changes, frozenset(found | {one for one in self.before if one[0] in roots}), new)


def explained(
    compiled: CompiledPipeline,
    traces: Sequence[BoundTrace],
    held: Sequence[Sequence[DriftResult]],
    *,
    seed: int = 0,
    bodies: bool = False,
    leave_out: Collection[str] = (),
    watch: Callable[[int], None] = lambda tried: None,
) -> Explanation:
    """The fewest and nearest changes with which a pipeline answers as a service did; what none says is described."""
    pairs = _pairs(traces, held)
    own = compared(compiled, leave_out)
    ran = {stage for each in held for one in each for stages in one.ran.values() for stage in stages}
    sent_at = [{record.id: round(record.at * 1_000_000) for one in each for record in one.service} for each in held]

    def differences(variant: CompiledPipeline, spent: Spent) -> Iterator[Difference]:
        fields = {**compared(variant, leave_out), **own}
        run_state = RunState(variant, seed)
        for trace, theirs, sent in zip(traces, held, sent_at, strict=True):
            ours = run(run_state, trace, journeys=bool(ran), service=paced(run_state, sent))
            yield from _against(ours, theirs, prefix_of(trace, traces), ran, fields, spent, bodies=bodies)

    search = _Search(compiled, _differing(traces, held), sum(map(len, held)), differences, watch)
    return _searched(search, pairs, seen_in(pairs), described=True)


def fulfilled(
    compiled: CompiledPipeline,
    traces: Sequence[BoundTrace],
    *,
    seed: int = 0,
    watch: Callable[[int], None] = lambda tried: None,
) -> Explanation:
    """The fewest and nearest changes with which what traces expect comes, where it doesn't; of each trace by itself."""

    def unmet(variant: CompiledPipeline) -> Iterator[tuple[str, Judged]]:
        for trace in traces:
            prefix = prefix_of(trace, traces)
            yield from ((prefix, one) for one in run(RunState(variant, seed), trace, journeys=False))

    def differences(variant: CompiledPipeline, spent: Spent) -> Iterator[Difference]:
        for prefix, one in unmet(variant):
            spent.sent += 1
            yield from ((prefix + one.send.id, check.what) for check in one.checks if not check.ok)

    pairs, sends = [], 0
    for prefix, one in unmet(compiled):
        sends += 1
        record = final_of(one.records())
        owner = record.refused_by or record.answered_by
        drifts = tuple(Drift(check.what, check.actual, check.expected, owner) for check in one.checks if not check.ok)
        pairs.append(Pair(prefix + one.send.id, record, None, drifts))
    before = frozenset((pair.id, one.what) for pair in pairs for one in pair.drifts)
    search = _Search(compiled, before, sends, differences, watch)
    return _searched(search, pairs, seen_in_expectations(pairs), described=False)


def _searched(search: _Search, pairs: Sequence[Pair], seen: Seen, *, described: bool) -> Explanation:
    """What explains the differences; ``described``: what no change explains is described."""
    if not search.before:
        return Explanation((), (), 0, whole=True)
    groups = _groups(pairs)
    owners = Counter(drift.stage for pair in pairs for drift in pair.drifts if drift.stage)
    candidates = changes_of(search.compiled, seen, [stage for stage, _ in owners.most_common()])
    parts = []
    enough: int | None = None  # nothing is nearer than what explains all, and what is much farther isn't as good
    for one in candidates:
        if enough is not None and one.cost > enough + 1:
            break
        found = search.left((one,))
        if found is not None and (found.left != search.before or found.new):
            parts.append(found)
            enough = one.cost if enough is None and not found.left else enough
    fitting = [one for one in parts if _is_whole(search, groups, one)]

    def words(left: frozenset[Difference]) -> list[Deviation]:
        return deviations(pairs, left) if described else []

    by_word = words(search.before)
    said = {difference for one in by_word for difference in one.says}
    if all(one.left for one in fitting):
        fitting += _of_one_stage(search, groups, parts)
    if all(one.left for one in fitting) and (len(by_word) != 1 or search.before - said):
        fitting += _together(search, groups, parts, candidates)
    choices = [(_Tried((), search.before, 0), by_word), *((one, words(one.left)) for one in fitting)]
    best = min(choices, key=_price)
    return _told(search, best[0], best[1], fitting)


def _against(
    ours: Iterable[Judged],
    held: Sequence[DriftResult],
    prefix: str,
    ran: Collection[str],
    fields: Mapping[str, Read],
    spent: Spent,
    *,
    bodies: bool,
) -> Iterator[Difference]:
    """In what each request differs, as soon as that is known: of bursts at their end."""
    burst: list[tuple[list[Record], list[Record], Differs]] = []
    for judged, theirs in zip(ours, held, strict=False):
        spent.sent += 1
        args = judged, theirs.service, theirs.checks, theirs.ran, ran
        differs = tuple((id_, one) for _, id_, one in apart(*args, fields=fields, bodies=bodies))
        if judged.send.request_template.spec.times == 1:
            yield from ((prefix + id_, one.what) for id_, one in differs)
            continue
        burst.append((judged.records(), theirs.service, differs))
        if judged.send.last:
            yield from ((prefix + id_, one.what) for found in settled(burst) for id_, one in found)
            burst = []


def _pairs(traces: Sequence[BoundTrace], held: Sequence[Sequence[DriftResult]]) -> list[Pair]:
    """Every exchange of the model's with the service's."""
    found = []
    for trace, own in zip(traces, held, strict=True):
        prefix = prefix_of(trace, traces)
        for one in own:
            theirs = {record.id: record for record in one.service}
            for record in one.model.records():
                drifts = tuple(drift for id_, drift in one.differs if id_ == record.id)
                found.append(Pair(prefix + record.id, record, theirs.get(record.id), drifts))
    return found


def _differing(traces: Sequence[BoundTrace], held: Sequence[Sequence[DriftResult]]) -> frozenset[Difference]:
    """The differences of every exchange, also of those that the service alone had."""
    return frozenset(
        (prefix_of(trace, traces) + id_, drift.what)
        for trace, own in zip(traces, held, strict=True)
        for one in own
        for id_, drift in one.differs
    )


def _groups(pairs: Sequence[Pair]) -> dict[Difference, int]:
    """Each difference with its group: what, from what to what, whose work it is, and for what error."""
    numbers: dict[tuple[str, ...], int] = {}
    found = {}
    for pair in pairs:
        error = pair.model.errors[-1].type if pair.model.errors else ""
        for one in pair.drifts:
            key = (one.what, repr(one.model), repr(one.service), one.stage or "", error, pair.model.why or "")
            found[pair.id, one.what] = numbers.setdefault(key, len(numbers))
    return found


def _is_whole(search: _Search, groups: Mapping[Difference, int], one: _Tried) -> bool:
    """Whether no new thing differs, and every group of differences is gone or as it was."""
    gone = {groups.get(difference) for difference in search.before - one.left}
    return not one.new and not any(groups.get(difference) in gone for difference in one.left)


def _of_one_stage(search: _Search, groups: Mapping[Difference, int], parts: Sequence[_Tried]) -> list[_Tried]:
    """What fits of two options of one stage that explain a part each."""
    some = [one for one in parts if not one.new and one.changes[0].edits]
    found = []
    for one, other in combinations(_unlike(some)[:MOST_PARTS], 2):
        if one.changes[0].where == other.changes[0].where:
            both = search.left((*one.changes, *other.changes))
            found += [both] if both is not None and _is_whole(search, groups, both) else []
    return found


def _together(
    search: _Search, groups: Mapping[Difference, int], parts: Sequence[_Tried], candidates: Sequence[Change]
) -> list[_Tried]:
    """What fits of changes that explain something alone, with each other while that explains more."""
    fitting: list[_Tried] = []
    alone = [one for one in parts if _is_whole(search, groups, one)]
    useful = sorted(parts, key=lambda one: (len(one.left) + 2 * one.new, one.cost))
    for one in [one for one in useful if one.new][:MOST_REFINED]:  # two options of one stage
        own = [other for other in candidates if other.where == one.changes[0].where and other.order is None]
        more = [found for other in own if (found := search.left((*one.changes, other))) is not None]
        fitting += [found for found in more if _is_whole(search, groups, found)]
    firsts = _unlike([*sorted(alone, key=lambda one: (len(one.left), one.cost)), *useful])[:MOST_PARTS]
    level, known = firsts, set()
    for _ in range(MOST_TOGETHER - 1):
        further = []
        for one, other in ((one, other) for one in level for other in firsts):
            together = frozenset(change.words for change in (*one.changes, other.changes[0]))
            if together in known or len(together) == len(one.changes):
                continue
            known.add(together)
            if search.before - other.left <= search.before - one.left:
                continue
            if any(other.changes[0].where == had.where and other.left == one.left for had in one.changes):
                continue
            found = search.left((*one.changes, other.changes[0]))
            if found is not None and len(found.left) < len(one.left) + one.new:
                further.append(found)
        further.sort(key=lambda one: (len(one.left) + 2 * one.new, one.cost))
        fitting += [one for one in further if _is_whole(search, groups, one)]
        if any(not one.left for one in fitting):
            break
        level = _unlike(further)[: MOST_PARTS // 3]
    return fitting


def _unlike(tried: Sequence[_Tried]) -> list[_Tried]:
    """Of those that leave the same only the nearest."""
    return list({one.left: one for one in reversed(tried)}.values())[::-1]


def _price(choice: tuple[_Tried, list[Deviation]]) -> tuple[int, int]:
    """What isn't explained at all first, then what the explanation costs."""
    one, others = choice
    said = {difference for deviation in others for difference in deviation.says}
    return len(one.left - said), one.cost + sum(deviation.cost for deviation in others)


def _told(search: _Search, best: _Tried, others: Sequence[Deviation], fitting: Sequence[_Tried]) -> Explanation:
    """The changes, each with what it explains and what else would; then the deviations."""
    found, left = [], search.before
    single = {one.changes[0].words: one for one in fitting if len(one.changes) == 1}
    for number, change in enumerate(best.changes):
        own = single.get(change.words)
        now = best.left if number == len(best.changes) - 1 else own.left if own is not None else left
        alike = [
            one.changes[0] for one in single.values() if own is not None and one.left == own.left and one is not own
        ]
        places = {tuple(path for path, _ in one.edits) or one.words: one for one in reversed(alike)}  # a value each
        named = [one for one in alike if one in places.values()][:MOST_ALIKE]
        found.append(Explained(change, _sends(left - now), tuple(named), len(alike)))
        left = left & now
    said = {difference for one in others for difference in one.says}
    for one in others:
        found.append(Explained(Change("", one.words, deviation=one, cost=one.cost), _sends(one.says)))
    return Explanation(tuple(found), _sends(best.left - said), search.tried, search.whole)


def _sends(differences: Collection[Difference]) -> tuple[str, ...]:
    return tuple(sorted({id_.partition("/")[0] for id_, _ in differences}))
