"""Find what is wrong with a pipeline's order and options, each finding with the request that proves it.

Every proof is run through the model, as it is and mended, before it is printed.
"""

from __future__ import annotations

import os
import sys
from argparse import SUPPRESS, ArgumentParser, Namespace
from pathlib import Path
from typing import Any

from patient_usher import __version__
from patient_usher.cli.arguments import count, unusable
from patient_usher.cli.common import add_pipeline_arguments, pipeline_of
from patient_usher.core.analysis.findings.check import Checked, check, mend_all, variant_of
from patient_usher.core.analysis.findings.rule import LEVELS
from patient_usher.core.analysis.findings.rules import rule, rules
from patient_usher.core.analysis.requests.factory import Probe
from patient_usher.core.analysis.requests.runner import BASE, BUDGET
from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.model.document import Problem, Spot, Unusable, did_you_mean
from patient_usher.files.atomic_write import write_whole
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.files.trace import Trace
from patient_usher.output import findings as report
from patient_usher.output.terminal import stdout_painter
from patient_usher.output.yaml_snippet import yaml_of


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    add_pipeline_arguments(parser, optional=True)
    parser.add_argument(
        "--trace", "-t", metavar="T", type=Path, action="append", default=[],
        help="its requests are tried too, and no mend may make any of them worse; may be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--level", choices=LEVELS, default="warning", help="from which level on the exit status is 1 (default: warning)"
    )
    parser.add_argument(
        "--budget", metavar="N", type=count, default=BUDGET, help=f"how many requests are tried at most ({BUDGET:,})"
    )
    parser.add_argument(
        "--format", choices=["text", "json", "sarif"], default="text", help="text for people (default), json or sarif"
    )
    parser.add_argument(
        "--mend", metavar="CODE[@STAGE]", action="append", default=[],
        help="write a variant of the file in which this is mended, or all; may be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--into", metavar="FILE", type=Path, help="where the variant goes (default: PIPELINE-mended.yaml, beside it)"
    )
    parser.add_argument("--explain", metavar="CODE", help="a page of the manual: what, why, an example, the mend")
    parser.add_argument("--allow-env", metavar="NAME", action="append", default=[], help=SUPPRESS)


def run(args: Namespace) -> int:
    """Check. Returns 1 where something of the asked level is found."""
    if args.explain is not None:
        return _explain(args.explain)
    if args.pipeline is None:
        raise unusable("no pipeline is named", "write usher check PIPELINE")
    pipeline = pipeline_of(args, warns=False)
    checked = checked_by(pipeline, args)
    if args.mend:
        return _mend(args, checked)
    if args.format == "text":
        command = f"usher check {args.pipeline}"
        stdout_painter(dict(os.environ)).write(_hidden(report.told(checked, command=command)))
    else:
        found = report.document(checked) if args.format == "json" else report.sarif(checked, rules(), __version__)
        from patient_usher.output.result import dump

        sys.stdout.buffer.write(dump(ENVIRONMENT.hidden(found)) + b"\n")
    return 1 if checked.at_least(args.level) else 0


def checked_by(pipeline: Blueprint, args: Namespace) -> Checked:
    """What a check with these arguments comes to. Raises Unusable for a trace that doesn't fit."""
    prepared, probes, base = [], list[Probe](), BASE
    for path in args.trace:
        trace = Trace.read(path, allow_files=args.allow_files, allow_env=args.allow_env)
        prepared.append(trace.prepared(pipeline))
        if prepared[-1].streams:
            raise unusable(f"{path} is a trace in bulk", "name one that people write")
        probes += _probes(trace.requests_for(pipeline))
        base = prepared[0].base
    return check(pipeline, budget=args.budget, base=base, traces=prepared, more=probes)


def _probes(doc: Any) -> list[Probe]:
    """A trace's requests, each by itself, as something to be tried."""
    callers = doc.get("callers") or {}
    found = []
    for entry in doc.get("requests") or ():
        if "send" in entry and "${kept" not in str(entry):
            request = {k: v for k, v in entry.items() if k not in ("id", "expect", "expect-in", "at", "after", "keep")}
            found.append(Probe("trace", (request,), {k: v for k, v in callers.items() if k == entry.get("caller")}))
    return found


def _mend(args: Namespace, checked: Checked) -> int:
    wanted = [] if args.mend == ["all"] else args.mend
    known = [name for found in checked.findings for name in (found.rule.code, found.where)]
    for name in wanted:
        if name not in known:
            raise unusable(f"nothing called '{name}' is found", did_you_mean(name, known) or "nothing needs mending")
    mended, done = mend_all(checked, wanted)
    if not done:
        print("nothing needs mending", file=sys.stderr)
        return 0
    path = args.into or Path(report.mended_name(str(args.pipeline)))
    if path.exists() and args.into is None:
        raise Unusable([Problem(Spot(str(path), 1, 1), "this file is there already", "name another with --into")])
    like = os.path.relpath(args.pipeline, path.parent)
    change = {"patient-usher": "pipeline/1", "like": like, **variant_of(checked.blueprint, mended)}
    notes = "".join(f"# {found.where}: {found.mend.words}.\n" for found in done)
    write_whole(path, notes + yaml_of(change))
    for found in done:
        print(f"{found.where}: {found.mend.words}")
    print(f"wrote {path}, a variant of {args.pipeline}")
    return 0


def _explain(code: str) -> int:
    codes = [known.code for known in rules()]
    if code not in codes:
        raise unusable(f"there is no finding '{code}'", did_you_mean(code, codes))
    from patient_usher.files.pipeline import pipeline_of_text

    checked = check(pipeline_of_text(rule(code).example.lstrip("\n"), "example.yaml"))
    stdout_painter(dict(os.environ)).write(report.explained(rule(code), checked))
    return 0


def _hidden(lines: Any) -> Any:
    """Lines in which nothing of the environment stands."""
    return ([piece._replace(text=ENVIRONMENT.hidden(piece.text)) for piece in pieces] for pieces in lines)
