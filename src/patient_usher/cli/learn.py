"""Learn a model of a service: ask it, and write the pipeline that answers as it did, with the questions as a trace.

Only requests are sent that change nothing (GET, HEAD, OPTIONS, TRACE). What no answer showed is said beside it.
"""

from __future__ import annotations

import os
import sys
from argparse import ArgumentParser, Namespace
from collections.abc import Callable
from pathlib import Path

from patient_usher.cli.arguments import count, duration, outgoing, unusable
from patient_usher.cli.common import admitted, certificates_of
from patient_usher.core.model.document import Json
from patient_usher.core.questions.learn.document import written
from patient_usher.core.questions.learn.interview import MOST, Account, Known, Question
from patient_usher.core.questions.learn.result import LearnedService
from patient_usher.files.atomic_write import write_whole
from patient_usher.files.openapi import pipeline_of_openapi
from patient_usher.files.python_code import PythonFrom
from patient_usher.files.trace import Trace
from patient_usher.files.yaml_reader import parse, read_text
from patient_usher.output import learn as report
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.result import document
from patient_usher.output.terminal import line, stdout_painter
from patient_usher.output.yaml_snippet import file_of
from patient_usher.use_cases.drift import WAIT_AT_MOST
from patient_usher.use_cases.learn import account_of, learn, routes_at, routes_of
from patient_usher.use_cases.session import load

EXAMPLES = (
    "usher learn --at http://127.0.0.1:8000 --path 'GET /tides' --path 'GET /ledger' --into pipeline.yaml",
    "usher learn --at http://127.0.0.1:8000 --from openapi.yaml --credential 'ada:api-key=${env:ADA_KEY}'",
)


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    service = parser.add_mutually_exclusive_group(required=True)
    service.add_argument("--at", metavar="URL", help="the origin of the service")
    service.add_argument(
        "--app", metavar="APP", help="an ASGI or WSGI application, MODULE:NAME, in this folder; needs --trust python"
    )
    parser.add_argument(
        "--from", metavar="FILE", dest="from_", type=Path, action="append", default=[],
        help="take the routes from an OpenAPI description, a pipeline, a trace, a recording or a log; may be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--path", metavar="'METHOD PATH'", action="append", default=[],
        help="name a route, as in 'GET /berths/{berth}'; may be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--credential", metavar="[NAME:]SCHEME=VALUE", action="append", default=[],
        help="use a credential: api-key, bearer or basic (NAME:PASSWORD), VALUE or ${env:VARIABLE}; may be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--key-header", metavar="NAME", default="X-Api-Key", help="send keys in this header (default: X-Api-Key)"
    )
    parser.add_argument(
        "--origin", metavar="ORIGIN", action="append", default=[],
        help="ask as a page of this origin, which the service lists; may be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--bursts", metavar="N", type=int, default=0,
        help="send up to N requests at once at the end, to find a limit that no header announces",
    )  # fmt: skip
    parser.add_argument("--budget", metavar="N", type=count, default=MOST, help=f"send N requests at most ({MOST})")
    parser.add_argument(
        "--wait-at-most", metavar="DURATION", type=duration, default=WAIT_AT_MOST * 1_000_000,
        help=f"wait so long in all where a limit asks for it (default {WAIT_AT_MOST}s)",
    )  # fmt: skip
    parser.add_argument("--certificate", metavar="FILE", type=Path, help="trust a certificate of this file (PEM)")
    parser.add_argument("--name", default="learned", help="name the pipeline")
    parser.add_argument(
        "--into", metavar="FILE", type=outgoing, default=Path("pipeline.yaml"),
        help="write the pipeline there (default: pipeline.yaml)",
    )  # fmt: skip
    parser.add_argument(
        "--asked", metavar="FILE", type=outgoing, help="write the questions there (default: trace.yaml, beside it)"
    )
    parser.add_argument("--format", choices=["text", "json"], default="text", help="text for people (default), or json")
    parser.add_argument(
        "--trust", metavar="WHAT", action="append", default=[], choices=["python"], help="let --app run"
    )


def run(args: Namespace) -> int:
    """Ask, and write. Returns 1 where the model answers a question otherwise than the service did."""
    if args.app is not None and "python" not in args.trust:
        raise unusable("--app runs code", "give --trust python where you trust it", "--app")
    trace_path = args.asked or args.into.with_name("trace.yaml")
    for path, option in ((args.into, "--into"), (trace_path, "--asked")):
        if path.exists():
            raise unusable(f"{path} is there already", f"name another file with {option}", option)
    try:
        app = PythonFrom(Path())(args.app) if args.app is not None else None
    except ValueError as error:
        what, _, mend = str(error).partition("; ")
        raise unusable(what, mend, "--app") from None
    accounts = _accounts(args)
    painter = stdout_painter()
    found = learn(
        _routes(args),
        app=app,
        at=args.at,
        certificates=certificates_of(args),
        accounts=accounts,
        origins=args.origin,
        base=args.at or "https://service.example",
        name=args.name,
        most=args.budget,
        bursts=args.bursts,
        wait_at_most=args.wait_at_most / 1_000_000,
        watch=_watch(args),
    )
    admitted(found.compiled)
    _write(args.into, trace_path, found, accounts)
    if args.format == "json":
        sys.stdout.buffer.write(document(report.document(found)))
    else:
        painter.write(report.told(found))
        painter.write([line(f"wrote {args.into} and {trace_path}")])
        painter.write([line((f"usher check {args.into} says what is wrong with it", "dim"))])
    return 1 if found.differing else 0


def _watch(args: Namespace) -> Callable[[Question], None]:
    def watch(question: Question) -> None:
        if args.format == "text":
            stdout_painter().write([report.asked(question)])

    return watch


def _accounts(args: Namespace) -> list[Account]:
    found = [
        account_of(text, number, os.environ.get, args.key_header) for number, text in enumerate(args.credential, 1)
    ]
    if len({account.name for account in found}) < len(found):
        raise unusable("two credentials are of one account", "give each a name, as in ada:api-key=...", "--credential")
    return found


def _routes(args: Namespace) -> list[Known]:
    """The routes that the files and the command line name, each once."""
    found: dict[tuple[str, str], Known] = {}
    for path in args.from_:
        for one in _routes_in(path):
            found.setdefault((one.method, one.template), one)
    for one in routes_at(args.path):
        found.setdefault((one.method, one.template), one)
    ids: dict[str, Known] = {}
    for one in found.values():
        id_ = one.id if one.id not in ids else f"{one.id}-{len(ids)}"
        ids[id_] = one._replace(id=id_)
    return list(ids.values())


def _routes_in(path: Path) -> list[Known]:
    doc: Json = None
    if path.suffix in (".yaml", ".yml", ".json"):
        doc = parse(read_text(path), str(path))
    if isinstance(doc, dict) and ("openapi" in doc or "swagger" in doc):
        return routes_of(load(pipeline_of_openapi(doc, path.name).pipeline).compiled)
    if isinstance(doc, dict) and str(doc.get("patient-usher", "")).startswith("pipeline/"):
        return routes_of(load(path).compiled)
    requests = Trace.read(path).requests_for(load({"patient-usher": "pipeline/1"}).compiled).get("requests") or []
    sends = [str(entry["send"]).partition(" ") for entry in requests if "send" in entry]
    targets = [
        (method, "/" + url.partition("://")[2].partition("/")[2] if "://" in url else url) for method, _, url in sends
    ]
    by_path = {(method, target.partition("?")[0]): target for method, target in reversed(targets)}
    return routes_at(f"{method} {target}" for (method, _), target in sorted(by_path.items()))


def _write(into: Path, trace_path: Path, found: LearnedService, accounts: list[Account]) -> None:
    """Both files; nothing of a credential is in them."""
    made = found.learned
    pipeline = written(made.document, accounts)
    kept = pipeline.pop("accounts", None)  # its values name variables, and nothing else
    pipeline = REDACTOR.redacted(pipeline) | ({"accounts": kept} if kept is not None else {})
    heading = f"Learned from {len(found.interview.asked)} requests that a service answered."
    write_whole(into, file_of(pipeline, deep=3, comments=made.comments, heading=heading))
    write_whole(trace_path, file_of(REDACTOR.redacted(found.trace), deep=2))
