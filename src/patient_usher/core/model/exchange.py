"""One exchange: the request, what the stages made of it, and how it ended.

Stages read and write this object; the engine owns the part below the line that says so.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import Any, NamedTuple

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
        self.journey: list[Step] | None = None
        self.log: list[LogRecord] | None = None
        self.kind = "call"
        self.parent: str | None = None
        self.caller = "script"
        self.instance = 0
        self.send: Any = None
        self.environment: tuple[str, ...] = ()
        # What the service believes of the caller: the connection's, or what a trusted front says.
        self.scheme = "https"
        self.address = ""
        self.host = ""
        # What stages read, and leave for those behind them.
        self.route: Any = None
        self.path_values: dict[str, str] = _NO_VALUES
        self.allowed: tuple[str, ...] = ()
        self.identity: Identity | None = None
        self.body: Any = UNREAD
        self.cookies: Any = UNREAD
        self.answer: Answer | None = None
        self.note: dict[str, Any] | None = None
        self.precondition: Callable[[bytes | None], Any] | None = None
        self.memory: Memory = {}
        self.work: dict[Hashable, Any] = {}  # what a stage keeps of this exchange, by its key
        # The engine's: where the exchange is.
        self.plan: Any = None
        self.index = 0
        self.state = 0
        self.epoch = 0
        self.live = 1
        self.resume: Callable[[Exchange], Any] | None = None
        self.raising: Raised | None = None
        self.error_view: dict[str, Any] | None = None
        self.shadow_of: Exchange | None = None
        self.slipped = False
        self.refreshes = False
        self.gave_up = False
        self.waits = False
        self.wakes_at = 0
        self.deadlines: tuple[tuple[Any, int, int], ...] = ()
        self.impatient = False
        self.patience_ends = 0
        self.timed_out = False
        # The record.
        self.errors: tuple[Raised, ...] = ()
        self.caches: tuple[CacheUse, ...] = ()
        self.rates: tuple[RateUse, ...] = ()
        self.outcome = ""
        self.answered_by: str | None = None
        self.refused_by: str | None = None
        self.why: str | None = None
        self.handler_reached = False
        self.handler_finished = False
        self.second_answer: Answer | None = None
        self.browser: Verdict | None = None

    def keep_journey(self) -> None:
        """Have the journey and the log kept: somebody will look."""
        self.journey, self.log = [], []

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
