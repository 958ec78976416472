"""Bring traffic in: access logs, curl commands and recordings become traces, an OpenAPI description a pipeline; a
trace becomes a smaller or a faster one.

The format is found by looking. Credentials are hidden by default.
"""

from __future__ import annotations

import json
import sys
from argparse import ArgumentParser, Namespace
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from hashlib import blake2b
from itertools import islice
from pathlib import Path
from time import monotonic
from typing import Any

from patient_usher.core.http.dates import timestamp
from patient_usher.core.model.document import Problem, Spot, Unusable
from patient_usher.files.logs import FORMATS, Counted, Seen, Writing, lines, merged, opened, size_of, trace_lines
from patient_usher.files.text import MAX_OCTETS, decoded, parse, parse_value
from patient_usher.files.writing import write_whole, writing
from patient_usher.reports.paint import shown
from patient_usher.reports.snippet import yaml_of

KINDS = (*FORMATS, "curl", "har", "openapi", "trace")


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("files", metavar="FILE", type=Path, nargs="+", help="what to import; - is standard input")
    parser.add_argument("--into", metavar="FILE", type=Path, required=True, help="the trace or pipeline to write")
    parser.add_argument("--format", choices=KINDS, help="what the files are; found by looking, if left out")
    parser.add_argument("--base", metavar="URL", default="https://service.example", help="the origin of paths in logs")
    parser.add_argument(
        "--fields", metavar="WHAT=MEMBER,...", default="",
        help="members of a JSON Lines log: at, method, target, status, address, user, referrer, agent, host",
    )  # fmt: skip
    parser.add_argument("--expect-recorded", action="store_true", help="expect the statuses that were recorded")
    parser.add_argument(
        "--sign", metavar="SCHEME", choices=["bearer", "basic", "api-key"], help="sign as the logged user"
    )
    parser.add_argument("--keep-secrets", action="store_true", help="don't hide tokens, keys and addresses in queries")
    parser.add_argument("--strict", action="store_true", help="refuse files with lines that can't be read")
    parser.add_argument("--allow-files", action="store_true", help="let curl commands read the files that they name")
    parser.add_argument("--where", metavar="WHEN", help="only requests that fit, as in '{path: /v1/**, method: GET}'")
    parser.add_argument("--first", metavar="N", type=int, help="only the first so many")
    parser.add_argument("--sample", metavar="SHARE", type=float, help="only this share of the callers, as in 0.01")
    parser.add_argument("--faster", metavar="N", type=float, default=1.0, help="so many times as fast")
    parser.add_argument("--shift", metavar="DURATION", default="0s", help="so much later")


def run(args: Namespace) -> int:
    """Import. Returns the exit status."""
    kinds = {args.format or _looked_at(path) for path in args.files}
    if len(kinds) > 1:
        raise _unusable(
            str(args.files[0]), f"the files are of several formats: {', '.join(sorted(kinds))}", "import one at a time"
        )
    kind = kinds.pop()
    if kind in FORMATS:
        return _logs(args, kind)
    if len(args.files) > 1:
        raise _unusable(str(args.files[1]), f"one {kind} at a time can be imported", "name one file")
    return {"curl": _curl, "har": _har, "openapi": _openapi, "trace": _trace}[kind](args)


def _unusable(file: str, what: str, mend: str) -> Unusable:
    return Unusable([Problem(Spot(file, 1, 1), what, mend)])


def _looked_at(path: Path) -> str:
    """What a file is, by its first lines."""
    with opened(path) as stream:
        head = stream.read(65_536).decode(errors="replace").lstrip("\ufeff \t\r\n")
    first = head.partition("\n")[0]
    if first.startswith(("#Version", "#Fields", "#Software", "#Date")):
        return "w3c"
    if '"patient-usher"' in first or head.startswith("patient-usher:") or "\npatient-usher: trace" in head:
        return "trace"
    if any(f"{mark}openapi{mark}:" in head[:2000] for mark in ('"', "")):
        return "openapi"
    if head.startswith("{"):
        whole = first.rstrip().endswith("}") and len(first) > 2
        return "json-lines" if whole and '"entries"' not in first else "har"
    if any(line.removeprefix("$ ").startswith("curl") for line in head.splitlines()):
        return "curl"
    return "combined"


# Logs.


def _logs(args: Namespace, kind: str) -> int:
    counted = Counted()
    named = dict(part.split("=", 1) for part in args.fields.split(",") if "=" in part)
    streams = [lines(path, FORMATS[kind](named), counted) for path in args.files]
    seen: Iterator[Seen] = merged(streams) if len(streams) > 1 else streams[0]
    if args.where is not None or args.sample is not None:
        fits = _fitting(args)
        seen = (one for one in seen if fits(_as_row(one)))
    how = Writing(args.expect_recorded, args.keep_secrets, args.sign)
    rows: Iterable[tuple[int, bytes, Seen]] = trace_lines(seen, how, counted)
    if args.first is not None:
        rows = islice(rows, args.first)
    size = sum(map(size_of, args.files))
    _write_lines(args, _timed(args, rows), counted, size)
    _tell(args, counted)
    return 0


def _as_row(one: Seen) -> dict[str, Any]:
    headers = {name: value for name, value in (("User-Agent", one.agent), ("Referer", one.referrer)) if value}
    return {
        "send": f"{one.method} {one.target}",
        "address": one.address or "",
        "headers": headers,
        "status": one.status,
    }


def _timed(args: Namespace, rows: Iterable[tuple[int, bytes, Seen]]) -> Iterator[tuple[int, int, bytes]]:
    """Each row's time from the start, faster and later as it is wished; the first carries the start."""
    from patient_usher.core.model.scalars import parse_duration

    shift, starts = parse_duration(args.shift), None
    for at, row, _ in rows:
        if starts is None:
            starts = at
        yield starts, shift + (at - starts if args.faster == 1 else int((at - starts) / args.faster)), row


def _write_lines(args: Namespace, rows: Iterator[tuple[int, int, bytes]], counted: Counted, size: int) -> None:
    """Write the trace whole or not at all, as it streams by."""
    with writing(args.into) as out:
        for number, (starts, at, row) in enumerate(_watched(rows, counted, size), 1):
            if number == 1:
                out.write(json.dumps(_header(args, starts)).encode() + b"\n")
            out.write(b'{"id":"r%d","at":"%dus",%s\n' % (number, at, row))
        if not counted.written:
            out.write(json.dumps(_header(args, None)).encode() + b"\n")
        if args.strict and counted.odd:
            file, line, why, text = counted.first[0]
            mend = "leave --strict out to pass such lines over"
            raise Unusable([Problem(Spot(file, line, 1), f"{why}: {text}", mend)])


def _header(args: Namespace, starts: int | None) -> dict[str, Any]:
    name = ", ".join(path.name for path in args.files)
    header = {"patient-usher": "trace/1", "name": f"{name}; what came within a second is spread over it evenly"}
    return {**header, **({"starts": timestamp(starts)} if starts is not None else {}), "base": args.base}


def _watched(rows: Iterator[Any], counted: Counted, size: int) -> Iterator[Any]:
    """The rows; on a terminal it is seen how far they are, and how long the rest may take."""
    if not sys.stderr.isatty():
        yield from rows
        return
    began = monotonic()
    for number, row in enumerate(rows, 1):
        if number % 20_000 == 0:
            rate = number / max(monotonic() - began, 0.001)
            left = f", about {max(size / 180 - number, 0) / rate:.0f} s left" if size else ""
            print(f"\r{number:,} requests{left}\x1b[K", end="", file=sys.stderr, flush=True)
        yield row
    print("\r\x1b[K", end="", file=sys.stderr, flush=True)


def _tell(args: Namespace, counted: Counted) -> None:
    print(f"wrote {counted.written:,} requests of {counted.read:,} lines to {args.into}")
    parts = [
        (counted.spread, "came within a second with others, and are spread over it evenly"),
        (counted.late, "came more than five seconds late, and are taken for later ones"),
        (counted.hidden, "had something secret in a query, which is hidden; --keep-secrets keeps it"),
        (counted.odd, "can't be read or replayed"),
    ]
    for count, words in parts:
        if count:
            print(f"  {count:,} {words}")
    for file, number, why, text in counted.first:
        place = f"{file}:{number}: " if file else ""
        print(shown(f"    {place}{why}: {text}"))


# Which requests.


def _fitting(args: Namespace) -> Callable[[dict[str, Any]], bool]:
    """Whether a request fits --where, and its caller is one of the sample."""
    test = _where(args.where) if args.where is not None else None

    def fits(row: dict[str, Any]) -> bool:
        if args.sample is not None:
            caller = str(row.get("address") or row.get("caller") or "")
            share = int.from_bytes(blake2b(caller.encode(), digest_size=8).digest(), "big") / 2**64
            if share >= args.sample:
                return False
        return test is None or test(row)

    return fits


def _where(text: str) -> Callable[[dict[str, Any]], bool]:
    """The matcher that ``when`` has, on a trace's line. Raises Unusable."""
    from pydantic import ValidationError

    from patient_usher.core.http.fields import Fields
    from patient_usher.core.http.messages import Answer, Request
    from patient_usher.core.http.urls import parse_url
    from patient_usher.core.model.exchange import Exchange
    from patient_usher.core.model.invalid import problems_of
    from patient_usher.core.model.matcher import When, compile_when

    doc = parse_value(text)
    try:
        test = compile_when(When.model_validate(doc))
    except ValidationError as error:
        raise Unusable(
            problem._replace(spot=Spot("--where", 1, 1)) for problem in problems_of(error, doc, When)
        ) from None

    def fits(row: dict[str, Any]) -> bool:
        method, _, target = row["send"].partition(" ")
        try:
            url = parse_url(target if "://" in target else f"https://service.example{target}")
        except ValueError:
            return False
        fields = Fields([(name, str(value)) for name, value in row.get("headers", {}).items()])
        x = Exchange(0, "", Request(method, url, fields, b"", row.get("address") or ""), 0)
        x.address, x.scheme, x.host = row.get("address") or "", url.scheme, url.host
        if row.get("status") is not None:
            x.answer = Answer(row["status"], Fields())
        return test is None or test(x)

    return fits


# What people write.


def _text(path: Path) -> str:
    with opened(path) as stream:
        return decoded(stream.read(MAX_OCTETS), str(path))


def _curl(args: Namespace) -> int:
    from patient_usher.files.curl import commands
    from patient_usher.files.pipeline import Beside

    path = args.files[0]
    read_file = Beside(path.parent, anywhere=True) if args.allow_files else None
    found = list(commands(_text(path), str(path), read_file))
    if not found:
        raise _unusable(str(path), "no curl command stands here", "paste one, as browsers copy it")
    bases = Counter(command.base for command in found)
    base = bases.most_common(1)[0][0]
    requests = []
    for number, command in enumerate(found, 1):
        row = dict(command.request)
        if command.base != base:
            method, _, target = row["send"].partition(" ")
            row["send"] = f"{method} {command.base}{target}"
        row = {"id": f"curl-{number}", **({"caller": "follower"} if command.follows else {}), **row}
        requests.append(row if args.keep_secrets else _hidden(row))
    callers = {"callers": {"follower": {"redirects": "follow"}}} if any(one.follows for one in found) else {}
    trace = {"patient-usher": "trace/1", "base": base, **callers, "requests": requests}
    write_whole(args.into, yaml_of(trace))
    print(f"wrote {len(requests)} request{'' if len(requests) == 1 else 's'} to {args.into}")
    unknown = sum((command.unknown for command in found), Counter[str]())
    for option, count in unknown.items():
        print(f"  {count} × {option}: no option that is known here; it is left out")
    return 0


def _hidden(row: dict[str, Any]) -> dict[str, Any]:
    """A request whose credentials are hidden; their names and schemes stay."""
    from patient_usher.core.http.secrets import carries
    from patient_usher.files.logs import HIDDEN, target_of

    method, _, target = row["send"].partition(" ")
    found = {**row, "send": f"{method} {target_of(target, keeps_secrets=False)[0]}"}
    headers = {}
    for name, value in row.get("headers", {}).items():
        scheme, space, _ = value.partition(" ")
        secret = f"{scheme} {HIDDEN}" if name.lower() == "authorization" and space else HIDDEN
        headers[name] = secret if carries(name) else value
    return {**found, "headers": headers} if headers else found


def _har(args: Namespace) -> int:
    from patient_usher.files.har import trace_of_har
    from patient_usher.files.pipeline import pipeline_of_text
    from patient_usher.files.trace import HarOptions

    doc = parse(_text(args.files[0]), str(args.files[0]))
    blank = pipeline_of_text("patient-usher: pipeline/1\n", "none")
    trace, notes = trace_of_har(doc, blank, HarOptions(expect_recorded=args.expect_recorded))
    return _written(args, trace, notes)


def _trace(args: Namespace) -> int:
    from patient_usher.files.trace import header_of

    with opened(args.files[0]) as stream:
        if header_of(stream.readline(MAX_OCTETS)) is None:
            return _written(args, parse(_text(args.files[0]), str(args.files[0])), [])
    return _fewer_lines(args)


def _written(args: Namespace, trace: Any, notes: list[str]) -> int:
    """A trace in memory, with the requests that are wanted, as they are wanted."""
    from patient_usher.core.model.scalars import parse_duration

    entries = trace.get("requests") or []
    fits = _fitting(args)
    kept = [entry for entry in entries if "send" not in entry or fits(entry)]
    kept = kept[: args.first] if args.first is not None else kept
    rows = []
    for entry in kept:
        row = dict(entry)
        for key in ("at", "after", "every"):
            if key in row:
                later = parse_duration(args.shift) if key == "at" else 0
                row[key] = f"{int(parse_duration(row[key]) / args.faster) + later}us"
        rows.append(row)
    write_whole(args.into, yaml_of({**trace, "requests": rows}))
    print(f"wrote {len(rows)} of {len(entries)} requests to {args.into}")
    for note in notes:
        print(f"  {note}")
    return 0


def _fewer_lines(args: Namespace) -> int:
    """A trace in bulk, line by line."""
    from patient_usher.core.model.scalars import parse_duration

    fits, shift = _fitting(args), parse_duration(args.shift)
    read = written = 0
    with writing(args.into) as out, opened(args.files[0]) as stream:
        out.write(stream.readline(MAX_OCTETS))
        for number, raw in enumerate(iter(lambda: stream.readline(MAX_OCTETS), b""), 2):
            try:
                row = json.loads(raw)
                wanted = "send" not in row or fits(row)
            except (ValueError, TypeError, AttributeError):
                spot = Spot(str(args.files[0]), number, 1)
                raise Unusable([Problem(spot, "this line is no request", "write one a line")]) from None
            read += 1
            if not wanted:
                continue
            if args.first is not None and written >= args.first:
                break
            for key in ("at", "after", "every"):
                if key in row:
                    later = shift if key == "at" else 0
                    row[key] = f"{int(parse_duration(row[key]) / args.faster) + later}us"
            out.write(json.dumps(row, ensure_ascii=False, separators=(",", ":")).encode() + b"\n")
            written += 1
    print(f"wrote {written:,} of {read:,} requests to {args.into}")
    return 0


def _openapi(args: Namespace) -> int:
    from patient_usher.files.openapi import pipeline_of_openapi

    doc = parse(_text(args.files[0]), str(args.files[0]))
    text, notes = pipeline_of_openapi(doc, args.files[0].name)
    write_whole(args.into, text)
    print(f"wrote {args.into}")
    for note in notes:
        print(f"  {note}")
    return 0
