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
from patient_usher.core.analysis.orders.discriminate import told_apart
from patient_usher.core.analysis.orders.search import Constraints, Found, as_listed, movable
from patient_usher.core.analysis.orders.swaps import Pair, outcome, pairs_of, swaps
from patient_usher.core.analysis.requests.runner import BASE, BUDGET
from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.model.document import did_you_mean
from patient_usher.files.atomic_write import write_whole
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.files.trace import HarOptions, Trace
from patient_usher.output import reorder as report
from patient_usher.output.terminal import stdout_painter
from patient_usher.output.yaml_snippet import yaml_of
from patient_usher.use_cases.session import told


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    add_pipeline_arguments(parser)
    parser.add_argument("traces", metavar="TRACE", type=Path, nargs="*", help="traces, or recordings, to be replayed")
    parser.add_argument("--all-pairs", action="store_true", help="swap every pair of stages, not only neighbours")
    parser.add_argument(
        "--wish", metavar="A<B", action="append", default=[], help="look for an order with A before B; may be repeated"
    )
    parser.add_argument(
        "--tell-apart", action="store_true", help="make the fewest requests whose answers tell orders apart"
    )
    parser.add_argument(
        "--write",
        metavar="FILE",
        type=outgoing,
        help="where the order that was found goes, as a variant; or the requests",
    )
    parser.add_argument(
        "--picture", metavar="FILE", type=outgoing_picture, help="the matrix as a picture: FILE.png or FILE.svg"
    )
    parser.add_argument("--format", choices=["text", "json"], default="text", help="text for people (default), or json")
    parser.add_argument(
        "--budget", metavar="N", type=count, default=BUDGET, help=f"how much --tell-apart tries at most ({BUDGET:,})"
    )
    parser.add_argument(
        "--allow-env", metavar="NAME", action="append", default=[], help="let traces read this variable"
    )
    group = parser.add_argument_group("recordings")
    group.add_argument("--expect-recorded", action="store_true", help="which order explains the recorded statuses?")
    group.add_argument("--host", help="the host that the pipeline stands for")
    group.add_argument("--sign", metavar="SCHEME:ACCOUNT", help="give requests a fresh credential of this account")


def run(args: Namespace) -> int:
    """Swap, search or tell apart. Returns 1 where no order has what is wished for."""
    if args.write is not None and args.write.exists() and args.write.samefile(args.pipeline):
        raise unusable(f"{args.write} is the pipeline itself", "write the variant into another file")
    pipeline = pipeline_of(args)
    if args.tell_apart:
        return _tell_apart(args, pipeline)
    wishes = [_wish(text, pipeline) for text in args.wish]
    traces = [_trace(args, path).prepared(pipeline) for path in args.traces]
    if not traces and not wishes:
        raise unusable("there is no trace to replay", "name one, or a --wish, or --tell-apart")
    if any(trace.streams for trace in traces):
        raise unusable("a trace in bulk can't be replayed so often", "name one that people write")
    pairs = _swapped(args, pipeline, traces)
    search = Constraints(pipeline, traces, wishes)
    search.watch = progress("orders replayed")
    found = search.search() if wishes or search.broken(search.present) else None
    done()
    replays = len(pairs) + bool(pairs) + search.replays
    if args.format == "json":
        from patient_usher.output.result import dump

        never = found.never if found is not None else ()
        sys.stdout.buffer.write(dump(report.document(pairs, found, replays, never=never)) + b"\n")
    else:
        painter = stdout_painter(dict(os.environ))
        title = f"{pipeline.name}: {len(pairs)} pairs, {replays:,} replays"
        if pairs:
            before = told(outcome(pipeline, traces, args.seed).records)
            painter.write(report.told(title, movable(pipeline), _hidden(pairs), before))
        if found is not None:
            painter.write(report.search_told(search.present, found))
    if args.picture is not None:
        report.picture(args.picture, pipeline.name, movable(pipeline), pairs)
    if args.write is not None and found is not None and found.order is not None:
        _write_variant(args, pipeline, found)
    return 1 if found is not None and found.order is None else 0


def _hidden(pairs: list[Pair]) -> list[Pair]:
    """Pairs whose exchanges may be shown."""
    return [pair._replace(swapped=told(pair.swapped)) for pair in pairs]


def _trace(args: Namespace, path: Path) -> Trace:
    har = HarOptions(args.host, args.sign, args.expect_recorded)
    return Trace.read(path, har=har, allow_files=args.allow_files, allow_env=args.allow_env)


def _wish(text: str, pipeline: Blueprint) -> tuple[str, str]:
    before, sign, after = text.partition("<")
    known = movable(pipeline)
    if not sign:
        raise unusable(f"'{text}' is no wish", "write A<B, in quotes")
    for name in (before.strip(), after.strip()):
        if name not in known:
            raise unusable(f"no stage that can move is called '{name}'", did_you_mean(name, known))
    if before.strip() == after.strip():
        raise unusable(f"'{text}' can't be had: no stage stands before itself", "name two stages")
    return before.strip(), after.strip()


def _swapped(args: Namespace, pipeline: Blueprint, traces: list[BoundTrace]) -> list[Pair]:
    if not traces:
        return []
    count = len(pairs_of(movable(pipeline), every=args.all_pairs))
    watch = progress(f"of {count} pairs swapped")
    return list(swaps(pipeline, traces, every=args.all_pairs, seed=args.seed, watch=watch))


def _tell_apart(args: Namespace, pipeline: Blueprint) -> int:
    apart = told_apart(pipeline, budget=args.budget, watch=progress("requests tried in every order"))
    done()
    if args.format == "json":
        from patient_usher.output.result import dump

        document = report.document([], None, apart.tried, apart)
        document["apart"]["requests"] = report.trace_of(apart, BASE)["requests"]
        sys.stdout.buffer.write(dump(ENVIRONMENT.hidden(document)) + b"\n")
    else:
        stdout_painter(dict(os.environ)).write(report.apart_told(pipeline.name, apart))
    if args.write is not None:
        write_whole(args.write, yaml_of(report.trace_of(apart, BASE)))
        print(f"wrote {len(apart.requests)} requests to {args.write}", file=sys.stderr)
    return 0


def _write_variant(args: Namespace, pipeline: Blueprint, found: Found) -> None:
    assert found.order is not None
    like = os.path.relpath(args.pipeline, args.write.parent)
    order = as_listed(pipeline, found.order)
    write_whole(args.write, yaml_of({"patient-usher": "pipeline/1", "like": like, "order": order}, deep=1))
    print(f"wrote {args.write}, a variant of {args.pipeline}", file=sys.stderr)
