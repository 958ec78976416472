"""Find what is wrong with a pipeline's order and options, each finding with the request that proves it.

Each finding's requests are run through the model, as it is and mended, before they are printed.
"""

from __future__ import annotations

import os
import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path

from patient_usher import __version__
from patient_usher.cli.arguments import count, unusable
from patient_usher.cli.common import add_pipeline_arguments, pipeline_of, trust
from patient_usher.core.decisions.runner import BUDGET
from patient_usher.core.model.document import Problem, Spot, Unusable, did_you_mean
from patient_usher.core.questions.check.rule import LEVELS
from patient_usher.core.questions.check.rules import rule, rules
from patient_usher.core.questions.check.search import Checked, variant_of
from patient_usher.files.atomic_write import write_whole
from patient_usher.files.pipeline import pipeline_of_text
from patient_usher.files.trace import Trace
from patient_usher.files.trace_paths import default_pipeline
from patient_usher.output import findings as report
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.result import document
from patient_usher.output.terminal import line, say, stdout_painter
from patient_usher.output.yaml_snippet import yaml_of
from patient_usher.use_cases.check import check, mend
from patient_usher.use_cases.session import Pipeline

EXAMPLES = (
    "usher check pipeline.yaml trace.yaml --format sarif > findings.sarif",
    "usher check pipeline.yaml --mend all --into mended.yaml",
)


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument(
        "--level", choices=LEVELS, default="warning", help="from which level on the exit status is 1 (default: warning)"
    )
    parser.add_argument(
        "--budget", metavar="N", type=count, default=BUDGET, help=f"how many requests are tried at most ({BUDGET:,})"
    )
    parser.add_argument(
        "--format", metavar="FORMAT", choices=["text", "json", "sarif", "annotations"], default="text",
        help="text for people (default), json, sarif, or annotations: a line a finding, for reviews in hosted CI",
    )  # fmt: skip
    parser.add_argument(
        "--mend", metavar="CODE[@STAGE][=N]", action="append", default=[],
        help="write a variant of the file in which this is mended, or all; =2 takes the second of the mends that are "
        "offered; may be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--into", metavar="FILE", type=Path, help="where the variant goes (default: PIPELINE-mended.yaml, beside it)"
    )
    parser.add_argument(
        "--explain", metavar="CODE", nargs="?", const="",
        help="a page of the manual: what, why, an example, the mend; without a code all findings, a line each",
    )  # fmt: skip
    add_pipeline_arguments(parser, optional=True)
    parser.add_argument(
        "traces", metavar="TRACE", type=Path, nargs="*",
        help="its requests are tried too; no mend may make any of them worse; what it expects must come",
    )  # fmt: skip


def run(args: Namespace) -> int:
    """Check. Returns 1 where something of the asked level is found."""
    if args.explain is not None:
        return explain(args.explain)
    if args.pipeline is None:
        args.pipeline = default_pipeline()
    if args.into is not None and not args.mend:
        raise unusable("nothing is to be written", "say what to mend, as in --mend all", "--into")
    pipeline = pipeline_of(args, warns=False)
    traces = [Trace.read(path, trust=trust(args)) for path in args.traces]
    checked = check(pipeline, *traces, budget=args.budget, seed=args.seed)
    if args.mend:
        return _mend(args, checked, traces)
    if args.format == "text":
        stdout_painter().write(report.told(checked, command=f"usher check {args.pipeline}"))
    elif args.format == "annotations":
        sys.stdout.writelines(f"{each}\n" for each in report.annotated(checked))
    else:
        found = report.document(checked) if args.format == "json" else report.sarif(checked, rules(), __version__)
        sys.stdout.buffer.write(document(found))
    return 1 if checked.at_least(args.level) or checked.unmet is not None else 0


def _mend(args: Namespace, checked: Checked, traces: list[Trace]) -> int:
    """Write the variant. Returns 1 where something that was asked for can't be mended."""
    wanted = [] if args.mend == ["all"] else args.mend
    known = [name for found in checked.findings for name in (found.rule.code, found.where)]
    for name, equals, number in (one.partition("=") for one in wanted):
        if name not in known:
            raise unusable(f"nothing called '{name}' is found", did_you_mean(name, known) or "nothing needs mending")
        most = max(len(found.choices) for found in checked.findings if name in (found.rule.code, found.where))
        if equals and most and number not in map(str, range(1, most + 1)):
            only = "only one mend" if most == 1 else f"mends 1 to {most}"
            raise unusable(f"{name} has no mend '{number}'", f"check offers {only} for it", "--mend")
    named = [one.partition("=")[0] for one in wanted]
    mended, done, new = mend(checked, *traces, wanted=wanted)
    withheld = [
        found
        for found in checked.findings
        if found.withheld is not None and (not named or found.rule.code in named or found.where in named)
    ]
    for found in withheld:
        say(f"{found.where}: no mend is offered; {found.withheld}")
    if not done:
        if not withheld:
            say("nothing needs mending")
        return 1 if withheld else 0
    path = args.into or Path(report.mended_name(str(args.pipeline)))
    if path.exists() and args.into is None:
        raise Unusable([Problem(Spot(str(path), 1, 1), "this file is there already", "name another with --into")])
    like = os.path.relpath(args.pipeline, path.parent)
    change = {"patient-usher": "pipeline/1", "like": like, **variant_of(checked.compiled, mended)}
    notes = "".join(f"# {found.where}: {found.mend.words}.\n" for found in done)
    write_whole(path, REDACTOR.text(notes + yaml_of(REDACTOR.redacted(change))))
    stdout_painter().write(line(f"{found.where}: {found.mend.words}") for found in done)
    stdout_painter().write([line(f"wrote {path}, a variant of {args.pipeline}")])
    if new:
        say(f"check then finds {', '.join(found.where for found in new)}")
    return 1 if withheld else 0


def explain(code: str) -> int:
    """Print a page of the manual; without a code all findings, a line each."""
    codes = [known.code for known in rules()]
    if not code:
        stdout_painter().write(report.listed(rules()))
        return 0
    if code not in codes:
        raise unusable(f"there is no finding '{code}'", did_you_mean(code, codes))
    checked = check(Pipeline(pipeline_of_text(rule(code).example.lstrip("\n"), "example.yaml")))
    stdout_painter().write(report.explained(rule(code), checked))
    return 0
