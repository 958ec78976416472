"""Access logs as traces: the common and combined formats, the W3C extended format, and JSON Lines logs.

Lines stream: several files are merged by time, what comes within one second is spread over it evenly, and memory
holds a few seconds of them. A line that can't be read is counted, and the first of them are kept to be shown.
"""

from __future__ import annotations

import heapq
import json
import re
from calendar import timegm
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from functools import lru_cache
from ipaddress import ip_address
from typing import Any, BinaryIO, NamedTuple
from urllib.parse import quote, unquote_plus

from patient_usher.core.http.secrets import PARAMETERS
from patient_usher.core.model.scalars import METHOD
from patient_usher.core.model.values import literal

SECOND = 1_000_000
MAX_LINE = 1 << 20
SHOWN = 3
"""How many lines that can't be read are shown."""
SLACK = 5
"""For how many seconds lines may come late: servers write them when the answer is sent."""
_REMEMBERED = 50_000

HIDDEN = "hidden-by-the-import"


class Seen(NamedTuple):
    """One line of a log: the second in microseconds since the epoch, and what it says of the request."""

    at: int
    method: str
    target: str
    status: int | None = None
    address: str | None = None
    user: str | None = None
    referrer: str | None = None
    agent: str | None = None
    host: str | None = None


class Odd(Exception):
    """A line that can't be read. Its text says why."""


@dataclass
class Counted:
    """What became of the lines."""

    read: int = 0
    written: int = 0
    late: int = 0
    spread: int = 0
    hidden: int = 0
    odd: int = 0
    first: list[tuple[str, int, str, str]] = field(default_factory=list)

    def add_odd(self, name: str, number: int, raw: bytes, why: str) -> None:
        """Count a line that can't be read, and keep it if it is one of the first."""
        self.odd += 1
        if len(self.first) < SHOWN:
            self.first.append((name, number, why, raw.decode(errors="backslashreplace").strip()[:120]))


# The common and the combined format, as web servers write them.

_QUOTED = rb'"([^"\\]*(?:\\.[^"\\]*)*)"'
COMBINED = re.compile(
    rb"(\S+) \S+ ([^\[]*) \[([^\]]+)\] " + _QUOTED + rb" (\d{3}|-) [\d-]+(?: " + _QUOTED + b" " + _QUOTED + b")?"
)
_ESCAPE = re.compile(rb'\\(x[0-9A-Fa-f]{2}|["\\nrtbv])')
_PLAIN = {b"n": b"\n", b"r": b"\r", b"t": b"\t", b"b": b"\b", b"v": b"\v"}
_MONTHS = {
    name: at
    for at, name in enumerate(["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"], 1)
}
_TIME = re.compile(r"(\d{1,2})/([A-Z][a-z]{2})/(\d{4}):(\d\d):(\d\d):(\d\d)(?:\.\d+)? ([+-])(\d\d)(\d\d)")


def _plain(raw: bytes | None) -> str | None:
    """A quoted field without its escapes; None for a hyphen."""
    if raw is None or raw in (b"-", b""):
        return None
    if b"\\" not in raw:
        return raw.decode(errors="replace")
    plain = _ESCAPE.sub(lambda m: bytes([int(m[1][1:], 16)]) if m[1][:1] == b"x" else _PLAIN.get(m[1], m[1]), raw)
    return plain.decode(errors="replace")


_field = lru_cache(maxsize=_REMEMBERED)(_plain)


@lru_cache(maxsize=4096)
def _moment(raw: bytes) -> int:
    """``10/Oct/2031:13:55:36 +0200`` as microseconds since the epoch. Raises Odd."""
    match = _TIME.fullmatch(raw.decode(errors="replace"))
    if match is None or match[2] not in _MONTHS:
        raise Odd("it has no time as in [10/Oct/2031:13:55:36 +0200]")
    day, month, year, hour, minute, second, sign, hours, minutes = match.groups()
    zone = (int(hours) * 3600 + int(minutes) * 60) * (-1 if sign == "-" else 1)
    parts = (int(year), _MONTHS[month], int(day), int(hour), int(minute), int(second))
    return (timegm((*parts, 0, 0, 0)) - zone) * SECOND


@lru_cache(maxsize=_REMEMBERED)
def _request(raw: bytes) -> tuple[str, str]:
    """``GET /path HTTP/1.1`` as method and target. Raises Odd."""
    text = _plain(raw)
    parts = text.split(" ") if text is not None else []
    if len(parts) < 2 or (len(parts) > 2 and not parts[-1].startswith("HTTP/")) or not METHOD.fullmatch(parts[0]):
        raise Odd("its request line is none")
    target = " ".join(parts[1:-1] if len(parts) > 2 else parts[1:])
    return parts[0], target


def combined(raw: bytes) -> Seen:
    """One line of the common or the combined format. Raises Odd."""
    match = COMBINED.match(raw)
    if match is None:
        raise Odd("it is no line of the common or combined format")
    address, user, time, request, status, referrer, agent = match.groups()
    method, target = _request(request)
    known = None if user in (b"-", b"", b'""') else user.decode(errors="replace")
    code = int(status) if status != b"-" else None
    came = address.decode(errors="replace")
    return Seen(_moment(time), method, target, code, came, known, _field(referrer), _field(agent))


# The W3C extended format, whose fields stand in a line of their own.


class Extended:
    """Reads lines of the W3C extended format; directives (``#Fields: date time c-ip ...``) say what they hold."""

    def __init__(self) -> None:
        self.fields: list[str] = []

    def __call__(self, raw: bytes) -> Seen | None:
        """One line; None for a directive. Raises Odd."""
        text = raw.decode(errors="replace").strip()
        if text.startswith("#"):
            if text.lower().startswith("#fields:"):
                self.fields = text.partition(":")[2].split()
            return None
        values = text.split(" ")
        if len(values) != len(self.fields):
            raise Odd("it has not as many values as #Fields names" if self.fields else "no #Fields stands in front")
        row = {name.lower(): value for name, value in zip(self.fields, values, strict=True) if value != "-"}
        try:
            at = _iso(f"{row['date']}T{row['time']}Z")
            method = row["cs-method"]
            target = row.get("cs-uri") or row["cs-uri-stem"] + (f"?{q}" if (q := row.get("cs-uri-query")) else "")
        except KeyError as error:
            raise Odd(f"it has no {error.args[0]}") from None
        if not METHOD.fullmatch(method):
            raise Odd(f"{method[:40]!r} is no method")
        status = row.get("sc-status")
        return Seen(
            at,
            method,
            target,
            int(status) if status and status.isdecimal() else None,
            row.get("c-ip"),
            row.get("cs-username"),
            _unplussed(row.get("cs(referer)")),
            _unplussed(row.get("cs(user-agent)")),
            row.get("cs-host") or row.get("cs(host)"),
        )


def _unplussed(text: str | None) -> str | None:
    return unquote_plus(text) if text is not None else None


def _iso(text: str) -> int:
    try:
        moment = datetime.fromisoformat(text.strip().replace("Z", "+00:00"))
    except ValueError:
        raise Odd(f"{text[:40]!r} is no time") from None
    seconds = timegm(moment.utctimetuple())
    return seconds * SECOND + moment.microsecond


# JSON Lines logs, whose members the user names.

JSON_FIELDS = {
    "at": ("time", "timestamp", "@timestamp", "ts"),
    "method": ("method", "request_method", "verb"),
    "target": ("url", "uri", "path", "request_uri", "target"),
    "status": ("status", "status_code", "response_status"),
    "address": ("address", "remote_addr", "client_ip", "ip"),
    "user": ("user", "remote_user"),
    "referrer": ("referrer", "referer", "http_referer"),
    "agent": ("agent", "user_agent", "http_user_agent"),
    "host": ("host",),
}
"""What a line is asked for, and what members are looked for where nobody names one."""


def json_lines(named: Mapping[str, str]) -> Callable[[bytes], Seen]:
    """A reader of JSON Lines logs; ``named`` maps what is wanted to a member, dots leading inside."""
    looked = {key: (named[key],) if key in named else names for key, names in JSON_FIELDS.items()}

    def read(raw: bytes) -> Seen:
        try:
            row = json.loads(raw)
        except (ValueError, RecursionError):
            raise Odd("it is no JSON") from None
        found = {
            key: next((v for n in names if (v := _dug(row, n)) is not None), None) for key, names in looked.items()
        }
        for key in ("at", "method", "target"):
            if found[key] is None:
                raise Odd(f"it has no {' or '.join(looked[key])}; name it with --fields {key}=NAME")
        status = found["status"]
        texts = {
            key: str(found[key]) if found[key] is not None else None
            for key in ("address", "user", "referrer", "agent", "host")
        }
        method = str(found["method"])
        if not METHOD.fullmatch(method):
            raise Odd(f"{method[:40]!r} is no method")
        code = int(str(status)) if str(status).isdecimal() else None
        return Seen(_any_time(found["at"]), method, str(found["target"]), code, **texts)

    return read


def _dug(row: Any, name: str) -> Any:
    if isinstance(row, dict) and name in row:
        return row[name]
    for part in name.split("."):
        row = row.get(part) if isinstance(row, dict) else None
    return row


def _any_time(value: Any) -> int:
    """A time in ISO 8601, or in seconds, milliseconds or microseconds since the epoch."""
    try:
        number = float(value)
    except (TypeError, ValueError):
        return _iso(str(value))
    while number > 1e11:
        number /= 1000
    return round(number * SECOND)


# Lines in order of time.


def lines(opened: BinaryIO, name: str, read: Callable[[bytes], Seen | None], counted: Counted) -> Iterator[Seen]:
    """The lines of one log that can be read; ``name`` is what it is called in messages."""
    with opened as stream:
        for number, raw in enumerate(iter(lambda: stream.readline(MAX_LINE), b""), 1):
            if raw.isspace():
                continue
            counted.read += 1
            try:
                seen = read(raw)
            except Odd as error:
                counted.add_odd(name, number, raw, str(error))
                continue
            if seen is not None:
                yield seen


def spread(seen: Iterable[Seen], counted: Counted) -> Iterator[tuple[int, Seen]]:
    """Lines in order of time, those within one second spread over it evenly.

    Memory holds the last few seconds: a line that comes later still is taken for one of the first of these.
    """
    open_: dict[int, list[Seen]] = {}
    newest = oldest = 0

    def out(second: int) -> Iterator[tuple[int, Seen]]:
        group = open_.pop(second)
        if len(group) == 1:
            yield group[0].at, group[0]
            return
        whole = [one for one in group if one.at % SECOND == 0]
        if len(whole) < 2:
            yield from sorted(((one.at, one) for one in group), key=lambda pair: pair[0])
            return
        counted.spread += len(whole)
        step, start = SECOND // len(whole), second * SECOND
        if len(whole) == len(group):
            for at, one in enumerate(whole):
                yield start + at * step, one
            return
        placed = [(second * SECOND + at * step, one) for at, one in enumerate(whole)]
        placed += [(one.at, one) for one in group if one.at % SECOND]
        yield from sorted(placed, key=lambda pair: pair[0])

    for one in seen:
        second = one.at // SECOND
        if second < oldest:
            counted.late += 1
            second = oldest
            one = one._replace(at=second * SECOND)
        open_.setdefault(second, []).append(one)
        if second > newest:
            newest = second
            for ready in sorted(second for second in open_ if second < newest - SLACK):
                yield from out(ready)
            oldest = max(oldest, newest - SLACK)
    for ready in sorted(open_):
        yield from out(ready)


def merged(streams: Iterable[Iterator[Seen]]) -> Iterator[Seen]:
    """Several logs, each in its own order, by time."""
    return heapq.merge(*streams, key=lambda one: one.at // SECOND)


# As lines of a trace.

_SECRET_LOOKS = re.compile(
    r"eyJ[\w-]{8,}\.[\w-]+\.[\w-]*|[^@\s/&=]+(?:@|%40)[\w.-]+\.[A-Za-z]{2,}|(?=[\w~+/.-]*\d)(?=[\w~+/.-]*[A-Za-z])[\w~+/-]{32,}={0,2}"
)
_UNSAFE = re.compile(r"[^\x21-\x7e]")


@dataclass(frozen=True)
class Writing:
    """How lines become requests."""

    expects: bool = False
    keeps_secrets: bool = False
    sign: str | None = None


def target_of(text: str, *, keeps_secrets: bool) -> tuple[str, bool]:
    """A target as a trace may have it, and whether something secret in its query was hidden. Raises Odd."""
    target = _UNSAFE.sub(lambda m: quote(m[0]), text)
    if not target.startswith(("/", "http://", "https://")):
        raise Odd("its target is no path and no URL")
    path, mark, query = target.partition("?")
    shown = "&".join(map(_without_secret, query.split("&"))) if mark and not keeps_secrets else query
    return literal(f"{path}{mark}{shown}"), shown != query


def _without_secret(pair: str) -> str:
    name, equals, value = pair.partition("=")
    secret = name.lower() in PARAMETERS or name.lower() == "key" or _SECRET_LOOKS.fullmatch(value)
    return f"{name}={HIDDEN}" if equals and value and secret else pair


# A line of a trace is put together of parts, each of which is made once for all lines that have it.

_dump = json.JSONEncoder(ensure_ascii=False, separators=(",", ":")).encode


@lru_cache(maxsize=_REMEMBERED)
def _send_part(method: str, target: str, keeps_secrets: bool) -> tuple[bytes, bool]:
    told, hidden = target_of(target, keeps_secrets=keeps_secrets)
    return f'"send":{_dump(f"{method} {told}")}'.encode(), hidden


@lru_cache(maxsize=_REMEMBERED)
def _address_part(address: str | None) -> bytes:
    if address is None:
        return b""
    try:
        return f',"address":"{ip_address(address.partition("%")[0])}"'.encode()
    except ValueError:
        raise Odd(f"{address[:40]!r} is no IP address") from None


@lru_cache(maxsize=_REMEMBERED)
def _headers_part(agent: str | None, referrer: str | None, keeps_secrets: bool) -> tuple[bytes, bool]:
    hidden = False
    if referrer is not None and referrer.startswith(("http://", "https://")):
        told, hidden = target_of(referrer, keeps_secrets=keeps_secrets)
        referrer = told.replace("$${", "${")
    headers = {
        name: literal(_UNSAFE.sub(lambda m: " " if m[0].isspace() else "?", value))
        for name, value in (("User-Agent", agent), ("Referer", referrer))
        if value
    }
    return (f',"headers":{_dump(headers)}'.encode() if headers else b""), hidden


def tail(seen: Seen, writing: Writing, counted: Counted) -> bytes:
    """All of a trace's line but its id and time. Raises Odd."""
    send, hid = _send_part(seen.method, seen.target, writing.keeps_secrets)
    headers, hid_too = _headers_part(seen.agent, seen.referrer, writing.keeps_secrets)
    row = send + _address_part(seen.address) + headers
    counted.hidden += hid or hid_too
    if seen.user is not None and writing.sign is not None:
        row += f',"sign":{_dump({writing.sign: literal(seen.user)})}'.encode()
    if writing.expects and seen.status is not None:
        row += b',"expect":{"status":%d}' % seen.status
    return row + b"}"


def trace_lines(seen: Iterable[Seen], writing: Writing, counted: Counted) -> Iterator[tuple[int, bytes, Seen]]:
    """Each line's time and tail."""
    for at, one in spread(seen, counted):
        try:
            made = tail(one, writing, counted)
        except Odd as error:
            counted.add_odd("", counted.read, one.target.encode(), str(error))
            continue
        counted.written += 1
        yield at, made, one


FORMATS: dict[str, Callable[[Mapping[str, str]], Callable[[bytes], Seen | None]]] = {
    "combined": lambda named: combined,
    "w3c": lambda named: Extended(),
    "json-lines": json_lines,
}
"""By name, what makes a reader of lines of the format."""
