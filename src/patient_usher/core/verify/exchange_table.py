"""Exchanges as rows of a table: one row an exchange, one column a fact, each with its unit."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

from patient_usher.core.engine.replay import Send
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.verify.record import Record, content_size

SECOND = 1_000_000


Cell = str | int | float | bool | None
Row = dict[str, Cell]


class Column(NamedTuple):
    """What a column holds: its type (text, whole, number, truth, time), what it says, and how to read it.

    A time is in microseconds since the epoch.
    """

    sort: str
    says: str
    read: Callable[[Exchange], Cell]


def _uncoded(x: Exchange) -> int | None:
    if x.answer is None:
        return None
    return len(x.answer.content)


def _limit(x: Exchange, name: str) -> Cell:
    """What the last limit on the way says."""
    found: Cell = getattr(x.rates[-1], name) if x.rates else None
    return found


COLUMNS: dict[str, Column] = {
    "id": Column("text", "the exchange", lambda x: x.id),
    "request_id": Column("text", "the request that it belongs to", lambda x: x.send.entry.id),
    "kind": Column("text", "call, preflight or redirect", lambda x: x.kind),
    "caller": Column("text", "who sent it", lambda x: x.caller),
    "address": Column("text", "where it came from, as far as the service knows", lambda x: x.address or x.sent.peer),
    "identity": Column("text", "who it was found to be", lambda x: x.identity.name if x.identity else None),
    "instance": Column("whole", "which instance it came to", lambda x: x.instance),
    "at": Column("number", "when it came, in seconds from the start of the trace", lambda x: x.at),
    "time": Column("time", "when that is: a time of day, in UTC", lambda x: x.at),
    "took": Column("number", "how long it took, in seconds", lambda x: (x.finished - x.at) / SECOND),
    "method": Column("text", "the method", lambda x: x.sent.method),
    "host": Column("text", "the host, as far as the service knows", lambda x: x.host or x.sent.url.host),
    "path": Column("text", "the path", lambda x: x.sent.url.path),
    "query": Column("text", "the query", lambda x: x.sent.url.query or None),
    "agent": Column("text", "User-Agent", lambda x: x.sent.fields.get("user-agent")),
    "route": Column("text", "the route", lambda x: x.route.id if x.route is not None else None),
    "status": Column("whole", "the answer's status", lambda x: x.answer.status if x.answer is not None else None),
    "outcome": Column("text", "how it ended", lambda x: x.outcome),
    "answered_by": Column("text", "who answered", lambda x: x.answered_by if x.answer is not None else None),
    "refused_by": Column("text", "who refused", lambda x: x.refused_by),
    "why": Column("text", "why it was refused", lambda x: x.why),
    "handler_reached": Column("truth", "whether the handler was reached", lambda x: x.handler_reached),
    "cache": Column("text", "what the last cache made of it", lambda x: x.caches[-1].state if x.caches else None),
    "limit": Column("text", "the last limit on the way", lambda x: _limit(x, "stage")),
    "limit_for": Column("text", "for whom that counts", lambda x: _limit(x, "for_")),
    "limit_quota": Column("whole", "how much that lets through", lambda x: _limit(x, "quota")),
    "limit_remaining": Column("whole", "what is left of it", lambda x: _limit(x, "remaining")),
    "request_octets": Column("whole", "octets of the request's body", lambda x: len(x.sent.body)),
    "answer_octets": Column("whole", "octets of the answer's body", lambda x: len(x.answer.body) if x.answer else None),
    "uncoded_octets": Column("whole", "octets of it before any content coding", _uncoded),
    "browser": Column("text", "what a browser lets the page have", lambda x: x.browser.verdict if x.browser else None),
}
"""Every column, in order. Times read as microseconds since the epoch become seconds from the start of the trace."""


def rows_of(send: Send, starts: int) -> Iterator[Row]:
    """A row for each exchange of a send that was sent."""
    for x in send.exchanges:
        row = {name: column.read(x) for name, column in COLUMNS.items()}
        row["at"] = (x.at - starts) / SECOND
        yield row


def row_of_record(record: Record, starts: int | None = None) -> Row:
    """The same row from an exchange as the result writes it; what a result doesn't say is None.

    ``starts``: from when its times count, in microseconds since the epoch.
    """
    response, request = record.response, record.request
    rate = record.rates[-1] if record.rates else None
    authority, _, target = request.url.partition("://")[2].partition("/")
    path, _, query = target.partition("?")
    agents = [value for name, value in request.headers if name.lower() == "user-agent"]
    said = {name: getattr(record, name, None) for name in COLUMNS}
    return {
        **said,
        "at": float(record.at),
        "time": starts + round(record.at * SECOND) if starts is not None else None,
        "host": authority.partition(":")[0] if authority[:1] != "[" else authority.partition("]")[0][1:],
        "query": query or None,
        "agent": agents[0] if agents else None,
        "took": round(float(record.finished - record.at), 6),
        "method": request.method,
        "path": f"/{path}",
        "cache": record.caches[-1].state if record.caches else None,
        "limit": rate.stage if rate else None,
        "limit_for": rate.for_ if rate else None,
        "limit_quota": rate.quota if rate else None,
        "limit_remaining": rate.remaining if rate else None,
        "request_octets": request.body_size,
        "answer_octets": response.body_size if response else None,
        "uncoded_octets": content_size(response) if response else None,
        "browser": record.browser.verdict if record.browser else None,
    }
