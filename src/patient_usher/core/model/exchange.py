"""One exchange: the request, what the stages made of it, and how it ended.

Stages read and write this object; the engine owns the part below the line that says so.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

from patient_usher.core.http.messages import Answer, Request
from patient_usher.core.model.errors import MissingValue, Raised

UNREAD: Any = object()
"""What ``body`` and ``cookies`` hold until a stage reads them."""


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


class Exchange:
    """A request on its way through the pipeline, and what came of it.

    Defaults stand on the class, so starting an exchange sets only what differs.
    """

    kind = "call"
    parent: str | None = None
    caller = "script"
    instance = 0
    send: Any = None
    environment: tuple[str, ...] = ()
    # What the service believes of the caller: the connection's, or what a trusted front says.
    scheme = "https"
    address = ""
    host = ""
    # What stages read, and leave for those behind them.
    route: Any = None
    path_values: dict[str, str] = {}
    allowed: tuple[str, ...] = ()
    identity: Identity | None = None
    body: Any = UNREAD
    cookies: Any = UNREAD
    answer: Answer | None = None
    note: dict[str, Any] | None = None
    # The engine's: where the exchange is.
    plan: Any = None
    index = 0
    state = 0
    epoch = 0
    live = 1
    resume: Callable[[Exchange], Any] | None = None
    raising: Raised | None = None
    error_view: dict[str, Any] | None = None
    shadow_of: Exchange | None = None
    slipped = False
    gave_up = False
    waits = False
    impatient = False
    patience_ends = 0
    timed_out = False
    # The record.
    errors: tuple[Raised, ...] = ()
    log: tuple[LogRecord, ...] = ()
    caches: tuple[dict[str, Any], ...] = ()
    rates: tuple[dict[str, Any], ...] = ()
    outcome = ""
    answered_by: str | None = None
    refused_by: str | None = None
    why: str | None = None
    handler_reached = False
    handler_finished = False
    second_answer: Answer | None = None
    browser: dict[str, Any] | None = None

    def __init__(self, number: int, id_: str, request: Request, at: int) -> None:
        self.number = number
        self.id = id_
        self.request = self.sent = request
        self.at = self.now = self.finished = at
        self.context: dict[str, Any] = {}
        self.frames: list[Any] = []
        self.done: list[Callable[[Exchange, str], None]] = []
        self.journey: list[Step] = []

    def write_log(self, stage: str, level: str, message: str, detail: dict[str, Any] | None = None) -> None:
        """Add a log line at the present virtual time."""
        owner = self.shadow_of or self
        owner.log += ((self.now, stage, level, message, detail),)

    def context_value(self, name: str) -> Any:
        """A value that an earlier stage left. Raises MissingValue where none did."""
        try:
            return self.context[name]
        except KeyError:
            raise MissingValue(f"context.{name}") from None
