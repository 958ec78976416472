"""Traces on their way through a pipeline, and what is printed of them: as text, as JSON, as reports and tables."""

from __future__ import annotations

import gc
import os
import sys
from argparse import Namespace
from collections.abc import Callable, Iterable, Iterator
from time import monotonic
from typing import Any, NamedTuple

from patient_usher.cli.arguments import unusable
from patient_usher.cli.reporting import Reports, wanted
from patient_usher.core.analysis.route_matrix import enforced_limits
from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.engine.replay import Send
from patient_usher.core.engine.run.world import World
from patient_usher.core.model.document import Unusable
from patient_usher.core.verify import always
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.exchange_table import rows_of
from patient_usher.core.verify.expectations import Check
from patient_usher.core.verify.record import Record, final_of, send_records
from patient_usher.core.verify.summary import Summary
from patient_usher.files.atomic_write import writing
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.output import replay_view
from patient_usher.output.journey import journey
from patient_usher.output.terminal import Line, Painter, line, stdout_painter
from patient_usher.use_cases.session import Trace, sends, told

MAX_NAMES = 6
"""How many failed requests are named in the last line."""
MAX_JOURNEYS = 3
"""How many failed requests are shown whole without --details."""


class Batch(NamedTuple):
    """Traces to be replayed through one pipeline: each in a fresh world, or all in one after the other."""

    pipeline: Blueprint
    traces: list[BoundTrace]
    seed: int = 0
    keeps_state: bool = False
    only: frozenset[str] = frozenset()

    def shows(self, send: Send) -> bool:
        """Whether it is among those that are to be shown."""
        return not self.only or send.entry.id in self.only or send.id in self.only

    def worlds(self) -> Iterator[tuple[World, BoundTrace]]:
        """Each trace with the world that it comes to."""
        world = World(self.pipeline, self.seed)
        for number, prepared in enumerate(self.traces):
            if number and not self.keeps_state:
                world = World(self.pipeline, self.seed)
            yield world, prepared


def prepared_all(pipeline: Blueprint, traces: Iterable[Trace]) -> list[BoundTrace]:
    """Traces made ready. Raises Unusable with the problems of all of them."""
    problems, found = [], []
    for trace in traces:
        try:
            found.append(trace.prepared(pipeline))
        except Unusable as error:
            problems += error.problems
    if problems:
        raise Unusable(problems)
    return found


def with_progress(run: Iterator[tuple[Send, list[Check], int]], name: str) -> Iterator[tuple[Send, list[Check], int]]:
    """The same sends; after two seconds a terminal is told how many have gone by."""
    if not sys.stderr.isatty():
        yield from run
        return
    begin, status = monotonic(), None
    try:
        for number, sent in enumerate(run, 1):
            if number % 500 == 0 and monotonic() - begin > 2:
                if status is None:
                    from rich.console import Console

                    status = Console(stderr=True).status("")
                    status.start()
                status.update(f"{name}: {number:,} requests replayed")
            yield sent
    finally:
        if status is not None:
            status.stop()


def running(
    world: World, prepared: BoundTrace, always: Statements, *, journeys: bool, table: Table | None = None
) -> Iterator[tuple[Send, list[Check], int, bool]]:
    """Each send, with its checks, the trace's start, and whether any check failed; its rows go into the table."""
    gc.freeze()  # what has been loaded stays
    gc.enable()
    gc.set_threshold(20_000, 20, 50)
    for send, checks, starts in with_progress(sends(world, prepared, journeys=journeys, always=always), prepared.name):
        if table is not None:
            for row in rows_of(send, starts):
                table(row)
        yield send, checks, starts, any(not check.ok for check in checks)


Table = Callable[[dict[str, Any] | None], None]


def report(args: Namespace, batch: Batch) -> int:
    """Replay the traces and write what came of them, reports and a table included. Returns the exit status."""
    into = getattr(args, "into_table", None)
    if into is None:
        return _reported(args, batch, None)
    from patient_usher.output.tables import FORMATS

    if into.suffix not in FORMATS:
        what, mend = f"{into} is no table's name", f"write FILE{', FILE'.join(FORMATS)}"
        raise unusable(what, mend, "--into")
    with writing(into) as out:
        table = FORMATS[into.suffix](out)
        status = _reported(args, batch, table)
        table(None)
    return status


def _reported(args: Namespace, batch: Batch, table: Table | None) -> int:
    names = [prepared.name for prepared in batch.traces]
    files = wanted(args.report)
    reports = Reports(files, batch.pipeline, names, batch.seed) if files else None
    wrote = _text if args.format == "text" else _json
    status = wrote(args, batch, reports, table)
    if reports is not None:
        sys.stdout.flush()
        reports.write()
    return status


def _json(args: Namespace, batch: Batch, reports: Reports | None, table: Table | None) -> int:
    for option in ("details", "quiet"):
        if getattr(args, option) and not getattr(args, "whole", False):
            what = f"--{option} belongs to --format text"
            raise unusable(what, f"{args.format} says everything; leave it out")
    from patient_usher.output import result  # text needs none of it

    summary, statements = Summary(), Statements(batch.pipeline)
    rows: list[Record] = []
    out = sys.stdout.buffer  # JSON is UTF-8, whatever the terminal speaks
    for world, prepared in batch.worlds():
        for send, checks, starts, failed in running(world, prepared, statements, journeys=True, table=table):
            summary.add(send, failed=failed)
            if reports is None and not batch.shows(send):
                continue
            records = told(send_records(send, starts, checks))
            if reports is not None:
                reports.add(prepared.name, send, records, failed=failed)
            if not batch.shows(send):
                continue
            if args.format == "json":
                rows += records
            else:
                for record in records:
                    out.write(result.dump(record) + b"\n")
    if args.format == "json":
        names = [prepared.name for prepared in batch.traces]
        out.writelines(
            result.write_json(result.document(batch.pipeline, names, batch.seed, summary, statements.record(), rows))
        )
    return 1 if summary.failed or statements.broken or (args.strict and summary.slips) else 0


def _text(args: Namespace, batch: Batch, reports: Reports | None, table: Table | None) -> int:
    painter = stdout_painter(dict(os.environ))
    status = 0
    details = args.details or bool(batch.only)
    for number, (world, prepared) in enumerate(batch.worlds()):
        if number:
            painter.write([[]])
        status |= TextReport(
            painter,
            world,
            prepared,
            batch.only,
            details=details,
            quiet=args.quiet,
            strict=args.strict,
            reports=reports,
            table=table,
        ).run()
    return status


class TextReport:
    """One trace for people; the first few failed requests, or all with ``details``, are shown whole."""

    def __init__(
        self,
        painter: Painter,
        world: World,
        prepared: BoundTrace,
        only: frozenset[str] = frozenset(),
        *,
        details: bool = False,
        quiet: bool = False,
        strict: bool = False,
        journeys: int = MAX_JOURNEYS,
        reports: Reports | None = None,
        table: Table | None = None,
    ) -> None:
        self.reports, self.rows = reports, table
        self.painter, self.world, self.prepared, self.only = painter, world, prepared, only
        self.details, self.quiet, self.journeys, self.strict = details, quiet, journeys, strict
        self.pipeline = world.blueprint
        labels = [label for label, _ in prepared.shown]
        on_way = self.pipeline.on_way
        self.table = replay_view.Table(
            self.pipeline.columns(switched_off=prepared.changes),
            lambda route: on_way.get(route, on_way[None]),
            sorted(only) if only else labels,
            [request for _, request in prepared.shown],
            prepared.base,
        )
        self.summary, self.always = Summary(), Statements(self.pipeline)
        self.shown: list[Record] = []
        self.failed_ids: list[str] = []
        self.burst: replay_view.Burst | None = None

    def run(self) -> int:
        """Replay and write. Returns 1 where something was not as expected."""
        if self.prepared.streams and not (self.quiet or self.details or self.reports is not None):
            return self._in_bulk()
        if not self.quiet:
            title = [
                line((self.pipeline.name, "title")),
                line((f"{self.prepared.name}, {' and '.join(self.pipeline.environment)}", "dim")),
            ]
            self.painter.write(self.table.head(title))
        shows = not self.quiet or self.details
        keeps = shows or self.reports is not None
        for send, checks, starts, failed in running(
            self.world, self.prepared, self.always, journeys=keeps, table=self.rows
        ):
            self.summary.add(send, failed=failed)
            if failed and len(self.failed_ids) < MAX_NAMES:
                self.failed_ids.append(send.id)
            if not (keeps or failed):
                continue
            records = told(send_records(send, starts, checks))
            if self.reports is not None:
                self.reports.add(self.prepared.name, send, records, failed=failed)
            if (shows or failed) and (not self.only or send.entry.id in self.only or send.id in self.only):
                self._row(send, records, failed)
        self._end()
        return 1 if self.failed_ids or self.always.broken or (self.strict and self.summary.slips) else 0

    def _in_bulk(self) -> int:
        """Replay a trace that streams: what came of all of it, and no list."""
        from patient_usher.core.verify.totals import Bulk
        from patient_usher.output import totals_view

        counts = Bulk()
        for send, _, _, failed in running(self.world, self.prepared, self.always, journeys=False, table=self.rows):
            counts.add(send, failed=failed)
        title = f"{self.pipeline.name}, {' and '.join(self.pipeline.environment)}"
        self.painter.write([line((title, "title")), *totals_view.told(counts, self.world.savings())])
        for mark, sentence in always.told(self.always.all):
            self.painter.write(replay_view.remark(mark, ENVIRONMENT.hidden(sentence)))
        self.painter.write([line(("--details lists every request, --only ID shows one", "dim"))])
        return 1 if counts.failed or self.always.broken else 0

    def _row(self, send: Send, records: list[Record], failed: bool) -> None:
        """One send's line, or its share in that of a burst."""
        final = final_of(records)
        if self.quiet and self.details:
            self.painter.write(line for record in records for line in journey(record, whole=True))
        elif self.details or (failed and len(self.shown) < self.journeys):
            self.shown += records
        lines: Iterable[Line] = ()
        failing = [final]
        if (not send.last or self.burst is not None) and not self.details:
            self.burst = self.burst or replay_view.Burst(final)
            self.burst.add(final, failed)
            if not send.last:
                return
            lines, failed = self.table.burst(self.burst), self.burst.failed is not None
            if self.burst.failed is not None and self.burst.failed is not final:
                failing.insert(0, self.burst.failed)
            self.burst = None
        else:
            lines = self.table.rows(records, failed)
        if not self.quiet or failed:
            self.painter.write(lines)
            for record in failing:
                self.painter.write(replay_view.failures(record))

    def _end(self) -> None:
        painter, prepared = self.painter, self.prepared
        if not self.quiet:
            notes = (line((f"{prepared.name}: {note}", "dim")) for note in prepared.notes)
            painter.write([[], *self.table.legend(), *notes, []])
            for record in self.shown:
                painter.write(journey(record, whole=self.details))
        if self.quiet and not (self.failed_ids or self.always.broken or (self.strict and self.summary.slips)):
            return
        painter.write(replay_view.summary(self.summary, self.failed_ids, self.world.savings()))
        for mark, sentence in always.told(self.always.all):
            painter.write(replay_view.remark(mark, ENVIRONMENT.hidden(sentence)))
        for note in enforced_limits(self.pipeline):
            painter.write(replay_view.wrapped(note, "raised"))
        if self.summary.failed > self.journeys and not self.details and not self.quiet:
            painter.write([line(("  --only ID shows the journey of any other", "dim"))])
