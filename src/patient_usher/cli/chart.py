"""Draw what limits, caches, sizes and waiting looked like over virtual time: of a saved result, or of a pipeline and
a trace, which are replayed. One figure with the panels that there is something to show in.
"""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path
from typing import Any

from patient_usher.cli.arguments import outgoing_picture, unusable
from patient_usher.cli.common import add_pipeline_arguments, pipeline_of
from patient_usher.cli.compare import saved
from patient_usher.core.engine.run.world import World
from patient_usher.core.verify.exchange_table import row_of_record, rows_of
from patient_usher.files.trace import Trace
from patient_usher.output.chart import as_csv, figures_of, picture
from patient_usher.use_cases.session import sends


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    add_pipeline_arguments(parser)
    parser.add_argument("trace", metavar="TRACE", type=Path, nargs="?", help="the trace, behind a pipeline")
    parser.add_argument("--into", metavar="FILE", type=outgoing_picture, help="the picture: FILE.png or FILE.svg")
    parser.add_argument("--format", choices=["csv"], help="print the table behind the picture")


def run(args: Namespace) -> int:
    """Draw. Returns the exit status."""
    if args.into is None and args.format is None:
        raise unusable("nothing to write is named", "add --into FILE.png, or --format csv")
    name, rows = _rows(args)
    if not rows:
        raise unusable("there is nothing to draw", "name a result or a trace with requests")
    figures = figures_of(rows)
    if args.format == "csv":
        sys.stdout.write(as_csv(figures))
    if args.into is not None:
        picture(args.into, f"{name}: {len(rows):,} exchanges", figures, rows)
        print(f"wrote {args.into}", file=sys.stderr)
    return 0


def _rows(args: Namespace) -> tuple[str, list[dict[str, Any]]]:
    """What to call it, and a row for each exchange."""
    if args.trace is None:
        records = saved(args.pipeline)
        if records is None:
            raise unusable(f"{args.pipeline} is no result, and there is no trace", "name a trace behind the pipeline")
        return args.pipeline.name, [row_of_record(record) for record in records]
    pipeline = pipeline_of(args)
    trace = Trace.read(args.trace, allow_files=args.allow_files).prepared(pipeline)
    replayed = sends(World(pipeline, args.seed), trace, journeys=False)
    rows = [row for send, _, starts in replayed for row in rows_of(send, starts)]
    return pipeline.name, [row for row in rows if row["outcome"] != "not-sent"]
