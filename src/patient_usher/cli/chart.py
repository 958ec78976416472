"""Draw what limits, caches, sizes and latency looked like over virtual time: of a saved result, or of a pipeline and
traces, which are replayed. One figure with the panels that there is something to show in.
"""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path

from patient_usher.cli.arguments import outgoing_picture, unusable
from patient_usher.cli.common import add_pipeline_arguments, pipeline_of, trust
from patient_usher.core.verify.exchange_table import row_of_record, rows_of
from patient_usher.core.verify.run import run as run_trace
from patient_usher.files.atomic_write import write_octets
from patient_usher.files.saved_result import saved
from patient_usher.files.trace import Trace
from patient_usher.output.chart import Columns, as_csv, figures_of, picture
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.terminal import say
from patient_usher.use_cases.compare import session
from patient_usher.use_cases.session import collect_garbage

EXAMPLES = (
    "usher chart result.json --picture day.png",
    "usher chart pipeline.yaml day.jsonl --picture day.svg --format csv",
)


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("--picture", metavar="FILE", type=outgoing_picture, help="draw it: FILE.png or FILE.svg")
    parser.add_argument("--format", choices=["csv"], help="print the table behind the picture")
    add_pipeline_arguments(parser, always=False)
    parser.add_argument("traces", metavar="TRACE", type=Path, nargs="*", help="a trace, behind a pipeline")


def run(args: Namespace) -> int:
    """Draw. Returns the exit status."""
    if args.picture is None and args.format is None:
        raise unusable("nothing to write is named", "add --picture FILE.png, or --format csv")
    name, rows = _rows(args)
    if not rows.length:
        raise unusable("there is nothing to draw", "name a result or a trace with requests")
    figures = figures_of(rows)
    if args.format == "csv":
        sys.stdout.write(as_csv(figures))
    if args.picture is not None:
        write_octets(args.picture, picture(args.picture, f"{name}: {rows.length:,} exchanges", figures, rows))
        say(f"wrote {args.picture}")
    return 0


def _rows(args: Namespace) -> tuple[str, Columns]:
    """What to call it, and what came of each exchange."""
    if not args.traces:
        records = saved(args.pipeline)
        if records is None:
            raise unusable(f"{args.pipeline} is no result, and there is no trace", "name a trace behind the pipeline")
        return args.pipeline.name, Columns(REDACTOR.row(row_of_record(record)) for record in records)
    pipeline = pipeline_of(args)
    replayed = session(pipeline, [Trace.read(path, trust=trust(args)) for path in args.traces], args.seed)
    collect_garbage()
    rows = (
        REDACTOR.row(row)
        for run_state, trace in replayed.run_states()
        for judged in run_trace(run_state, trace, journeys=False)
        for row in rows_of(judged.send, judged.starts)
    )
    return REDACTOR.redacted(pipeline.name), Columns(rows)
