"""Ids of very many requests: which have been seen, in little memory."""

from __future__ import annotations

from array import array
from collections.abc import Iterable
from hashlib import blake2b

_COMPARED = 200_000
"""So many ids that count up are looked for among others."""


class Ids:
    """Which ids have been seen, in little memory.

    Ids that count up (r1, r2, ...) take none: each run of them is remembered by its end. Of all others
    64 bits of a hash are kept, in an open-addressed table.
    """

    def __init__(self) -> None:
        self._runs: dict[str, tuple[int, int]] = {}
        self._table = array("Q", bytes(8 * 1024))
        self._held = 0
        self._next, self._stem, self._number = "", "", 0
        """What goes on the run that grew last: most ids do."""

    def add(self, id_: str) -> bool:
        """Remember an id. False where it has been seen before."""
        if id_ == self._next and not self._held:
            self._goes_on(self._stem, self._runs[self._stem][0], self._number + 1)
            return True
        stem = id_.rstrip("0123456789")
        digits = id_[len(stem) :]
        if digits and len(digits) < 16 and (digits[0] != "0" or digits == "0"):
            number = int(digits)
            run = self._runs.get(stem)
            if run is None:
                if len(self._runs) < 1000:
                    self._runs[stem] = (number, number)
                    return True
            elif run[0] <= number <= run[1]:
                return False
            elif number == run[1] + 1 and not (self._held and self._holds(id_)):
                self._goes_on(stem, run[0], number)
                return True
        return self._keep(id_)

    def _goes_on(self, stem: str, first: int, number: int) -> None:
        self._runs[stem] = (first, number)
        self._stem, self._number = stem, number
        self._next = f"{stem}{number + 1}" if number < 10**14 else ""

    def _slot(self, id_: str) -> tuple[int, int]:
        """The hash, and the slot where it stands or would."""
        value = _hash(id_)
        table, mask = self._table, len(self._table) - 1
        slot = value & mask
        while table[slot] and table[slot] != value:
            slot = (slot + 1) & mask
        return value, slot

    def _holds(self, id_: str) -> bool:
        value, slot = self._slot(id_)
        return self._table[slot] == value

    def _keep(self, id_: str) -> bool:
        value, slot = self._slot(id_)
        if self._table[slot] == value:
            return False
        self._table[slot] = value
        self._held += 1
        if 3 * self._held > 2 * len(self._table):
            self._grow()
        return True

    def _grow(self) -> None:
        old, self._table = self._table, array("Q", bytes(16 * len(self._table)))
        table, mask = self._table, len(self._table) - 1
        for value in old:
            if value:
                slot = value & mask
                while table[slot]:
                    slot = (slot + 1) & mask
                table[slot] = value


def _hash(id_: str) -> int:
    return int.from_bytes(blake2b(id_.encode(), digest_size=8).digest(), "big") or 1


def disjoint(several: Iterable[Ids]) -> bool:
    """Whether no id is in two of them; False also where that isn't certain."""
    hashes: set[int] = set()
    runs: dict[str, list[tuple[int, int]]] = {}
    for ids in several:
        mine = set(ids._table) - {0}
        if not hashes.isdisjoint(mine):
            return False
        hashes |= mine
        for stem, (first, last) in ids._runs.items():
            others = runs.setdefault(stem, [])
            if any(first <= to and begin <= last for begin, to in others):
                return False
            others.append((first, last))
    every = [(stem, run) for stem, some in runs.items() for run in some] if hashes else []
    if sum(last - first + 1 for _, (first, last) in every) > _COMPARED:
        return False
    named = (f"{stem}{number}" for stem, (first, last) in every for number in range(first, last + 1))
    return not any(_hash(name) in hashes for name in named)
