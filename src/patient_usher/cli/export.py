"""Hand a saved result on: as a HAR 1.2 recording, which browsers' developer tools open, or as a table, one row an
exchange: FILE.jsonl, FILE.csv or FILE.parquet.
"""

from __future__ import annotations

import json
from argparse import ArgumentParser, Namespace
from datetime import datetime
from pathlib import Path

from patient_usher import __version__
from patient_usher.cli.arguments import unusable
from patient_usher.core.http.dates import instant
from patient_usher.core.verify.exchange_table import row_of_record
from patient_usher.files.atomic_write import write_whole, writing
from patient_usher.files.exporting import har_of
from patient_usher.files.saved_result import saved_result
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.tables import FORMATS
from patient_usher.output.terminal import line, stdout_painter

EXAMPLES = ("usher export result.json --into recording.har", "usher export result.json --into rows.csv")


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("result", metavar="RESULT", type=Path, help="what replay --format json has printed")
    parser.add_argument("--into", metavar="FILE", type=Path, required=True, help="what to write: FILE.har, or a table")
    parser.add_argument(
        "--starts", metavar="TIME", help="the time from which the result's times count; its first trace's, if left out"
    )


def run(args: Namespace) -> int:
    """Export. Returns the exit status."""
    result = saved_result(args.result)
    if result is None:
        raise unusable("this is no result", "save what replay --format json prints", str(args.result))
    records, begins = result.exchanges, args.starts or result.starts or "2031-01-01T00:00:00Z"
    try:
        starts = instant(datetime.fromisoformat(begins))
    except ValueError:
        raise unusable(f"'{args.starts}' is no time", "write 2031-05-01T08:00:00Z, say", "--starts") from None
    if args.into.suffix in FORMATS:
        with writing(args.into) as out:
            table = FORMATS[args.into.suffix](out)
            for record in records:
                table(REDACTOR.row(row_of_record(record, starts)))
            table(None)
        stdout_painter().write([line(f"wrote {len(records)} exchanges to {args.into}")])
        return 0
    if args.into.suffix not in (".har", ".json"):
        forms = ", ".join(f"FILE{suffix}" for suffix in (".har", *FORMATS))
        raise unusable(f"{args.into} says nothing of its format", f"write {forms}")
    recording = har_of(records, __version__, begins)
    write_whole(args.into, json.dumps(recording, indent=1, ensure_ascii=False) + "\n")
    stdout_painter().write([line(f"wrote {len(recording['log']['entries'])} exchanges to {args.into}")])
    return 0
