"""Figures of a replay, counted while it streams by."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable
from typing import Any

from patient_usher.core.engine.replay import Send
from patient_usher.core.model.exchange import Exchange

SECOND = 1_000_000
BY: dict[str, Callable[[Exchange], str]] = {
    "address": lambda x: x.address or x.sent.peer,
    "caller": lambda x: x.caller,
    "identity": lambda x: x.identity.name if x.identity is not None else "nobody",
    "route": lambda x: x.route.id if x.route is not None else "none",
}
"""By what requests can be told apart."""
SHARES: dict[str, Callable[[Exchange], bool]] = {
    "refused": lambda x: x.refused_by is not None,
    "over-quota": lambda x: x.why in ("over-quota", "too-many-at-once"),
    "timed-out": lambda x: x.why == "too-slow",
}
"""Figures that are a share of the requests, of all or of some; ``refused`` is the sum of all refusals."""
NAMES = ("requests", *SHARES, "status", "hits", "age", "handler", "latency", "broken")
_MOST_TOLD = 10
MOST_NAMES = 20_000
"""Of how many names of one sort are counted apart; of further ones nothing is said."""

Select = tuple[str, str] | None
"""Whose figure: by what, and which; ("others", "") for those that nothing else names; None for all."""


def _three_digits(micros: int) -> int:
    if micros < 1000:
        return micros
    scale: int = 10 ** (len(str(micros)) - 3)
    return round(micros / scale) * scale


def _percentile(counted: Counter[int], percent: int) -> float:
    place = counted.total() * percent // 100
    for value in sorted(counted):
        place -= counted[value]
        if place < 0:
            return value / SECOND
    return max(counted, default=0) / SECOND


class Figures:
    """What came of a replay, in numbers."""

    def __init__(self) -> None:
        self.requests: Counter[Any] = Counter()
        self.shares: dict[str, Counter[Any]] = {name: Counter() for name in SHARES}
        self.statuses: Counter[int] = Counter()
        self.told_by = ""
        """By what callers are told apart: their names, where a trace gives them several; else their addresses."""
        self.looked = self.hit = self.handled = self.broken = 0
        self.took: Counter[int] = Counter()
        """How often answers took how long, in microseconds to three digits."""
        self.ages: Counter[int] = Counter()
        """How old copies were that answered, likewise."""

    def add(self, send: Send, *, failed: bool) -> None:
        """Count a send and its exchanges."""
        self.broken += failed
        for x in send.exchanges:
            if x.outcome == "not-sent":
                continue
            self.statuses[x.answer.status if x.answer is not None else 0] += 1
            counted = [self.shares[name] for name, read in SHARES.items() if read(x)]
            keys = [None, *((by, read(x)) for by, read in BY.items())]
            for key in keys:
                if key in self.requests or len(self.requests) < MOST_NAMES * len(BY):
                    self.requests[key] += 1
                    for counter in counted:
                        counter[key] += 1
            self.handled += x.handler_reached
            for use in x.caches:
                self.looked += use.state in ("hit", "miss", "stale", "revalidated")
                self.hit += use.state == "hit"
                if use.age is not None and x.answered_by == use.stage:
                    self.ages[_three_digits(use.age)] += 1
            self.took[_three_digits(x.finished - x.at)] += 1

    def share(self, select: Select, named: Iterable[Select] = (), name: str = "refused") -> float:
        """The share of a choice's requests that one of ``SHARES`` is about."""
        requests, counted = (self._of(counter, select, named) for counter in (self.requests, self.shares[name]))
        return counted / requests if requests else 0.0

    def answered_with(self, status: int) -> float:
        """The share of the requests whose answer has this status; 0 stands for no answer."""
        return self.statuses[status] / self.requests[None] if self.requests[None] else 0.0

    def _of(self, counter: Counter[object], select: Select, named: Iterable[Select]) -> int:
        if select is None or select[0] != "others":
            return counter[select]
        return counter[None] - sum(counter[one] for one in {*named} if one is not None and one[0] != "others")

    def latency(self, percent: int = 95) -> float:
        """A percentile of how long requests took, in seconds, exact to three digits."""
        return _percentile(self.took, percent)

    def age(self, percent: int = 95) -> float:
        """A percentile of how old copies were that answered, in seconds, exact to three digits."""
        return _percentile(self.ages, percent)

    def value(self, name: str, select: Select, named: Iterable[Select] = ()) -> float:
        """A figure by its name, for a choice of requests where it has any."""
        if name in SHARES:
            return self.share(select, named, name)
        if name == "status":
            return self.answered_with(int(select[1]) if select is not None else 0)
        if name == "requests":
            return self._of(self.requests, select, named)
        plain = {"handler": self.handled, "broken": self.broken, "latency": self.latency(), "age": self.age()}
        return float(plain[name]) if name in plain else self.hit / self.looked if self.looked else 0.0

    def most_refused(self, by: str, count: int = 3) -> list[str]:
        """The names that were refused most."""
        found = [
            (key[1], refused) for key, refused in self.shares["refused"].items() if key and key[0] == by and refused
        ]
        return [name for name, _ in sorted(found, key=lambda pair: (-pair[1], pair[0]))[:count]]

    def end(self, named: Iterable[Select] | None = None) -> Figures:
        """All has been counted. Where ``named`` says of whom anything will be asked, the others are forgotten."""
        names = {key[1] for key in self.requests if key is not None and key[0] == "caller"}
        self.told_by = "caller" if len(names) > 1 else "address"
        if named is not None:
            kept = {None, *named, *((by, name) for by in BY for name in self.most_refused(by, _MOST_TOLD))}
            for counter in (self.requests, *self.shares.values()):
                for key in counter.keys() - kept:
                    del counter[key]
        return self
