"""Walk traces through a pipeline on a virtual clock and hold what happens against what is expected.

A trace is YAML or JSON, JSON Lines in bulk, a server's log, or a HAR 1.2 recording of a real browser or client; the
content tells which.
"""

from __future__ import annotations

import sys
from argparse import ArgumentParser, ArgumentTypeError, Namespace
from pathlib import Path

from patient_usher.cli.arguments import count, percent, unusable
from patient_usher.cli.common import (
    add_output_arguments,
    add_pipeline_arguments,
    done,
    pipeline_of,
    progress,
    trust,
)
from patient_usher.cli.replaying import Tally, bulk_told, report
from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.model.document import Problem, Unusable, did_you_mean
from patient_usher.core.model.words import counted
from patient_usher.files.atomic_write import append_request
from patient_usher.files.har import HarOptions
from patient_usher.files.trace import Trace
from patient_usher.files.trace_filter import checked
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.terminal import say, stdout_painter
from patient_usher.use_cases.lasting import with_medians
from patient_usher.use_cases.rows_file import RowsFile
from patient_usher.use_cases.session import Session, bound_all

EXAMPLES = (
    "usher replay pipeline.yaml trace.yaml --only late-request",
    "usher replay pipeline.yaml day.jsonl --into rows.parquet --report junit=report.xml",
)


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument(
        "--only",
        metavar="ID",
        action="append",
        default=[],
        help="replay everything, show this request whole; may be repeated",
    )
    parser.add_argument("--details", action="store_true", help="show the whole journey of every request")
    parser.add_argument("--quiet", "-q", action="store_true", help="print nothing but what is not as expected")
    add_output_arguments(parser)
    parser.add_argument(
        "--into",
        metavar="FILE",
        type=Path,
        help="also write a table, one row an exchange: FILE.jsonl, FILE.csv or FILE.parquet",
    )
    parser.add_argument(
        "--keep-state",
        action="store_true",
        help="each further trace goes on with the state and the clock of the one before; else it starts fresh",
    )
    parser.add_argument(
        "--as-far-as-known",
        action="store_true",
        help="leave out what is expected of stages, routes and environments that the pipeline lacks, and say which",
    )
    parser.add_argument(
        "--watch", action="store_true", help="run again when a file changes, and show what is different; Ctrl-C ends it"
    )
    group = parser.add_argument_group("coverage")
    group.add_argument("--coverage", action="store_true", help="what of all that stages and routes can do has happened")
    group.add_argument(
        "--coverage-at-least", metavar="PERCENT", type=percent, help="end with exit status 1 where less has happened"
    )
    group.add_argument(
        "--unnoticed",
        action="store_true",
        help="list changes of one option that change an answer of these traces, and nothing that is expected notices",
    )
    group.add_argument("--append", metavar="TRACE", type=Path, help="add requests that close gaps to this trace")
    parser.add_argument(
        "--busy", choices=["median", "each"],
        help="handlers are busy for what the trace says that requests took: the median of each route, or each its own",
    )  # fmt: skip
    group = parser.add_argument_group("in parts", "traces in JSON Lines, where no state ties their requests together")
    group.add_argument("--cores", metavar="N", type=count, default=1, help="so many at once on this machine")
    group.add_argument(
        "--cluster", metavar="WHERE", type=_where,
        help="on the workers of a Dask scheduler (tcp://HOST:8786), or in so many processes started for it; each part "
        "writes a Parquet file of its own into the folder that --into names",
    )  # fmt: skip
    add_recording_arguments(parser)
    add_pipeline_arguments(parser, optional="default")
    parser.add_argument(
        "traces",
        metavar="TRACE",
        type=Path,
        nargs="*",
        help="a trace or a recording; - is standard input; traces/ or trace.yaml beside the pipeline, if left out",
    )


def _where(text: str) -> str:
    if "://" in text or (text.isdecimal() and int(text) > 0):
        return text
    raise ArgumentTypeError(f"'{text}' is no cluster; write tcp://HOST:8786, or a number of processes")


def add_recording_arguments(parser: ArgumentParser) -> None:
    """How recordings are read."""
    group = parser.add_argument_group("recordings")
    group.add_argument(
        "--host",
        help="the host that the pipeline stands for; else the one that pages of other origins call most",
    )
    group.add_argument(
        "--sign",
        metavar="SCHEME:ACCOUNT",
        help="give requests whose credential counted a fresh one of this account: bearer, basic, api-key, cookie (a "
        "session opened at the desk), or same for the scheme that it had",
    )
    group.add_argument(
        "--expect-recorded", action="store_true", help="expect of every request the status that was recorded"
    )


def run(args: Namespace) -> int:
    """Replay. Returns the exit status."""
    if args.watch:
        from patient_usher.cli.watching import watch

        if args.format != "text" or args.into is not None or args.report or Path("-") in args.traces:
            what = "--watch belongs to text and to files"
            raise unusable(what, "leave --format, --into and --report out, and name the trace's file")
        return watch(args, lambda: session_of(args))
    if (args.cores > 1 or args.cluster) and (status := _in_parts(args)) is not None:
        return status
    if args.unnoticed:
        return _unnoticed(args)
    covers = args.coverage or args.coverage_at_least is not None or args.append is not None
    if not covers:
        session = session_of(args)
        quiet = args.quiet or bool(args.only) or any(trace.streams for trace in session.traces)
        return report(args, session, mentions=not quiet)
    if args.format == "jsonl" or Path("-") in args.traces:
        what = "coverage belongs to text or json, and to files"
        raise unusable(what, "leave --format jsonl out, and name the trace's file")
    if args.append is not None and args.append.exists():
        checked(Trace.read(args.append).document())  # what can't be written into is told at once
    status = report(args, session_of(args)) if args.format == "text" else 0
    return max(status, _cover(args, session_of(args)))


def _in_parts(args: Namespace) -> int | None:
    """Replay in parts; None where something ties the requests together, which is told."""
    from patient_usher.use_cases.parted import replay_in_parts
    from patient_usher.use_cases.parts import NotParted

    option = "--cluster" if args.cluster else "--cores"
    plain = args.format == "text" and not (
        args.report or args.only or args.details or args.coverage or args.append or args.busy
    )
    if not plain or Path("-") in args.traces:
        what = f"{option} is for traces in JSON Lines, their summary and their table"
        raise unusable(what, "leave the rest out", option)
    if args.cluster and args.trust:
        what = "what is trusted on this machine isn't on others"
        raise unusable(what, "leave --trust out, or --cluster", option)
    if args.into is None or args.into.suffix:
        if args.cluster and args.into is not None:
            raise unusable(f"{args.into} is a file, and each part writes one", "name a folder", "--into")
        RowsFile(args.into)  # its name is looked at before anything runs
    pipeline = pipeline_of(args)
    try:
        found = replay_in_parts(
            pipeline, args.traces, cores=args.cores, cluster=args.cluster, seed=args.seed, keep_state=args.keep_state,
            into=args.into, trust=trust(args), watch=progress("requests replayed", every=1),
        )  # fmt: skip
    except NotParted as reason:
        say(f"on one core: {reason}")
        if args.into is not None and not args.into.suffix:  # then all is one part
            args.into.mkdir(parents=True, exist_ok=True)
            args.into /= "part-0000.parquet"
        return None
    finally:
        done()
    tally = Tally(Session(pipeline.compiled, [], args.seed), strict=args.strict, keeps=False)
    tally.summary.take(found.summary)
    tally.statements.take(found.statements)
    if tally.failed or not args.quiet:
        names = [path.name for path in args.traces]
        bulk_told(stdout_painter(), tally, found.totals, names, found.savings, found.notes)
    if args.into is not None and not args.into.suffix:
        say(f"wrote {counted(found.parts, 'part')} to {args.into}")
    return 1 if tally.failed else 0


def session_of(args: Namespace) -> Session:
    """The pipeline and the traces that the arguments name, made ready. Raises Unusable."""
    pipeline = pipeline_of(args).compiled
    traces = read_traces(args)
    if args.keep_state and len(traces) == 1:
        say("usher replay: --keep-state carries on from trace to trace, and there is one only")
    bound = bound_all(pipeline, traces, known_only=args.as_far_as_known)
    known = [id_ for trace in bound for id_ in trace.ids]
    for id_ in args.only:
        if id_.partition("[")[0] not in known and not any(trace.streams for trace in bound):
            raise unusable(f"there is no request '{id_}'", did_you_mean(id_, known), "--only")
    if args.busy is not None:
        pipeline, bound = _busy(args, pipeline, traces, bound)
    return Session(pipeline, bound, args.seed, args.keep_state, frozenset(args.only), args.busy == "each")


def _busy(
    args: Namespace, pipeline: CompiledPipeline, traces: list[Trace], bound: list[BoundTrace]
) -> tuple[CompiledPipeline, list[BoundTrace]]:
    """Pipeline and traces for ``--busy``; what is read for it is read again. Raises Unusable."""
    if Path("-") in args.traces or len(traces) != 1:
        raise unusable("--busy reads its trace twice", "name one trace, in a file", "--busy")
    if args.busy == "each":
        return pipeline, bound
    busy, medians = with_medians(pipeline, bound[0])
    if not medians:
        raise unusable("no request of this trace says how long it took", "import a log that does", "--busy")
    told = ", ".join(f"{route} {took / 1000:g} ms" for route, took in list(medians.items())[:8])
    say(f"busy for: {REDACTOR.redacted(told)}")
    return busy, bound_all(busy, read_traces(args))


def read_traces(args: Namespace) -> list[Trace]:
    """The traces and recordings that the arguments name. Raises Unusable."""
    har = HarOptions(args.host, args.sign, args.expect_recorded)
    problems: list[Problem] = []
    traces = []
    for path in args.traces:
        try:
            traces.append(Trace.read(path, har=har, trust=trust(args)))
        except Unusable as error:
            problems += error.problems
    if problems:
        raise Unusable(problems)
    for option, given in (("--host", args.host), ("--sign", args.sign), ("--expect-recorded", args.expect_recorded)):
        if given and not any(trace.recorded for trace in traces):
            what = f"{option} is for recordings, and there is none here"
            raise unusable(what, "name a HAR file, or leave it out")
    return traces


def _unnoticed(args: Namespace) -> int:
    """Print what no expectation notices. Returns 1 where an expectation fails already."""
    from patient_usher.core.questions.unnoticed import unnoticed
    from patient_usher.output.unnoticed import unnoticed_document, unnoticed_lines

    session = session_of(args)
    if args.format == "jsonl" or Path("-") in args.traces or any(trace.streams for trace in session.traces):
        what = "--unnoticed belongs to text or json, and to traces that are small enough to be run many times"
        raise unusable(what, "leave --format jsonl out, and name a trace in YAML or JSON")
    status = report(args, session) if args.format == "text" else 0
    session = session_of(args)
    found = unnoticed(session.pipeline, session.traces, seed=args.seed, watch=progress("changes tried"))
    done()
    if args.format == "json":
        from patient_usher.output.result import document

        sys.stdout.buffer.write(document(unnoticed_document(found)))
    else:
        stdout_painter().write([[], *unnoticed_lines(found)])
    return status


def _cover(args: Namespace, session: Session) -> int:
    """Count, print, and write what is missing where that is asked for. Returns 1 below the wanted share."""
    from patient_usher.output.coverage import coverage_document, covered_lines
    from patient_usher.use_cases.coverage import covered

    found = covered(session)
    requests = REDACTOR.redacted([request for one in found.closing for request in one.requests])
    if args.format == "json":
        from patient_usher.output.result import document

        sys.stdout.buffer.write(document(coverage_document(found.coverage, requests)))
    else:
        stdout_painter().write([[], *covered_lines(found.coverage, found.closing)])
    if args.append is not None:
        for request in requests:
            append_request(args.append, request, None)
        say(f"wrote {counted(len(requests), 'request')} to {args.append}")
    wanted = args.coverage_at_least
    return 1 if wanted is not None and found.coverage.percent < wanted else 0
