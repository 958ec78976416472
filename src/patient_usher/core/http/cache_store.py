"""A bounded store of answers, the least recently used variant goes first; and the misses that are under way."""

from __future__ import annotations

from collections import Counter, OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from patient_usher.core.http.caching import Stored, varies_alike
from patient_usher.core.http.fields import Fields

Key = tuple[Any, ...]
"""Route, URL, what makes a copy of its own, and whose it is."""


def octets(stored: Stored) -> int:
    """What a stored answer takes: its content and fields."""
    return len(stored.answer.body) + sum(len(name) + len(value) + 4 for name, value in stored.answer.fields)


class CacheStore:
    """Answers by key and variant, in at most ``capacity`` octets."""

    def __init__(self, capacity: int) -> None:
        self.capacity = capacity
        self.size = 0
        self._kept: dict[Key, list[Stored]] = {}
        self._used: OrderedDict[tuple[Key, object], tuple[Stored, int]] = OrderedDict()
        """Each with its size, from what was used longest ago on."""

    def knows(self, key: Key) -> bool:
        """Whether there is any variant."""
        return key in self._kept

    def find(self, key: Key, request: Fields) -> Stored | None:
        """The newest variant that the request would have got (RFC 9111 4.1)."""
        for stored in reversed(self._kept.get(key, ())):
            if varies_alike(stored, request):
                self._used.move_to_end((key, stored.vary))
                return stored
        return None

    def put(self, key: Key, stored: Stored) -> bool:
        """Store, in place of the same variant. False, with nothing changed, where it can never fit."""
        size = octets(stored)
        if size > self.capacity:
            return False
        self._drop(key, stored.vary)
        self._kept.setdefault(key, []).append(stored)
        self._used[key, stored.vary] = stored, size
        self.size += size
        self.fit()
        return True

    def fit(self) -> None:
        """Let go of what was not used for longest, until all fits."""
        while self.size > self.capacity and self._used:
            key, vary = next(iter(self._used))
            self._drop(key, vary)

    def replace(self, key: Key, old: Stored, new: Stored) -> None:
        """A variant confirmed: the new one in the place of the old."""
        if self._used.get((key, old.vary), (None, 0))[0] is old:
            self._drop(key, old.vary)
            self.put(key, new)

    def let_go(self, key: Key, stored: Stored) -> None:
        """Drop this very answer, if it is still there."""
        if self._used.get((key, stored.vary), (None, 0))[0] is stored:
            self._drop(key, stored.vary)

    def forget(self, gone: Callable[[Key], bool]) -> int:
        """Drop every key of which that is true. Returns how many."""
        keys = [key for key in self._kept if gone(key)]
        for key in keys:
            for stored in list(self._kept[key]):
                self._drop(key, stored.vary)
        return len(keys)

    def _drop(self, key: Key, vary: object) -> None:
        stored, size = self._used.pop((key, vary), (None, 0))
        if stored is None:
            return
        variants = self._kept[key]
        variants[:] = [other for other in variants if other is not stored]
        self.size -= size
        if not variants:
            del self._kept[key]


@dataclass
class InFlight:
    """A miss under way, and the exchanges that wait for it."""

    waiting: list[Callable[[], None]] = field(default_factory=list)


class CopyStore:
    """What is stored, misses under way, and what became of look-ups."""

    def __init__(self, capacity: int) -> None:
        self.store = CacheStore(capacity)
        self.flights: dict[Key, InFlight] = {}
        self.ended: Counter[str] = Counter()

    @property
    def size(self) -> int:
        """How much is stored, in octets."""
        return self.store.size
