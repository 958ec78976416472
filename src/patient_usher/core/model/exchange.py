"""One exchange: the request, what the stages made of it, and how it ended.

Stages read and write this object. What the interpreter keeps beside it while it runs (frames, deadlines, patience) is
the walk's own ``Course``; an exchange with a real service has none.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import TYPE_CHECKING, Any, NamedTuple

from patient_usher.core.http.messages import Answer, Request
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.errors import MissingValue, Raised

UNREAD: object = object()
"""What ``body`` and ``cookies`` hold until a stage reads them."""

Memory = dict[Hashable, Any]
"""What one instance of the service remembers between exchanges: the state of each keeper, by its key."""


Step = tuple[str, str, str, int, JsonObject | None]
"""One line of the journey: stage, way (in, out, error), what it did, microseconds since the epoch, note. A plain tuple,
since one is made for every stage of every exchange."""


class LogLine(NamedTuple):
    """One log line: microseconds since the epoch, who wrote it, and beside which step of the journey (its number)."""

    at: int
    stage: str
    level: str
    message: str
    detail: JsonObject | None
    step: int


class Identity(NamedTuple):
    """Who is calling, once a stage has found out."""

    name: str
    roles: tuple[str, ...]
    scopes: tuple[str, ...]
    facts: JsonObject


class CacheUse:
    """What a cache did with an exchange. ``age`` is in microseconds."""

    __slots__ = ("age", "stage", "state", "stored", "why")

    def __init__(self, stage: str) -> None:
        self.stage = stage
        self.state = "bypass"
        self.stored = False
        self.why: str | None = None
        self.age: int | None = None


class RateUse(NamedTuple):
    """What a limit made of an exchange: for whom it counts, and what is left. ``reset`` is in microseconds."""

    stage: str
    for_: str
    quota: int
    remaining: int
    reset: int


class Verdict(NamedTuple):
    """What a browser lets the page have, and which header fields it can read."""

    verdict: str
    why: str | None
    reason: str | None
    readable_headers: tuple[str, ...] = ()
    got: Answer | None = None
    """What the page gets, where that isn't what came over the wire: its own copy, confirmed by a 304."""


_NO_VALUES: dict[str, str] = {}
_new = tuple.__new__  # half the price of a named tuple's own


class Exchange:
    """A request on its way through the pipeline, and what came of it.

    ``memory`` holds the states of the instance that it came to. Where nobody looks at it, no journey
    is kept: ``journey`` is None, and notes and log records are dropped. ``orphan_of``: an orphan runs on behind a
    stage that has answered already; nobody gets its answer, and what it does is recorded on its owner.
    """

    __slots__ = (
        "address", "allowed", "answer", "answered_by", "at", "body", "browser", "caches", "caller", "context",
        "cookies", "environment", "error_view", "errors", "finished", "handler_finished", "handler_reached", "host",
        "id", "identity", "instance", "journey", "kind", "log", "memory", "note", "now", "number", "orphan_of",
        "outcome", "parent", "path_values", "plan", "precondition", "rates", "refreshes", "refused_by", "request",
        "route", "scheme", "second_answer", "send", "sent", "took", "why", "work",
    )  # fmt: skip

    def __init__(self, number: int, id_: str, request: Request, at: int) -> None:
        self.number = number
        self.id = id_
        self.request = self.sent = request
        self.at = self.now = self.finished = at
        self.context: JsonObject = {}
        self.work: dict[Hashable, Any] = {}  # what a stage keeps of this exchange, by its key
        self.kind, self.caller, self.scheme = "call", "script", "https"
        self.path_values: dict[str, str] = _NO_VALUES
        self.body = self.cookies = UNREAD
        # What the service believes of the caller: the connection's, or what a trusted front says.
        self.address = self.host = self.outcome = ""
        # Nothing yet; most of it stays so. Below the types, for readers.
        self.journey = self.log = self.parent = self.send = self.route = self.identity = self.answer = None
        self.note = self.precondition = self.plan = self.error_view = self.orphan_of = None
        self.answered_by = self.refused_by = self.why = self.second_answer = self.browser = self.took = None
        self.allowed = self.environment = self.errors = self.caches = self.rates = ()
        self.instance = 0
        self.refreshes = self.handler_reached = self.handler_finished = False

    if TYPE_CHECKING:
        # What stages read, and leave for those behind them.
        journey: list[Step] | None
        log: list[LogLine] | None
        parent: str | None
        send: Any
        route: Any
        identity: Identity | None
        body: Json
        cookies: Any
        answer: Answer | None
        note: JsonObject | None
        precondition: Callable[[bytes | None], Any] | None
        allowed: tuple[str, ...]
        environment: tuple[str, ...]
        memory: Memory
        plan: Any
        error_view: JsonObject | None
        orphan_of: Exchange | None
        # The record.
        errors: tuple[Raised, ...]
        caches: tuple[CacheUse, ...]
        rates: tuple[RateUse, ...]
        answered_by: str | None
        refused_by: str | None
        why: str | None
        second_answer: Answer | None
        browser: Verdict | None
        took: int | None
        """How long its handler is busy, where the trace says so, in microseconds."""

    @property
    def recorded_on(self) -> Exchange:
        """The exchange whose record this one writes: its own, or that of which it is the orphan."""
        return self.orphan_of or self

    def write_log(self, stage: str, level: str, message: str, detail: JsonObject | None = None) -> None:
        """Add a log line at the present virtual time."""
        if self.log is not None:  # an orphan shares its owner's list
            beside = len(self.journey) if self.journey is not None else 0  # a step is written when it is over
            self.log.append(_new(LogLine, (self.now, stage, level, message, detail, beside)))

    def context_value(self, name: str) -> object:
        """A value that an earlier stage left. Raises MissingValue where none did."""
        try:
            return self.context[name]
        except KeyError:
            raise MissingValue(f"context.{name}") from None
