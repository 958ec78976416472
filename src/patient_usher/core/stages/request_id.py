"""``request-id``: gives every request an id, or keeps the one it brings; W3C Trace Context."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Collection, Iterable, Sequence
from typing import ClassVar

from patient_usher.core.model import stage as base
from patient_usher.core.model.document import JsonMapping, JsonObject
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.routes import RouteSpec
from patient_usher.core.model.stage import Setup

_SAFE = re.compile(r"[A-Za-z0-9._:/+=-]{1,128}")
# W3C Trace Context 3.2: version, trace-id, parent-id, flags; zeros alone aren't an id.
_TRACEPARENT = re.compile(
    r"(?!ff|00-.{49}-..-)([0-9a-f]{2})-(?!0{32})([0-9a-f]{32})-(?!0{16})([0-9a-f]{16})-([0-9a-f]{2})(?:-.*)?"
)
"""Trace Context 3.2.2; what a later version adds behind a dash is left out (3.2.4), version 00 has nothing there."""
_SAMPLED = 1
"""The one flag that is defined (3.2.2.5.1)."""


class Options(StageOptions):
    """The header field, and whether ids of the caller's are believed."""

    trade_names: ClassVar[tuple[str, ...]] = ("correlation-id", "trace-context", "trace-id", "traceparent", "tracing")
    sentences: ClassVar[dict[str, str]] = {
        "header": "The field that carries the id.",
        "trusts-incoming": "Whether an id that the caller sends is kept.",
    }

    header: str = "X-Request-Id"
    trusts_incoming: bool = False

    def writes(self) -> Collection[str]:
        """The field with the id."""
        return (self.header.lower(),)

    def makes_up(self) -> Collection[str]:
        """The same: the id is another each time."""
        return self.writes()

    def sets(self) -> Iterable[str]:
        """The id and the trace's."""
        return ("request-id", "trace-id")

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """An id is made, or the caller's is kept."""
        return ("made", *["kept"] * self.trusts_incoming)

    def classes(self, fact: str) -> Sequence[str | None] | None:
        """An id that may be kept and one that may not; a trace that goes on and one that can't be read."""
        if fact == f"header.{self.header.lower()}":
            return (None, "made-up-id-1", "not fit to be kept")
        if fact == "header.traceparent":
            return (None, "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01", "made-up")
        return None

    def samples(self, route: RouteSpec) -> Iterable[JsonObject]:
        """An id of the caller's."""
        return ({"headers": {self.header: "made-up-id-1"}},)

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """By what it notes."""
        return ("kept" if note.get("kept") else "made",) if way == "in" else ()


class Stage(base.Stage):
    """Ids are made from the seed and the exchange's number, so a replay repeats them."""

    def __init__(self, options: Options, setup: Setup) -> None:
        self.id = options.id
        self.header, self.lower, self.trusts = options.header, options.header.lower(), options.trusts_incoming

    def fresh(self, seed: int) -> int:
        """The seed alone: what is made of it depends on the exchange."""
        return seed

    def situations(self) -> Sequence[Callable[[], object]]:
        """Nothing hangs on the seed but which ids are made."""
        return ()

    def _made(self, x: Exchange, what: str, size: int) -> str:
        return hashlib.sha256(f"{x.memory[self.key]}/{self.id}/{x.number}/{what}".encode()).hexdigest()[:size]

    def way_in(self, x: Exchange) -> Effect:
        """Leave the ids for those behind: as context values, and as fields of the request."""
        fields = x.request.fields
        given = fields.get(self.lower)
        keeps = self.trusts and given is not None and _SAFE.fullmatch(given) is not None
        id_ = given if keeps and given is not None else self._made(x, "request", 32)
        parent = _TRACEPARENT.fullmatch(fields.get("traceparent") or "") if self.trusts else None
        # 3.2.2.5: flags that this version doesn't define are set to zero.
        known = int(parent[4], 16) & _SAMPLED if parent is not None else _SAMPLED
        trace, flags = parent[2] if parent is not None else self._made(x, "trace", 32), f"{known:02x}"
        copy = fields.copy()
        copy.put(self.header, id_)
        copy.put("traceparent", f"00-{trace}-{self._made(x, 'span', 16)}-{flags}")
        if parent is None:
            copy.drop("tracestate")  # 3.3.1.1: it belongs to the parent that is gone
        x.request = x.request.with_fields(copy)
        x.context["request-id"], x.context["trace-id"] = id_, trace
        x.note = {"request-id": id_, "kept": keeps}
        return None

    def way_out(self, x: Exchange) -> Effect:
        """Tell the caller."""
        if x.answer is not None:
            x.answer.fields.put(self.header, x.context["request-id"])
        return None
