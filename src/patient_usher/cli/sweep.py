"""Replay a trace under every combination of settings, and see what comes of each: which quota, which lifetime, how
many instances? Combinations run on all cores, each in a run state of its own.

A goal is written as in "refused(address=203.0.113.9) > 0.9 and refused(others) == 0". Figures: requests, refused (a
share), hits, age (of copies that answered, 95th percentile, seconds), handler (runs), latency (95th percentile,
seconds), broken. In parentheses: address=, caller=, identity=,
route= and a name, or others.
"""

from __future__ import annotations

import os
import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path

from patient_usher.cli.arguments import count, outgoing_picture, unusable
from patient_usher.cli.common import add_pipeline_arguments, done, pipeline_of, progress, trust
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.compile.compiler import changed
from patient_usher.core.model.document import Spot, Unusable
from patient_usher.core.questions import sweep
from patient_usher.core.questions.goals import Goal, goal
from patient_usher.core.questions.sweep import Combination, Trial
from patient_usher.files.atomic_write import write_octets
from patient_usher.files.yaml_reader import parse_value
from patient_usher.output import sweep as report
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.result import document
from patient_usher.output.terminal import say, stdout_painter
from patient_usher.use_cases.session import collect_garbage
from patient_usher.use_cases.sweep import trials

EXAMPLES = (
    "usher sweep pipeline.yaml day.jsonl --try throttle.quota=10,20,50 --try deployment.instances=1..4",
    "usher sweep pipeline.yaml day.jsonl --try throttle.quota=10,20 --goal 'refused(others) == 0'",
)


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument(
        "--try", metavar="STAGE.OPTION=A,B,C", dest="tries", action="append", required=True,
        help="values of one setting, 1..6 for a range; routes.ROUTE.SETTING and deployment.KEY too; may be repeated",
    )  # fmt: skip
    parser.add_argument("--goal", metavar="GOAL", help="find the least change that meets this")
    parser.add_argument(
        "--picture", metavar="FILE", type=outgoing_picture, help="the same as a picture: FILE.png or FILE.svg"
    )
    parser.add_argument("--format", choices=["text", "json", "csv"], default="text", help="text (default), json or csv")
    parser.add_argument("--cores", metavar="N", type=count, default=os.cpu_count() or 1, help="how many at once")
    add_pipeline_arguments(parser)
    parser.add_argument("trace", metavar="TRACE", type=Path, help="the trace to replay under each combination")


def run(args: Namespace) -> int:
    """Sweep. Returns 1 where no combination meets the goal."""
    pipeline = pipeline_of(args).compiled
    combinations = _combinations(args)
    wanted = _goal(args.goal)
    for combination in combinations:  # all that is wrong is told before anything runs
        _changed(pipeline, combination)
    watch = progress(f"of {len(combinations)} combinations")
    tried: list[Trial] = []
    how = {"cores": args.cores, "seed": args.seed, "trust": trust(args), "watch": watch}
    how["named"] = wanted.named if wanted is not None else []
    interrupted = False
    collect_garbage()
    try:
        tried.extend(trials(pipeline, args.trace, combinations, **how))
    except KeyboardInterrupt:
        interrupted = True
    done()
    if interrupted:
        say(f"interrupted: {len(tried)} of {len(combinations)} combinations are done")
        if not tried:
            return 130
    found = sweep.marked(tried)
    present = sweep.present_of(pipeline.source.doc, combinations[0])
    chosen = sweep.nearest(found, wanted, present) if wanted is not None else None
    if args.format == "json":
        sys.stdout.buffer.write(document(report.sweep_document(found, wanted, chosen)))
    elif args.format == "csv":
        sys.stdout.write(REDACTOR.text(report.as_csv(found)))
    else:
        painter = stdout_painter()
        painter.write(report.told(REDACTOR.redacted(pipeline.name), found))
        if wanted is not None and chosen is not None:
            painter.write(report.goal_told(wanted, *chosen))
    if args.picture is not None:
        write_octets(
            args.picture,
            report.picture(args.picture, f"{REDACTOR.redacted(pipeline.name)}: {len(found)} combinations", found),
        )
    if interrupted:
        return 130
    return 1 if chosen is not None and chosen[1] else 0


def _changed(pipeline: CompiledPipeline, combination: Combination) -> None:
    try:
        changed(pipeline, sweep.overlay_of(combination))
    except Unusable as error:
        nowhere = Spot("--try", 1, 1)
        raise Unusable(one._replace(spot=nowhere) for one in error.problems) from None


def _combinations(args: Namespace) -> list[Combination]:
    tries: dict[str, list[object]] = {}
    for text in args.tries:
        name, equals, values = text.partition("=")
        found = [parse_value(value) for value in sweep.values_of(values)]
        if not equals or "." not in name or not found:
            raise unusable(f"'{text}' tries nothing", "write STAGE.OPTION=A,B,C, as in throttle.quota=10,20", "--try")
        tries[name] = found
    try:
        return sweep.combinations_of(tries)
    except ValueError as error:
        what, _, mend = str(error).partition("; ")
        raise unusable(what, mend, "--try") from None


def _goal(text: str | None) -> Goal | None:
    try:
        return goal(text) if text is not None else None
    except ValueError as error:
        what, _, mend = str(error).partition("; ")
        raise unusable(what, mend, "--goal") from None
