"""A replay over virtual time, as one figure with the panels that this pipeline has, and as the table behind it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from math import isnan, nan
from pathlib import Path
from typing import Any, NamedTuple

from patient_usher.core.model.document import JsonObject
from patient_usher.output.figure import SIZE, drawing, drawn

Row = JsonObject

BINS = 60
BUSIEST = 3
_CLASSES = (("2xx", "#4d7a3a", ""), ("3xx", "#0b5cad", "//"), ("4xx", "#b58900", ".."), ("5xx", "#a40e26", "xx"))
_LINES = (("o", "-", "#1b1f24"), ("s", "--", "#a40e26"), ("^", ":", "#0b5cad"))
_STATES = (
    ("hit", "#4d7a3a", ""),
    ("miss", "#b58900", ".."),
    ("stale", "#a40e26", "xx"),
    ("revalidated", "#0b5cad", "//"),
)


class Series(NamedTuple):
    """One line or bar of a panel: what it is, and its value in each bin."""

    panel: str
    name: str
    values: list[float]


class Figures(NamedTuple):
    """The bins, from the start of the trace in seconds, and what came of each."""

    edges: list[float]
    series: list[Series]


def figures_of(rows: Sequence[Row]) -> Figures:
    """What a chart shows, by bins of time."""
    last = max([row["at"] + row["took"] for row in rows], default=0.0) or 1.0
    width = last / BINS
    edges = [round(width * at, 9) for at in range(BINS)]

    def binned(chosen: Sequence[Row], value: Callable[[Row], float] = lambda row: 1.0) -> list[float]:
        found = [0.0] * BINS
        for row in chosen:
            found[min(int(row["at"] / width), BINS - 1)] += value(row)
        return found

    series = [Series("answers", name, binned([row for row in rows if _class(row) == name])) for name, _, _ in _CLASSES]
    series = [one for one in series if any(one.values)]
    limits = Counter((row["limit"], row["limit_for"]) for row in rows if row["limit"])
    for (limit, whom), _ in limits.most_common(BUSIEST):
        own = [row for row in rows if (row["limit"], row["limit_for"]) == (limit, whom)]
        series.append(Series("remaining", f"{limit} for {whom}", _held(own, width)))
        refused = [row for row in own if row["refused_by"] == limit]
        series.append(Series("refused", f"{limit} for {whom}", binned(refused)))
    for state, _, _ in _STATES:
        values = binned([row for row in rows if row["cache"] == state])
        series += [Series("cache", state, values)] if any(values) else []
    if any(row["took"] for row in rows):
        series.append(Series("under way", "at once", _under_way(rows, width)))
        late = binned([row for row in rows if row["outcome"] == "timed-out"])
        series += [Series("under way", "timed out", late)] if any(late) else []
    if any(row["answer_octets"] != row["uncoded_octets"] for row in rows):
        series.append(Series("octets", "before coding", binned(rows, lambda row: row["uncoded_octets"] or 0)))
        series.append(Series("octets", "on the wire", binned(rows, lambda row: row["answer_octets"] or 0)))
    return Figures(edges, series)


def _class(row: Row) -> str:
    return f"{row['status'] // 100}xx" if row["status"] else ""


def _held(rows: Sequence[Row], width: float) -> list[float]:
    """The least that was left in each bin; where nothing came, nobody knows (NaN)."""
    found = [nan] * BINS
    for row in rows:
        at = min(int(row["at"] / width), BINS - 1)
        found[at] = row["limit_remaining"] if isnan(found[at]) else min(found[at], row["limit_remaining"])
    return found


def _under_way(rows: Sequence[Row], width: float) -> list[float]:
    """The most that were under way at once in each bin."""
    events = sorted([(row["at"], 1) for row in rows] + [(row["at"] + row["took"], -1) for row in rows])
    found, now, at = [0.0] * BINS, 0, 0
    for time, step in events:
        place = min(int(time / width), BINS - 1)
        while at < place:
            at += 1
            found[at] = max(found[at], now)
        now += step
        found[at] = max(found[at], now)
    return found


def as_csv(figures: Figures) -> str:
    """The table behind the figure: a row a bin, a column a series."""
    import csv
    import io

    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["from_s", *(f"{one.panel}: {one.name}" for one in figures.series)])
    for at, edge in enumerate(figures.edges):
        writer.writerow([edge, *(_plain(one.values[at]) for one in figures.series)])
    return out.getvalue()


def _plain(value: float) -> float | int | str:
    if isnan(value):
        return ""
    return int(value) if value == int(value) else value


def picture(path: Path, title: str, figures: Figures, rows: Sequence[Row]) -> bytes:
    """The figure, PNG or SVG by the file's name."""
    pyplot = drawing()
    waits = sorted(row["took"] for row in rows)
    panels = [panel for panel in _PANELS if any(one.panel == panel for one in figures.series)]
    panels += ["latency"] if waits and waits[-1] > 0 else []
    figure, grid = pyplot.subplots(len(panels), 1, **SIZE, squeeze=False, layout="constrained")
    span = figures.edges[1] * BINS
    unit, word = _unit(span)
    for axes, panel in zip(grid[:, 0], panels, strict=True):
        chosen = [one for one in figures.series if one.panel == panel]
        if panel == "latency":
            shares = [100 * (at + 1) / len(waits) for at in range(len(waits))]
            axes.step([0, *waits], [0, *shares], where="post", color="#1b1f24")
            axes.set_title("latency: percent of requests that took no longer than so many seconds", **_TITLE)
            axes.set_xlabel("seconds")
        else:
            _PANELS[panel](axes, figures, chosen)
            axes.xaxis.set_major_locator(pyplot.MultipleLocator(_step(span / unit) * unit))
            axes.xaxis.set_major_formatter(lambda value, _: f"{value / unit:g}")
        axes.spines[["top", "right"]].set_visible(False)
        axes.set_ylim(0, max(axes.get_ylim()[1], 1))
        axes.set_xlim(left=0, right=None if panel == "latency" else span)
        if len(axes.get_legend_handles_labels()[0]) > 1:
            axes.legend(frameon=False, fontsize=9, loc="lower right", bbox_to_anchor=(1, 1), ncols=4, borderpad=0)
    lowest = max(at for at, panel in enumerate(panels) if panel != "latency")
    each, each_word = _unit(figures.edges[1])
    width = f"{figures.edges[1] / each:.3g} {each_word}"
    grid[lowest, 0].set_xlabel(f"{word} from the start of the trace; a bar, or a step of a line, is {width}")
    figure.suptitle(title, fontsize=15)
    return drawn(figure, path)


_UNITS = ((7200.0, 3600.0, "hours"), (120.0, 60.0, "minutes"), (1.0, 1.0, "seconds"), (0.0, 0.001, "milliseconds"))
"""From how many seconds on a time is told in what, and how many seconds that is."""


def _unit(seconds: float) -> tuple[float, str]:
    return next((unit, word) for least, unit, word in _UNITS if seconds >= least)


def _step(span: float) -> float:
    """A step of ticks, of which a dozen at most fit a span: 1, 2, 3 or 6 and their tens and twelves."""
    steps = (step * scale for scale in (1, 10, 100, 1000, 10_000) for step in (1, 2, 3, 6))
    return next((step for step in steps if span / step <= 13), span / 10)


_TITLE: Any = {"loc": "left", "fontsize": 11}


def _stacked(title: str, styles: Sequence[tuple[str, str, str]]) -> Callable[[Any, Figures, list[Series]], None]:
    looks = {name: (colour, hatch) for name, colour, hatch in styles}

    def draw(axes: Any, figures: Figures, chosen: list[Series]) -> None:
        width, below = figures.edges[1], [0.0] * BINS
        for one in chosen:
            colour, hatch = looks[one.name]
            axes.bar(
                figures.edges, one.values, width=width, bottom=below, align="edge", color=colour, hatch=hatch,
                edgecolor="#ffffff", linewidth=0.3, label=one.name,
            )  # fmt: skip
            below = [a + b for a, b in zip(below, one.values, strict=True)]
        axes.set_title(title, **_TITLE)

    return draw


def _lines(title: str) -> Callable[[Any, Figures, list[Series]], None]:
    def draw(axes: Any, figures: Figures, chosen: list[Series]) -> None:
        for one, (_, dash, colour) in zip(chosen, _LINES * 4, strict=False):
            axes.step(figures.edges, one.values, where="post", linestyle=dash, color=colour, label=one.name)
        axes.set_title(title, **_TITLE)

    return draw


def _remaining(axes: Any, figures: Figures, chosen: list[Series]) -> None:
    for one, (_, dash, colour) in zip(chosen, _LINES, strict=False):
        axes.step(figures.edges, one.values, where="post", linestyle=dash, color=colour, label=one.name)
        refused = next(other for other in figures.series if other.panel == "refused" and other.name == one.name)
        at = [edge for edge, count in zip(figures.edges, refused.values, strict=True) if count]
        if at:
            axes.plot(at, [0] * len(at), "x", color=colour, markersize=6, clip_on=False)
    axes.set_title("what is left of the quota of the busiest; crosses: refused", **_TITLE)


_PANELS: dict[str, Callable[[Any, Figures, list[Series]], None]] = {
    "answers": _stacked("answers, by status", _CLASSES),
    "remaining": _remaining,
    "cache": _stacked("what caches made of requests", _STATES),
    "under way": _lines("under way at once, at most"),
    "octets": _lines("octets of answers, before coding and on the wire"),
}
