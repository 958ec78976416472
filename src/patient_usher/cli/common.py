"""What several commands share: options, the pipeline that they name, progress, and the count of findings."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, ArgumentTypeError, Namespace, _ArgumentGroup
from collections.abc import Callable
from pathlib import Path
from typing import Literal

from patient_usher.cli.arguments import unusable, whole
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.compile.warnings import warnings_of
from patient_usher.core.model.document import JsonObject
from patient_usher.core.model.words import counted
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.files.pipeline import load_pipeline
from patient_usher.files.trust import Trust, trust_of
from patient_usher.files.yaml_reader import MAX_OCTETS, open_file
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.reports import REPORTS
from patient_usher.output.terminal import Painter, line, say
from patient_usher.use_cases.session import Pipeline


def add_pipeline_arguments(
    parser: ArgumentParser,
    *,
    optional: bool | Literal["default"] = False,
    seed: bool = True,
    always: bool = True,
    env: bool = True,
) -> None:
    """The pipeline, and what changes in it. ``optional``: whether it may be left out, by default for the one in this
    folder. ``seed``, ``always``, ``env``: whether the command has a use for these."""
    many: JsonObject = {"nargs": "?"} if optional else {}
    default = "; pipeline.yaml, if left out" if optional == "default" else ""
    words = f"the pipeline file (YAML or JSON); - is standard input{default}"
    parser.add_argument("pipeline", metavar="PIPELINE", type=Path, help=words, **many)
    group = parser.add_argument_group("the pipeline")
    group.add_argument(
        "--environment", "-e", metavar="E", action="append", help="lay this environment on; may be repeated"
    )
    group.add_argument(
        "--set",
        metavar="STAGE.OPTION=VALUE",
        action="append",
        default=[],
        help="set one option, routes.ROUTE.SETTING or deployment.KEY; may be repeated",
    )
    if seed:
        add_seed(group)
    if always:
        group.add_argument(
            "--always",
            metavar="FILE",
            type=Path,
            help="invariants, which must hold for every exchange; they join the file's",
        )
    add_trust(group, env=env)


def add_report(parser: ArgumentParser) -> None:
    """Which reports are written beside what is printed."""
    *first, last = REPORTS
    parser.add_argument(
        "--report", metavar="FORMAT=FILE", action="append", default=[],
        help=f"also write a report: {', '.join(first)} or {last}; may be repeated",
    )  # fmt: skip


def add_seed(parser: ArgumentParser | _ArgumentGroup) -> None:
    """Where randomness comes from."""
    parser.add_argument(
        "--seed", metavar="N", type=whole, default=0, help="where everything random comes from (default 0)"
    )


def add_trust(parser: ArgumentParser | _ArgumentGroup, *, env: bool = True) -> None:
    """What files may do."""
    words = "python: run code of their own; files: name files anywhere, not only beside them"
    more = "; env:NAME: traces may read this variable" if env else ""
    parser.add_argument(
        "--trust", metavar="WHAT", type=_trusted, action="append", default=[], help=f"{words}{more}; may be repeated"
    )


def _trusted(text: str) -> str:
    try:
        trust_of([text])
    except ValueError as error:
        raise ArgumentTypeError(str(error)) from None
    return text


def add_output_arguments(parser: ArgumentParser) -> None:
    """How a replay is written."""
    parser.add_argument(
        "--format",
        choices=["text", "json", "jsonl"],
        default="text",
        help="text for people (default), json, or jsonl: an exchange a line",
    )
    add_report(parser)
    parser.add_argument(
        "--strict",
        action="store_true",
        help="fail also where a request hangs, crashes or is answered twice, and nobody expected that",
    )


def trust(args: Namespace) -> Trust:
    """What the command line lets files do."""
    return trust_of(args.trust)


def pipeline_of(args: Namespace, *, warns: bool = True) -> Pipeline:
    """The pipeline that the arguments name; what is doubtful in it is told, unless a check tells it better."""
    compiled = load_pipeline(
        args.pipeline,
        environments=args.environment,
        settings=args.set,
        trust=trust(args),
        always=getattr(args, "always", None),
        places=not warns,
    )
    pipeline = admitted(compiled)  # first: a warning may name what is a secret elsewhere
    for warning in warnings_of(compiled) if warns else ():
        say(str(warning))
    return pipeline


def admitted(compiled: CompiledPipeline) -> Pipeline:
    """The pipeline, of whose credentials the door knows from now on."""
    REDACTOR.learn(compiled, ENVIRONMENT.taken)
    return Pipeline(compiled)


def certificates_of(args: Namespace) -> bytes | None:
    """The certificates that are trusted beside the system's. Raises Unusable."""
    if args.certificate is None:
        return None
    if args.at is None or not args.at.startswith("https://"):
        raise unusable("--certificate is for a service over TLS", "give --at https://HOST:PORT", "--certificate")
    with open_file(args.certificate) as stream:
        return stream.read(MAX_OCTETS)


def progress(words: str, *, every: int = 20) -> Callable[[int], None]:
    """Shows on a terminal how far things are."""
    if not sys.stderr.isatty():
        return lambda done: None

    def watch(done: int) -> None:
        if done % every == 0:
            print(f"\r{done:,} {words}\x1b[K", end="", file=sys.stderr, flush=True)

    return watch


def done() -> None:
    """Takes away what it showed."""
    if sys.stderr.isatty():
        print("\r\x1b[K", end="", file=sys.stderr, flush=True)


MENTIONED = 2_000
"""How many requests are tried to tell how many findings a check has."""


def mention(painter: Painter, pipeline: Pipeline) -> None:
    """How many findings a check has, in one line; nothing where there is none, or more routes than requests to try.

    Code of the user's isn't run for it.
    """
    if pipeline.compiled.source.load_python is not None or len(pipeline.compiled.placed) > MENTIONED:
        return
    from patient_usher.output.findings import MARKS
    from patient_usher.use_cases.check import check

    checked = check(pipeline, budget=MENTIONED, mends=False)
    found = checked.at_least("advice")
    if found:
        names = ", ".join(one.where for one in found[:2]) + (f" and {len(found) - 2} more" if len(found) > 2 else "")
        count = f"{'' if checked.whole else 'at least '}{counted(len(found), 'finding')}"
        mark, style = MARKS[max((one.rule.level for one in found), key=lambda level: -list(MARKS).index(level))]
        painter.write([line((f"{mark} usher check", style), f": {count} ({names})")])
