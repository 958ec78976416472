"""One exchange: the request, what the stages made of it, and how it ended.

Stages read and write this object; the engine owns the part below the line that says so.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import TYPE_CHECKING, Any, NamedTuple

from patient_usher.core.http.messages import Answer, Request
from patient_usher.core.model.errors import MissingValue, Raised

UNREAD: Any = object()
"""What ``body`` and ``cookies`` hold until a stage reads them."""

Memory = dict[Hashable, Any]
"""What one instance of the service remembers between exchanges: the state of each keeper, by its key."""


Step = tuple[str, str, str, int, dict[str, Any] | None]
"""One line of the journey: stage, way (in, out, error), what it did, microseconds since the epoch, note."""

LogRecord = tuple[int, str, str, str, dict[str, Any] | None]
"""One log line: microseconds since the epoch, stage, level, message, detail."""


class Identity(NamedTuple):
    """Who is calling, once a stage has found out."""

    name: str
    roles: tuple[str, ...]
    scopes: tuple[str, ...]
    facts: dict[str, Any]


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


_NO_VALUES: dict[str, str] = {}


class Exchange:
    """A request on its way through the pipeline, and what came of it.

    ``memory`` holds the states of the instance that it came to. Where nobody looks at it, no journey
    is kept: ``journey`` is None, and notes and log records are dropped.
    """

    __slots__ = (
        "address", "allowed", "answer", "answered_by", "at", "body", "browser", "caches", "caller", "context",
        "cookies", "deadlines", "done", "environment", "epoch", "error_view", "errors", "finished", "frames",
        "gave_up", "handler_finished", "handler_reached", "host", "id", "identity", "impatient", "index",
        "instance", "journey", "kind", "live", "log", "memory", "note", "now", "number", "outcome", "parent",
        "path_values", "patience_ends", "plan", "precondition", "raising", "rates", "refreshes", "refused_by",
        "request", "resume", "route", "scheme", "second_answer", "send", "sent", "shadow_of", "slipped",
        "state", "timed_out", "waits", "wakes_at", "why", "work",
    )  # fmt: skip

    def __init__(self, number: int, id_: str, request: Request, at: int) -> None:
        self.number = number
        self.id = id_
        self.request = self.sent = request
        self.at = self.now = self.finished = at
        self.context: dict[str, Any] = {}
        self.frames: list[Any] = []
        self.done: list[Callable[[Exchange, str], None]] = []
        self.work: dict[Hashable, Any] = {}  # what a stage keeps of this exchange, by its key
        self.kind, self.caller, self.scheme = "call", "script", "https"
        self.path_values: dict[str, str] = _NO_VALUES
        self.body = self.cookies = UNREAD
        # What the service believes of the caller: the connection's, or what a trusted front says.
        self.address = self.host = self.outcome = ""
        # Nothing yet; most of it stays so. Below the types, for readers.
        self.journey = self.log = self.parent = self.send = self.route = self.identity = self.answer = None
        self.note = self.precondition = self.plan = self.resume = self.raising = self.error_view = None
        self.shadow_of = self.answered_by = self.refused_by = self.why = self.second_answer = self.browser = None
        self.allowed = self.environment = self.deadlines = self.errors = self.caches = self.rates = ()
        self.instance = self.index = self.state = self.epoch = self.wakes_at = self.patience_ends = 0
        self.slipped = self.refreshes = self.gave_up = self.waits = self.impatient = self.timed_out = False
        self.handler_reached = self.handler_finished = False
        self.live = 1

    if TYPE_CHECKING:
        # What stages read, and leave for those behind them.
        journey: list[Step] | None
        log: list[LogRecord] | None
        parent: str | None
        send: Any
        route: Any
        identity: Identity | None
        body: Any
        cookies: Any
        answer: Answer | None
        note: dict[str, Any] | None
        precondition: Callable[[bytes | None], Any] | None
        allowed: tuple[str, ...]
        environment: tuple[str, ...]
        memory: Memory
        # The engine's: where the exchange is.
        plan: Any
        resume: Callable[[Exchange], Any] | None
        raising: Raised | None
        error_view: dict[str, Any] | None
        shadow_of: Exchange | None
        deadlines: tuple[tuple[Any, int, int], ...]
        # The record.
        errors: tuple[Raised, ...]
        caches: tuple[CacheUse, ...]
        rates: tuple[RateUse, ...]
        answered_by: str | None
        refused_by: str | None
        why: str | None
        second_answer: Answer | None
        browser: Verdict | None

    def write_log(self, stage: str, level: str, message: str, detail: dict[str, Any] | None = None) -> None:
        """Add a log line at the present virtual time."""
        if self.log is not None:  # a shadow shares its owner's list
            self.log.append((self.now, stage, level, message, detail))

    def context_value(self, name: str) -> Any:
        """A value that an earlier stage left. Raises MissingValue where none did."""
        try:
            return self.context[name]
        except KeyError:
            raise MissingValue(f"context.{name}") from None
