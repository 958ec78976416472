"""Hold a real service against its model: send the requests of traces to both, and see where they differ.

The service is an ASGI or WSGI application in this process, or whoever answers at a URL. What callers see is compared:
status, the browser's verdict, the header fields that stages write; contents where the trace expects something of them.
"""

from __future__ import annotations

import json
import os
import sys
from argparse import ArgumentParser, Namespace
from collections.abc import Iterable
from itertools import chain, islice
from pathlib import Path
from typing import Any

from patient_usher import __version__
from patient_usher.cli.arguments import duration, outgoing, place, unusable
from patient_usher.cli.common import (
    add_pipeline_arguments,
    add_report,
    certificates_of,
    done,
    pipeline_of,
    progress,
    trust,
)
from patient_usher.cli.replaying import wanted_reports
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.http.dates import timestamp
from patient_usher.core.model.document import did_you_mean
from patient_usher.core.model.words import counted
from patient_usher.core.variants.change import document_of
from patient_usher.core.variants.search import Explanation
from patient_usher.core.verify.outside import DriftResult, compared
from patient_usher.files.atomic_write import write_whole
from patient_usher.files.exporting import har_of
from patient_usher.files.python_code import PythonFrom
from patient_usher.files.trace import Trace
from patient_usher.files.yaml_reader import open_file, parse, read_text
from patient_usher.output import drift as report
from patient_usher.output.explanation import SERVICE, explanation
from patient_usher.output.outcome import scene_of
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.replay_view import ReplayTable
from patient_usher.output.reports import replay_report
from patient_usher.output.result import document
from patient_usher.output.terminal import line, say, stdout_painter
from patient_usher.output.yaml_snippet import file_of
from patient_usher.use_cases.drift import WAIT_AT_MOST, Told, drift, explain
from patient_usher.use_cases.find_order import find_order
from patient_usher.use_cases.session import Pipeline, bound_all
from patient_usher.wire.inside import Receiver, Spans, SpansIn
from patient_usher.wire.over_sockets import NOT_THERE

EXAMPLES = (
    "usher drift pipeline.yaml trace.yaml --app service:app --trust python",
    "usher drift pipeline.yaml trace.yaml --at http://127.0.0.1:8000 --writes --bodies --fit as-it-is.yaml",
)


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    service = parser.add_mutually_exclusive_group(required=True)
    service.add_argument(
        "--app", metavar="APP",
        help="an ASGI or WSGI application, MODULE:NAME, beside the pipeline or installed; needs --trust python",
    )  # fmt: skip
    service.add_argument("--at", metavar="URL", help="the origin of a service that is asked for the trace's base")
    service.add_argument("--recorded", metavar="FILE", type=Path, help="what a service answered, as --into has kept it")
    parser.add_argument("--writes", action="store_true", help="send requests too that may change something (POST, ...)")
    parser.add_argument(
        "--bodies", action="store_true", help="compare all contents, not only those of which is expected"
    )
    parser.add_argument(
        "--leave-out", metavar="NAME", action="append", default=[], type=str.lower,
        help="leave this header field out of the comparison; may be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--wait-at-most", metavar="DURATION", type=duration, default=WAIT_AT_MOST * 1_000_000,
        help=f"how long traces may wait in real time, in all (default {WAIT_AT_MOST}s)",
    )  # fmt: skip
    parser.add_argument(
        "--certificate", metavar="FILE", type=Path, help="trust a service that shows a certificate of this file (PEM)"
    )
    parser.add_argument(
        "--into",
        metavar="FILE",
        type=outgoing,
        help="keep what the service answered: a recording (FILE.har), for --recorded",
    )
    add_report(parser)
    why = parser.add_argument_group("why it differs")
    why.add_argument(
        "--fit", metavar="FILE", type=outgoing,
        help="write the variant of the model that answers as the service does, as far as any was found",
    )  # fmt: skip
    why.add_argument(
        "--find-order", action="store_true",
        help="in place of traces: send the fewest requests that tell orders of the stages apart",
    )  # fmt: skip
    inside = parser.add_argument_group("the order from inside")
    inside.add_argument(
        "--spans", metavar="FILE", type=Path, action="append", default=[],
        help="spans that the service writes: OTLP in JSON or protobuf; may be repeated",
    )  # fmt: skip
    inside.add_argument(
        "--spans-at", metavar="HOST:PORT", type=place, help="receive spans there while it runs (OTLP over HTTP)"
    )
    inside.add_argument(
        "--span", metavar="NAME=STAGE", action="append", default=[],
        help="which stage a span, or an entry of Server-Timing, stands for, where it isn't named like it",
    )  # fmt: skip
    inside.add_argument(
        "--spans-within", metavar="DURATION", type=duration, default=10_000_000,
        help="how long spans may come after the last answer (default 10s)",
    )  # fmt: skip
    parser.add_argument("--format", choices=["text", "json"], default="text", help="text for people (default), or json")
    add_pipeline_arguments(parser, always=False)
    parser.add_argument("traces", metavar="TRACE", type=Path, nargs="*", help="a trace or a recording")


def run(args: Namespace) -> int:
    """Ask both. Returns 1 where anything differs."""
    if args.app is not None and not trust(args).python:
        raise unusable("--app runs code", "give --trust python where you trust it", "--app")
    pipeline = pipeline_of(args)
    try:
        app = PythonFrom(args.pipeline.parent)(args.app) if args.app is not None else None
    except ValueError as error:
        what, _, mend = str(error).partition("; ")
        raise unusable(what, mend, "--app") from None
    if args.find_order:
        return _order(args, pipeline, app)
    if not args.traces:
        raise unusable("there is no trace to send", "name one, or give --find-order")
    reports = wanted_reports(args.report)
    if args.into is not None and args.into.suffix != ".har":
        raise unusable(f"{args.into} is no recording's name", "write FILE.har", "--into")
    traces = [Trace.read(path, trust=trust(args)) for path in args.traces]
    seconds = args.wait_at_most / 1_000_000
    certificates = certificates_of(args)
    how = {
        "certificates": certificates,
        "bodies": args.bodies,
        "leave_out": _left_out(args, pipeline.compiled),
        "writes": args.writes,
        "wait_at_most": seconds,
        "seed": args.seed,
    }
    recorded = parse(read_text(args.recorded), str(args.recorded)) if args.recorded is not None else None
    told, receiver = _told(args, pipeline.compiled)
    held = drift(pipeline, *traces, app=app, at=args.at, recorded=recorded, told=told, **how)
    if args.format == "json":
        found = list(held)
        why = _why(args, pipeline, traces, found)
        sys.stdout.buffer.write(document(report.document(pipeline.name, _service(args), found, why)))
    else:
        found = _text(args, pipeline.compiled, traces, held)
        why = _why(args, pipeline, traces, found)
        painter = stdout_painter()
        painter.write(explanation(why, SERVICE) if why is not None else ())
        painter.write(report.summary(found))
    _fit(args, pipeline, why, found)
    if receiver is not None:
        receiver.close()
    if args.into is not None:
        _keep(args.into, traces, found)
    if reports:
        scene = scene_of(pipeline.compiled, [trace.name for trace in bound_all(pipeline.compiled, traces)], args.seed)
        outcome = report.outcome(scene, found)
        for form, path in reports:
            if form == "json":
                write_whole(path, document(report.document(pipeline.name, _service(args), found, why)).decode())
            else:
                write_whole(path, REDACTOR.text(replay_report(form, outcome)))
    if not found:
        say("nothing was sent: every request may change something; give --writes")
    return 0 if found and all(one.same for one in found) else 1


def _left_out(args: Namespace, compiled: CompiledPipeline) -> list[str]:
    """The header fields that aren't compared. Raises Unusable for what never is."""
    known = compared(compiled)
    for name in args.leave_out:
        if name not in known:
            what = f"'{name}' isn't compared anyway"
            raise unusable(what, did_you_mean(name, known) or f"compared are {', '.join(sorted(known))}", "--leave-out")
    return list(args.leave_out)


def _told(args: Namespace, compiled: CompiledPipeline) -> tuple[Told, Receiver | None]:
    """Where the service says which of its stages ran. Raises Unusable."""
    names = {}
    for text in args.span:
        name, equals, stage = text.rpartition("=")
        if not equals or not name:
            raise unusable(f"'{text}' names no span and stage", "write NAME=STAGE", "--span")
        if stage not in (known := [*compiled.options, "router", "handler"]):
            raise unusable(f"there is no stage '{stage}'", did_you_mean(stage, known), "--span")
        names[name] = stage
    if args.spans and args.spans_at is not None:
        raise unusable("spans come from files, or are received", "give --spans or --spans-at", "--spans-at")
    for path in args.spans:
        with open_file(path):
            pass  # what can't be read is told at once
    spans: Spans | None = SpansIn(args.spans) if args.spans else None
    receiver = None
    if args.spans_at is not None:
        spans, (host, port) = Spans(), args.spans_at
        try:
            receiver = Receiver(host, port, spans)
        except OSError as error:
            what = f"nobody can listen at {host}:{port}: {error.strerror or error}"
            raise unusable(what, "name another HOST:PORT", "--spans-at") from None
    return Told(spans, names, args.spans_within / 1_000_000), receiver


def _why(args: Namespace, pipeline: Pipeline, traces: list[Trace], found: list[DriftResult]) -> Explanation | None:
    """What would explain what differs; None where nothing does, or nobody is there."""
    if not any(one.differs for one in found) or all((one.trouble or "").startswith(NOT_THERE) for one in found):
        return None
    try:
        how = {"bodies": args.bodies, "leave_out": args.leave_out, "writes": args.writes, "seed": args.seed}
        return explain(pipeline, traces, found, watch=progress("variants of the model tried"), **how)
    finally:
        done()


def _fit(args: Namespace, pipeline: Pipeline, why: Explanation | None, found: list[DriftResult]) -> None:
    """Write the variant that was found."""
    if args.fit is None:
        return
    if why is None or not why.all_changes:
        reason = "no change of an option or an order explains it"
        if why is None:
            reason = "the service isn't there" if any(one.differs for one in found) else "nothing differs"
        say(f"nothing was written to {args.fit}: {reason}")
        return
    like = os.path.relpath(args.pipeline, args.fit.parent)
    write_whole(args.fit, file_of(REDACTOR.redacted(document_of(pipeline.compiled, why.all_changes, like))))
    say(f"wrote {args.fit}, a variant of {args.pipeline}")


def _order(args: Namespace, pipeline: Pipeline, app: Any) -> int:
    """Send what tells orders apart. Returns 0 where the model's own is among those that answer so."""
    kept = (args.recorded, args.fit, args.report, args.into, args.bodies, args.spans, args.spans_at, args.span)
    if args.traces or any(kept):
        what = "--find-order makes its own requests, compares what callers see, and writes nothing"
        raise unusable(what, "leave traces, files, --bodies and spans out", "--find-order")
    found = find_order(
        pipeline, app=app, at=args.at, certificates=certificates_of(args), writes=args.writes, seed=args.seed
    )
    if args.format == "json":
        sys.stdout.buffer.write(document(report.order_document(pipeline.name, _service(args), found)))
    else:
        stdout_painter().write(report.order_lines(pipeline.name, _service(args), found))
    return 0 if found.present else 1


def _service(args: Namespace) -> str:
    return str(args.app or args.at or args.recorded)


def _keep(path: Path, traces: list[Trace], found: list[DriftResult]) -> None:
    """Write what the service answered as a recording."""
    records = [REDACTOR.record(record) for one in found for record in one.service]
    starts = timestamp(found[0].model.starts) if found else timestamp(0)
    write_whole(path, json.dumps(har_of(records, __version__, starts), indent=1, ensure_ascii=False) + "\n")
    say(f"wrote {counted(len(records), 'exchange')} to {path}")


def _text(
    args: Namespace, compiled: CompiledPipeline, traces: list[Trace], held: Iterable[DriftResult]
) -> list[DriftResult]:
    bound = bound_all(compiled, traces)
    on_way = compiled.on_way
    table = ReplayTable(
        REDACTOR.redacted(compiled.columns()),
        lambda route: on_way.get(route, on_way[None]),
        REDACTOR.redacted([label for one in bound for label, _ in one.shown]),
        REDACTOR.redacted([request for one in bound for _, request in one.shown]),
        bound[0].base,
    )
    scene = scene_of(compiled, [one.name for one in bound], args.seed)
    held = iter(held)
    first = list(islice(held, 1))  # what can't be sent is told before anything else
    painter = stdout_painter()
    title = [line((scene.pipeline, "title")), line((f"against {_service(args)}", "dim"))]
    painter.write(table.head(title))
    found = []
    for one in chain(first, held):
        painter.write(report.rows(table, one))
        found.append(one)
    painter.write([[], *table.legend(), line(("= the service answered so, ≠ otherwise", "dim"))])
    painter.write(report.journeys(found))
    return found
