"""What logs say, in order of time, as the lines of a trace.

Lines stream: several files are merged by time, what comes within one second is spread over it evenly, and memory
holds a few seconds of them. A line that can't be read is counted, and the first of them are kept to be shown.
"""

from __future__ import annotations

import heapq
import json
import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import lru_cache
from ipaddress import ip_address
from typing import BinaryIO
from urllib.parse import quote

from patient_usher.core.http.secrets import HIDDEN, PARAMETERS
from patient_usher.core.model.values import literal
from patient_usher.files.log_lines import SECOND, Odd, Seen

MAX_LINE = 1 << 20
SHOWN = 3
"""How many lines that can't be read are shown."""
SLACK = 5
"""For how many seconds lines may come late: servers write them when the answer is sent."""
_REMEMBERED = 50_000


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
