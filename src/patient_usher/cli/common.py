"""What several commands share: options, the pipeline that they name, progress, and the count of findings."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from collections.abc import Callable
from pathlib import Path

from patient_usher.cli.arguments import whole
from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.files.pipeline import load_pipeline
from patient_usher.output.terminal import Painter, line, shown


def add_pipeline_arguments(parser: ArgumentParser, *, optional: bool = False) -> None:
    """The pipeline, and what changes in it."""
    many = {"nargs": "?"} if optional else {}
    parser.add_argument("pipeline", metavar="PIPELINE", type=Path, help="the pipeline file (YAML or JSON)", **many)  # type: ignore[arg-type]
    parser.add_argument(
        "--environment", "-e", metavar="E", action="append", help="lay this environment on; may be repeated"
    )
    parser.add_argument(
        "--set",
        metavar="STAGE.OPTION=VALUE",
        action="append",
        default=[],
        help="set one option; may be repeated",
    )
    parser.add_argument(
        "--seed", metavar="N", type=whole, default=0, help="where everything random comes from (default 0)"
    )
    parser.add_argument(
        "--always", metavar="FILE", type=Path, help="statements that must hold for every exchange; they join the file's"
    )
    parser.add_argument("--allow-python", action="store_true", help="let the pipeline run Python code of its own")
    parser.add_argument(
        "--allow-files",
        action="store_true",
        help="let the files name other files anywhere, not only beside them",
    )


def add_output_arguments(parser: ArgumentParser) -> None:
    """How the result is written."""
    parser.add_argument(
        "--format",
        choices=["text", "json", "jsonl"],
        default="text",
        help="text for people (default), json, or jsonl: an exchange a line",
    )
    parser.add_argument(
        "--report",
        metavar="FORMAT=FILE",
        action="append",
        default=[],
        help="also write a report: junit, md, html, json or svg; may be repeated",
    )
    parser.add_argument("--details", action="store_true", help="show the whole journey of every request")
    parser.add_argument(
        "--strict",
        action="store_true",
        help="fail also where a request stalls, crashes or is answered twice unexpectedly",
    )
    parser.add_argument("--quiet", "-q", action="store_true", help="print nothing but what is not as expected")


def pipeline_of(args: Namespace, *, warns: bool = True) -> Blueprint:
    """The pipeline that the arguments name; what is doubtful in it is told, unless a check tells it better."""
    pipeline = load_pipeline(
        args.pipeline,
        environments=args.environment,
        settings=args.set,
        allow_files=args.allow_files,
        allow_python=args.allow_python,
        always=args.always,
        places=not warns,
    )
    for warning in pipeline.warnings if warns else ():
        print(shown(ENVIRONMENT.hidden(str(warning))), file=sys.stderr)
    return pipeline


def progress(words: str) -> Callable[[int], None]:
    """Shows on a terminal how far things are."""
    if not sys.stderr.isatty():
        return lambda done: None

    def watch(done: int) -> None:
        if done % 20 == 0:
            print(f"\r{done:,} {words}\x1b[K", end="", file=sys.stderr, flush=True)

    return watch


def done() -> None:
    """Takes away what it showed."""
    if sys.stderr.isatty():
        print("\r\x1b[K", end="", file=sys.stderr, flush=True)


MENTIONED = 2_000
"""How many requests are tried to tell how many findings a check has."""


def mention(painter: Painter, pipeline: Blueprint) -> None:
    """How many findings a check has, in one line; nothing where there is none. Code of the user's isn't run for it."""
    if pipeline.source.load_python is not None:
        return
    from patient_usher.core.analysis.findings.check import check

    checked = check(pipeline, budget=MENTIONED)
    found = checked.at_least("advice")
    if found:
        names = ", ".join(one.where for one in found[:2]) + (", ..." if len(found) > 2 else "")
        count = f"{'' if checked.whole else 'at least '}{len(found)} finding{'' if len(found) == 1 else 's'}"
        painter.write([line(("✗ usher check", "raised"), f": {count} ({names})")])
