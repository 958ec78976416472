"""Write what happens now into a trace as what is expected. Comments, order and style stay as they are.

A request that expects something already is left alone, and told where it doesn't hold.
"""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from collections import Counter
from difflib import unified_diff
from pathlib import Path
from typing import Any

from patient_usher.cli.arguments import unusable
from patient_usher.cli.common import add_pipeline_arguments, pipeline_of
from patient_usher.core.engine.replay import Send
from patient_usher.core.engine.run.world import World
from patient_usher.core.model.document import Problem, Spot, Unusable, did_you_mean
from patient_usher.core.verify.observed_expectations import observed
from patient_usher.files.atomic_write import write_whole
from patient_usher.files.expectation_writer import accepted
from patient_usher.files.trace import Trace
from patient_usher.output.terminal import shown
from patient_usher.use_cases.session import sends


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    add_pipeline_arguments(parser)
    parser.add_argument("trace", metavar="TRACE", type=Path, help="the trace to write into")
    parser.add_argument(
        "--only", metavar="ID", action="append", default=[], help="write of this request only; may be repeated"
    )
    parser.add_argument("--dry-run", action="store_true", help="write nothing; print what would change, as a patch")
    parser.add_argument(
        "--replace", action="store_true", help="put what happens now into the place of what is expected"
    )
    parser.add_argument(
        "--allow-env", metavar="NAME", action="append", default=[], help="let the trace read this variable"
    )


def run(args: Namespace) -> int:
    """Accept. Returns 1 where expectations that are there don't hold and stay."""
    pipeline = pipeline_of(args)
    trace = Trace.read(args.trace, allow_files=args.allow_files, allow_env=args.allow_env)
    if trace.recorded:
        what = "a recording is no trace to write into"
        raise Unusable(
            [Problem(Spot(str(args.trace), 1, 1), what, "replay it with --expect-recorded, or write a trace")]
        )
    prepared = trace.prepared(pipeline)
    for id_ in args.only:
        if prepared.ids and id_ not in prepared.ids:
            raise unusable(f"there is no request '{id_}'", did_you_mean(id_, prepared.ids), "--only")
    expects: dict[str, dict[str, Any]] = {}
    broken: list[str] = []
    tallies: dict[str, Counter[int]] = {}
    for send, checks, _ in sends(World(pipeline, args.seed), prepared):
        id_ = send.entry.id
        if args.only and id_ not in args.only:
            continue
        if send.failures:
            broken.append(id_)
        elif not send.recipe.expects or args.replace:
            expects[id_] = _seen(send, tallies.setdefault(id_, Counter()))
        elif any(not check.ok for check in checks) and id_ not in broken:
            broken.append(id_)
    before, after, ids = accepted(args.trace, expects, replace=args.replace)
    if args.dry_run:
        name = str(args.trace)
        patch = unified_diff(before.splitlines(True), after.splitlines(True), f"a/{name}", f"b/{name}", n=1)
        for line in patch:
            print(shown(line.rstrip("\r\n")))
    elif after != before:
        write_whole(args.trace, after)
    count = f"{len(ids)} request{'' if len(ids) == 1 else 's'}"
    print(f"{'would write' if args.dry_run else 'wrote'} what {count} of {args.trace} come to", file=sys.stderr)
    if broken:
        named = ", ".join(broken[:12]) + (", ..." if len(broken) > 12 else "")
        print(
            shown(f"left alone, since what they expect doesn't hold: {named}; see replay, or --replace"),
            file=sys.stderr,
        )
    return 1 if broken else 0


def _seen(send: Send, tally: Counter[int]) -> dict[str, Any]:
    """What came of a request; of repetitions, how many ended with which status."""
    assert send.final is not None
    if send.recipe.spec.times == 1:
        return observed(send.final)
    tally[send.final.answer.status if send.final.answer is not None else 0] += 1
    return {"tally": {status: count for status, count in sorted(tally.items()) if status}}
