"""Write what happens now into traces as what is expected. Comments, order and style stay as they are.

Beside the status, who answered and why, it writes the header fields and members of the body that notice when one option
of the pipeline is changed.

A request that expects something already is left alone, and told where it doesn't hold; so is one that hangs, crashes or
is answered twice.
"""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from difflib import unified_diff
from pathlib import Path

from patient_usher.cli.common import add_pipeline_arguments, done, pipeline_of, progress
from patient_usher.core.model.words import counted
from patient_usher.output.terminal import line, say, stdout_painter
from patient_usher.use_cases.accept import accept

EXAMPLES = (
    "usher accept pipeline.yaml trace.yaml --dry-run",
    "usher accept pipeline.yaml trace.yaml --only sign-in --replace",
)


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument(
        "--only", metavar="ID", action="append", default=[], help="write of this request only; may be repeated"
    )
    parser.add_argument("--dry-run", action="store_true", help="write nothing; print what would change, as a patch")
    parser.add_argument(
        "--replace", action="store_true", help="put what happens now into the place of what is expected"
    )
    parser.add_argument(
        "--with-slips", action="store_true", help="also of requests that hang, crash or are answered twice"
    )
    add_pipeline_arguments(parser, optional="default", always=False)
    parser.add_argument(
        "traces",
        metavar="TRACE",
        type=Path,
        nargs="*",
        help="the trace to write into; traces/ or trace.yaml, if left out",
    )


def run(args: Namespace) -> int:
    """Accept. Returns 1 where requests are left alone."""
    pipeline = pipeline_of(args)
    status = 0
    for trace in args.traces:
        found = accept(
            pipeline,
            trace,
            only=args.only,
            replace=args.replace,
            with_slips=args.with_slips,
            dry_run=args.dry_run,
            seed=args.seed,
            trust=args.trust,
            watch=progress("changes tried"),
        )
        done()
        if args.dry_run:
            before, after = found.before.splitlines(True), found.after.splitlines(True)
            patch = unified_diff(before, after, f"a/{trace}", f"b/{trace}", n=1)
            stdout_painter().write(line(part.rstrip("\r\n")) for part in patch)
        count = counted(len(found.written), "request")
        say(f"{'would write' if args.dry_run else 'wrote'} what happens now with {count} of {trace}")
        for ids, why in (
            (found.broken, "what they expect doesn't hold: {}; see replay, or --replace"),
            (found.slipped, "they hang, crash or are answered twice: {}; --with-slips writes that too"),
        ):
            if ids:
                named = ", ".join(ids[:12]) + (f" and {len(ids) - 12} more" if len(ids) > 12 else "")
                say(f"left alone, since {why.format(named)}")
                status = 1
    return status
