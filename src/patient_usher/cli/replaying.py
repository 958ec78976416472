"""A session on its way through a pipeline, and what is printed of it: as text, as JSON, as reports and tables."""

from __future__ import annotations

import sys
from argparse import ArgumentTypeError, Namespace
from collections.abc import Hashable, Iterable, Iterator, Sequence
from itertools import chain
from pathlib import Path
from time import monotonic
from typing import TYPE_CHECKING

from patient_usher.cli.arguments import outgoing, unusable
from patient_usher.cli.common import mention
from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.run.run_state import RunState, savings_of
from patient_usher.core.model.document import did_you_mean
from patient_usher.core.model.words import counted
from patient_usher.core.questions.route_matrix import enforced_limits
from patient_usher.core.verify.always import Statements, told
from patient_usher.core.verify.run import Judged, prefix_of, run
from patient_usher.core.verify.summary import Summary, statement_record
from patient_usher.core.verify.verdict import fails
from patient_usher.files.atomic_write import write_whole
from patient_usher.output import replay_view
from patient_usher.output.journey import journey, journeys
from patient_usher.output.outcome import Outcome, Shown, scene_of, shown
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.reports import REPORTS, replay_report
from patient_usher.output.terminal import Line, Painter, line, stdout_painter
from patient_usher.use_cases.rows_file import RowsFile
from patient_usher.use_cases.session import Pipeline, Session, collect_garbage

if TYPE_CHECKING:
    from patient_usher.core.verify.totals import Totals

MAX_NAMES = 6
"""How many failed requests are named in the last line."""
MAX_JOURNEYS = 1
"""How many failed requests are shown whole without --details."""
MAX_ROWS = 10
"""How many failed requests stand once more at the end."""


def wanted_reports(texts: Iterable[str]) -> list[tuple[str, Path]]:
    """The reports that the command line asks for: format and file. Raises Unusable."""
    found: list[tuple[str, Path]] = []
    for text in texts:
        form, equals, name = text.partition("=")
        if not equals or not name or form not in REPORTS:
            whole = equals and name
            what = f"there is no report of the form '{form}'" if whole else f"'{text}' names no report"
            mend = "write FORMAT=FILE, as in html=report.html" if not whole else did_you_mean(form, REPORTS)
            raise unusable(what, mend, "--report")
        if any(Path(name) == path for _, path in found):
            raise unusable(f"two reports go to {name}", "give each a file of its own", "--report")
        try:
            found.append((form, outgoing(name)))
        except ArgumentTypeError as error:
            what, _, mend = str(error).partition("; ")
            raise unusable(what, mend, "--report") from None
    return found


class Tally:
    """What a session comes to, counted while it goes by; ``sends`` are kept where reports want them."""

    def __init__(self, session: Session, *, strict: bool, keeps: bool) -> None:
        self.session, self.strict, self.keeps = session, strict, keeps
        self.summary, self.statements = Summary(), Statements(session.pipeline)
        self.sends: list[Shown] = []
        self.failed_ids: list[str] = []

    def add(self, judged: Judged, prefix: str = "") -> None:
        """Count one send."""
        self.summary.add(judged)
        if fails(judged.mark, strict=self.strict) and len(self.failed_ids) < MAX_NAMES:
            self.failed_ids.append(REDACTOR.redacted(prefix + judged.send.id))

    def take(self, other: Tally) -> None:
        """Count what another has counted."""
        self.summary.take(other.summary)
        self.statements.take(other.statements)
        self.sends += other.sends

    @property
    def failed(self) -> bool:
        """Whether anything counts as a failure."""
        return self.summary.fails(strict=self.strict) or self.statements.broken

    def outcome(self, traces: Iterable[str]) -> Outcome:
        """All of it, as it may be drawn."""
        statements = self.statements.all
        return Outcome(
            scene_of(
                self.session.pipeline,
                list(traces),
                self.session.seed,
                self.session.traces[0].starts if self.session.traces else None,
            ),
            REDACTOR.redacted(self.summary.record()),
            self.summary.expecting,
            dict(self.summary.slips),
            REDACTOR.redacted(told(statements)),
            REDACTOR.redacted([statement_record(one) for one in statements]),
            self.sends,
            self.strict,
        )


def with_progress(judged: Iterator[Judged], name: str) -> Iterator[Judged]:
    """The same sends; after two seconds a terminal is told how many have gone by."""
    return _told_how_many(judged, name) if sys.stderr.isatty() else judged


def _told_how_many(judged: Iterator[Judged], name: str) -> Iterator[Judged]:
    begin, status = monotonic(), None
    try:
        for number, one in enumerate(judged, 1):
            if number % 500 == 0 and monotonic() - begin > 2:
                if status is None:
                    from rich.console import Console

                    status = Console(stderr=True).status("")
                    status.start()
                status.update(f"{name}: {number:,} requests replayed")
            yield one
    finally:
        if status is not None:
            status.stop()


def running(
    run_state: RunState, trace: BoundTrace, statements: Statements, table: RowsFile, *, journeys: bool
) -> Iterator[Judged]:
    """Every send of a trace with the verdict on it; its rows go into the table."""
    collect_garbage()
    for judged in with_progress(
        run(run_state, trace, statements=statements, journeys=journeys, release_sends=True), trace.name
    ):
        table.add(judged)
        yield judged


def report(args: Namespace, session: Session, *, mentions: bool = False) -> int:
    """Replay the traces and write what came of them, reports and a table included. Returns the exit status.

    ``mentions``: text says how many findings a check has.
    """
    files = wanted_reports(args.report)
    tally = Tally(session, strict=args.strict, keeps=bool(files))
    with RowsFile(getattr(args, "into", None)) as table:
        if args.format == "text":
            _text(args, session, tally, table, mentions=mentions)
        else:
            _json(args, session, tally, table)
    if files:
        sys.stdout.flush()
        outcome = tally.outcome(trace.name for trace in session.traces)
        for form, path in files:
            write_whole(path, REDACTOR.text(replay_report(form, outcome)))
    return 1 if tally.failed else 0


def _json(args: Namespace, session: Session, tally: Tally, table: RowsFile) -> None:
    for option in ("details", "quiet"):
        if getattr(args, option, False) and not getattr(args, "whole", False):
            what = f"--{option} belongs to --format text"
            raise unusable(what, f"{args.format} says everything; leave it out")
    from patient_usher.output import result  # text needs none of it

    rows: list[Shown] = []
    out = sys.stdout.buffer  # JSON is UTF-8, whatever the terminal speaks
    for run_state, trace in session.run_states():
        for judged in running(run_state, trace, tally.statements, table, journeys=True):
            tally.add(judged)
            shows = session.shows(judged.send.id, judged.send.entry.id)
            if shows and args.format == "jsonl" and not tally.keeps:
                for record in judged.records():
                    out.write(result.exchange_line(record))
                continue
            if not (shows or tally.keeps):
                continue
            send = shown(judged)
            if tally.keeps:
                tally.sends.append(send.named(prefix_of(trace, session.traces)))
            if shows and args.format == "json":
                rows.append(send)
            elif shows:
                for record in send.records:
                    out.write(result.dump(record) + b"\n")
    if args.format == "json":
        outcome = tally.outcome(trace.name for trace in session.traces)
        out.write(result.result_json(outcome._replace(sends=rows)).encode(errors="surrogatepass"))


def _text(args: Namespace, session: Session, tally: Tally, table: RowsFile, *, mentions: bool) -> None:
    painter = stdout_painter()
    details = args.details or bool(session.only)
    if session.traces and all(trace.streams for trace in session.traces) and not (args.quiet or details or tally.keeps):
        _in_bulk(painter, tally, table, session.run_states())
        return
    for number, (run_state, trace) in enumerate(session.run_states()):
        if number:
            painter.write([[]])
        own = Tally(session, strict=tally.strict, keeps=tally.keeps)
        if trace.streams and not (args.quiet or details or tally.keeps):
            _in_bulk(painter, own, table, [(run_state, trace)])
        else:
            last = mentions and number == len(session.traces) - 1
            TextReport(painter, session, own, table, details=details, quiet=args.quiet, mentions=last).run(
                run_state, trace
            )
        tally.take(own)


def _in_bulk(painter: Painter, tally: Tally, table: RowsFile, traces: Iterable[tuple[RunState, BoundTrace]]) -> None:
    """Replay traces that stream: what came of all of them, and no list."""
    from patient_usher.core.verify.totals import Totals

    counts, names, notes = Totals(), [], list[str]()
    saved: list[list[tuple[Hashable, object]]] = []
    before: RunState | None = None
    for run_state, trace in traces:
        for judged in running(run_state, trace, tally.statements, table, journeys=False):
            tally.add(judged)
            counts.add(judged)
        names.append(trace.name)
        notes += (f"{trace.name}: {note}" for note in trace.notes)
        saved[-1 if run_state is before else len(saved) :] = [
            list(run_state.cache_states())
        ]  # of one that goes on, as it is at last
        before = run_state
    savings = savings_of(tally.session.pipeline, chain(*saved))
    bulk_told(painter, tally, counts, names, savings, notes)


def bulk_told(
    painter: Painter, tally: Tally, counts: Totals, names: Sequence[str], savings: Sequence[str], notes: Sequence[str]
) -> None:
    """What traces in bulk came to."""
    from patient_usher.output import totals_view

    scene = scene_of(tally.session.pipeline, names, tally.session.seed)
    several = f", {counted(len(names), 'trace')}" if len(names) > 1 else ""
    title = f"{scene.pipeline}, {' and '.join(scene.environment)}{several}"
    shown = REDACTOR.counts(counts)
    painter.write([line((title, "title")), *totals_view.told(shown, savings)])
    for note in REDACTOR.redacted(list(dict.fromkeys(notes))):
        painter.write(replay_view.remark(note, "dim"))
    painter.write([line(("--details lists every request, --only ID shows one", "dim"))])
    painter.write(replay_view.statement_lines(tally.outcome(names).statements))
    painter.write([[], totals_view.summary(shown)])


class TextReport:
    """One trace for people; the first few failed requests, or all with ``details``, are shown whole."""

    def __init__(
        self,
        painter: Painter,
        session: Session,
        tally: Tally,
        table: RowsFile,
        *,
        details: bool = False,
        quiet: bool = False,
        journeys: int = MAX_JOURNEYS,
        mentions: bool = False,
    ) -> None:
        self.painter, self.session, self.tally, self.rows = painter, session, tally, table
        self.details, self.quiet, self.journeys = details, quiet, journeys
        self.mentions = mentions
        self.whole: list[Shown] = []
        self.failing: list[Line] = []
        self.bursts: dict[str, replay_view.Burst] = {}

    def run(self, run_state: RunState, trace: BoundTrace) -> None:
        """Replay and write."""
        session, tally = self.session, self.tally
        pipeline = run_state.compiled
        on_way = pipeline.on_way
        self.table = replay_view.ReplayTable(
            REDACTOR.redacted(pipeline.columns(switched_off=trace.changes)),
            lambda route: on_way.get(route, on_way[None]),
            REDACTOR.redacted(sorted(session.only) if session.only else [label for label, _ in trace.shown]),
            REDACTOR.redacted([request for _, request in trace.shown]),
            trace.base,
        )
        if not self.quiet:
            scene = scene_of(pipeline, [trace.name], session.seed)
            title = [
                line((scene.pipeline, "title")),
                line((f"{trace.name}, {' and '.join(scene.environment)}", "dim")),
            ]
            self.painter.write(self.table.head(title))
        shows = not self.quiet or self.details
        prefix = prefix_of(trace, session.traces)
        for judged in running(run_state, trace, tally.statements, self.rows, journeys=shows or tally.keeps):
            tally.add(judged)
            failed = fails(judged.mark, strict=tally.strict)
            if not (shows or tally.keeps or failed):
                continue
            send = shown(judged)
            if tally.keeps:
                tally.sends.append(send.named(prefix))
            if (shows or failed) and session.shows(judged.send.id, judged.send.entry.id):
                self._send(judged, send, failed=failed)
        self._end(run_state, trace)

    def _send(self, judged: Judged, send: Shown, *, failed: bool) -> None:
        """One send's line, or its share in that of a burst."""
        if self.quiet and self.details:
            self.painter.write(journeys(send.records, whole=True))
        elif self.details or (failed and len(self.whole) < self.journeys):
            self.whole.append(send)
        entry, repeats = judged.send.entry, judged.send.request_template.spec.times > 1
        lines: Iterable[Line]
        if repeats and not self.details:
            burst = self.bursts.get(entry.id)
            if burst is None:
                burst = self.bursts[entry.id] = replay_view.Burst(send)
            burst.add(send)
            if not judged.send.last:
                return
            del self.bursts[entry.id]
            lines = self.table.burst(burst)
            complaining = [burst.worst] if burst.worst is send else [burst.worst, send]
            failed = fails(burst.worst.mark, strict=self.tally.strict)
        else:
            lines, complaining = self.table.rows(send), [send]
        if self.quiet and failed and self.tally.summary.failed == 1 and not self.details:
            self.painter.write(self.table.head([]))  # of what is printed the columns have names
        lines = list(lines)
        if failed and len(self.failing) < MAX_ROWS:
            self.failing += lines[:1]
        if not self.quiet or failed:
            self.painter.write(lines)
            for one in complaining:
                self.painter.write(replay_view.complaints(one))

    def _end(self, run_state: RunState, trace: BoundTrace) -> None:
        painter, tally = self.painter, self.tally
        if not self.quiet:
            notes = (line((f"{trace.name}: {note}", "dim")) for note in REDACTOR.redacted(trace.notes))
            painter.write([[], *self.table.legend(), *notes, []])
            for send in self.whole:
                painter.write(journeys(send.records, whole=True) if self.details else journey(send.final))
            if self.failing and not self.details:
                painter.write([*self.failing, []])
        if self.quiet and not tally.failed:
            return
        outcome = tally.outcome([trace.name])
        if tally.summary.failed > self.journeys and not self.details and not self.quiet:
            painter.write([line(("  --only ID shows the journey of any other", "dim"))])
        painter.write(replay_view.counts(outcome, savings_of(run_state.compiled, run_state.cache_states())))
        for note in REDACTOR.redacted(list(enforced_limits(run_state.compiled))):
            painter.write(replay_view.remark(note, "raised"))
        if self.mentions:
            mention(painter, Pipeline(self.session.pipeline))
        painter.write(replay_view.statement_lines(outcome.statements))
        painter.write(replay_view.summary(outcome, tally.failed_ids))
