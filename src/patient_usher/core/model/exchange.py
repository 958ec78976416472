"""One exchange: the request, what the stages made of it, and how it ended.

Stages read and write this object. What the interpreter keeps beside it while it runs (frames, deadlines, patience) is
the walk's own ``Course``; an exchange with a real service has none.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Mapping
from types import MappingProxyType
from typing import Any, NamedTuple

from msgspec import Struct, field

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


LogLine = tuple[int, str, str, str, JsonObject | None, int]
"""One log line: microseconds since the epoch, who wrote it, level, message, detail, beside which step of the
journey (its number). A plain tuple, too."""


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


_NO_VALUES: Mapping[str, str] = MappingProxyType({})


class Exchange(Struct, eq=False):
    """A request on its way through the pipeline, and what came of it.

    ``memory`` holds the states of the instance that it came to. Where nobody looks at it, no journey
    is kept: ``journey`` is None, and notes and log records are dropped. ``orphan_of``: an orphan runs on behind a
    stage that has answered already; nobody gets its answer, and what it does is recorded on its owner.
    """

    number: int
    id: str
    request: Request
    """As stages have it: its URL is the target URI that the service puts together of the Host field, and of what a
    front says that it believes. ``sent`` is what the caller sent."""
    at: int
    sent: Request
    now: int
    finished: int
    # What the service believes of the caller: the connection's, or what a trusted front says.
    scheme: str = "https"
    host: str = ""
    address: str = ""
    # Where it comes to: the route, its plan, and the instance of the service.
    route: Any = None
    path_values: Mapping[str, str] = _NO_VALUES
    allowed: tuple[str, ...] = ()
    plan: Any = None
    environment: tuple[str, ...] = ()
    memory: Memory = None  # type: ignore[assignment]  # it has one from its arrival on
    instance: int = 0
    # What is kept of its way, where somebody looks.
    journey: list[Step] | None = None
    log: list[LogLine] | None = None
    # What stages read, and leave for those behind them.
    context: JsonObject = field(default_factory=dict)
    work: dict[Hashable, Any] = field(default_factory=dict)
    """What a stage keeps of this exchange, by its key."""
    parent: str | None = None
    send: Any = None
    identity: Identity | None = None
    body: Json = UNREAD
    cookies: Any = UNREAD
    answer: Answer | None = None
    note: JsonObject | None = None
    branches: tuple[tuple[str, str, str], ...] = ()
    """The branches (``model.branches``) that matchers took; only where a journey is kept."""
    decided: list[Any] | None = None
    """What matchers were asked, and what they read (``model.branches.Decided``); None where nobody looks."""
    precondition: Callable[[bytes | None], Any] | None = None
    """What a write asks of its conditions, once it knows the present content (None where there is none)."""
    judged: Callable[[Answer], tuple[str | None, bool]] | None = None
    """What a stage in front will make of a whole answer, for a handler that knows of parts (``http.ranges``)."""
    error_view: JsonObject | None = None
    orphan_of: Exchange | None = None
    # The record.
    kind: str = "call"
    caller: str = "script"
    outcome: str = ""
    errors: tuple[Raised, ...] = ()
    caches: tuple[CacheUse, ...] = ()
    rates: tuple[RateUse, ...] = ()
    answered_by: str | None = None
    refused_by: str | None = None
    why: str | None = None
    second_answer: Answer | None = None
    cookies_told: tuple[str, ...] = ()
    """Which cookies its caller left behind, which of the answer's it didn't take, and why: a sentence each."""
    browser: Verdict | None = None
    took: int | None = None
    """How long its handler is busy, where the trace says so, in microseconds."""
    background_refresh: bool = False
    handler_reached: bool = False
    handler_finished: bool = False

    @property
    def recorded_on(self) -> Exchange:
        """The exchange whose record this one writes: its own, or that of which it is the orphan."""
        return self.orphan_of or self

    def take(self, sort: str, id_: str, names: Iterable[str]) -> None:
        """Record branches that are taken now. Of an orphan they are its owner's."""
        self.recorded_on.branches += tuple((sort, id_, name) for name in names)

    def write_log(self, stage: str, level: str, message: str, detail: JsonObject | None = None) -> None:
        """Add a log line at the present virtual time."""
        log, journey = self.log, self.journey  # of an orphan its owner's
        if log is not None and journey is not None:  # a step is written when it is over
            log.append((self.now, stage, level, message, detail, len(journey)))

    def context_value(self, name: str) -> object:
        """A value that an earlier stage left. Raises MissingValue where none did."""
        try:
            return self.context[name]
        except KeyError:
            raise MissingValue(f"context.{name}") from None


def arriving(number: int, id_: str, request: Request, at: int) -> Exchange:
    """A request as it arrives: scheme, host and address are the connection's."""
    url = request.url
    return Exchange(number, id_, request, at, request, at, at, url.scheme, url.host, request.peer)
