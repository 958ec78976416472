"""Run the whole story on made-up harbour data: no files, no options needed."""

from __future__ import annotations

import os
from argparse import ArgumentParser, Namespace
from pathlib import Path

from patient_usher import demo
from patient_usher.cli.common import text_report
from patient_usher.reports.paint import Painter, line, stdout_painter
from patient_usher.traces.har import HarOptions
from patient_usher.traces.pipeline_file import load_service
from patient_usher.traces.trace_file import load_trace

FOLDER = Path(demo.__file__).parent


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument(
        "--copy", metavar="FOLDER", type=Path, help="write the demo's files into a folder, to play with"
    )


def run(args: Namespace) -> int:
    """Show the demo. Returns 0 where it went as it should."""
    if args.copy is not None:
        return _copy(args.copy)
    painter = stdout_painter(dict(os.environ))
    say = _say(painter)
    say("1  A pipeline, and requests walked through it. Each row is one request, each column one stage.")
    right = _report(painter, "harbour.yaml", only=set(), details=False)
    say(
        "2  The same requests, and one mistake in the order: authentication stands outside the error",
        "   handler. The rows with a cross show what it breaks; the journey shows where.",
    )
    wrong = _report(painter, "mistaken.yaml", only=set(), details=False, journeys=1)
    say(
        "What you have seen: which stages each request went through, who answered it and why, the two",
        "classic slips, and a mistake in the order found by requests that have to hold.",
        "",
        "Next, in a folder of your own:",
        "  usher demo --copy harbour                                       the files behind this",
        "  usher replay harbour/harbour.yaml harbour/story.yaml --only engine-room",
        "  usher replay harbour/harbour.yaml harbour/story.yaml --only engine-room -e development",
        "  usher send harbour/harbour.yaml GET /v1/harbour/ledger --sign bearer:odile",
    )
    return 0 if (right, wrong) == (0, 1) else 3


def _say(painter: Painter):  # type: ignore[no-untyped-def]
    first = True

    def say(*texts: str) -> None:
        nonlocal first
        painter.write([*([] if first else [[]]), *(line((text, "title")) for text in texts), []])
        first = False

    return say


def _report(painter: Painter, pipeline: str, *, only: set[str], details: bool, journeys: int = 3) -> int:
    service = load_service(FOLDER / pipeline)
    loaded = load_trace(FOLDER / "story.yaml", service, har=HarOptions())
    return text_report(painter, service, loaded, only=only, details=details, quiet=False, journeys=journeys)


def _copy(folder: Path) -> int:
    from patient_usher.cli.init import write_new

    names = sorted(path.name for path in FOLDER.iterdir() if path.suffix in (".yaml", ".har", ".csv", ".jsonl"))
    write_new(folder, {name: (FOLDER / name).read_text(encoding="utf-8") for name in names})
    print(f"wrote {', '.join(names)} to {folder}")
    return 0
