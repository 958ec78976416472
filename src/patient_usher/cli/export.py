"""Hand a saved result on: as a HAR 1.2 recording, which browsers' developer tools open, or as a table, one row an
exchange: FILE.jsonl, FILE.csv or FILE.parquet.
"""

from __future__ import annotations

import json
from argparse import ArgumentParser, Namespace
from pathlib import Path

from patient_usher import __version__
from patient_usher.cli.compare import saved
from patient_usher.core.model.document import Problem, Spot, Unusable
from patient_usher.core.verify.rows import row_of_record
from patient_usher.files.exporting import har_of
from patient_usher.files.writing import write_whole, writing
from patient_usher.reports.rows import FORMATS


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("result", metavar="RESULT", type=Path, help="what replay --format json has printed")
    parser.add_argument("--into", metavar="FILE", type=Path, required=True, help="what to write: FILE.har, or a table")
    parser.add_argument(
        "--starts", metavar="TIME", default="2031-01-01T00:00:00Z", help="the time from which the result's times count"
    )


def run(args: Namespace) -> int:
    """Export. Returns the exit status."""
    records = saved(args.result)
    if records is None:
        problem = Problem(Spot(str(args.result), 1, 1), "this is no result", "save what replay --format json prints")
        raise Unusable([problem])
    if args.into.suffix in FORMATS:
        with writing(args.into) as out:
            table = FORMATS[args.into.suffix](out)
            for record in records:
                table(row_of_record(record))
            table(None)
        print(f"wrote {len(records)} exchanges to {args.into}")
        return 0
    try:
        recording = har_of(records, __version__, args.starts)
    except ValueError:
        problem = Problem(Spot("--starts", 1, 1), f"'{args.starts}' is no time", "write 2031-05-01T08:00:00Z, say")
        raise Unusable([problem]) from None
    write_whole(args.into, json.dumps(recording, indent=1, ensure_ascii=False) + "\n")
    print(f"wrote {len(recording['log']['entries'])} exchanges to {args.into}")
    return 0
