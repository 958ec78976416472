"""Find out which outcomes can happen at all, which declared things never do, and whether the statements that must
always hold do so in all of them. Seeded: the same on every machine.
"""

from __future__ import annotations

import os
import sys
from argparse import ArgumentParser, Namespace

from patient_usher.cli.arguments import count, outgoing
from patient_usher.cli.common import add_pipeline_arguments, done, pipeline_of, progress
from patient_usher.core.analysis.explore import BUDGET, explore, trace_of
from patient_usher.core.analysis.requests.runner import BASE
from patient_usher.files.atomic_write import write_whole
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.output import explore as report
from patient_usher.output.terminal import stdout_painter
from patient_usher.output.yaml_snippet import yaml_of


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    add_pipeline_arguments(parser)
    parser.add_argument(
        "--budget", metavar="N", type=count, default=BUDGET, help=f"how many requests are tried at most ({BUDGET:,})"
    )
    parser.add_argument(
        "--write",
        metavar="TRACE",
        type=outgoing,
        help="write a trace of the distinct cases, with what is expected of each",
    )
    parser.add_argument("--format", choices=["text", "json"], default="text", help="text for people (default), or json")


def run(args: Namespace) -> int:
    """Explore. Returns 1 where a statement breaks."""
    pipeline = pipeline_of(args)
    explored = explore(pipeline, budget=args.budget, seed=args.seed, watch=progress("requests tried"))
    done()
    if args.format == "json":
        from patient_usher.output.result import dump

        sys.stdout.buffer.write(dump(ENVIRONMENT.hidden(explored.document())) + b"\n")
    else:
        painter = stdout_painter(dict(os.environ))
        painter.write(
            [piece._replace(text=ENVIRONMENT.hidden(piece.text)) for piece in pieces]
            for pieces in report.told(explored)
        )
    if args.write is not None:
        trace = trace_of(explored, BASE)
        write_whole(args.write, yaml_of(ENVIRONMENT.hidden(trace)))
        count = sum("send" in entry for entry in trace["requests"])
        print(f"wrote {count} requests to {args.write}", file=sys.stderr)
    return 1 if explored.broken else 0
