"""Search the order of stages: which pairs may swap and which must not, which order has what is wished for,
and which order explains what a real service answers.
"""

from __future__ import annotations

import os
import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path

from patient_usher.cli.arguments import count, outgoing, outgoing_picture, unusable
from patient_usher.cli.common import add_pipeline_arguments, done, pipeline_of, progress
from patient_usher.cli.replay import add_recording_arguments, read_traces
from patient_usher.core.decisions.runner import BASE, BUDGET
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.model.document import did_you_mean
from patient_usher.core.questions.reorder.swaps import outcome, pairs_of
from patient_usher.core.variants.orders import BUDGET as SEARCH_BUDGET
from patient_usher.core.variants.orders import Found, as_listed, movable
from patient_usher.files.atomic_write import write_octets, write_whole
from patient_usher.output import reorder as report
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.result import document
from patient_usher.output.terminal import say, stdout_painter
from patient_usher.output.yaml_snippet import yaml_of
from patient_usher.use_cases.reorder import reordered, tell_apart
from patient_usher.use_cases.session import Pipeline, bound_all, collect_garbage

EXAMPLES = (
    "usher reorder pipeline.yaml trace.yaml --all-pairs --picture swaps.svg",
    "usher reorder pipeline.yaml trace.yaml --wish 'who<throttle' --into reordered.yaml",
)


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("--all-pairs", action="store_true", help="swap every pair of stages, not only neighbours")
    parser.add_argument(
        "--wish", metavar="A<B", action="append", default=[], help="look for an order with A before B; may be repeated"
    )
    parser.add_argument(
        "--tell-apart", action="store_true", help="make the fewest requests whose answers tell orders apart"
    )
    parser.add_argument(
        "--into",
        metavar="FILE",
        type=outgoing,
        help="where the order that was found goes, as a variant; or the requests of --tell-apart, as a trace",
    )
    parser.add_argument(
        "--picture", metavar="FILE", type=outgoing_picture, help="the matrix as a picture: FILE.png or FILE.svg"
    )
    parser.add_argument("--format", choices=["text", "json"], default="text", help="text for people (default), or json")
    parser.add_argument(
        "--budget",
        metavar="N",
        type=count,
        help=f"how many requests are replayed at most in search of an order ({SEARCH_BUDGET:,}), or tried by "
        f"--tell-apart ({BUDGET:,})",
    )
    add_recording_arguments(parser)
    add_pipeline_arguments(parser)
    parser.add_argument("traces", metavar="TRACE", type=Path, nargs="*", help="traces, or recordings, to be replayed")


def run(args: Namespace) -> int:
    """Swap, search or tell apart. Returns 1 where no order has what is wished for."""
    if args.into is not None and args.into.exists() and args.into.samefile(args.pipeline):
        raise unusable(f"{args.into} is the pipeline itself", "write the variant into another file", "--into")
    pipeline = pipeline_of(args)
    compiled = pipeline.compiled
    if args.tell_apart:
        return _tell_apart(args, pipeline)
    wishes = [_wish(text, compiled) for text in args.wish]
    traces = bound_all(compiled, read_traces(args))
    if not traces and not wishes:
        raise unusable("there is no trace to replay", "name one, or a --wish, or --tell-apart")
    collect_garbage()
    pairs = len(pairs_of(movable(compiled), every=args.all_pairs))
    result = reordered(
        compiled,
        traces,
        wishes,
        every=args.all_pairs,
        seed=args.seed,
        budget=args.budget or SEARCH_BUDGET,
        swapped=progress(f"of {pairs} pairs swapped"),
        replayed=progress("orders replayed"),
    )
    done()
    found = result.found
    before = (
        [REDACTOR.record(record) for record in outcome(compiled, traces, args.seed).records] if result.pairs else []
    )
    if args.format == "json":
        sys.stdout.buffer.write(document(report.document(result.pairs, found, result.replays, before=before)))
    else:
        painter = stdout_painter()
        title = REDACTOR.redacted(compiled.name)
        if result.pairs:
            shown = [pair._replace(swapped=list(map(REDACTOR.record, pair.swapped))) for pair in result.pairs]
            painter.write(report.told(title, movable(compiled), shown, before))
        if found is not None:
            painter.write(report.search_told(movable(compiled), found))
        else:
            painter.write(report.summary(result.pairs, result.replays))
    if args.picture is not None:
        write_octets(
            args.picture,
            report.picture(args.picture, REDACTOR.redacted(compiled.name), movable(compiled), result.pairs),
        )
    if args.into is not None and found is not None and found.order is not None:
        _write_variant(args, compiled, found)
    return 1 if found is not None and found.order is None else 0


def _wish(text: str, compiled: CompiledPipeline) -> tuple[str, str]:
    before, sign, after = text.partition("<")
    known = movable(compiled)
    if not sign:
        raise unusable(f"'{text}' is no wish", "write A<B, in quotes", "--wish")
    for name in (before.strip(), after.strip()):
        if name not in known:
            raise unusable(f"no stage that can move is called '{name}'", did_you_mean(name, known), "--wish")
    if before.strip() == after.strip():
        raise unusable(f"'{text}' can't be had: no stage stands before itself", "name two stages", "--wish")
    return before.strip(), after.strip()


def _tell_apart(args: Namespace, pipeline: Pipeline) -> int:
    watch = progress("requests tried in every order")
    apart = tell_apart(pipeline, budget=args.budget or BUDGET, seed=args.seed, watch=watch)
    done()
    trace = REDACTOR.redacted(report.trace_of(apart, BASE))
    if args.format == "json":
        sys.stdout.buffer.write(document(report.document([], None, apart.tried, apart, trace["requests"])))
    else:
        stdout_painter().write(report.apart_told(REDACTOR.redacted(pipeline.name), apart))
    if args.into is not None:
        write_whole(args.into, yaml_of(trace))
        say(f"wrote {len(apart.requests)} requests to {args.into}")
    return 0


def _write_variant(args: Namespace, compiled: CompiledPipeline, found: Found) -> None:
    assert found.order is not None
    like = os.path.relpath(args.pipeline, args.into.parent)
    order = as_listed(compiled, found.order)
    write_whole(args.into, yaml_of({"patient-usher": "pipeline/1", "like": like, "order": order}, deep=1))
    say(f"wrote {args.into}, a variant of {args.pipeline}")
