"""A replay over virtual time, as one figure with the panels that this pipeline has, and as the table behind it."""

from __future__ import annotations

from array import array
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
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


class ChartFigures(NamedTuple):
    """The bins, from the start of the trace in seconds, and what came of each."""

    edges: list[float]
    series: list[Series]


class Columns:
    """What a chart needs of each exchange, by column: a few dozen octets a row, so that a million fit.

    ``rows`` are those of tables; what was never sent is left out. ``length`` is how many there are.
    """

    def __init__(self, rows: Iterable[Row]) -> None:
        self.at, self.took = array("d"), array("d")
        self.status, self.remaining = array("H"), array("q")
        self.sent, self.uncoded = array("q"), array("q")
        self.limit, self.whom, self.refused_by = array("I"), array("I"), array("I")
        self.cache, self.late = array("I"), array("B")
        self._numbers: dict[str, int] = {"": 0}
        number = self._number
        for row in rows:
            if row["outcome"] == "not-sent":
                continue
            self.at.append(row["at"])
            self.took.append(row["took"])
            self.status.append(row["status"] or 0)
            self.remaining.append(row["limit_remaining"] or 0)
            self.sent.append(row["answer_octets"] or 0)
            self.uncoded.append(row["uncoded_octets"] or 0)
            self.limit.append(number(row["limit"]))
            self.whom.append(number(row["limit_for"]))
            self.refused_by.append(number(row["refused_by"]))
            self.cache.append(number(row["cache"]))
            self.late.append(row["outcome"] == "timed-out")
        self.names = list(self._numbers)
        self.length = len(self.at)

    def _number(self, name: str | None) -> int:
        numbers = self._numbers
        return numbers.setdefault(name or "", len(numbers))


def figures_of(rows: Columns) -> ChartFigures:
    """What a chart shows, by bins of time."""
    last = max(map(sum, zip(rows.at, rows.took, strict=True)), default=0.0) or 1.0
    width = last / BINS
    edges = [round(width * at, 9) for at in range(BINS)]
    places = array("B", (min(int(at / width), BINS - 1) for at in rows.at))

    def binned(values: Iterable[float]) -> list[float]:
        found = [0.0] * BINS
        for place, value in zip(places, values, strict=True):
            found[place] += value
        return found

    names = rows.names
    series = []
    for number, (name, _, _) in enumerate(_CLASSES, 2):
        series.append(Series("answers", name, binned(status // 100 == number for status in rows.status)))
    series = [one for one in series if any(one.values)]
    limits = Counter(pair for pair in zip(rows.limit, rows.whom, strict=True) if pair[0])
    for (limit, whom), _ in limits.most_common(BUSIEST):
        own = array("B", (a == limit and b == whom for a, b in zip(rows.limit, rows.whom, strict=True)))
        name = f"{names[limit]} for {names[whom] or None}"
        series.append(Series("remaining", name, _least(zip(places, rows.remaining, own, strict=True))))
        refused = (mine and by == limit for mine, by in zip(own, rows.refused_by, strict=True))
        series.append(Series("refused", name, binned(refused)))
    for state, _, _ in _STATES:
        if state in names:
            number = names.index(state)
            series.append(Series("cache", state, binned(one == number for one in rows.cache)))
    if any(rows.took):
        series.append(Series("under way", "at once", _under_way(rows, width)))
        late = binned(rows.late)
        series += [Series("under way", "timed out", late)] if any(late) else []
    if rows.sent != rows.uncoded:
        series.append(Series("octets", "before coding", binned(rows.uncoded)))
        series.append(Series("octets", "on the wire", binned(rows.sent)))
    return ChartFigures(edges, [one for one in series if one.panel != "cache" or any(one.values)])


def _least(of: Iterable[tuple[int, float, int]]) -> list[float]:
    """The least that was left in each bin; where nothing came, nobody knows (NaN)."""
    found = [nan] * BINS
    for place, remaining, mine in of:
        if mine:
            found[place] = remaining if isnan(found[place]) else min(found[place], remaining)
    return found


def _under_way(rows: Columns, width: float) -> list[float]:
    """The most that were under way at once in each bin; who ends when another begins has ended."""
    begun = array("d", sorted(rows.at))
    ended = array("d", sorted(map(sum, zip(rows.at, rows.took, strict=True))))
    found, now, at, begins, ends = [0.0] * BINS, 0, 0, 0, 0
    while ends < rows.length:
        begin = begins < rows.length and begun[begins] < ended[ends]
        time = begun[begins] if begin else ended[ends]
        place = min(int(time / width), BINS - 1)
        while at < place:
            at += 1
            found[at] = max(found[at], now)
        now += 1 if begin else -1
        begins, ends = begins + begin, ends + (not begin)
        found[at] = max(found[at], now)
    return found


def as_csv(figures: ChartFigures) -> str:
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


def picture(path: Path, title: str, figures: ChartFigures, rows: Columns) -> bytes:
    """The figure, PNG or SVG by the file's name."""
    waits = _quantiles(rows.took)  # sorted, and away again, before there is anything to draw with
    pyplot = drawing()
    panels = [panel for panel in _PANELS if any(one.panel == panel for one in figures.series)]
    panels += ["latency"] if waits and waits[-1][1] > 0 else []
    figure, grid = pyplot.subplots(len(panels), 1, **SIZE, squeeze=False, layout="constrained")
    span = figures.edges[1] * BINS
    unit, word = _unit(span)
    for axes, panel in zip(grid[:, 0], panels, strict=True):
        chosen = [one for one in figures.series if one.panel == panel]
        if panel == "latency":
            axes.step(
                [0, *(wait for _, wait in waits)], [0, *(share for share, _ in waits)], where="post", color="#1b1f24"
            )
            axes.set_title("latency: percent of requests that took no longer than so many seconds", **_TITLE)
            axes.set_xlabel("seconds")
        else:
            _PANELS[panel](axes, figures, chosen)
            axes.xaxis.set_major_locator(pyplot.MultipleLocator(_step(span / unit) * unit))
            axes.xaxis.set_major_formatter(lambda value, _: f"{value / unit:g}")
            axes.yaxis.get_major_locator().set_params(integer=True)
        axes.spines[["top", "right"]].set_visible(False)
        # From nothing, with room above: else a line that hardly moves, or the highest bar, would lie on the edge.
        axes.use_sticky_edges = False
        axes.update_datalim([(0, 0)])
        axes.autoscale_view()
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


def _quantiles(took: array[float]) -> list[tuple[float, float]]:
    """How many percent took no longer than so long: of each request, or of a thousand that stand for very many."""
    waits = sorted(took)
    count = len(waits)
    steps = range(1, count + 1) if count <= 1000 else [count * part // 1000 for part in range(1, 1001)]
    return [(100 * step / count, waits[step - 1]) for step in steps]


_UNITS = ((7200.0, 3600.0, "hours"), (120.0, 60.0, "minutes"), (1.0, 1.0, "seconds"), (0.0, 0.001, "milliseconds"))
"""From how many seconds on a time is told in what, and how many seconds that is."""


def _unit(seconds: float) -> tuple[float, str]:
    return next((unit, word) for least, unit, word in _UNITS if seconds >= least)


def _step(span: float) -> float:
    """A step of ticks, of which a dozen at most fit a span: 1, 2, 3 or 6 and their tens and twelves."""
    steps = (step * scale for scale in (1, 10, 100, 1000, 10_000) for step in (1, 2, 3, 6))
    return next((step for step in steps if span / step <= 13), span / 10)


_TITLE: Any = {"loc": "left", "fontsize": 11}


def _stacked(
    title: str, styles: Sequence[tuple[str, str, str]]
) -> Callable[[object, ChartFigures, list[Series]], None]:
    looks = {name: (colour, hatch) for name, colour, hatch in styles}

    def draw(axes: Any, figures: ChartFigures, chosen: list[Series]) -> None:
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


def _lines(title: str) -> Callable[[object, ChartFigures, list[Series]], None]:
    def draw(axes: Any, figures: ChartFigures, chosen: list[Series]) -> None:
        for one, (_, dash, colour) in zip(chosen, _LINES * 4, strict=False):
            axes.step(figures.edges, one.values, where="post", linestyle=dash, color=colour, label=one.name)
        axes.set_title(title, **_TITLE)

    return draw


def _remaining(axes: Any, figures: ChartFigures, chosen: list[Series]) -> None:
    for one, (_, dash, colour) in zip(chosen, _LINES, strict=False):
        axes.step(figures.edges, one.values, where="post", linestyle=dash, color=colour, label=one.name)
        refused = next(other for other in figures.series if other.panel == "refused" and other.name == one.name)
        at = [edge for edge, count in zip(figures.edges, refused.values, strict=True) if count]
        if at:
            axes.plot(at, [0] * len(at), "x", color=colour, markersize=6, clip_on=False)
    axes.set_title("what is left of the quota of the busiest; crosses: refused", **_TITLE)


_PANELS: dict[str, Callable[[object, ChartFigures, list[Series]], None]] = {
    "answers": _stacked("answers, by status", _CLASSES),
    "remaining": _remaining,
    "cache": _stacked("what caches made of requests", _STATES),
    "under way": _lines("under way at once, at most"),
    "octets": _lines("octets of answers, before coding and on the wire"),
}
