"""Send one request through a pipeline and show its whole journey.

METHOD URL is as in a trace: GET /v1/tides?day=2, or a whole URL.
"""

from __future__ import annotations

import re
from argparse import ArgumentParser, Namespace
from collections.abc import Callable
from pathlib import Path

from patient_usher.cli.arguments import method, unusable
from patient_usher.cli.common import add_output_arguments, add_pipeline_arguments, pipeline_of
from patient_usher.cli.replaying import report
from patient_usher.core.model.document import JsonObject, Spot, Unusable
from patient_usher.core.verify.run import run as run_trace
from patient_usher.core.verify.verdict import slips_of
from patient_usher.files.atomic_write import append_request
from patient_usher.files.trace import Trace
from patient_usher.files.trust import Trust
from patient_usher.files.yaml_reader import parse, read_text
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.terminal import say
from patient_usher.use_cases.session import RunState, Session

EXAMPLES = (
    "usher send pipeline.yaml GET '/v1/tides?station=tern'",
    "usher send pipeline.yaml POST /v1/bookings --sign bearer:maren --body json:'{nights: 2}' --append trace.yaml",
)


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument(
        "--header",
        "-H",
        metavar="'NAME: VALUE'",
        action="append",
        default=[],
        help="a header field; may be repeated",
    )
    parser.add_argument(
        "--body",
        metavar="SORT:CONTENT",
        help="json:JSON, form:A=B&C=D, text:TEXT, or file:FILE for a body sent as the file has it",
    )
    parser.add_argument(
        "--sign",
        metavar="SCHEME:ACCOUNT",
        help="a credential minted for an account: bearer, basic or api-key, as in bearer:maren",
    )
    parser.add_argument("--caller", metavar="NAME", help="a caller of the trace that --append names")
    parser.add_argument(
        "--append",
        metavar="TRACE",
        type=Path,
        help="add the request, with what came of it as what is expected, to this trace",
    )
    parser.add_argument("--with-slips", action="store_true", help="also where it hangs, crashes or is answered twice")
    parser.add_argument("--id", metavar="ID", help="the request's id; else made from method and path")
    add_output_arguments(parser)
    add_pipeline_arguments(parser, env=False)
    parser.add_argument("method", metavar="METHOD", type=method, help="GET, POST, ...")
    parser.add_argument("url", metavar="URL", help="a path, or a whole URL")
    parser.set_defaults(details=True, quiet=False, whole=True)


def run(args: Namespace) -> int:
    """Send. Returns the exit status."""
    pipeline = pipeline_of(args)
    spec = request_of(args)
    doc: JsonObject = {"patient-usher": "trace/1", "requests": [spec]}
    if args.append is not None and args.append.exists():
        trace = parse(read_text(args.append), str(args.append))
        if isinstance(trace, dict):
            doc = {**{key: trace[key] for key in ("starts", "base", "callers") if key in trace}, **doc}
            taken = [entry.get("id") for entry in trace.get("requests") or () if isinstance(entry, dict)]
            spec["id"] = _free_id(spec["id"], taken)
    elif args.caller is not None:
        raise unusable("a caller is named, but no trace that declares it", "give --append TRACE", "--caller")
    try:
        # What the command line names is the user's own: it may stand anywhere.
        bound = Trace.document_of(doc, "usher send", trust=Trust(files=True)).bound(pipeline.compiled)
    except Unusable as error:
        raise Unusable(problem._replace(spot=Spot("command line", 1, 1)) for problem in error.problems) from None
    status = 0
    if args.append is not None:
        judged = next(iter(run_trace(RunState(pipeline, args.seed), bound)))
        slips = slips_of(judged.send, ())
        if slips and not args.with_slips:
            say(f"not written to {args.append}: it is {slips[0]}, which nobody can want; --with-slips writes it")
            status = 1
        else:
            append_request(args.append, REDACTOR.redacted(spec), judged.send.final)
            bound = bound._replace(notes=[f"appended to {args.append} as {spec['id']}"])
    return max(status, report(args, Session(pipeline.compiled, [bound], args.seed)))


def request_of(args: Namespace) -> JsonObject:
    """The command line as a trace's request. Raises Unusable."""
    method = args.method
    stem = re.sub(
        r"[^A-Za-z0-9]+", "-", args.url.partition("://")[2].partition("/")[2] or args.url.partition("?")[0]
    ).strip("-")
    target = args.url if re.match(r"/|[A-Za-z][A-Za-z0-9+.-]*://", args.url) else f"/{args.url}"
    spec: JsonObject = {
        "id": args.id or f"{method.lower()}-{stem or 'root'}"[:40],
        "send": f"{method} {target}",
    }
    headers: JsonObject = {}
    for text in args.header:
        name, colon, value = text.partition(":")
        if not colon or not name.strip():
            raise unusable(f"'{text}' is no header field", "write 'NAME: VALUE'", "--header")
        headers.setdefault(name.strip(), []).append(value.strip())
    if headers:
        spec["headers"] = {name: values[0] if len(values) == 1 else values for name, values in headers.items()}
    if args.body is not None:
        spec.update(_body(args.body))
    if args.caller is not None:
        spec["caller"] = args.caller
    if args.sign is not None:
        scheme, colon, account = args.sign.partition(":")
        if not colon or scheme not in ("bearer", "basic", "api-key"):
            raise unusable(
                f"'{args.sign}' says not how and for whom",
                "write bearer:ACCOUNT, basic:ACCOUNT or api-key:ACCOUNT",
                "--sign",
            )
        spec["sign"] = {scheme: account}
    return spec


_BODIES: dict[str, Callable[[str], object]] = {
    "json": lambda text: parse(text, "--body"),
    "form": lambda text: _form(text),
    "text": str,
    "file": str,
}


def _body(text: str) -> JsonObject:
    """``SORT:CONTENT`` as a trace says it. Raises Unusable."""
    sort, colon, content = text.partition(":")
    if not colon or sort not in _BODIES:
        what = f"'{text[:60]}' says not what sort of body this is"
        raise unusable(what, "write json:JSON, form:A=B&C=D, text:TEXT or file:FILE", "--body")
    return {sort: _BODIES[sort](content)}


def _form(text: str) -> JsonObject:
    form: JsonObject = {}
    for pair in text.split("&"):
        name, equals, value = pair.partition("=")
        if not equals:
            raise unusable(f"'{pair}' is no form field", "write form:NAME=VALUE", "--body")
        form.setdefault(name, []).append(value)
    return {name: values[0] if len(values) == 1 else values for name, values in form.items()}


def _free_id(wanted: str, taken: list[object]) -> str:
    number, id_ = 1, wanted
    while id_ in taken:
        number += 1
        id_ = f"{wanted}-{number}"
    return id_
