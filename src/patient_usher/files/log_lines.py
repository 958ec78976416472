"""Lines of access logs, whatever stands in front of their requests and behind them.

A line of text is understood by what stands in it: a request line, a time, an address, a status. Lines in JSON, logfmt,
CSV and the W3C extended format are read by their members (``log_members``).
"""

from __future__ import annotations

import re
from functools import lru_cache
from ipaddress import IPv6Address, ip_address
from socket import AF_INET, inet_pton
from typing import NamedTuple

from patient_usher.core.model.text_types import METHOD
from patient_usher.files.log_times import SECOND, NoTime, moment, time_in
from patient_usher.files.secret_keeper import SHORT_TARGET

__all__ = ["SECOND", "LogEntry", "UnreadableLine", "text_line"]
_REMEMBERED = 50_000


class LogEntry(NamedTuple):
    """One line of a log: when, in microseconds since the epoch, and what it says of the request.

    ``forwarded``: the addresses for whom it was passed on, the farthest first. ``took``: how long it took, in
    microseconds; ``begun``: whether ``at`` is when it came, and not when it was answered. ``short``: whether its target
    was seen to be a ``SHORT_TARGET``.
    """

    at: int
    method: str
    target: str
    status: int | None = None
    address: str | None = None
    user: str | None = None
    referrer: str | None = None
    agent: str | None = None
    host: str | None = None
    forwarded: tuple[str, ...] = ()
    took: int | None = None
    begun: bool = False
    short: bool = False


class UnreadableLine(Exception):
    """A line that can't be read. Its text says why."""


# Pieces of lines.

_INSIDE = r'[^"\\]*(?:\\.[^"\\]*)*'
_REQUEST = re.compile(
    r"""(?P<quote>["'])(?P<method>[A-Z][A-Z-]{2,19}) (?P<target>\S.*?)(?: HTTP/\d(?:\.\d)?)?(?P=quote)(?![\w])"""
)
_BARE = re.compile(r"""(?<![\w"'/.-])(?P<method>[A-Z][A-Z-]{2,19}) (?P<target>(?:/|https?://)\S*) HTTP/\d(?:\.\d)?""")
_QUOTED = re.compile(rf'(?<![=\w])"({_INSIDE})"')
_ESCAPE = re.compile(r'\\(x[0-9A-Fa-f]{2}|["\\nrtbv])')
_PLAIN = {"n": "\n", "r": "\r", "t": "\t", "b": "\b", "v": "\v"}
_STATUS_BEHIND = re.compile(r'\s*"?([1-5]\d\d|-)(?![\w.])')
_STATUS = re.compile(r"[1-5]\d\d")
_HOST = re.compile(r"(?=[^ ]*[A-Za-z])[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+(?::\d+)?")
_V4 = re.compile(r"(?:(?:25[0-5]|2[0-4]\d|1\d\d|[1-9]?\d)\.){3}(?:25[0-5]|2[0-4]\d|1\d\d|[1-9]?\d)")
_IN_V6 = re.compile(r"\[([0-9A-Fa-f:.]+)(?:%\w+)?\](?::\d+)?")
_NAMED = re.compile(r"(\S+) \S+ \S.* ?\[")
"""A line of the common format: its client comes first."""
_USER = re.compile(r"\S+ \S+ (.+?) $")
_NAMED_TIME = re.compile(
    r"""\b(rt|request_time|duration|took|elapsed|latency|response_time|urt)[=:]\s*"?(\d+(?:\.\d+)?)\s*(ns|us|µs|ms|s)?\b"""
)
_WITH_UNIT = re.compile(r"(?<![\w.])(\d+(?:\.\d+)?)(ns|us|µs|ms|s)(?![\w.])")
_TIMERS = re.compile(r"(?<!\S)-?\d+/-?\d+/-?\d+/-?\d+/\+?(\d+)(?!\S)")
_THREE = re.compile(r"(?<!\S)(-?\d+(?:\.\d+)?) (-?\d+\.\d+) (-?\d+(?:\.\d+)?)(?= [1-5]\d\d|\s-)")
_LAST_DECIMAL = re.compile(r'(?<!\S)"?(\d+\.\d+)"?\s*$')
UNITS = {"ns": 0.001, "us": 1.0, "µs": 1.0, "ms": 1000.0, "s": 1_000_000.0}
"""Microseconds."""

# What most lines are, and only they: an address, a bracketed time, a request, a status, perhaps referrer and agent.
# Nothing of it can be matched in two ways, and so nothing is given back.
_COMBINED = re.compile(
    rf'([0-9A-Fa-f.:]++) \S++ (\S++) \[([^\]]++)\] "(?:([A-Z]{{3,10}}+) ({SHORT_TARGET}) HTTP/\d\.\d|([^"\\]*+))" '
    r'(\d{3}|-) [\d-]++(?: "([^"\\]*+)" "([^"\\]*+)")?+\s*+',
    re.ASCII,
).fullmatch


def plain(text: str) -> str:
    """A quoted field without its escapes."""
    if "\\" not in text:
        return text
    octets = bytearray()
    at = 0
    for match in _ESCAPE.finditer(text):
        octets += text[at : match.start()].encode()
        octets += bytes([int(match[1][1:], 16)]) if match[1][0] == "x" else _PLAIN.get(match[1], match[1]).encode()
        at = match.end()
    return (octets + text[at:].encode()).decode(errors="replace")


def address_of(token: str) -> str | None:
    """The address that a token is, with a port or without, mapped ones as what they are; None for none."""
    if _V4.fullmatch(token):
        return token
    if (match := _IN_V6.fullmatch(token)) is not None:
        token = match[1]
    elif token.count(":") == 1:
        token = token.partition(":")[0]
    try:
        found = ip_address(token.partition("%")[0])
    except ValueError:
        return None
    if isinstance(found, IPv6Address) and found.ipv4_mapped is not None:
        return str(found.ipv4_mapped)
    return str(found)


_address_of = lru_cache(maxsize=_REMEMBERED)(address_of)


def addresses_of(text: str) -> tuple[str, ...]:
    """A list of addresses; nothing where anything else stands in it."""
    parts = [part.strip() for part in text.split(",")]
    found = [_address_of(part) for part in parts if part]
    return tuple(one for one in found if one is not None) if found and None not in found else ()


def in_micros(figure: str, unit: str | None) -> int:
    """A duration; without a unit one with a point is in seconds, a whole number in milliseconds."""
    return round(float(figure) * UNITS[unit or ("s" if "." in figure else "ms")])


# A line of text.


_is_method = lru_cache(METHOD.fullmatch)
_made = tuple.__new__
"""A third of what the name of the type takes, of every line."""


def text_line(raw: bytes) -> LogEntry:
    """One line of text. Raises Odd."""
    text = raw.decode("utf-8", "replace")
    match = _COMBINED(text)
    if match is None:
        return any_text(text.strip("\r\n \ufeff"))
    address, user, time, method, target, request, status, referrer, agent = match.groups()
    if request is not None:
        method, *words = request.split(" ")
        if not words or (len(words) > 1 and not words.pop().startswith("HTTP/")) or not _is_method(method):
            raise UnreadableLine("its request line is none")
        target = " ".join(words)
    try:
        inet_pton(AF_INET, address)  # of most; and quicker than to remember as many as there are
        came: str | None = address
    except OSError:
        came = _address_of(address)
        if came is None:
            raise UnreadableLine(f"{address[:40]!r} is no address") from None
    try:
        at = moment(time)
    except NoTime as error:
        raise UnreadableLine(str(error)) from None
    answered = int(status) if status != "-" else None
    user = None if user == "-" else user
    referrer = None if referrer == "-" or not referrer else referrer
    agent = None if agent == "-" or not agent else agent
    short = request is None
    return _made(LogEntry, (at, method, target, answered, came, user, referrer, agent, None, (), None, False, short))


def any_text(text: str, known: int | None = None) -> LogEntry:
    """A line by what stands in it; ``known`` is its time, where it tells none itself. Raises Odd."""
    match = _REQUEST.search(text) or _BARE.search(text)
    if match is None:
        raise UnreadableLine('no request stands in it, as in "GET /path HTTP/1.1"')
    method, target = match["method"], plain(match["target"])
    if not METHOD.fullmatch(method) or not target.startswith(("/", "http://", "https://")):
        raise UnreadableLine("its request line is none")
    before, after = text[: match.start()], text[match.end() :]
    try:
        at = time_in(before, after)
    except NoTime as error:
        raise UnreadableLine(str(error)) from None
    at = known if at is None else at
    if at is None:
        raise UnreadableLine("it tells no time")
    address, forwarded, host, user = _whose(before)
    quoted = [plain(one) for one in _QUOTED.findall(after)]
    lists = [found for one in quoted if (found := addresses_of(one))]
    forwarded = lists[0] if lists else forwarded
    said = [one for one in quoted if not addresses_of(one)]
    referrer, agent = _referrer_and_agent(said)
    took, begun = _took(before, after)
    return LogEntry(
        at, method, target, _status(before, after), address, user, referrer, agent, host, forwarded, took, begun
    )


def _whose(before: str) -> tuple[str | None, tuple[str, ...], str | None, str | None]:
    """Address, the list that it may be, host and user, of what stands in front of the request."""
    tokens = before.split()
    for at, token in enumerate(tokens):
        first = _address_of(token.rstrip(",;"))
        if first is None:
            continue
        found, end = [first], at
        while tokens[end].endswith(",") and end + 1 < len(tokens):
            end += 1
            more = _address_of(tokens[end].rstrip(",;"))
            if more is None:
                break
            found.append(more)
        host = tokens[at - 1] if at and _HOST.fullmatch(tokens[at - 1]) else None
        bracket = before.find("[", before.index(token) + len(token))
        user = None
        if bracket > 0:
            named = _USER.fullmatch(before[before.index(tokens[end]) : bracket])
            user = named[1] if named is not None and named[1] not in ("-", '""') else None
        listed = tuple(found) if len(found) > 1 else ()
        return None if listed else first, listed, host.partition(":")[0] if host else None, user
    if (named := _NAMED.match(before)) is not None:
        raise UnreadableLine(f"{named[1][:40]!r} is no IP address")
    return None, (), None, None


def _status(before: str, after: str) -> int | None:
    match = _STATUS_BEHIND.match(after)
    if match is not None:
        return int(match[1]) if match[1] != "-" else None
    return next((int(token) for token in before.split() if _STATUS.fullmatch(token)), None)


def _referrer_and_agent(said: list[str]) -> tuple[str | None, str | None]:
    if not said:
        return None, None
    if said[0] in ("-", "") or said[0].startswith(("http://", "https://", "android-app://")):
        agent = said[1] if len(said) > 1 else "-"
        return said[0] if said[0] not in ("-", "") else None, agent if agent not in ("-", "") else None
    return None, said[0]


def _took(before: str, after: str) -> tuple[int | None, bool]:
    """How long it took, and whether the line's time is when it came."""
    bare = _QUOTED.sub('""', after)
    if (match := _NAMED_TIME.search(bare)) is not None:
        return in_micros(match[2], match[3]), False
    if (match := _WITH_UNIT.search(bare)) is not None:
        return in_micros(match[1], match[2]), False
    if (match := _TIMERS.search(before)) is not None:
        return int(match[1]) * 1000, True
    if (match := _THREE.search(before)) is not None:
        return round(sum(max(float(one), 0.0) for one in match.groups()) * 1_000_000), False
    if (match := _LAST_DECIMAL.search(bare)) is not None:
        return round(float(match[1]) * 1_000_000), False
    return None, False
