"""What several commands share: options, and running a replay into a report."""

from __future__ import annotations

import gc
import os
import sys
from argparse import ArgumentParser, Namespace
from collections.abc import Iterable, Iterator
from pathlib import Path
from time import monotonic
from typing import Any

from patient_usher.core.analysis.standing import enforced_limits
from patient_usher.core.engine.replay import Replay, Send
from patient_usher.core.engine.service import Service
from patient_usher.core.verify.expectations import Verifier
from patient_usher.reports import result, text
from patient_usher.reports.journey import journey
from patient_usher.reports.paint import Line, Painter, line, stdout_painter
from patient_usher.traces.pipeline_file import load_service
from patient_usher.traces.trace_file import Loaded

MAX_NAMES = 6
"""How many failed requests are named in the last line."""
MAX_JOURNEYS = 3
"""How many failed requests are shown whole without --details."""


def add_pipeline_arguments(parser: ArgumentParser) -> None:
    """The pipeline, and what changes in it."""
    parser.add_argument("pipeline", metavar="PIPELINE", type=Path, help="the pipeline file (YAML or JSON)")
    parser.add_argument(
        "--environment", "-e", metavar="E", action="append", help="lay this environment on; may be repeated"
    )
    parser.add_argument(
        "--set",
        metavar="STAGE.OPTION=VALUE",
        action="append",
        default=[],
        help="set one option; may be repeated",
    )
    parser.add_argument(
        "--seed", metavar="N", type=int, default=0, help="where everything random comes from (default 0)"
    )
    parser.add_argument("--allow-python", action="store_true", help="let the pipeline run Python code of its own")
    parser.add_argument(
        "--allow-files",
        action="store_true",
        help="let the files name other files anywhere, not only beside them",
    )


def add_output_arguments(parser: ArgumentParser) -> None:
    """How the result is written."""
    parser.add_argument(
        "--format",
        choices=["text", "json", "jsonl"],
        default="text",
        help="text for people (default), json, or jsonl: an exchange a line",
    )
    parser.add_argument("--details", action="store_true", help="show the whole journey of every request")
    parser.add_argument("--quiet", "-q", action="store_true", help="print nothing but what is not as expected")


def service_of(args: Namespace) -> Service:
    """The service that the arguments name."""
    service = load_service(
        args.pipeline,
        environments=args.environment,
        settings=args.set,
        allow_files=args.allow_files,
        allow_python=args.allow_python,
        seed=args.seed,
    )
    for warning in service.warnings:
        print(warning, file=sys.stderr)
    return service


def with_progress(sends: Iterator[Send], name: str) -> Iterator[Send]:
    """The same sends; after two seconds a terminal is told how many have gone by."""
    if not sys.stderr.isatty():
        yield from sends
        return
    begin, status = monotonic(), None
    try:
        for number, send in enumerate(sends, 1):
            if number % 500 == 0 and monotonic() - begin > 2:
                if status is None:
                    from rich.console import Console

                    status = Console(stderr=True).status("")
                    status.start()
                status.update(f"{name}: {number:,} requests replayed")
            yield send
    finally:
        if status is not None:
            status.stop()


def replayed(service: Service, loaded: Loaded, only: set[str]) -> Iterator[tuple[list[dict[str, Any]], bool, bool]]:
    """Each send's records, whether it is a repetition with more to come, and whether it failed."""
    gc.freeze()  # what has been loaded stays
    gc.enable()
    verifier = Verifier(service.environment)
    for send in with_progress(Replay(service, loaded.starts, loaded.tracks).run(), loaded.name):
        checks = verifier.check(send)
        if only and not (send.recipe.spec.id in only or send.id in only):
            continue
        yield (
            result.send_records(send, loaded.starts, checks),
            not send.last,
            any(not check.ok for check in checks),
        )


def report(args: Namespace, service: Service, traces: list[Loaded], only: set[str]) -> int:
    """Replay the traces and write what came of them. Returns the exit status."""
    if args.format == "text":
        return _text(args, service, traces, only)
    summary = result.Summary()
    rows: list[dict[str, Any]] = []
    for loaded in traces:
        for records, _, _ in replayed(service, loaded, only):
            summary.add(records)
            if args.format == "json":
                rows += records
            else:
                sys.stdout.writelines(result.dump(record) + "\n" for record in records)
    if args.format == "json":
        sys.stdout.writelines(
            result.write_json(result.document(service, [loaded.name for loaded in traces], args.seed, summary, rows))
        )
    return 1 if summary.failed else 0


def _text(args: Namespace, service: Service, traces: list[Loaded], only: set[str]) -> int:
    painter = stdout_painter(dict(os.environ))
    status = 0
    for number, loaded in enumerate(traces):
        if number:
            painter.write([[]])
        status |= text_report(painter, service, loaded, only=only, details=args.details or bool(only), quiet=args.quiet)
    return status


def text_report(
    painter: Painter,
    service: Service,
    loaded: Loaded,
    *,
    only: set[str],
    details: bool,
    quiet: bool,
    journeys: int = MAX_JOURNEYS,
) -> int:
    """One trace for people; the first few failed requests, or all with ``details``, are shown whole.

    Returns 1 where something was not as expected.
    """
    orders = {item.route.id: set(service.order(item)) for item in service.placed}
    unrouted = set(service.order(None))
    ids = sorted(only) if only else loaded.labels
    table = text.Table(
        service.columns(switched_off=loaded.changes),
        lambda route: orders.get(route, unrouted) if route else unrouted,
        ids,
        loaded.lines,
    )
    if not quiet:
        title = [
            line((service.name, "title")),
            line((f"{loaded.name}, {' and '.join(service.environment)}", "dim")),
        ]
        painter.write(table.head(title))
    summary = result.Summary()
    shown: list[dict[str, Any]] = []
    failed_ids: list[str] = []
    burst: text.Burst | None = None
    for records, more, failed in replayed(service, loaded, only):
        final = records[-1]
        summary.add(records)
        if failed and len(failed_ids) < MAX_NAMES:
            failed_ids.append(text.send_id(final))
        if details or (failed and len(shown) < journeys):
            shown += records
        lines: Iterable[Line] = ()
        failing = [final]
        if (more or burst is not None) and not details:
            burst = burst or text.Burst(final)
            burst.add(final, failed)
            if more:
                continue
            lines, failed = table.burst(burst), burst.failed is not None
            if burst.failed is not None and burst.failed is not final:
                failing.insert(0, burst.failed)
            burst = None
        else:
            lines = table.rows(records, failed)
        if not quiet or failed:
            painter.write(lines)
            for record in failing:
                painter.write(text.failures(record))
    if not quiet:
        painter.write([[], *table.legend(), *(line((f"{loaded.name}: {note}", "dim")) for note in loaded.notes), []])
        for record in shown:
            painter.write(journey(record))
    if not quiet or failed_ids:
        painter.write(text.summary(summary.record(), failed_ids, summary.savings()))
        for note in enforced_limits(service):
            painter.write(text.wrapped(note, "raised"))
        if summary.failed > journeys and not details and not quiet:
            painter.write([line(("  --only ID shows the journey of any other", "dim"))])
    return 1 if failed_ids else 0
