"""Show which requests change between two pipelines, environments or settings, or between two saved results.

Behind A and B stand the traces that are replayed through both; saved results need none.
"""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path

from patient_usher.cli.arguments import unusable
from patient_usher.cli.common import add_report, add_seed, add_trust, admitted, done, progress, trust
from patient_usher.cli.replaying import wanted_reports
from patient_usher.core.verify.record import Record
from patient_usher.files.atomic_write import write_whole
from patient_usher.files.pipeline import load_pipeline
from patient_usher.files.saved_result import saved
from patient_usher.files.trace import Trace
from patient_usher.output.comparison import Compared, compared_of, comparison_lines
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.reports import comparison_report
from patient_usher.output.terminal import stdout_painter
from patient_usher.use_cases.compare import compared_at_length, records_of, session
from patient_usher.use_cases.session import Pipeline, collect_garbage

EXAMPLES = (
    "usher compare before.yaml after.yaml trace.yaml --expect-same",
    "usher compare pipeline.yaml pipeline.yaml trace.yaml --b-environment development",
)


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    for side in "ab":
        on = side.upper()
        parser.add_argument(f"--{side}-environment", metavar="E", action="append", help=f"lay this environment on {on}")
        parser.add_argument(
            f"--{side}-set", metavar="STAGE.OPTION=VALUE", action="append", default=[], help=f"set one option of {on}"
        )
    parser.add_argument("--expect-same", action="store_true", help="end with exit status 1 where anything changes")
    parser.add_argument("--details", action="store_true", help="work every exchange through that changes, values whole")
    parser.add_argument(
        "--format",
        choices=["text", "json", "md"],
        default="text",
        help="text for people (default), json, or md for a pull request",
    )
    add_report(parser)
    add_seed(parser)
    add_trust(parser)
    parser.add_argument("a", metavar="A", type=Path, help="a pipeline, or a saved result")
    parser.add_argument("b", metavar="B", type=Path, help="what it is compared with; may be the same file")
    parser.add_argument("traces", metavar="TRACE", type=Path, nargs="*", help="a trace to replay through both")


def run(args: Namespace) -> int:
    """Compare. Returns the exit status."""
    files = wanted_reports(args.report)
    if args.details and args.format != "text":
        raise unusable("--details belongs to --format text", f"{args.format} says everything; leave it out")
    sides = [
        _side(args.a, args.a_environment, args.a_set, args),
        _side(args.b, args.b_environment, args.b_set, args),
    ]
    pipelines = [side for side in sides if isinstance(side, Pipeline)]
    traces = [_traces(args) for _ in pipelines]
    if len(pipelines) == 2 and any(trace.lines is not None for trace in traces[0]):
        _fits_long(args, files)
        collect_garbage()
        one, other = pipelines
        watch = progress("requests compared")
        found = compared_at_length(one, other, traces, seed=args.seed, shows=REDACTOR.record, watch=watch)
        done()
        compared = Compared(REDACTOR.redacted(_names(args)), found.a, found.b, found.comparison())
    else:
        results = [side if isinstance(side, list) else _shown(side, traces.pop(0), args) for side in sides]
        compared = compared_of(REDACTOR.redacted(_names(args)), *results)
    reports = []
    if files or args.format != "text":
        reports = [(path, REDACTOR.text(comparison_report(form, compared))) for form, path in files]
    if args.format == "text":
        stdout_painter().write(comparison_lines(compared, details=args.details))
    else:
        text = REDACTOR.text(comparison_report(args.format, compared))
        sys.stdout.buffer.write(text.encode("utf-8", "backslashreplace"))
    sys.stdout.flush()
    for path, content in reports:
        write_whole(path, content)
    return 1 if args.expect_same and compared.comparison.changed else 0


def _names(args: Namespace) -> tuple[str, str]:
    """What to call the sides: files, and what else tells them apart."""

    def named(path: Path, environments: list[str] | None, settings: list[str]) -> str:
        return " ".join([path.name, *(environments or []), *settings])

    return named(args.a, args.a_environment, args.a_set), named(args.b, args.b_environment, args.b_set)


def _side(path: Path, environments: list[str] | None, settings: list[str], args: Namespace) -> list[Record] | Pipeline:
    """One side: the exchanges of a saved result, or a pipeline."""
    kept = saved(path)
    if kept is not None:
        return kept
    if not args.traces:
        raise unusable("two pipelines, and no trace to replay", "name one behind them")
    return admitted(load_pipeline(path, environments=environments, settings=settings, trust=trust(args)))


def _traces(args: Namespace) -> list[Trace]:
    if Path("-") in args.traces:
        raise unusable("a trace is read once for each side", "name a file in place of -", "TRACE")
    return [Trace.read(file, trust=trust(args)) for file in args.traces]


def _shown(pipeline: Pipeline, traces: list[Trace], args: Namespace) -> list[Record]:
    """What a pipeline makes of the traces, as it may be shown."""
    return [REDACTOR.record(record) for record in records_of(session(pipeline, traces, args.seed))]


def _fits_long(args: Namespace, files: list[tuple[str, Path]]) -> None:
    """Whether what is asked for can be had of a long trace. Raises Unusable."""
    if lists := sorted({form for form, _ in files} & {"junit", "svg"}):
        raise unusable(f"{lists[0]} lists every request, and this trace streams", "md, html or json", "--report")
