"""What logs say, in order of time, as the lines of a trace.

Lines stream: several files are merged by time, what comes within one second is spread over it evenly, and memory
holds a few seconds of them. A line that can't be read is counted, and the first of them are kept to be shown.
"""

from __future__ import annotations

import heapq
import json
import re
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from functools import lru_cache, partial
from ipaddress import ip_address, ip_network
from itertools import count
from typing import BinaryIO
from urllib.parse import quote

from patient_usher.core.http.urls import parse_url
from patient_usher.core.model.text_types import MAX_TIME
from patient_usher.core.model.values import literal
from patient_usher.files.log_lines import SECOND, LogEntry, UnreadableLine
from patient_usher.files.secret_keeper import SecretKeeper

MAX_LINE = 1 << 20
MAX_ARRAY = 256 << 20
MOST_HOSTS = 1000
LONGEST = 60 * SECOND
"""Requests that took longer are taken to have come so long before their answers."""
SHOWN = 3
"""How many lines that can't be read are shown."""
SLACK = 5
"""For how many seconds lines may come late: servers write them when the answer is sent."""
_REMEMBERED = 50_000


@dataclass
class ImportStats:
    """What became of the lines."""

    read: int = 0
    written: int = 0
    late: int = 0
    spread: int = 0
    hidden: int = 0
    odd: int = 0
    lasted: int = 0
    hosts: Counter[str] = field(default_factory=Counter)
    example: LogEntry | None = None
    first: list[tuple[str, int, str, str]] = field(default_factory=list)

    def add_odd(self, name: str, number: int, raw: bytes, why: str) -> None:
        """Count a line that can't be read, and keep it if it is one of the first."""
        self.odd += 1
        if len(self.first) < SHOWN:
            self.first.append((name, number, why, raw.decode(errors="backslashreplace").strip()[:120]))


PRIVATE = (
    "10.0.0.0/8",
    "172.16.0.0/12",
    "192.168.0.0/16",
    "127.0.0.0/8",
    "169.254.0.0/16",
    "::1/128",
    "fc00::/7",
    "fe80::/10",
)
"""Networks that no caller of the open Internet comes from (RFC 1918, 4193, 6890): what they forward is believed."""


class Callers:
    """Who called, of the address that a line has and the list for whom it was forwarded."""

    def __init__(self, trusted: Iterable[str] = PRIVATE) -> None:
        """``trusted``: networks whose word on the address before counts. Raises ValueError."""
        self._networks = [ip_network(text, strict=False) for text in trusted]
        self._trusts = lru_cache(maxsize=_REMEMBERED)(self._trusts_address)

    def of(self, seen: LogEntry) -> LogEntry:
        """A line that was forwarded with its caller as the address: from the right, the first that isn't trusted."""
        chain = [*seen.forwarded, *([seen.address] if seen.address is not None else [])]
        found = next((one for one in reversed(chain) if not self._trusts(one)), chain[0])
        return seen._replace(address=found, forwarded=())

    def _trusts_address(self, address: str) -> bool:
        found = ip_address(address)
        return any(found in network for network in self._networks)


# Lines in order of time.


def lines(
    opened: BinaryIO, name: str, read: Callable[[bytes], LogEntry | None], callers: Callers, counted: ImportStats
) -> Iterator[LogEntry]:
    """The lines of one log that can be read; ``name`` is what it is called in messages."""
    with opened as stream:
        for number, raw in enumerate(_rows(stream), 1):
            if raw.isspace():
                continue
            counted.read += 1
            try:
                seen = read(raw)
            except UnreadableLine as error:
                counted.add_odd(name, number, raw, str(error))
                continue
            if seen is not None:
                if seen.forwarded:
                    seen = callers.of(seen)
                if counted.example is None:
                    counted.example = seen
                yield seen


def of_hosts(seen: Iterable[LogEntry], hosts: Collection[str], counted: ImportStats) -> Iterator[LogEntry]:
    """Lines for these hosts, where any are named; all that there are are counted."""
    for one in seen:
        if one.host is None and one.target[:1] == "/":
            if not hosts:
                yield one
            continue
        host = (one.host or _host_of(one.target)).lower()
        if host and (host in counted.hosts or len(counted.hosts) < MOST_HOSTS):
            counted.hosts[host] += 1
        if not hosts or host in hosts:
            yield one


def _host_of(target: str) -> str:
    return "" if target[:1] == "/" else target.partition("://")[2].partition("/")[0].partition("?")[0].partition(":")[0]


Group = list[tuple[int, LogEntry]]
"""Lines with their times, in order."""


def arrivals(groups: Iterable[Group], logged_at: str, counted: ImportStats) -> Iterator[Group]:
    """Each line at the time when its request came, in that order: servers log when they have answered (``end``).

    Of a line that says how long its request took, that time less; of one that says when it began, that.
    """
    waiting: list[tuple[int, int, LogEntry]] = []
    last = number = 0
    for group in groups:
        lasted = counted.lasted or any([one.took for _, one in group])  # noqa: C419 (a list is twice as quick)
        if logged_at == "start" or not lasted:
            last = group[-1][0]
            yield group
            continue
        for at, one in group:
            took = one.took if one.took and not one.begun else 0
            counted.lasted += bool(took)
            number += 1
            heapq.heappush(waiting, (max(at - took, last), number, one))
        ready: Group = []
        while waiting and waiting[0][0] <= group[-1][0] - LONGEST:
            last, _, one = heapq.heappop(waiting)
            ready.append((last, one))
        if ready:
            yield ready
    if waiting:
        yield [(at, one) for at, _, one in sorted(waiting)]


def _rows(stream: BinaryIO) -> Iterator[bytes]:
    """The lines of a log; of a JSON array its objects, which are all in memory then."""
    first = stream.readline(MAX_LINE)
    if first.lstrip(b"\xef\xbb\xbf \t\r\n")[:1] == b"[":
        with suppress(ValueError, RecursionError):
            for row in json.loads(first + stream.read(MAX_ARRAY)):
                yield json.dumps(row).encode()
            return
    if first:
        yield first
    yield from iter(partial(stream.readline, MAX_LINE), b"")


def spread(seen: Iterable[LogEntry], counted: ImportStats) -> Iterator[Group]:
    """Lines in order of time, second by second, those within one spread over it evenly.

    Memory holds the last few seconds: a line that comes later still is taken for one of the first of these.
    """
    open_: dict[int, list[LogEntry]] = {}
    newest = oldest = 0

    def out(second: int) -> Group:
        group = open_.pop(second)
        whole = [one for one in group if one.at % SECOND == 0] if len(group) > 1 else []
        if len(whole) < 2:
            return sorted([(one.at, one) for one in group], key=_time)
        counted.spread += len(whole)
        start, step = second * SECOND, SECOND // len(whole)
        placed = list(zip(count(start, step), whole, strict=False))
        if len(whole) == len(group):
            return placed
        return sorted(placed + [(one.at, one) for one in group if one.at % SECOND], key=_time)

    current, group = -1, list[LogEntry]()
    for one in seen:
        second = one.at // SECOND
        if second == current:
            group.append(one)
            continue
        if second < oldest:
            counted.late += 1
            second = oldest
            one = one._replace(at=second * SECOND)
        if second > newest:
            newest = second
            for ready in sorted(second for second in open_ if second < newest - SLACK):
                yield out(ready)
            oldest = max(oldest, newest - SLACK)
        current, group = second, open_.setdefault(second, [])
        group.append(one)
    for ready in sorted(open_):
        yield out(ready)


def _time(placed: tuple[int, LogEntry]) -> int:
    return placed[0]


def merged(streams: Iterable[Iterator[LogEntry]]) -> Iterator[LogEntry]:
    """Several logs, each in its own order, by time."""
    return heapq.merge(*streams, key=lambda one: one.at // SECOND)


# As lines of a trace.

_UNSAFE = re.compile(r"[^\x21-\x7e]")


# A line of a trace is put together of parts, each of which is made once for all lines that have it.

_dump = json.JSONEncoder(ensure_ascii=False, separators=(",", ":")).encode


class Writing:
    """How lines become requests: what is expected, as whom they are signed, and who hides secrets.

    ``counted`` learns in how many lines something was hidden.
    """

    def __init__(
        self,
        keeper: SecretKeeper,
        *,
        expects: bool = False,
        sign: tuple[str, str] | None = None,
        signers: Mapping[str, str] | None = None,
    ) -> None:
        """``signers``: the accounts of callers, by address or, behind ``agent:``, by a part of User-Agent."""
        self.keeper, self.expects, self.sign, self.signers = keeper, expects, sign, dict(signers or {})
        self.met: set[str] = set()
        """Those of ``signers`` of whom there was a line."""
        self._agents = [(key, key.removeprefix("agent:")) for key in self.signers if key.startswith("agent:")]
        self._send = lru_cache(maxsize=_REMEMBERED)(self._send_part)
        self._agent = lru_cache(maxsize=_REMEMBERED)(self._agent_part)
        self._referrer = lru_cache(maxsize=_REMEMBERED)(self._referrer_part)

    def tail(self, seen: LogEntry, counted: ImportStats) -> str:
        """All of a trace's line but its id and time. Raises Odd."""
        _, method, target, status, address, _, referrer, agent, _, _, _, _, short = seen
        hid = hid_too = hid_that = False
        keeper = self.keeper
        if (keeper.nothing_in_short if short else keeper.nothing_in_target)(target):
            row = f'"send":"{method} {target}"'
        else:
            row, hid = self._send(method, target)
        if address is not None:
            row = f'{row},"address":"{address}"'
        fields = ""
        if agent is not None:
            fields, hid_too = self._agent(agent)
        if referrer is not None:
            more, hid_that = self._referrer(referrer)
            fields = f"{fields},{more}" if fields and more else fields or more
        if fields:
            row = f'{row},"headers":{{{fields}}}'
        if hid or hid_too or hid_that:
            counted.hidden += 1
        if self.sign is not None and (signer := self._signer(seen)) is not None:
            row += f',"sign":{_dump({self.sign[0]: literal(signer)})}'
        if self.expects and status is not None and 200 <= status <= 599:
            row += f',"expect":{{"status":{status}}}'
        return row + "}"

    def _signer(self, seen: LogEntry) -> str | None:
        """The account of whoever sent a line: of the user that it names, else of the address or the agent."""
        assert self.sign is not None
        if seen.user is not None and not self.signers:
            return self.sign[1] or seen.user
        key = seen.address if seen.address in self.signers else None
        if key is None and seen.agent is not None:
            key = next((key for key, part in self._agents if part in (seen.agent or "")), None)
        if key is not None:
            self.met.add(key)
            return self.signers[key]
        return (self.sign[1] or seen.user) if seen.user is not None else None

    def _agent_part(self, agent: str) -> tuple[str, bool]:
        if self.keeper.nothing_in_text(agent):
            return (f'"User-Agent":"{agent}"' if agent else ""), False
        return self._field_part("User-Agent", agent)

    def _referrer_part(self, referrer: str) -> tuple[str, bool]:
        if self.keeper.nothing_in_link(referrer):
            return f'"Referer":"{referrer}"', False
        return self._field_part("Referer", referrer)

    def _send_part(self, method: str, text: str) -> tuple[str, bool]:
        target = _UNSAFE.sub(lambda m: quote(m[0]), text)
        if not target.startswith(("/", "http://", "https://")):
            raise UnreadableLine("its target is no path and no URL")
        shown = self.keeper.url(target)
        try:
            parse_url(shown if shown[:1] != "/" else f"https://service.example{shown}")
        except ValueError as error:
            raise UnreadableLine(f"its target can't be sent: {error}") from None
        return f'"send":{_dump(literal(f"{method} {shown}"))}', shown != target

    def _field_part(self, name: str, value: str) -> tuple[str, bool]:
        plain = _UNSAFE.sub(lambda m: " " if m[0].isspace() else "?", value)
        shown = self.keeper.field(name, plain)
        return (f"{_dump(name)}:{_dump(literal(shown))}" if value else ""), shown != plain


def trace_lines(
    seen: Iterable[LogEntry], writing: Writing, counted: ImportStats, logged_at: str = "end"
) -> Iterator[tuple[int, str, LogEntry]]:
    """Each line's time and tail."""
    first: int | None = None
    tail = writing.tail
    for group in arrivals(spread(seen, counted), logged_at, counted):
        for at, one in group:
            first = at if first is None else first
            if at - first > MAX_TIME:
                words = f"{one.method} {one.target}".encode()
                counted.add_odd("", counted.read, words, "it came over a hundred years after the first")
                continue
            try:
                made = tail(one, counted)
            except UnreadableLine as error:
                counted.add_odd("", counted.read, one.target.encode(), str(error))
                continue
            if one.took is not None:
                made = f'"took":"{one.took}us",{made}'
            counted.written += 1
            yield at, made, one
