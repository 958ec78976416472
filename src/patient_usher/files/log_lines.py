"""The lines of access logs: the common and combined formats, the W3C extended format, and JSON Lines logs."""

from __future__ import annotations

import json
import re
from calendar import timegm
from collections.abc import Callable, Mapping
from datetime import datetime
from functools import lru_cache
from typing import NamedTuple
from urllib.parse import unquote_plus

from patient_usher.core.http.dates import LATEST
from patient_usher.core.model.document import Json
from patient_usher.core.model.text_types import METHOD

SECOND = 1_000_000
_REMEMBERED = 50_000


_STATUS = re.compile(r"[0-9]{3}")


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
    if not parts[0]:
        raise Odd("there was no year 0")
    return _in_calendar((timegm((*parts, 0, 0, 0)) - zone) * SECOND)


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
            int(status) if status and _STATUS.fullmatch(status) else None,
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
    try:
        seconds = timegm(moment.utctimetuple())
    except OverflowError:
        raise Odd(f"{text[:40]!r} is beyond the calendar") from None
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
        code = int(str(status)) if _STATUS.fullmatch(str(status)[:4]) else None
        return Seen(_any_time(found["at"]), method, str(found["target"]), code, **texts)

    return read


def _dug(row: Json, name: str) -> Json:
    if isinstance(row, dict) and name in row:
        return row[name]
    for part in name.split("."):
        row = row.get(part) if isinstance(row, dict) else None
    return row


def _any_time(value: Json) -> int:
    """A time in ISO 8601, or in seconds, milliseconds or microseconds since the epoch."""
    try:
        number = float(value)
    except (TypeError, ValueError):
        return _iso(str(value))
    except OverflowError:
        raise Odd("its time is beyond the calendar") from None
    if not 0 <= number < 1e20:
        raise Odd(f"{str(value)[:40]!r} is no time")
    while number > 1e11:
        number /= 1000
    return _in_calendar(round(number * SECOND))


def _in_calendar(at: int) -> int:
    if at > LATEST * SECOND:
        raise Odd("its time is beyond the calendar")
    return at


FORMATS: dict[str, Callable[[Mapping[str, str]], Callable[[bytes], Seen | None]]] = {
    "combined": lambda named: combined,
    "w3c": lambda named: Extended(),
    "json-lines": json_lines,
}
"""By name, what makes a reader of lines of the format."""
