"""What came of very many requests, counted while they stream by, in memory that doesn't grow with them.

Names (callers, routes) are counted exactly up to a bound, and what comes beyond it together; waiting goes into a
histogram whose figures are exact to three digits.
"""

from __future__ import annotations

from collections import Counter
from typing import Any

from patient_usher.core.model.exchange import Exchange
from patient_usher.core.verify.run import Judged

MOST_NAMES = 20_000
LONGEST = 86_400_000_000
"""What takes longer than a day counts as a day. Microseconds."""


_COUNTED = (
    "statuses",
    "refusals",
    "callers",
    "callers_refused",
    "routes",
    "routes_refused",
    "limits",
    "caches",
    "hits",
)


class Totals:
    """Counts. ``crowded``: whether some callers were counted together, since there were too many."""

    def __init__(self) -> None:
        self.requests = self.exchanges = self.failed = 0
        self.first: int | None = None
        self.last = 0
        self.statuses: Counter[int | None] = Counter()
        self.refusals: Counter[tuple[str, str | None]] = Counter()
        self.callers: Counter[str] = Counter()
        self.callers_refused: Counter[str] = Counter()
        self.routes: Counter[str] = Counter()
        self.routes_refused: Counter[str] = Counter()
        self.limits: Counter[tuple[str, str]] = Counter()
        self.resets: dict[str, int] = {}
        self.caches: Counter[tuple[str, str]] = Counter()
        self.hits: Counter[str] = Counter()
        self.handled = 0
        self.crowded = False
        from hdrh.histogram import HdrHistogram

        self.waited: Any = HdrHistogram(1, LONGEST, 3)

    def add(self, judged: Judged) -> None:
        """Count one send and its exchanges."""
        self.requests += 1
        self.failed += judged.mark == "failed"
        for x in judged.send.exchanges:
            if x.outcome != "not-sent":
                self._count(x)

    def __getstate__(self) -> dict[str, object]:
        return {**self.__dict__, "waited": self.waited.encode()}

    def __setstate__(self, state: dict[str, object]) -> None:
        from hdrh.histogram import HdrHistogram

        self.__dict__.update(state, waited=HdrHistogram.decode(state["waited"]))

    def take(self, other: Totals) -> None:
        """Count what another has counted."""
        self.requests += other.requests
        self.exchanges += other.exchanges
        self.failed += other.failed
        self.handled += other.handled
        starts = [first for first in (self.first, other.first) if first is not None]
        self.first, self.last = min(starts, default=None), max(self.last, other.last)
        for name in _COUNTED:
            getattr(self, name).update(getattr(other, name))
        for stage, reset in other.resets.items():
            self.resets[stage] = max(self.resets.get(stage, 0), reset)
        self.crowded |= other.crowded
        self.waited.add(other.waited)

    def _count(self, x: Exchange) -> None:
        self.exchanges += 1
        if self.first is None or x.at < self.first:  # a later trace may have started earlier
            self.first = x.at
        self.last = max(self.last, x.finished)
        self.statuses[x.answer.status if x.answer is not None else None] += 1
        caller = self._name(self.callers, x.address or x.sent.peer)
        route = x.route.id if x.route is not None else "no route"
        self.callers[caller] += 1
        self.routes[route] += 1
        self.handled += x.handler_reached
        if x.refused_by is not None:
            self.refusals[x.refused_by, x.why] += 1
            self.callers_refused[caller] += 1
            self.routes_refused[route] += 1
        for use in x.rates:
            if x.refused_by == use.stage:
                self.limits[use.stage, self._name(self.limits, use.for_, use.stage)] += 1
                self.resets[use.stage] = max(self.resets.get(use.stage, 0), use.reset)
        for looked in x.caches:
            self.caches[looked.stage, looked.state] += 1
            if looked.state == "hit":
                self.hits[route] += 1
        self.waited.record_value(min(x.finished - x.at, LONGEST))

    def _name(self, known: Counter[Any], name: str, *before: str) -> str:
        if len(known) < MOST_NAMES or (name if not before else (*before, name)) in known:
            return name
        self.crowded = True
        return "further callers"

    def latency(self, percent: float) -> int:
        """A percentile of how long exchanges took, in microseconds."""
        return int(self.waited.get_value_at_percentile(percent)) if self.exchanges else 0
