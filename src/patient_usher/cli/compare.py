"""Show which requests change between two pipelines, two environments of one, or two saved results.

A and B are pipelines, replayed through the same traces; or results that replay --format json has printed.
"""

from __future__ import annotations

import os
import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path
from typing import Any

from patient_usher.cli.arguments import unusable, whole
from patient_usher.cli.reporting import wanted
from patient_usher.core.analysis.compare import Comparison, compared
from patient_usher.core.model.document import Problem, Spot, Unusable
from patient_usher.files.atomic_write import write_whole
from patient_usher.files.pipeline import load_pipeline
from patient_usher.files.trace import Trace
from patient_usher.files.yaml_reader import parse, read_text
from patient_usher.output import comparison as report
from patient_usher.output.terminal import Line, stdout_painter
from patient_usher.use_cases.session import replay, told

Record = dict[str, Any]


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("a", metavar="A", type=Path, help="a pipeline, or a saved result")
    parser.add_argument("b", metavar="B", type=Path, help="what it is compared with; may be the same file")
    parser.add_argument(
        "--trace", "-t", metavar="T", type=Path, action="append", default=[], help="a trace to replay; may be repeated"
    )
    for side in "ab":
        on = side.upper()
        parser.add_argument(f"--{side}-environment", metavar="E", action="append", help=f"lay this environment on {on}")
        parser.add_argument(
            f"--{side}-set", metavar="STAGE.OPTION=VALUE", action="append", default=[], help=f"set one option of {on}"
        )
    parser.add_argument("--seed", metavar="N", type=whole, default=0, help="where everything random comes from")
    parser.add_argument("--expect-same", action="store_true", help="end with exit status 1 where anything changes")
    parser.add_argument(
        "--format",
        choices=["text", "json", "md"],
        default="text",
        help="text for people (default), json, or md for a pull request",
    )
    parser.add_argument(
        "--report",
        metavar="FORMAT=FILE",
        action="append",
        default=[],
        help="also write a report: md, html, json, junit or svg; may be repeated",
    )
    parser.add_argument("--allow-python", action="store_true", help="let the pipelines run Python code of their own")
    parser.add_argument("--allow-files", action="store_true", help="let the files name other files anywhere")
    parser.add_argument(
        "--allow-env", metavar="NAME", action="append", default=[], help="let the traces read this variable"
    )


def run(args: Namespace) -> int:
    """Compare. Returns the exit status."""
    files = wanted(args.report, list(report.FORMATS))
    first = _result(args.a, args.a_environment, args.a_set, args)
    second = _result(args.b, args.b_environment, args.b_set, args)
    sides = report.Sides(_names(args), first, second)
    try:
        comparison = compared(first, second)
        text = _told(args, comparison, sides)
        reports = [(path, report.FORMATS[form](comparison, sides)) for form, path in files]
    except (KeyError, TypeError, AttributeError, ValueError):
        if args.trace:
            raise
        what = "a saved result isn't as results are"
        raise unusable(what, "save what replay --format json prints") from None
    sys.stdout.flush()
    if isinstance(text, bytes):
        sys.stdout.buffer.write(text)
    else:
        stdout_painter(dict(os.environ)).write(text)
    sys.stdout.flush()
    for path, content in reports:
        write_whole(path, content)
    return 1 if args.expect_same and comparison.changed else 0


def _told(args: Namespace, comparison: Comparison, sides: report.Sides) -> bytes | list[Line]:
    """The comparison in the form that is asked for."""
    if args.format == "json":
        return report.as_json(comparison, sides).encode()
    if args.format == "md":
        return report.markdown(comparison, sides).encode("utf-8", "backslashreplace")
    return list(report.compared(comparison, sides))


def _names(args: Namespace) -> tuple[str, str]:
    """What to call the sides: files, and what else tells them apart."""

    def named(path: Path, environments: list[str] | None, settings: list[str]) -> str:
        return " ".join([path.name, *(environments or []), *settings])

    return named(args.a, args.a_environment, args.a_set), named(args.b, args.b_environment, args.b_set)


def _result(path: Path, environments: list[str] | None, settings: list[str], args: Namespace) -> list[Record]:
    """The exchanges of one side: saved, or replayed now."""
    kept = saved(path)
    if kept is not None:
        return kept
    if not args.trace:
        raise unusable("two pipelines, and no trace to replay", "add --trace FILE")
    pipeline = load_pipeline(
        path,
        environments=environments,
        settings=settings,
        allow_files=args.allow_files,
        allow_python=args.allow_python,
    )
    records: list[Record] = []
    for file in args.trace:
        trace = Trace.read(file, allow_files=args.allow_files, allow_env=args.allow_env)
        mark = f"{file.stem}: " if len(args.trace) > 1 else ""
        for sent in replay(pipeline, trace, seed=args.seed):
            records += [{**record, "id": mark + record["id"]} for record in sent.exchanges]
    return told(records)


def saved(path: Path) -> list[Record] | None:
    """The exchanges of a saved result, None where the file is none."""
    text = read_text(path, str(path))
    if text.lstrip()[:1] != "{" or '"result/1"' not in text[:200]:
        return None
    doc = parse(text, str(path))
    exchanges = doc.get("exchanges")
    if not isinstance(exchanges, list) or not all(isinstance(row, dict) and row.keys() >= _WANTED for row in exchanges):
        what = "this result isn't whole"
        raise Unusable([Problem(Spot(str(path), 1, 1), what, "save what replay --format json prints")])
    return exchanges


_WANTED = {
    "id", "request", "response", "outcome", "answered_by", "refused_by", "handler_reached", "identity", "journey",
    "errors", "log", "caches", "browser", "at", "finished",
}  # fmt: skip
"""What a comparison reads of an exchange."""
