"""Lines of logs whose members have names: JSON, logfmt, CSV with a head, the W3C extended format, a pattern's groups.

Members are found by the names that programs give them, nested or flat, however they are written (``http_user_agent``,
``userAgent``, ``user_agent.original``), and count only where they hold what they are called. A member that holds a
whole line of text is read as one.
"""

from __future__ import annotations

import csv
import json
import re
from collections.abc import Callable, Iterator, Mapping
from functools import lru_cache
from urllib.parse import unquote_plus, urlencode

import re2

from patient_usher.core.model.document import Json
from patient_usher.core.model.text_types import METHOD
from patient_usher.files.log_lines import (
    UNITS,
    LogEntry,
    UnreadableLine,
    address_of,
    addresses_of,
    any_text,
    in_micros,
    text_line,
)
from patient_usher.files.log_times import NoTime, moment, since_epoch, time_in

Read = Callable[[bytes], LogEntry]
Reader = Callable[[bytes], LogEntry | None]

_NAMES = {
    "at": "timestamp time ts datetime date timelocal timeiso8601 eventtime starttime requesttime t",
    "method": "method requestmethod httpmethod verb csmethod",
    "target": "requesturi requesturl url.original url.full uri url path requestpath rawpath url.path target pathname "
    "csuri",
    "query": "query querystring url.query args rawquerystring querystringparameters",
    "request": "request requestline req",
    "status": "status statuscode responsestatus responsecode code scstatus",
    "address": "remoteaddr remoteip remoteaddress clientip client.ip client.address sourceip source.ip address ip "
    "client peer remote cip",
    "forwarded": "xforwardedfor httpxforwardedfor forwardedfor fwd",
    "user": "remoteuser user username user.name csusername",
    "referrer": "referrer referer httpreferer httpreferrer cs(referer)",
    "agent": "useragent httpuseragent useragent.original agent ua cs(useragent)",
    "host": "httphost host servername url.domain authority vhost cshost cs(host)",
    "took": "duration took elapsed latency responsetime requesttime timetaken processtime requestduration service",
}
NAMES = {what: tuple(names.split()) for what, names in _NAMES.items()}
"""By what is wanted, the names of members for it: small letters, without what parts words, the likeliest first."""
_PARTING = re.compile(r"[_@ -]")
_CAMEL = re.compile(r"(?<=[a-z0-9])(?=[A-Z])")
_UNIT = re.compile(r"(?:^|[_. -])(ms|us|ns|s|msec|millis|milliseconds|micros|seconds|sec)$")
_UNIT_WORDS = {
    "msec": "ms", "millis": "ms", "milliseconds": "ms", "micros": "us", "seconds": "s", "sec": "s",
}  # fmt: skip
_FIGURE = re.compile(r"(\d+(?:\.\d+)?)\s*(ns|us|µs|ms|s)?")
_REQUEST = re.compile(r"([A-Z][A-Z-]{2,19}) (\S+)(?: HTTP/\d(?:\.\d)?)?")
_HOST = re.compile(r"[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)*(?::\d+)?|\[[0-9A-Fa-f:]+\](?::\d+)?")
_PAIR = re.compile(r'(?<!\S)([A-Za-z_@][\w.@-]*)=("(?:[^"\\]|\\.)*"|\S*)')
_DEEP = 6
MOST_MEMBERS = 400
_OWN = {"request_id", "handler_reached", "limit_remaining"}
"""Columns by which a table that a replay wrote is known: it says when requests came, not when they ended."""


def flat(row: Mapping[str, Json], before: str = "", deep: int = 0) -> Iterator[tuple[str, str, Json]]:
    """Members with their names: as paths in small letters without what parts words, and as they are written."""
    for name, value in row.items():
        key = f"{before}{name}"
        if isinstance(value, list) and len(value) == 1 and not isinstance(value[0], list | dict):
            value = value[0]
        if isinstance(value, dict):
            yield _key(key), key, value
            if deep < _DEEP:
                yield from flat(value, f"{key}.", deep + 1)
        elif not isinstance(value, list) and value is not None and value not in ("", "-"):
            yield _key(key), key, value


@lru_cache(maxsize=4096)
def _key(name: str) -> str:
    return _PARTING.sub("", name).lower()


@lru_cache(maxsize=4096)
def _rank(what: str, key: str) -> int | None:
    """How likely a member is what is wanted, by its name: the less the likelier; None where it isn't."""
    bare = re.sub(r"(ms|us|ns|sec|seconds|millis|micros|s)$", "", key) if what == "took" else key
    for at, name in enumerate(NAMES[what]):
        if name in (key, bare):
            return at
    for at, name in enumerate(NAMES[what]):
        if key.endswith(f".{name}") or bare.endswith(f".{name}"):
            return at + 100
    return None


def members(row: Mapping[str, Json], named: Mapping[str, str], known: int | None = None) -> LogEntry:
    """A line by its members; ``named`` says which they are, dots leading inside, ``known`` its time where it has none.
    Raises Odd.
    """
    found = [one for _, one in zip(range(MOST_MEMBERS), flat(row), strict=False)]

    def look(what: str, read: Callable[[str, Json], Json]) -> Json:
        if what in named:
            value = dug(row, named[what])
            return read(named[what], value) if value is not None else None
        ranked = [(rank, at) for at, (key, _, _) in enumerate(found) if (rank := _rank(what, key)) is not None]
        for _, at in sorted(ranked):
            value = read(found[at][1], found[at][2])
            if value is not None:
                return value
        return None

    at = look("at", _time)
    if at is None and known is None:
        at = look("at", _small_time)
    line = look("request", _request)
    method = line[0] if line else look("method", _method)
    target = line[1] if line else look("target", _target)
    if method is None or target is None:
        return _inside(found, at if at is not None else known, named)
    if at is None and known is None:
        raise UnreadableLine(f"it has no time; name its member with --fields at=NAME{_missing('at', named)}")
    query = look("query", _query)
    if query and "?" not in target:
        target = f"{target}?{query}"
    listed = look("forwarded", lambda name, value: addresses_of(str(value)) or None) or ()
    address = look("address", _address)
    return LogEntry(
        at if at is not None else known or 0, method, target, look("status", _status), address, look("user", _word),
        look("referrer", _word), look("agent", _word), look("host", _host), listed, look("took", _took),
        row.keys() >= _OWN,
    )  # fmt: skip


def _missing(what: str, named: Mapping[str, str]) -> str:
    return f" ('{named[what]}' holds none)" if what in named else ""


def _inside(found: list[tuple[str, str, Json]], at: int | None, named: Mapping[str, str]) -> LogEntry:
    """A member that holds a line of text."""
    for _, _, value in found:
        if isinstance(value, str) and len(value) > 20 and "/" in value:
            try:
                return any_text(value.strip(), at)
            except UnreadableLine:
                continue
    given = [f"{what}={named[what]}" for what in ("method", "target") if what in named]
    more = f"; {' and '.join(given)} lead to none" if given else "; name them with --fields method=NAME,target=NAME"
    raise UnreadableLine(f"it has no method and path{more}")


def dug(row: Json, name: str) -> Json:
    """The member of this name, dots leading inside."""
    if isinstance(row, dict) and name in row:
        return row[name]
    for part in name.split("."):
        row = row.get(part) if isinstance(row, dict) else None
    return row


# What members hold: None where it isn't that.


def _time(name: str, value: Json) -> int | None:
    if isinstance(value, bool | dict | list):
        return None
    text = str(value)
    try:
        if isinstance(value, int | float):
            return since_epoch(f"{value:.6f}" if isinstance(value, float) else text) if value >= 1e9 else None
        return moment(text) if not text.isdigit() or len(text) >= 10 else None
    except NoTime:
        return None


def _small_time(name: str, value: Json) -> int | None:
    """Seconds of the first years after 1970, where nothing else is a time."""
    try:
        return since_epoch(str(value)) if isinstance(value, int | float) and not isinstance(value, bool) else None
    except NoTime:
        return None


def _method(name: str, value: Json) -> str | None:
    return value.upper() if isinstance(value, str) and METHOD.fullmatch(value) and value.isalpha() else None


def _target(name: str, value: Json) -> str | None:
    return value if isinstance(value, str) and value.startswith(("/", "http://", "https://")) else None


def _query(name: str, value: Json) -> str | None:
    if isinstance(value, dict):
        return urlencode({str(key): item for key, item in value.items()}, doseq=True)
    return value.removeprefix("?") if isinstance(value, str) else None


def _request(name: str, value: Json) -> tuple[str, str] | None:
    match = _REQUEST.fullmatch(value) if isinstance(value, str) else None
    return (match[1], match[2]) if match is not None and match[2].startswith(("/", "http")) else None


def _status(name: str, value: Json) -> int | None:
    text = str(value)
    return int(text) if not isinstance(value, bool) and re.fullmatch(r"[1-5]\d\d", text) else None


def _address(name: str, value: Json) -> str | None:
    return address_of(value.strip()) if isinstance(value, str) else None


def _word(name: str, value: Json) -> str | None:
    return value if isinstance(value, str) else str(value) if isinstance(value, int) else None


def _host(name: str, value: Json) -> str | None:
    fits = isinstance(value, str) and len(value) < 256 and _HOST.fullmatch(value)
    return re.sub(r":\d+$", "", value) if fits else None


def _took(name: str, value: Json) -> int | None:
    if isinstance(value, bool | dict | list):
        return None
    if _key(name) == "event.duration":
        unit: str | None = "ns"  # as the common schema for events has it
    else:
        found = _UNIT.search(_CAMEL.sub("_", name).lower())
        unit = _UNIT_WORDS.get(found[1], found[1]) if found is not None else None
    text = f"{value:.9f}" if isinstance(value, float) else str(value)
    match = _FIGURE.fullmatch(text.strip())
    if match is None:
        return None
    unit = match[2] or unit
    micros = round(float(match[1]) * UNITS[unit]) if unit else in_micros(match[1], None)
    return micros if micros < 86_400 * 1_000_000 else None


# Readers of lines.


def json_line(named: Mapping[str, str]) -> Read:
    """A reader of lines in JSON, one object each."""

    def read(raw: bytes) -> LogEntry:
        try:
            row = json.loads(raw)
        except (ValueError, RecursionError):
            raise UnreadableLine("it is no JSON") from None
        if not isinstance(row, dict):
            raise UnreadableLine("it is no JSON object")
        return members(row, named)

    return read


def any_line(named: Mapping[str, str]) -> Read:
    """A reader of lines of whatever shape: text, JSON, logfmt."""
    in_json = json_line(named)

    def read(raw: bytes) -> LogEntry:
        if raw[:1] == b"{":
            return in_json(raw)
        try:
            return text_line(raw)
        except UnreadableLine as error:
            text = raw.decode(errors="replace").strip()
            inner = text.find("{")
            if 0 < inner < 200 and text.endswith("}"):  # JSON with something in front
                return in_json(text[inner:].encode())
            if named or len(_PAIR.findall(text)) >= 3:
                return _logfmt(text, named)
            raise error

    return read


def _logfmt(text: str, named: Mapping[str, str]) -> LogEntry:
    row: dict[str, Json] = {}
    first = None
    for match in _PAIR.finditer(text):
        first = match.start() if first is None else first
        value = match[2]
        row[match[1]] = re.sub(r"\\(.)", r"\1", value[1:-1]) if value[:1] == '"' else value
    try:
        known = time_in(text[: first or 0], "")
    except NoTime as error:
        raise UnreadableLine(str(error)) from None
    return members(row, named, known)


class LogTable:
    """A reader of CSV, whose first line names what stands in the others."""

    def __init__(self, named: Mapping[str, str]) -> None:
        self._named = named
        self._head: list[str] = []
        self._parted = ","

    def __call__(self, raw: bytes) -> LogEntry | None:
        """One line; None for the head. Raises Odd."""
        text = raw.decode(errors="replace").strip("\r\n\ufeff")
        if not self._head:
            self._parted = parted_by(text)
            self._head = next(csv.reader([text], delimiter=self._parted))
            return None
        try:
            values = next(csv.reader([text], delimiter=self._parted))
        except (csv.Error, StopIteration):
            raise UnreadableLine("it is no line of CSV") from None
        if len(values) != len(self._head):
            raise UnreadableLine("it has not as many values as the head names")
        return members(dict(zip(self._head, values, strict=True)), self._named)


def parted_by(head: str) -> str:
    """What stands between the names of a CSV's head."""
    return max(",;\t|", key=head.count)


def is_head(text: str) -> bool:
    """Whether a line names columns of which one is a time and one a path or a request."""
    keys = [_key(one.strip('"')) for one in text.strip().split(parted_by(text))]
    known = {what for what in ("at", "target", "request") for key in keys if _rank(what, key) is not None}
    return len(keys) > 2 and "at" in known and len(known) > 1


class Extended:
    """A reader of the W3C extended format (its working draft); directives say what lines hold, and of which day."""

    def __init__(self, named: Mapping[str, str]) -> None:
        self._named = named
        self._fields: list[str] = []
        self._day = ""

    def __call__(self, raw: bytes) -> LogEntry | None:
        """One line; None for a directive. Raises Odd."""
        text = raw.decode(errors="replace").strip()
        if text.startswith("#"):
            name, _, rest = text[1:].partition(":")
            if name.lower() == "fields":
                self._fields = rest.split()
            elif name.lower() == "date":
                self._day = rest.strip()[:10]
            return None
        values = [plain_string(one) for one in _VALUE.findall(text)]
        if len(values) != len(self._fields):
            raise UnreadableLine(
                "it has not as many values as #Fields names" if self._fields else "no #Fields stands in front"
            )
        row: dict[str, Json] = {
            name.lower(): value for name, value in zip(self._fields, values, strict=True) if value != "-"
        }
        day = row.pop("date", self._day)
        if "time" in row:
            row["time"] = f"{day}T{row['time']}Z"
        if "cs-uri-stem" in row:
            row["cs-uri"] = row.pop("cs-uri-stem")
        row["query"] = row.pop("cs-uri-query", "")
        for name in ("cs(referer)", "cs(user-agent)"):
            if isinstance(row.get(name), str):
                row[name] = unquote_plus(str(row[name]))
        return members(row, self._named)


_VALUE = re.compile(r'"(?:[^"]|"")*"|\S+')


def plain_string(text: str) -> str:
    """A string of the draft: doubled quotes stand for one."""
    return text[1:-1].replace('""', '"') if text[:1] == '"' and len(text) > 1 else text


def by_pattern(pattern: str) -> Read:
    """A reader of lines by the groups of an expression, named as ``NAMES`` has them. Raises ValueError."""
    try:
        expression = re2.compile(pattern)
    except re2.error as error:
        raise ValueError(f"this is no expression: {error}; write one as RE2 has it, with (?P<target>...)") from None
    groups = set(expression.groupindex)
    if wrong := sorted(groups - {*NAMES}):
        raise ValueError(f"'{wrong[0]}' is nothing that is looked for; name groups {', '.join(NAMES)}")
    if not ({"at"} <= groups and ({"request"} <= groups or {"method", "target"} <= groups)):
        raise ValueError("these groups tell no request; name at, and request or method and target")
    named = {what: what for what in groups}

    def read(raw: bytes) -> LogEntry:
        match = expression.search(raw.decode(errors="replace").strip("\r\n"))
        if match is None:
            raise UnreadableLine("the pattern doesn't fit")
        return members({name: match.group(name) or "" for name in groups}, named)

    return read


FORMATS: dict[str, Callable[[Mapping[str, str]], Reader]] = {
    "log": any_line,
    "w3c": Extended,
    "csv": LogTable,
    "json-lines": json_line,
}
"""By name, what makes a reader of lines of the format."""
