"""What an exchange reads of its request and of the pipeline's state, fact by fact.

The engine runs as always; what it is given notes each read. A fact is named as matchers name it: ``header.x-mode`` (in
lower case), ``query.page``, ``cookie.deck``, ``path``, ``host``; ``state.ID`` is what a stage, a desk or a handler
remembers. What a stage has written itself is no fact of the request any more.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Set
from typing import Any, NamedTuple

from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Request
from patient_usher.core.http.urls import Url
from patient_usher.core.model.exchange import UNREAD, Exchange


class Read(NamedTuple):
    """One read: the fact, and the stage that read it.

    Beside stages: ``front`` before the first of them, ``done`` when all is over, ``always`` for statements.

    ``how``: ``value``, ``presence`` (whether it is there), or ``written`` (what a stage had written there).
    """

    fact: str
    by: str
    how: str


class ReadLog:
    """The reads of one exchange, in order. ``on``: whether anything is noted."""

    def __init__(self) -> None:
        self.on = True
        self.journey: list[Any] = []
        self.arrived = self.ended = 0
        """How many reads there were before the first stage, and before all was over."""
        self._found: list[tuple[str, int, str]] = []

    def note(self, fact: str, how: str = "value") -> None:
        """Note a read beside the step that is being taken."""
        if self.on:
            self._found.append((fact, len(self.journey), how))

    def start(self, journey: list[Any]) -> None:
        """The first stage comes next."""
        self.arrived, self.journey = len(self._found), journey

    def end(self) -> None:
        """All is over: who reads now are statements."""
        self.ended = len(self._found)

    def reads(self) -> list[Read]:
        """Every read once, in order."""
        found: dict[Read, None] = {}
        for number, (fact, place, how) in enumerate(self._found):
            if number < self.arrived:
                by = "front"
            elif number >= self.ended:
                by = "always"
            else:
                by = self.journey[place][0] if place < len(self.journey) else "done"
            found[Read(fact, by, how)] = None
        return list(found)


class WatchedFields(Fields):
    """Header fields of a request that note what is read. ``own``: names that a stage has written or taken off."""

    __slots__ = ("log", "own")

    log: ReadLog
    own: set[str]

    @classmethod
    def over(cls, fields: Fields, log: ReadLog, own: Set[str] = frozenset()) -> WatchedFields:
        """The same lines, watched."""
        made = cls.__new__(cls)
        made._rows, made.log, made.own = fields._rows.copy(), log, set(own)
        return made

    def _note(self, lower: str, how: str = "value") -> None:
        self.log.note(f"header.{lower}", "written" if lower in self.own else how)

    def get(self, lower: str) -> str | None:
        """As ever."""
        self._note(lower)
        return super().get(lower)

    def values(self, lower: str) -> tuple[str, ...]:
        """As ever."""
        self._note(lower)
        return super().values(lower)

    def __contains__(self, lower: str) -> bool:
        self._note(lower, "presence")
        return super().__contains__(lower)

    def has_none(self, lower: Set[str]) -> bool:
        """As ever: whether each is there."""
        for name in sorted(lower):
            self._note(name, "presence")
        return super().has_none(lower)

    def _all(self) -> None:
        self.log.note("header.*")

    def pairs(self) -> list[tuple[str, str]]:
        """As ever."""
        self._all()
        return super().pairs()

    def names(self) -> list[str]:
        """As ever."""
        self._all()
        return super().names()

    def differing(self, other: Fields) -> list[str]:
        """As ever."""
        self._all()
        return super().differing(other)

    def __iter__(self) -> Iterator[tuple[str, str]]:
        self._all()
        return super().__iter__()

    def copy(self) -> Fields:
        """The same lines, watched too: a copy alone reads nothing."""
        return WatchedFields.over(self, self.log, self.own)

    def add(self, name: str, value: str) -> None:
        """As ever; what is there already is read by whoever reads it then."""
        if name.lower() not in self._rows:
            self.own.add(name.lower())
        super().add(name, value)

    def put(self, name: str, value: str) -> None:
        """As ever."""
        self.own.add(name.lower())
        super().put(name, value)

    def drop(self, lower: str) -> None:
        """As ever."""
        self.own.add(lower)
        super().drop(lower)

    def drop_where(self, prefix: str) -> None:
        """As ever."""
        self._all()
        super().drop_where(prefix)


class _WatchedNames(Mapping[str, Any]):
    """Parameters or cookies, each a fact of its own."""

    def __init__(self, root: str, values: Mapping[str, Any], log: ReadLog) -> None:
        self.root, self.inner, self.log = root, values, log

    def __getitem__(self, name: str) -> Any:
        self.log.note(f"{self.root}.{name}")
        return self.inner[name]

    def __iter__(self) -> Iterator[str]:
        self.log.note(f"{self.root}.*")
        return iter(self.inner)

    def __len__(self) -> int:
        self.log.note(f"{self.root}.*")
        return len(self.inner)


_OF_URL = {
    "path": ("path",),
    "segments": ("path",),
    "query": ("query.*",),
    "target": ("path", "query.*"),
    "text": ("scheme", "host", "path", "query.*"),
    "scheme": ("scheme",),
    "origin": ("scheme", "host"),
    "host": ("host",),
    "port": ("host",),
    "authority": ("host",),
}
"""The facts that a part of a URL tells."""


class WatchedUrl:
    """A URL that notes which parts of it are read."""

    __slots__ = ("_log", "_plain")

    def __init__(self, plain: Url, log: ReadLog) -> None:
        self._plain, self._log = plain, log

    def __getattr__(self, name: str) -> Any:
        for fact in _OF_URL.get(name, ()):
            self._log.note(fact)
        value = getattr(self._plain, name)
        return _WatchedNames("query", value, self._log) if name == "params" else value


class WatchedRequest(Request):
    """A request whose parts are watched."""

    __slots__ = ("_body", "log")

    def __init__(self, plain: Request, log: ReadLog) -> None:
        self.log = log
        self.method, self._body, self.peer = plain.method, plain.body, plain.peer
        self.url: Any = WatchedUrl(plain.url, log)  # it answers as a Url does
        self.fields = WatchedFields.over(plain.fields, log)

    @property
    def body(self) -> bytes:
        """As ever."""
        self.log.note("body")
        return self._body

    @body.setter
    def body(self, value: bytes) -> None:
        self._body = value

    def with_fields(self, fields: Fields) -> Request:
        """As ever; the body isn't read for that."""
        made = WatchedRequest.__new__(WatchedRequest)
        made.log, made.method, made._body, made.peer = self.log, self.method, self._body, self.peer
        made.url, made.fields = self.url, fields
        return made


_OF_EXCHANGE = {"scheme": "scheme", "host": "host", "address": "address", "path_values": "path", "body": "body.*"}


class WatchedExchange(Exchange, eq=False, kw_only=True):
    """An exchange that notes what is read of what the service believes of its caller."""

    reads: Any = None

    def __getattribute__(self, name: str) -> Any:
        value = super().__getattribute__(name)
        if name in _OF_EXCHANGE or name == "cookies":
            log = super().__getattribute__("reads")
            if log is not None and value is not UNREAD:
                if name == "cookies" and isinstance(value, dict):
                    return _WatchedNames("cookie", value, log)
                log.note(_OF_EXCHANGE.get(name, "cookie.*"))
        return value


class _WatchedMemory(dict[Any, Any]):
    """What one instance remembers, each part a fact of its own."""

    def __init__(self, inner: Mapping[Any, Any], log: ReadLog) -> None:
        super().__init__(inner)
        self.log = log

    def __getitem__(self, key: Any) -> Any:
        self.log.note(f"state.{key}")
        return super().__getitem__(key)

    def get(self, key: Any, default: Any = None) -> Any:
        """As ever."""
        self.log.note(f"state.{key}")
        return super().get(key, default)


class WatchedWorld(RunState):
    """A run state that keeps what the last exchange read."""

    log: ReadLog

    def admit(self, id_: str, request: Request, at: int, *, watched: bool = True) -> Exchange:
        """A new exchange whose reads are noted."""
        self.log = log = ReadLog()
        x = super().admit(id_, WatchedRequest(request, log), at, watched=watched)
        if x.journey is not None:
            log.start(x.journey)
        values = {name: getattr(x, name) for name in Exchange.__struct_fields__}
        values["memory"] = _WatchedMemory(x.memory, log)
        return WatchedExchange(**values, reads=log)
