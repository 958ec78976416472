"""Print the JSON Schema of a file format, for editors and for other programs."""

from __future__ import annotations

import json
import sys
from argparse import ArgumentParser, Namespace

FORMATS = (
    "pipeline",
    "trace",
    "result",
    "findings",
    "compare",
    "reorder",
    "coverage",
    "unnoticed",
    "explore",
    "sweep",
    "drift",
    "order-found",
    "learned",
)
EXAMPLES = ("usher schema pipeline > pipeline.schema.json", "usher schema result")


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("format", metavar="WHAT", choices=list(FORMATS), help=f"one of {', '.join(FORMATS)}")


def run(args: Namespace) -> int:
    """Print. Returns the exit status."""
    from patient_usher.output.schema import SCHEMAS

    json.dump(SCHEMAS[args.format](), sys.stdout, indent=2, ensure_ascii=False)
    print()
    return 0
