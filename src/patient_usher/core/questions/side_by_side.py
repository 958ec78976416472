"""Two runs of one long trace, side by side: what differs, without holding either."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable
from functools import lru_cache
from itertools import zip_longest

from patient_usher.core.http.fields import Fields
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.compare import (
    CONCERNS,
    MOMENTARY,
    Beyond,
    Comparison,
    Difference,
    change_of,
    compared,
    concern,
    first_of_each,
    only_counts,
)
from patient_usher.core.verify.record import Record
from patient_usher.core.verify.run import Judged

SHOWN = 20
"""So many requests are kept of every change; those beyond are counted."""

_COUNTS = Difference("", "counts", "fields", None, None)


class SideBySide:
    """Takes a send of each run at a time, in the order of the trace. ``shows``: records as they may be shown."""

    def __init__(self, shows: Callable[[Record], Record] = lambda record: record) -> None:
        self.a: list[Record] = []
        self.b: list[Record] = []
        self._shows = shows
        self._requests = 0
        self._differs: list[Difference] = []
        self._kept: Counter[Difference] = Counter()
        self._beyond: Counter[Difference] = Counter()
        self._requests_beyond: Counter[str] = Counter()
        self._known: dict[tuple[object, ...], list[Difference]] = {}

    def run(
        self,
        a: Iterable[Judged],
        b: Iterable[Judged],
        prefix: str = "",
        watch: Callable[[int], None] = lambda done: None,
    ) -> None:
        """Both runs, to their ends; ``prefix`` stands in front of the ids, ``watch`` is told how far it is."""
        for one, other in zip_longest(a, b):
            self._requests += 1
            self._add(one, other, prefix)
            watch(self._requests)

    def comparison(self) -> Comparison:
        """What was found."""
        return Comparison(self._requests, tuple(self._differs), Beyond(self._beyond, self._requests_beyond))

    def _add(self, one: Judged | None, other: Judged | None, prefix: str) -> None:
        if one is not None and other is not None and (count := _only_counts(one, other)) is not None:
            if count and self._kept[_COUNTS] >= SHOWN:  # what most differ in where limits do
                self._beyond[_COUNTS] += count
                self._requests_beyond["counts"] += 1
            if not count or self._kept[_COUNTS] >= SHOWN:
                return
        sign = _sign(one, other)
        changes = self._known.get(sign) if sign is not None else None
        if changes is not None and all(self._kept[change] >= SHOWN for change in changes):
            self._count(changes)
            return
        a, b = self._records(one, prefix), self._records(other, prefix)
        found = compared(a, b).differs
        if not found:  # but in what may not be shown
            return
        changes = [change_of(difference) for difference in first_of_each(found)]
        if sign is not None and all(change.kind in _BY_SIGN for change in changes):
            self._known[sign] = changes
        if any(self._kept[change] < SHOWN for change in changes):
            self._kept.update(changes)
            self._differs += found
            self.a += a
            self.b += b
        else:
            self._count(changes)

    def _count(self, changes: list[Difference]) -> None:
        self._beyond.update(changes)
        self._requests_beyond[min((concern(change.kind) for change in changes), key=CONCERNS.index)] += 1

    def _records(self, judged: Judged | None, prefix: str) -> list[Record]:
        records = [self._shows(record) for record in judged.records()] if judged else []
        for record in records:
            record.id = prefix + record.id
        return records


_BY_SIGN = ("opened", "shared", "told", "readable", "status")
"""The gravest changes, which follow from an exchange's sign alone."""


def _sign(one: Judged | None, other: Judged | None) -> tuple[object, ...] | None:
    """Of each exchange on both sides what the gravest changes hang on. It says of many what was worked out of one."""
    if one is None or other is None or len(one.send.exchanges) != len(other.send.exchanges):
        return None
    sign: list[object] = []
    for x, y in zip(one.send.exchanges, other.send.exchanges, strict=True):
        a, b = x.answer, y.answer
        sign.append((a.content if a else None) == (b.content if b else None))
        for each in (x, y):
            answer, page, content = each.answer, each.browser, each.answer.content if each.answer else b""
            sign += (
                each.kind, answer.status if answer else None, page.verdict if page else None, each.refused_by is None,
                each.handler_reached, each.caches[-1].state if each.caches else None, each.identity is None,
                any(len(e.message) > 7 and e.message.encode(errors="surrogatepass") in content for e in each.errors),
            )  # fmt: skip
    return tuple(sign)


def _only_counts(one: Judged, other: Judged) -> int | None:
    """In how many exchanges of a send fields that only count differ, where nothing else does; else None."""
    ours, theirs = one.send.exchanges, other.send.exchanges
    if len(ours) != len(theirs):
        return None
    count = 0
    for x, y in zip(ours, theirs, strict=True):
        if not _alike(x, y):
            return None
        a, b = x.answer, y.answer
        if a is not None and b is not None:
            said = [name for name in a.fields.differing(b.fields) if name not in MOMENTARY]
            if said and not (all(map(_counts, said)) and _steady(a.fields) == _steady(b.fields)):
                return None
            count += bool(said)
    return count


def _steady(fields: Fields) -> list[str]:
    """The names of fields that don't only count, in their order."""
    return [name for name in fields.names() if name not in MOMENTARY and not _counts(name)]


_counts = lru_cache(maxsize=256)(only_counts)


def _alike(x: Exchange, y: Exchange) -> bool:
    """Whether all that is compared but for the answers' fields is the same."""
    a, b = x.answer, y.answer
    return (
        x.id == y.id
        and (a.status if a is not None else None) == (b.status if b is not None else None)
        and (a is None or b is None or (a.body == b.body and a.content == b.content))
        and x.outcome == y.outcome
        and x.answered_by == y.answered_by
        and x.refused_by == y.refused_by
        and x.handler_reached == y.handler_reached
        and (x.browser.verdict if x.browser else None) == (y.browser.verdict if y.browser else None)
        and x.finished - x.at == y.finished - y.at
        and not (x.journey or y.journey)  # an expectation's: its order and its log are looked at
    )
