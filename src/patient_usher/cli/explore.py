"""Find out which outcomes can happen at all, which declared things never do, and whether the invariants
hold in all of them. Seeded: the same on every machine.
"""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace

from patient_usher.cli.arguments import count, outgoing
from patient_usher.cli.common import add_pipeline_arguments, done, pipeline_of, progress
from patient_usher.core.decisions.runner import BASE
from patient_usher.core.questions.explore import BUDGET, trace_of
from patient_usher.files.atomic_write import write_whole
from patient_usher.output import explore as report
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.result import document
from patient_usher.output.terminal import say, stdout_painter
from patient_usher.output.yaml_snippet import yaml_of
from patient_usher.use_cases.explore import explore
from patient_usher.use_cases.session import collect_garbage

EXAMPLES = (
    "usher explore pipeline.yaml --always invariants.yaml",
    "usher explore pipeline.yaml --into cases.yaml",
)


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument(
        "--budget", metavar="N", type=count, default=BUDGET, help=f"how many requests are tried at most ({BUDGET:,})"
    )
    parser.add_argument(
        "--into",
        metavar="FILE",
        type=outgoing,
        help="write a trace of the distinct cases, with what is expected of each",
    )
    parser.add_argument("--format", choices=["text", "json"], default="text", help="text for people (default), or json")
    add_pipeline_arguments(parser, optional="default", env=False)


def run(args: Namespace) -> int:
    """Explore. Returns 1 where a statement breaks."""
    pipeline = pipeline_of(args)
    collect_garbage()
    explored = explore(pipeline, budget=args.budget, seed=args.seed, watch=progress("requests tried"))
    done()
    if args.format == "json":
        sys.stdout.buffer.write(document(report.document(explored)))
    else:
        stdout_painter().write(report.told(explored))
    if args.into is not None:
        trace = REDACTOR.redacted(trace_of(explored, BASE))
        write_whole(args.into, yaml_of(trace))
        count = sum("send" in entry for entry in trace["requests"])
        say(f"wrote {count} requests to {args.into}")
    return 1 if explored.broken else 0
