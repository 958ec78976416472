"""The summary of very many requests, in forty lines at most."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from typing import Any

from patient_usher.core.http.dates import in_seconds
from patient_usher.core.model.words import counted
from patient_usher.core.verify.totals import Totals
from patient_usher.output.replay_view import clock, remark
from patient_usher.output.terminal import Line, fit, line

MOST = 5
"""How many of the busiest are named."""
BAR = 24


def told(bulk: Totals, savings: Sequence[str]) -> Iterator[Line]:
    """Statuses, refusals, callers, routes, limits, caches, latency."""
    statuses = [(str(status or "none"), count) for status, count in _sorted(bulk.statuses)]
    yield from _bars("answers", statuses, bulk.exchanges)
    refusals = [(f"{stage}: {why or 'refused'}", count) for (stage, why), count in ranked(bulk.refusals, MOST)]
    yield from _bars("refusals, by stage and why", refusals, bulk.exchanges)
    yield from _busiest("callers", bulk.callers, bulk.callers_refused)
    busiest = {name for name, _ in ranked(bulk.callers, MOST)}
    others = [name for name, _ in ranked(bulk.callers_refused) if name not in busiest][:MOST]
    if bulk.callers_refused:
        count = len(bulk.callers_refused)
        beside = f"; beside the busiest: {', '.join(others)}" if others else ""
        more = f" and {count - len(others) - len(busiest & bulk.callers_refused.keys())} more" if others else ""
        more = more if not more.startswith(" and 0") else ""
        yield from remark(f"refused at least once: {counted(count, 'caller')}{beside}{more}", "dim")
    yield from _busiest("routes", bulk.routes, bulk.routes_refused)
    if bulk.limits:
        parts = [f"{stage} refused {whom} {count:,} times" for (stage, whom), count in ranked(bulk.limits, 3)]
        again = ", ".join(f"{stage} {_seconds(wait)}" for stage, wait in sorted(bulk.resets.items()) if wait)
        yield from remark(f"limits: {'; '.join(parts)}{f'; until again at most: {again}' if again else ''}", "dim")
    if bulk.caches:
        states = Counter[str]()
        for (_, state), count in bulk.caches.items():
            states[state] += count
        looked = ", ".join(f"{count:,} {state}" for state, count in ranked(states))
        saved = ", ".join(f"{route} {count:,}" for route, count in ranked(bulk.hits, 3))
        yield from remark(f"caches: {looked}" + (f"; handler runs saved: {saved}" if saved else ""), "dim")
    figures = [f"{name} {_seconds(bulk.latency(percent))}" for name, percent in _PERCENTILES]
    yield from remark(f"latency: {', '.join(figures)} (exact to three digits)", "dim")
    for saving in savings:
        yield from remark(saving, "dim")
    if bulk.crowded:
        yield from remark("there were too many callers to count each: the later ones are counted together", "dim")


def summary(bulk: Totals) -> Line:
    """The last line: how many there were, and whether all was as expected."""
    span = clock(float(in_seconds(bulk.last - (bulk.first or 0))))
    count, runs = counted(bulk.requests, "request"), counted(bulk.handled, "handler run")
    told = (f"  within {span}, {runs}", "dim")
    if bulk.failed:
        return line(("✗ ", "bad"), f"{bulk.failed:,} of {count} not as expected", told)
    return line(("• ", "dim"), count, told)


def ranked(counts: Counter[Any], most: int | None = None) -> list[tuple[Any, int]]:
    """The most frequent first; of those that are as frequent, by name: whatever the order in which they came."""
    return sorted(counts.items(), key=lambda pair: (-pair[1], str(pair[0])))[:most]


def _seconds(micros: int) -> str:
    """To three digits."""
    return f"{micros / 1_000_000:.3g} s"


_PERCENTILES = (("median", 50.0), ("95th percentile", 95.0), ("99th", 99.0))


def _sorted(statuses: Counter[int | None]) -> list[tuple[int | None, int]]:
    return sorted(statuses.items(), key=lambda pair: (-pair[1], pair[0] or 0))[:8]


def _bars(title: str, rows: Sequence[tuple[str, int]], whole: int) -> Iterator[Line]:
    if not rows:
        return
    yield line((title, "dim"))
    for name, count in rows:
        share = count / max(whole, 1)
        bar = "█" * round(BAR * share)
        yield line(f"  {fit(name, 28)} ", f"{count:>11,}  ", (bar, "name"), f" {100 * share:.1f}%")


def _busiest(title: str, seen: Counter[Any], refused: Counter[Any]) -> Iterator[Line]:
    yield line((f"busiest {title}, and how much of theirs was refused", "dim"))
    for name, count in ranked(seen, MOST):
        share = refused[name] / count
        style = "bad" if share > 0.5 else "raised" if share > 0.05 else ""
        yield line(f"  {fit(name, 28)} ", f"{count:>11,}  ", (f"{100 * share:.1f}% refused", style))
