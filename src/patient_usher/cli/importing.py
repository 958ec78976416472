"""Bring traffic in: access logs, curl commands and recordings become traces, an OpenAPI description a pipeline; a
trace becomes a smaller or a faster one.

The format is found by looking. Credentials are hidden by default.
"""

from __future__ import annotations

import json
import re
import sys
from argparse import ArgumentParser, ArgumentTypeError, Namespace
from collections import Counter
from collections.abc import Iterable, Iterator
from itertools import islice
from pathlib import Path
from time import monotonic
from typing import Any, TypeVar

from patient_usher.cli.arguments import count, duration, factor, share, unusable
from patient_usher.cli.common import add_trust, trust
from patient_usher.core.http.dates import timestamp
from patient_usher.core.model.document import JsonObject, Unusable
from patient_usher.core.model.values import literal
from patient_usher.core.model.words import counted
from patient_usher.files.atomic_write import write_whole, writing
from patient_usher.files.log_as_trace import BASE
from patient_usher.files.log_lines import LogEntry, address_of
from patient_usher.files.log_members import FORMATS, NAMES, by_pattern
from patient_usher.files.log_trace import PRIVATE, Callers, ImportStats, Writing, lines, merged, of_hosts, trace_lines
from patient_usher.files.secret_keeper import MINTED, SecretKeeper, signed_anew
from patient_usher.files.sources import InputSource, format_of, sources
from patient_usher.files.trace_filter import Picking, checked, fitting, picked, picked_lines
from patient_usher.files.yaml_reader import MAX_OCTETS, parse
from patient_usher.output.terminal import line, stdout_painter, wrapped
from patient_usher.output.yaml_snippet import file_of

A = TypeVar("A")
KINDS = (*FORMATS, "curl", "har", "openapi", "trace")


EXAMPLES = (
    "usher import access.log --into day.jsonl --base https://api.ternharbour.example",
    "usher import openapi.yaml --into pipeline.yaml",
)


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("files", metavar="FILE", type=Path, nargs="+", help="what to import; - is standard input")
    parser.add_argument("--into", metavar="FILE", type=Path, required=True, help="the trace or pipeline to write")
    what = f"what the files are: {', '.join(KINDS)}; found by looking, if left out"
    parser.add_argument("--from", dest="form", metavar="FORMAT", choices=KINDS, help=what)
    parser.add_argument("--base", metavar="URL", type=_origin, default=BASE, help="the origin of paths in logs")
    parser.add_argument(
        "--fields", metavar="WHAT=MEMBER,...", default="",
        help=f"which members of JSON, CSV or logfmt hold what: {', '.join(NAMES)}",
    )  # fmt: skip
    parser.add_argument(
        "--pattern",
        metavar="REGEX",
        help="how lines are read: an expression with groups of these names (?P<target>...)",
    )
    parser.add_argument(
        "--host", metavar="HOST", action="append", default=[], help="only requests for this host; may be repeated"
    )
    parser.add_argument(
        "--trusted", metavar="NETWORK", action="append", default=[],
        help="whose word on the forwarded address counts (default: private networks); may be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--logged-at", choices=["end", "start"], default="end",
        help="where lines say how long requests took: whether their time is that of the answer (default), or the start",
    )  # fmt: skip
    parser.add_argument("--expect-recorded", action="store_true", help="expect the statuses that were recorded")
    parser.add_argument(
        "--sign", metavar="SCHEME:ACCOUNT", type=_sign,
        help="fresh credentials for requests that had one: bearer, basic, api-key or same, and whose; for logs SCHEME "
        "alone signs as the user that each line names",
    )  # fmt: skip
    parser.add_argument(
        "--sign-as", metavar="ADDRESS=ACCOUNT", action="append", default=[],
        help="with --sign SCHEME, whose requests come from an address; or, as agent:TEXT=ACCOUNT, from an agent with "
        "this text; may be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--keep-secrets", action="store_true", help="hide nothing: tokens, passwords, cookies and addresses stay"
    )
    parser.add_argument(
        "--hide",
        metavar="NAME",
        action="append",
        default=[],
        help="hide also what goes by this name: of a field, a parameter or a member; may be repeated",
    )
    parser.add_argument("--strict", action="store_true", help="refuse files with lines that can't be read")
    add_trust(parser, env=False)
    parser.add_argument("--where", metavar="WHEN", help="only requests that fit, as in '{path: /v1/**, method: GET}'")
    parser.add_argument("--first", metavar="N", type=count, help="only the first so many")
    parser.add_argument("--sample", metavar="SHARE", type=share, help="only this share of the callers, as in 0.01")
    parser.add_argument("--faster", metavar="N", type=factor, default=1.0, help="so many times as fast")
    parser.add_argument("--shift", metavar="DURATION", type=duration, default="0s", help="so much later")


def _origin(text: str) -> str:
    """An origin: a URL without a path. Raises ArgumentTypeError."""
    from patient_usher.core.http.urls import parse_url

    try:
        url = parse_url(text)
    except ValueError as error:
        raise ArgumentTypeError(f"'{text}' is no origin: {error}") from None
    if url.path.strip("/") or url.query:
        raise ArgumentTypeError(f"'{text}' has more than an origin; write {url.origin}")
    return url.origin


def _sign(text: str) -> tuple[str, str]:
    """``SCHEME:ACCOUNT``, the account empty for the user whom a log names. Raises ArgumentTypeError."""
    scheme, _, account = text.partition(":")
    if scheme not in MINTED or (scheme == "same" and not account):
        raise ArgumentTypeError(f"write SCHEME:ACCOUNT, SCHEME one of {', '.join(MINTED)}")
    return scheme, account


def run(args: Namespace) -> int:
    """Import. Returns the exit status."""
    with sources(args.files) as found:
        looked = ["log" if args.pattern else args.form or format_of(source) for source in found]
        kinds: set[str] = {kind for kind in looked if kind is not None}
        if not kinds:
            raise found[0].unusable("the file is empty", "name one with something in it")
        if len(kinds) > 1:
            what = f"the files are of several formats: {', '.join(sorted(kinds))}"
            raise found[0].unusable(what, "import one format at a time")
        kind = kinds.pop()
        picking = Picking(fitting(args.where, args.sample), args.first, args.faster, args.shift)
        if kind in FORMATS:
            return _logs(args, kind, found, picking)
        if len(found) > 1:
            raise found[1].unusable(f"one {kind} at a time can be imported", "name one file")
        make = {"curl": _curl, "har": _har, "openapi": _openapi, "trace": _trace}[kind]
        return make(args, found[0], picking)


# Logs.


def _logs(args: Namespace, kind: str, found: list[InputSource], picking: Picking) -> int:
    counted = ImportStats()
    named = _fields(args.fields)
    try:
        callers = Callers(args.trusted or PRIVATE)
        pattern = by_pattern(args.pattern) if args.pattern else None
    except ValueError as error:
        what, _, mend = str(error).partition("; ")
        raise unusable(
            what, mend or "write one as in 192.0.2.0/24", "--pattern" if args.pattern else "--trusted"
        ) from None
    streams = [
        lines(source.opened(), source.name, pattern or FORMATS[kind](named), callers, counted) for source in found
    ]
    seen: Iterator[LogEntry] = merged(streams) if len(streams) > 1 else streams[0]
    seen = of_hosts(seen, {host.lower() for host in args.host}, counted)
    seen = picking._replace(first=None).some(seen, _as_row)
    keeper = _keeper(args)
    if args.sign is not None and args.sign[0] == "same":
        raise unusable("a log doesn't say by which scheme its users signed", "write bearer, basic or api-key", "--sign")
    how = Writing(keeper, expects=args.expect_recorded, sign=args.sign, signers=_signers(args))
    rows: Iterable[tuple[int, str, LogEntry]] = trace_lines(seen, how, counted, args.logged_at)
    if picking.first is not None:
        rows = islice(rows, picking.first)
    with writing(args.into) as out:
        size = sum(source.size for source in found)
        starts, moves = None, picking.moves
        for number, (at, row, _) in enumerate(_watched(rows, size), 1):
            if starts is None:
                starts = at
                out.write(json.dumps(_header(args, starts)).encode() + b"\n")
            elapsed = picking.later(at - starts) if moves else at - starts
            out.write(f'{{"id":"r{number}","at":"{elapsed}us",{row}\n'.encode())
        if not counted.written:
            out.write(json.dumps(_header(args, None)).encode() + b"\n")
        if counted.odd and (args.strict or counted.odd == counted.read):
            raise _odd(counted, found, strict=args.strict)
    _tell(args, counted, keeper)
    _note(keeper.told())
    if unmet := [key for key in how.signers if key not in how.met]:
        _tell_line(f"  no request comes from {', '.join(unmet)} (--sign-as)")
    return 0


def _signers(args: Namespace) -> dict[str, str]:
    """Accounts by address or agent. Raises Unusable."""
    found: dict[str, str] = {}
    for text in args.sign_as:
        whom, equals, account = text.rpartition("=")
        address = address_of(whom)
        by_agent = whom.startswith("agent:") and len(whom) > len("agent:")
        if not equals or not account or (address is None and not by_agent):
            raise unusable(f"'{text}' says not whose", "write ADDRESS=ACCOUNT, or agent:TEXT=ACCOUNT", "--sign-as")
        found[address or whom] = account
    if found and args.sign is None:
        raise unusable("--sign-as says whose, not how", "give --sign too, as in --sign api-key", "--sign-as")
    return found


def _fields(text: str) -> dict[str, str]:
    """What ``--fields`` names. Raises Unusable."""
    named = {}
    for part in filter(None, text.split(",")):
        what, equals, member = part.partition("=")
        if not equals or what not in NAMES:
            raise unusable(
                f"'{part}' names no member", f"write WHAT=MEMBER, WHAT one of {', '.join(NAMES)}", "--fields"
            )
        named[what] = member
    return named


def _odd(counted: ImportStats, found: list[InputSource], *, strict: bool) -> Unusable:
    """Lines that can't be read, where that isn't passed over."""
    file, line, why, text = counted.first[0]
    source = next((source for source in found if source.name == file), found[0])
    if strict:
        return source.unusable(f"{why}: {text}", "leave --strict out to pass such lines over", line)
    what = f"none of {counted.read:,} lines can be read; of the first, {why}: {text}"
    return source.unusable(what, "say what the file is with --from", line)


def _as_row(one: LogEntry) -> JsonObject:
    headers = {name: value for name, value in (("User-Agent", one.agent), ("Referer", one.referrer)) if value}
    return {
        "send": f"{one.method} {one.target}",
        "address": one.address or "",
        "headers": headers,
        "status": one.status,
    }


def _header(args: Namespace, starts: int | None) -> JsonObject:
    name = literal(", ".join(path.name for path in args.files))
    header = {"patient-usher": "trace/1", "name": f"{name}; what came within a second is spread over it evenly"}
    return {**header, **({"starts": timestamp(starts)} if starts is not None else {}), "base": args.base}


def _watched(rows: Iterable[A], size: int) -> Iterable[A]:
    """The rows; on a terminal it is seen how far they are, and how long the rest may take."""
    return _with_progress(rows, size) if sys.stderr.isatty() else rows


def _with_progress(rows: Iterable[A], size: int) -> Iterator[A]:
    began = monotonic()
    for number, row in enumerate(rows, 1):
        if number % 20_000 == 0:
            rate = number / max(monotonic() - began, 0.001)
            left = f", about {max(size / 180 - number, 0) / rate:.0f} s left" if size else ""
            print(f"\r{number:,} requests{left}\x1b[K", end="", file=sys.stderr, flush=True)
        yield row
    print("\r\x1b[K", end="", file=sys.stderr, flush=True)


def _tell(args: Namespace, counted: ImportStats, keeper: SecretKeeper) -> None:
    _tell_line(f"wrote {counted.written:,} requests of {counted.read:,} lines to {args.into}")
    if counted.example is not None:
        for part in wrapped(f"the first is taken for {_taken(counted.example, keeper)}", 4):
            _tell_line(f"  {part}")
    parts = [
        (
            counted.lasted,
            "says how long it took: it came so long before it was logged (--logged-at)",
            "say how long they took: they came so long before they were logged (--logged-at)",
        ),
        (counted.spread, *["came within a second with others, and are spread over it evenly"] * 2),
        (
            counted.late,
            "came more than five seconds late, and is taken for a later one",
            "came more than five seconds late, and are taken for later ones",
        ),
        (counted.hidden, "had something in it that is hidden now", "had something in them that is hidden now"),
        (counted.odd, *["can't be read or replayed"] * 2),
    ]
    for times, of_one, of_many in parts:
        if times:
            _tell_line(f"  {times:,} {of_one if times == 1 else of_many}")
    if len(counted.hosts) > 1 and not args.host:
        told = ", ".join(f"{host} {times:,}" for host, times in counted.hosts.most_common(4))
        _tell_line(f"  they are for several hosts ({told}); --host chooses")
    for file, number, why, text in counted.first:
        place = f"{file}:{number}: " if file else ""
        _tell_line(f"    {place}{why}: {text}")


def _taken(one: LogEntry, keeper: SecretKeeper) -> str:
    """A line in words: what was taken for what."""
    parts = [f"{one.method} {keeper.url(one.target)[:80]} at {timestamp(one.at)}"]
    parts += [f"from {one.address}"] if one.address is not None else []
    parts += [f"for {one.host}"] if one.host is not None else []
    parts += [f"by {one.user}"] if one.user is not None else []
    told = " ".join(parts)
    answered = f", answered {one.status}" if one.status is not None else ""
    return told + answered + (f" after {one.took / 1_000_000:g} s" if one.took is not None else "")


def _tell_line(text: str) -> None:
    stdout_painter().write([line(text)])


# What people write.


def _curl(args: Namespace, source: InputSource, picking: Picking) -> int:
    from patient_usher.files.curl import commands
    from patient_usher.files.pipeline import SiblingFiles

    read_file = SiblingFiles(source.path.parent, anywhere=True) if trust(args).files else None
    keeper = _keeper(args)
    found = list(commands(source.text(), source.name, read_file, keeper))
    if not found:
        raise source.unusable("no curl command stands here", "paste one, as browsers copy it")
    bases = Counter(command.base for command in found)
    base = bases.most_common(1)[0][0]
    requests = []
    for number, command in enumerate(found, 1):
        row = dict(command.request)
        if command.base != base:
            method, _, target = row["send"].partition(" ")
            row["send"] = f"{method} {command.base}{target}"
        requests.append({"id": f"curl-{number}", **({"caller": "follower"} if command.follows else {}), **row})
    callers = {"callers": {"follower": {"redirects": "follow"}}} if any(one.follows for one in found) else {}
    trace = {"patient-usher": "trace/1", "base": base, **callers, "requests": requests}
    unknown = sum((command.unknown for command in found), Counter[str]())
    notes = [f"{times} × {option} is left out: what it changes isn't known here" for option, times in unknown.items()]
    if unfilled := dict.fromkeys(_told(text) for command in found for text in command.unfilled):
        shown = ", ".join(islice(unfilled, 5)) + (", and more" if len(unfilled) > 5 else "")
        notes.append(f"not filled in, as a shell would: {shown}")
    return _written(args, trace, [*notes, *keeper.told()], picking)


def _told(unfilled: str) -> str:
    """What isn't filled in, without what a default or a command within it may give away."""
    name = re.match(r"\$\{?(\w+|.)", unfilled)
    return "$(...)" if unfilled.startswith(("$(", "`")) or name is None else f"${name[1]}"


def _har(args: Namespace, source: InputSource, picking: Picking) -> int:
    from patient_usher.files.har import HarOptions, trace_of_har
    from patient_usher.files.pipeline import pipeline_of_text

    blank = pipeline_of_text("patient-usher: pipeline/1\n", "none")

    def traced(doc: Any) -> tuple[Any, list[str]]:  # a keeper of its own for each reading
        keeper = _keeper(args)
        return trace_of_har(doc, blank, HarOptions(expect_recorded=args.expect_recorded, keeper=keeper))

    trace, notes = source.read(traced)
    return _written(args, trace, notes, picking)


def _openapi(args: Namespace, source: InputSource, picking: Picking) -> int:
    from patient_usher.files.openapi import pipeline_of_openapi

    name = Path(source.name).name
    found = source.read(lambda doc: pipeline_of_openapi(doc, name))
    keeper = _keeper(args)
    pipeline = {**found.pipeline, "name": keeper.text(found.pipeline["name"])}
    for route in pipeline["groups"][0]["routes"]:  # all else is made up by the import itself
        route["handler"] = keeper.json(route["handler"])
        if "input" in route:
            route["input"] = {part: keeper.schema(schema) for part, schema in route["input"].items()}
    write_whole(args.into, file_of(pipeline, deep=4, comments=found.comments, heading=found.heading))
    _tell_line(f"wrote {args.into}")
    _note([*found.notes, *keeper.told()])
    return 0


def _trace(args: Namespace, source: InputSource, picking: Picking) -> int:
    from patient_usher.files.lines import header_of

    with source.opened() as stream:
        first = stream.readline(MAX_OCTETS)
        if header_of(first) is None:
            return _written(args, source.read(checked), [], picking)
        checked(parse(first.decode("utf-8-sig"), source.name, places=True))
        written = 0
        with writing(args.into) as out:
            out.write(first)
            for row in picked_lines(stream, source.name, picking):
                written += 1
                out.write(json.dumps(row, ensure_ascii=False, separators=(",", ":")).encode() + b"\n")
    _tell_line(f"wrote {counted(written, 'request')} to {args.into}")
    return 0


def _keeper(args: Namespace) -> SecretKeeper:
    """What hides secrets of this import."""
    return SecretKeeper(keeps=args.keep_secrets, names=frozenset(name.lower() for name in args.hide))


def _written(args: Namespace, trace: JsonObject, notes: list[str], picking: Picking) -> int:
    """Write a trace in memory, the requests that are wanted as they are wanted."""
    if args.sign is not None:
        if not args.sign[1]:
            raise unusable("whose credentials?", f"write --sign {args.sign[0]}:ACCOUNT", "--sign")
        scheme, account = args.sign
        trace["requests"] = [signed_anew(row, scheme, account, trace.get("starts")) for row in trace["requests"]]
    found = picked(trace, picking)
    write_whole(args.into, file_of(found))
    wrote, of = len(found["requests"]), len(trace["requests"])
    _tell_line(f"wrote {wrote:,}{f' of {of:,}' if wrote < of else ''} request{'' if of == 1 else 's'} to {args.into}")
    _note(notes)
    return 0


def _note(notes: list[str]) -> None:
    for note in notes:
        _tell_line(f"  {note}")
