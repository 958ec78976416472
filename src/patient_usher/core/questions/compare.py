"""Two results of the same trace: which requests changed, in what, and how grave that is."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import NamedTuple

from patient_usher.core.model.document import Json
from patient_usher.core.verify.record import Record


class Difference(NamedTuple):
    """One thing in which two exchanges of the same id differ. ``kind`` is one of ``KINDS``."""

    id: str
    kind: str
    what: str
    a: Json
    b: Json


class Beyond(NamedTuple):
    """What is counted only: exchanges by their gravest change, and requests by whom it concerns."""

    exchanges: Mapping[Difference, int] = {}
    requests: Mapping[str, int] = {}


class Comparison(NamedTuple):
    """What differs, the gravest of each exchange first; ``changed`` counts the requests in which anything does.

    Of a long trace the first of each change are there, and the rest is ``beyond``.
    """

    requests: int
    differs: tuple[Difference, ...]
    beyond: Beyond = Beyond()

    @property
    def changed(self) -> int:
        """How many requests changed."""
        return sum(self.concerned().values())

    def concerned(self) -> Counter[str]:
        """How many requests changed for their callers, in what only counts, and inside: each counted once."""
        gravest: dict[str, int] = {}
        for difference in self.differs:
            id_, rank = difference.id.partition("/")[0], CONCERNS.index(concern(difference.kind))
            gravest[id_] = min(rank, gravest.get(id_, rank))
        return Counter(CONCERNS[rank] for rank in gravest.values()) + Counter(self.beyond.requests)

    @property
    def groups(self) -> tuple[Group, ...]:
        """The changed exchanges by their gravest change, the gravest group first."""
        ids: dict[str, list[str]] = {}
        for difference in first_of_each(self.differs):
            ids.setdefault(difference.kind, []).append(difference.id)
        beyond: Counter[str] = Counter()
        for change, count in self.beyond.exchanges.items():
            beyond[change.kind] += count
        return tuple(Group(kind, tuple(ids[kind]), beyond[kind]) for kind in KINDS if kind in ids)


class Group(NamedTuple):
    """Exchanges whose gravest change is of one kind; ``beyond`` more aren't named. ``example`` is the first of them."""

    kind: str
    ids: tuple[str, ...]
    beyond: int = 0

    @property
    def size(self) -> int:
        """How many there are."""
        return len(self.ids) + self.beyond

    @property
    def example(self) -> str:
        """The one to look at."""
        return self.ids[0]


KINDS: dict[str, str] = {
    "opened": "what was refused is let through",
    "shared": "one caller is given another's copy",
    "told": "a private part of an error is told",
    "readable": "who may read it",
    "status": "the status",
    "headers": "header fields",
    "body": "the content",
    "counts": "fields that only count",
    "answerer": "who answers",
    "handler": "whether the handler runs",
    "order": "the order of stages",
    "log": "the log",
    "time": "how long it takes",
}
"""What can change, the gravest first: what the caller can see before what happens inside."""

INSIDE = ("answerer", "handler", "order", "log", "time")
"""Changes that no caller sees, but by waiting."""

CONCERNS = ("caller", "counts", "inside")
"""Whom a change concerns, the gravest first."""

_VALUED = ("opened", "shared", "readable", "status", "answerer", "handler")
"""Changes that are told with what they go from and to."""


def concern(kind: str) -> str:
    """Whom a change of a kind concerns."""
    return "inside" if kind in INSIDE else "counts" if kind == "counts" else "caller"


def first_of_each(differs: Iterable[Difference]) -> list[Difference]:
    """The gravest difference of each exchange."""
    first: dict[str, Difference] = {}
    for difference in differs:
        first.setdefault(difference.id, difference)
    return list(first.values())


def change_of(difference: Difference) -> Difference:
    """The same whichever exchange it is in: what changes, and from what to what where that is short."""
    return Difference(
        "", difference.kind, difference.what, *(difference[3:] if difference.kind in _VALUED else (None, None))
    )


def only_counts(name: str) -> bool:
    """Whether a field of an answer says how much is left, how old it is or how long to wait: it differs as soon as
    anything before does.
    """
    name = name.lower()
    return name in ("age", "retry-after") or name.removeprefix("x-").startswith("ratelimit")


MOMENTARY = ("date", "content-length")
"""Fields that say when and how long, and nothing else."""


def _status(record: Record) -> int | None:
    return record.response.status if record.response else None


def _verdict(record: Record) -> str | None:
    return record.browser.verdict if record.browser else None


def _headers(record: Record) -> list[tuple[str, str]]:
    """The answer's fields, but for those that only count or say when and how long."""
    return [pair for pair in _fields(record) if not only_counts(pair[0])]


def _counts(record: Record) -> list[tuple[str, str]]:
    return [pair for pair in _fields(record) if only_counts(pair[0])]


def _fields(record: Record) -> list[tuple[str, str]]:
    response = record.response
    pairs = response.headers if response else []
    return [pair for pair in pairs if pair[0].lower() not in MOMENTARY]


def _body(record: Record) -> object:
    response = record.response
    return response and (response.body, response.body_base64 or None)


def _order(record: Record) -> list[str]:
    return [step.stage for step in record.journey if step.way == "in" and step.did != "skipped"]


def _took(record: Record) -> float:
    return float(round(record.finished - record.at, 6))


_READ: tuple[tuple[str, str, Callable[[Record], object]], ...] = (
    ("readable", "browser", _verdict),
    ("status", "status", _status),
    ("headers", "headers", _headers),
    ("body", "body", _body),
    ("counts", "fields", _counts),
    ("answerer", "answered_by", lambda record: record.answered_by),
    ("answerer", "refused_by", lambda record: record.refused_by),
    ("answerer", "outcome", lambda record: record.outcome),
    ("handler", "handler_reached", lambda record: record.handler_reached),
    ("order", "order", _order),
    ("log", "log", lambda record: [(line.stage, line.level, line.message) for line in record.log]),
    ("time", "took", _took),
)


def compared(a: Sequence[Record], b: Sequence[Record]) -> Comparison:
    """Hold two results of one trace against each other, exchange by exchange."""
    ours = {record.id: record for record in a}
    theirs = {record.id: record for record in b}
    found: list[Difference] = []
    for id_ in dict.fromkeys([*ours, *theirs]):
        one, other = ours.get(id_), theirs.get(id_)
        if one is None or other is None:
            found.append(Difference(id_, "status", "sent", one is not None, other is not None))
            continue
        found += _differences(id_, one, other)
    ids = {record.id.partition("/")[0] for record in (*ours.values(), *theirs.values())}
    return Comparison(len(ids), tuple(found))


def _differences(id_: str, one: Record, other: Record) -> list[Difference]:
    found = []
    for kind, what, read in _READ:
        before, after = read(one), read(other)
        if before != after:
            found.append(Difference(id_, kind, what, before, after))
    if found and _tells(other) and not _tells(one):
        found.insert(0, Difference(id_, "told", "private part", None, _tells(other)))
    if found and _shares(one, other):
        found.insert(0, Difference(id_, "shared", "cache", _cache(one), _cache(other)))
    if found and _opens(one, other):
        found.insert(0, Difference(id_, "opened", "status", _status(one), _status(other)))
    return found


def _cache(record: Record) -> str | None:
    return record.caches[-1].state if record.caches else None


def _shares(one: Record, other: Record) -> bool:
    """Whether a caller who is known got an answer of their own, and now gets a stored one with other content."""
    known = one.identity is not None and _cache(one) != "hit"
    return known and _cache(other) == "hit" and _body(one) != _body(other)


def _tells(record: Record) -> str | None:
    """A private part of an error that stands in the answer."""
    body = record.response.body if record.response else None
    parts = (error.message for error in record.errors if len(error.message) > 7)
    return next((part for part in parts if body and part in body), None)


def parting(one: Record, other: Record) -> int:
    """The number of steps that both journeys have in common, from the start."""
    pairs = zip(one.journey, other.journey, strict=False)
    same = 0
    for a, b in pairs:
        if (a.stage, a.way, a.did) != (b.stage, b.way, b.did):
            break
        same += 1
    return same


def only_here(a: Iterable[Record], b: Iterable[Record]) -> list[str]:
    """Stages that ran in the first result and nowhere in the second."""
    there = {stage for record in b for stage in _order(record)}
    return list(dict.fromkeys(stage for record in a for stage in _order(record) if stage not in there))


def _opens(one: Record, other: Record) -> bool:
    """Whether what was refused is now let through."""
    status = _status(other)
    return one.refused_by is not None and other.handler_reached and status is not None and status < 400
