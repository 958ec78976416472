"""Replay a trace under every combination of settings, and see what comes of each: which quota, which lifetime, how
many instances? Combinations run on all cores, each in a world of its own.

A goal is written as in "refused(address=203.0.113.9) > 0.9 and refused(others) == 0". Figures: requests, refused (a
share), hits, handler (runs), waiting (95th percentile, seconds), broken. In parentheses: address=, caller=, identity=,
route= and a name, or others.
"""

from __future__ import annotations

import os
import sys
from argparse import ArgumentParser, Namespace
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

from patient_usher.cli.arguments import count, outgoing_picture, unusable
from patient_usher.cli.common import add_pipeline_arguments, done, pipeline_of, progress
from patient_usher.core.analysis import sweep
from patient_usher.core.analysis.metrics import goal
from patient_usher.core.analysis.sweep import Combination, Trial
from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.model.document import Spot, Unusable
from patient_usher.files.trace import Trace
from patient_usher.files.yaml_reader import parse_value
from patient_usher.output import sweep as report
from patient_usher.output.terminal import stdout_painter


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    add_pipeline_arguments(parser)
    parser.add_argument("trace", metavar="TRACE", type=Path, help="the trace to replay under each combination")
    parser.add_argument(
        "--try", metavar="STAGE.OPTION=A,B,C", dest="tries", action="append", required=True,
        help="values of one setting, 1..6 for a range; routes.ROUTE.SETTING and deployment.KEY too; may be repeated",
    )  # fmt: skip
    parser.add_argument("--goal", metavar="GOAL", help="find the least change that meets this")
    parser.add_argument(
        "--chart", metavar="FILE", type=outgoing_picture, help="the same as a picture: FILE.png or FILE.svg"
    )
    parser.add_argument("--format", choices=["text", "json", "csv"], default="text", help="text (default), json or csv")
    parser.add_argument("--cores", metavar="N", type=count, default=os.cpu_count() or 1, help="how many at once")


def run(args: Namespace) -> int:
    """Sweep. Returns 1 where no combination meets the goal."""
    pipeline = pipeline_of(args)
    combinations = _combinations(args)
    wanted = _goal(args.goal)
    for combination in combinations:  # all that is wrong is told before anything runs
        _changed(pipeline, combination)
    trials = sweep.marked(_trials(args, pipeline, combinations))
    chosen = (
        sweep.nearest(trials, wanted, sweep.present_of(pipeline.source.doc, combinations[0]))
        if wanted is not None
        else None
    )
    title = f"{pipeline.name}: {len(trials)} combinations, {trials[0].figures.requests[None]:,} requests each"
    if args.format == "json":
        from patient_usher.output.result import dump

        document: dict[str, Any] = {"patient-usher": "sweep/1", "trials": [trial.document() for trial in trials]}
        if wanted is not None and chosen is not None:
            met = {
                "goal": wanted.text,
                "met": chosen[1] == 0,
                "short": chosen[1],
                "settings": dict(chosen[0].combination),
            }
            document["found"] = met
        sys.stdout.buffer.write(dump(document) + b"\n")
    elif args.format == "csv":
        sys.stdout.write(report.as_csv(trials))
    else:
        painter = stdout_painter(dict(os.environ))
        painter.write(report.told(title, trials))
        if wanted is not None and chosen is not None:
            painter.write(report.goal_told(wanted, *chosen))
    if args.chart is not None:
        report.picture(args.chart, title, trials)
    return 1 if chosen is not None and chosen[1] else 0


def _changed(pipeline: Blueprint, combination: Combination) -> None:
    try:
        pipeline.changed(sweep.overlay_of(combination))
    except Unusable as error:
        nowhere = Spot("--try", 1, 1)
        raise Unusable(one._replace(spot=nowhere) for one in error.problems) from None


def _combinations(args: Namespace) -> list[Combination]:
    tries: dict[str, list[Any]] = {}
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


def _goal(text: str | None) -> Any:
    try:
        return goal(text) if text is not None else None
    except ValueError as error:
        what, _, mend = str(error).partition("; ")
        raise unusable(what, mend, "--goal") from None


_worker: dict[str, Any] = {}
"""What a process of the pool works with."""


def _begin(pipeline: Blueprint, trace: Path, allow_files: bool, seed: int) -> None:
    _worker.update(pipeline=pipeline, trace=trace, allow_files=allow_files, seed=seed)


def _try(combination: Combination) -> Trial:
    trace = Trace.read(_worker["trace"], allow_files=_worker["allow_files"])
    pipeline = _worker["pipeline"]
    return sweep.tried(pipeline, combination, trace.prepared(pipeline), _worker["seed"])


def _trials(args: Namespace, pipeline: Blueprint, combinations: list[Combination]) -> list[Trial]:
    """Every combination tried, in order, on as many cores as there are."""
    watch = progress(f"of {len(combinations)} combinations")
    with_these = (pipeline, args.trace, args.allow_files, args.seed)
    found: list[Trial] = []
    cores = min(args.cores, len(combinations))
    if cores <= 1:
        _begin(*with_these)
        found = [_try(combination) for combination in combinations]
    else:
        with ProcessPoolExecutor(cores, initializer=_begin, initargs=with_these) as pool:
            for trial in pool.map(_try, combinations):
                found.append(trial)
                watch(len(found))
    done()
    return found
