"""Walk a trace through a pipeline on a virtual clock and hold what happens against what is expected.

A trace is YAML or JSON, JSON Lines in bulk, or a HAR 1.2 recording of a real browser or client; the
content tells which.
"""

from __future__ import annotations

import os
import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path

from patient_usher.cli.arguments import percent, unusable
from patient_usher.cli.batch import Batch, prepared_all, report
from patient_usher.cli.common import add_output_arguments, add_pipeline_arguments, mention, pipeline_of
from patient_usher.core.model.document import Problem, Unusable, did_you_mean
from patient_usher.files.trace import HarOptions, Trace
from patient_usher.files.trace_filter import checked
from patient_usher.output.terminal import stdout_painter


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    add_pipeline_arguments(parser)
    parser.add_argument(
        "traces", metavar="TRACE", type=Path, nargs="+", help="a trace or a recording; - is standard input"
    )
    parser.add_argument(
        "--only",
        metavar="ID",
        action="append",
        default=[],
        help="replay everything, show this request whole; may be repeated",
    )
    parser.add_argument(
        "--allow-env",
        metavar="NAME",
        action="append",
        default=[],
        help="let the traces read this variable of the environment; may be repeated",
    )
    parser.add_argument(
        "--keep-state",
        action="store_true",
        help="each further trace goes on with the state and the clock of the one before; else it starts fresh",
    )
    parser.add_argument(
        "--watch", action="store_true", help="run again when a file changes, and show what is different; Ctrl-C ends it"
    )
    parser.add_argument(
        "--into",
        metavar="FILE",
        dest="into_table",
        type=Path,
        help="also write a table, one row an exchange: FILE.jsonl, FILE.csv or FILE.parquet",
    )
    add_output_arguments(parser)
    group = parser.add_argument_group("coverage")
    group.add_argument("--coverage", action="store_true", help="what of all that stages and routes can do has happened")
    group.add_argument(
        "--coverage-at-least", metavar="PERCENT", type=percent, help="end with exit status 1 where less has happened"
    )
    group.add_argument(
        "--write-missing", metavar="TRACE", type=Path, help="append requests that close gaps to this trace"
    )
    group = parser.add_argument_group("recordings")
    group.add_argument(
        "--host",
        help="the host that the pipeline stands for; else the one that pages of other origins call most",
    )
    group.add_argument(
        "--sign",
        metavar="SCHEME:ACCOUNT",
        help="give requests whose credential counted a fresh one of this account; without SCHEME, by the same "
        "scheme. bearer, basic, api-key, or cookie: a session opened at the desk",
    )
    group.add_argument(
        "--expect-recorded", action="store_true", help="expect of every request the status that was recorded"
    )


def run(args: Namespace) -> int:
    """Replay. Returns the exit status."""
    if args.watch:
        from patient_usher.cli.watching import watch

        if args.format != "text" or args.into_table is not None or args.report or Path("-") in args.traces:
            what = "--watch belongs to text and to files"
            raise unusable(what, "leave --format, --into and --report out, and name the trace's file")
        return watch(args, lambda: _batch(args))
    covers = args.coverage or args.coverage_at_least is not None or args.write_missing is not None
    if not covers:
        batch = _batch(args)
        status = report(args, batch)
        if args.format == "text" and not (args.quiet or args.only or any(trace.streams for trace in batch.traces)):
            mention(stdout_painter(dict(os.environ)), batch.pipeline)
        return status
    from patient_usher.cli.covering import cover

    if args.format == "jsonl" or Path("-") in args.traces:
        what = "coverage belongs to text or json, and to files"
        raise unusable(what, "leave --format jsonl out, and name the trace's file")
    if args.write_missing is not None and args.write_missing.exists():
        checked(Trace.read(args.write_missing).document())  # what can't be written into is told at once
    status = report(args, _batch(args)) if args.format == "text" else 0
    return max(status, cover(args, _batch(args)))


def _batch(args: Namespace) -> Batch:
    """The pipeline and the traces that the arguments name, made ready. Raises Unusable."""
    pipeline = pipeline_of(args)
    har = HarOptions(args.host, args.sign, args.expect_recorded)
    problems: list[Problem] = []
    traces = []
    for path in args.traces:
        try:
            traces.append(Trace.read(path, har=har, allow_files=args.allow_files, allow_env=args.allow_env))
        except Unusable as error:
            problems += error.problems
    if problems:
        raise Unusable(problems)
    for option, given in (("--host", args.host), ("--sign", args.sign), ("--expect-recorded", args.expect_recorded)):
        if given and not any(trace.recorded for trace in traces):
            what = f"{option} is for recordings, and there is none here"
            raise unusable(what, "name a HAR file, or leave it out")
    if args.keep_state and len(traces) == 1:
        print("usher replay: --keep-state carries on from trace to trace, and there is one only", file=sys.stderr)
    prepared = prepared_all(pipeline, traces)
    known = [id_ for trace in prepared for id_ in trace.ids]
    for id_ in args.only:
        if id_.partition("[")[0] not in known and not any(trace.streams for trace in prepared):
            raise unusable(f"there is no request '{id_}'", did_you_mean(id_, known), "--only")
    return Batch(pipeline, prepared, args.seed, args.keep_state, frozenset(args.only))
