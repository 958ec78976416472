"""What came of each combination of settings: a table for people, CSV, a chart."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Sequence
from pathlib import Path

from patient_usher.core.model.words import counted
from patient_usher.core.questions.goals import Goal
from patient_usher.core.questions.metrics import SHARES
from patient_usher.core.questions.sweep import Trial
from patient_usher.core.verify.document_types import GoalRecord, Sweep, TrialRecord
from patient_usher.output.figure import SIZE, drawing, drawn
from patient_usher.output.terminal import Line, Piece, line


def _most_refused(trials: Sequence[Trial]) -> list[tuple[str, str]]:
    """The callers that were refused most in any of the trials: by what they are told apart, and their names."""
    by = trials[0].figures.told_by
    found = dict.fromkeys(name for trial in trials for name in trial.figures.most_refused(by, count=2))
    return [(by, name) for name in list(found)[:3]]


def _told_apart(trials: Sequence[Trial]) -> list[str]:
    """Why requests were refused, as figures of their own, where not all were refused for one of these alone."""
    shares = [trial.figures.shares for trial in trials]
    parts = [name for name in SHARES if name != "refused" and any(one[name][None] for one in shares)]
    whole = all(one["refused"][None] == sum(one[name][None] for name in parts) for one in shares)
    return [] if whole and len(parts) < 2 else parts


def _short(settings: Sequence[str]) -> list[str]:
    """Settings by their option alone, where that says enough."""
    options = [name.rpartition(".")[2] for name in settings]
    return [name if options.count(option) > 1 else option for name, option in zip(settings, options, strict=True)]


def table(trials: Sequence[Trial]) -> tuple[list[str], list[list[str]]]:
    """The head and the rows."""
    callers = _most_refused(trials)
    aged = any(trial.figures.ages for trial in trials)
    head = [
        *_short([name for name, _ in trials[0].combination]),
        "refused",
        *(name for _, name in callers),
        *_told_apart(trials),
        "hits",
        *(["age"] if aged else []),
        "handler",
        "latency",
        "broken",
    ]
    rows = []
    for trial in trials:
        figures = trial.figures
        rows.append(
            [
                *(str(value) for _, value in trial.combination),
                f"{100 * figures.share(None):.1f}%",
                *(f"{100 * figures.share(one):.1f}%" for one in callers),
                *(f"{100 * figures.share(None, (), name):.1f}%" for name in _told_apart(trials)),
                f"{100 * figures.value('hits', None):.0f}%" if figures.looked else "–",
                *([f"{figures.age():,.0f} s" if figures.age() >= 10 else f"{figures.age():.1f} s"] if aged else []),
                f"{figures.handled:,}",
                f"{figures.latency() * 1000:,.0f} ms",
                str(figures.broken + trial.broken_always),
            ]
        )
    return head, rows


def told(title: str, trials: Sequence[Trial]) -> Iterator[Line]:
    """The table; what no other beats has a mark."""
    head, rows = table(trials)
    widths = [max(len(cell) for cell in column) + 2 for column in zip(head, *rows, strict=True)]
    requests = counted(trials[0].figures.requests[None], "request")
    yield line((title, "title"), (f"  {requests} each", "dim"))
    yield line("  ", *((f"{name:>{width}}", "dim") for name, width in zip(head, widths, strict=True)))
    for trial, row in zip(trials, rows, strict=True):
        settings = len(trial.combination)
        pieces = [Piece("● " if trial.best else "  ", "good")]
        pieces += [
            Piece(f"{cell:>{width}}", "name" if at < settings else "bad" if at == len(row) - 1 and cell != "0" else "")
            for at, (cell, width) in enumerate(zip(row, widths, strict=True))
        ]
        yield pieces
    aged = "; age: the same, of copies that answered" if "age" in head else ""
    yield line((f"latency: the 95th percentile{aged}", "dim"))
    if _told_apart(trials):
        yield line(("refused: for whatever reason; the next columns are part of it", "dim"))
    count = counted(len(trials), "combination")
    yield []
    if best := sum(trial.best for trial in trials):
        told = f"{best:,} of {count}: no other has less refused, latency or broken without more of another"
        yield line(("● ", "good"), told)
    else:
        yield line(("• ", "dim"), f"{count} tried")


def goal_told(wanted: Goal, trial: Trial, short: float) -> Iterator[Line]:
    """Which combination meets the goal, or comes nearest."""
    settings = ", ".join(f"{name}={value}" for name, value in trial.combination)
    if short == 0:
        yield line(("✓ ", "good"), (settings, "name"), f" meets {wanted.text}")
    else:
        yield line("  ", (settings, "name"), f" comes nearest, and misses it by {short:.3g}")
        yield line(("✗ none meets ", "bad"), wanted.text)


def as_csv(trials: Sequence[Trial]) -> str:
    """The figures as a table for programs: shares from 0 to 1, seconds."""
    callers = _most_refused(trials)
    settings = [name for name, _ in trials[0].combination]
    out = io.StringIO()
    writer = csv.writer(out)
    shares = [f"refused {name}" for _, name in callers]
    writer.writerow(
        [
            *settings,
            "requests",
            "refused",
            *shares,
            "over_quota",
            "timed_out",
            "hits",
            "age_95_s",
            "handler",
            "latency_95_s",
            "broken",
            "best",
        ]
    )
    for trial in trials:
        figures = trial.figures
        writer.writerow(
            [
                *(value for _, value in trial.combination),
                figures.requests[None],
                round(figures.share(None), 6),
                *(round(figures.share(one), 6) for one in callers),
                *(round(figures.share(None, (), name), 6) for name in ("over-quota", "timed-out")),
                round(figures.value("hits", None), 6),
                figures.age(),
                figures.handled,
                figures.latency(),
                figures.broken + trial.broken_always,
                trial.best,
            ]
        )
    return out.getvalue()


def picture(path: Path, title: str, trials: Sequence[Trial]) -> bytes:
    """Refusals, handler runs and latency by combination, PNG or SVG by the file's name."""
    pyplot = drawing()
    labels = ["\n".join(f"{name.partition('.')[2]} {value}" for name, value in trial.combination) for trial in trials]
    places = range(len(trials))
    callers = _most_refused(trials)
    figure, (shares, runs, waits) = pyplot.subplots(3, 1, **SIZE, sharex=True, height_ratios=[2, 1, 1])
    styles = (("o", "-", "#1b1f24"), ("s", "--", "#a40e26"), ("^", ":", "#0b5cad"), ("D", "-.", "#b58900"))
    everybody = [100 * trial.figures.share(None) for trial in trials]
    lines = [("everybody", everybody)]
    lines += [(one[1], [100 * trial.figures.share(one) for trial in trials]) for one in callers]
    for (name, ys), (marker, dash, colour) in zip(lines, styles, strict=False):
        shares.plot(places, ys, marker=marker, linestyle=dash, color=colour, label=name)
    shares.set_title("refused, in percent of the requests of each", loc="left", fontsize=12)
    shares.legend(frameon=False, fontsize=11)
    runs.bar(places, [trial.figures.handled for trial in trials], color="#6c7a89")
    runs.set_title("runs of handlers", loc="left", fontsize=12)
    waits.bar(
        places, [trial.figures.latency() * 1000 for trial in trials], color="#6c7a89", hatch="//", edgecolor="#ffffff"
    )
    waits.set_title("latency, the 95th percentile, in milliseconds", loc="left", fontsize=12)
    waits.set_xticks(places, labels, fontsize=10)
    for axes in (shares, runs, waits):
        axes.spines[["top", "right"]].set_visible(False)
        axes.set_ylim(bottom=0)
    figure.suptitle(title, fontsize=15)
    figure.tight_layout()
    return drawn(figure, path)


def sweep_document(trials: Sequence[Trial], goal: Goal | None, chosen: tuple[Trial, float] | None) -> Sweep:
    """As JSON says it."""
    found = None
    if goal is not None and chosen is not None:
        found = GoalRecord(goal.text, chosen[1] == 0, chosen[1], dict(chosen[0].combination))
    return Sweep(trials=[_trial(trial) for trial in trials], found=found)


def _trial(trial: Trial) -> TrialRecord:
    figures = trial.figures
    refused = {
        by: {name: figures.share((by, name)) for name in figures.most_refused(by)} for by in ("address", "caller")
    }
    return TrialRecord(
        settings=dict(trial.combination),
        requests=figures.requests[None],
        refused=figures.share(None),
        over_quota=figures.share(None, (), "over-quota"),
        timed_out=figures.share(None, (), "timed-out"),
        statuses={str(status): count for status, count in sorted(figures.statuses.items()) if status},
        refused_by_address=refused["address"],
        refused_by_caller=refused["caller"],
        hits=figures.value("hits", None),
        age=figures.age(),
        handler=figures.handled,
        latency=figures.latency(),
        broken=figures.broken,
        always_broken=trial.broken_always,
        best=trial.best,
    )
