"""The branches of a pipeline: the ways that an exchange can take at each place where it is decided by facts.

A stage or a handler declares them beside its options, a matcher by what it asks. Of a matcher, each thing that it asks
counts by itself, where it *decides*: were it otherwise, the whole would be otherwise (modified condition/decision
coverage, as the trade calls it). So whoever has seen all branches of a matcher would have seen any of its items left
out, or always held.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Any, NamedTuple

from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.matcher import Atom, Condition, When, compile_when, condition

Branch = tuple[str, str, str]
"""``stages`` or ``routes``, the id, and the way that was taken there."""


class Node(NamedTuple):
    """A part of a matcher: an atom, or ``all``, ``any`` or ``not`` of parts.

    ``fits`` and ``misses`` name the branches where this part alone makes the matcher fit, or miss; they are empty where
    no other part could.
    """

    how: str
    parts: tuple[Node, ...]
    atom: Atom | None
    fits: str = ""
    misses: str = ""


class Fork:
    """One matcher and its branches: which part decides, where more than one could."""

    def __init__(self, when: When) -> None:
        self._words: list[str] = []
        self.named: list[Node] = []
        self.root = self._grown(_plain(condition(when)), "")
        self.names = tuple(name for node in self.named for name in (node.fits, node.misses) if name)

    def _grown(
        self, part: Atom | Condition, words: str, *, by: bool = False, only: bool = False, negated: bool = False
    ) -> Node:
        """A part as a node, those within it too. ``by``, ``only``: whether any, or all, of several must hold around it.

        What is said of a whole needs no saying of its parts: an item of ``any`` misses alone where all of it does.
        """
        if isinstance(part, Atom):
            words, how, atom = part.words, "any" if part.choices else "", None if part.choices else part
            below: tuple[Atom | Condition, ...] = part.choices
        else:
            how, atom, below = part.how, None, part.parts
        fits = misses = ""
        if words and how != "not":
            self._words.append(words)
            words += " again" * (self._words.count(words) - 1)
            shown = f"not {words}" if negated else words
            fits, misses = f"by {shown}" * by, f"misses only {shown}" * only
        place, inner = len(self.named), []
        for at, one in enumerate(below, 1):
            if how == "not":
                inner.append(self._grown(one, words, by=by, only=only, negated=not negated))
            else:
                label = f"item {at} of {how}" + f" in {words}" * bool(words)
                any_fits = (how == "any") is not negated
                inner.append(self._grown(one, label, by=any_fits, only=not any_fits, negated=negated))
        node = Node(how, tuple(inner), atom, fits, misses)
        if fits or misses:
            self.named.insert(place, node)
        return node

    def atoms(self, node: Node | None = None) -> Iterator[Atom]:
        """Everything that the matcher asks, a list's texts one by one."""
        node = node or self.root
        if node.atom is not None:
            yield node.atom
        for part in node.parts:
            yield from self.atoms(part)

    def taken(self, x: Exchange) -> Iterator[str]:
        """What decides about this exchange, as it is now."""
        if not self.named:
            return
        values: dict[int, bool] = {}
        whole = _holds(self.root, x, values, None)
        for node in self.named:
            name = node.fits if whole else node.misses
            if name and _holds(self.root, x, values, node) is not whole:
                yield name


def _holds(node: Node, x: Exchange, values: dict[int, bool], turned: Node | None) -> bool:
    """Whether a part holds, where ``turned`` is the other way round. ``values``: of atoms, as found before."""
    if node.atom is not None:
        key = id(node)
        if key not in values:
            values[key] = node.atom.test(x)
        found = values[key]
    elif node.how == "not":
        found = not _holds(node.parts[0], x, values, turned)
    elif node.how == "any":
        found = any(_holds(part, x, values, turned) for part in node.parts)
    else:
        found = all(_holds(part, x, values, turned) for part in node.parts)
    return found is not (node is turned)


def _plain(part: Atom | Condition) -> Atom | Condition:
    """The same without lists of one."""
    if isinstance(part, Atom):
        return part
    parts = tuple(map(_plain, part.parts))
    return parts[0] if len(parts) == 1 and part.how != "not" else Condition(part.how, parts)


class Cases:
    """Matchers of which the first that fits is taken.

    ``word`` names one of them, ``none`` the branch where none fits.
    """

    def __init__(self, whens: Sequence[When | None], word: str = "case", none: str = "no case") -> None:
        self.parts = [
            (f"{word} {number}", compile_when(when), Fork(when) if when is not None else None)
            for number, when in enumerate(whens, 1)
        ]
        self.none = none

    @property
    def names(self) -> list[str]:
        """All branches."""
        found: list[str] = []
        for name, _, fork in self.parts:
            found += [name, *(f"{name} {how}" for how in (fork.names if fork is not None else ()))]
        closed = not self.parts or self.parts[-1][1] is not None
        return [*found, self.none] if closed and self.none else found

    def taken(self, x: Exchange) -> Iterator[str]:
        """Those that this exchange takes, as it is now."""
        for name, fits, fork in self.parts:
            if fork is not None:
                yield from (f"{name} {how}" for how in fork.taken(x))
            if fits is None or fits(x):
                yield name
                return
        if self.none:
            yield self.none

    @cached_property
    def atoms(self) -> list[Atom]:
        """Everything that is asked."""
        return [atom for _, _, fork in self.parts if fork is not None for atom in fork.atoms()]

    def decide(self, x: Exchange, sort: str, id_: str) -> None:
        """Record which branches are taken now; and what was read for that, where somebody looks."""
        x.take(sort, id_, self.taken(x))
        if x.decided is not None:
            x.decided.append(Decided(sort, id_, self, self.read(x)))

    def read(self, x: Exchange) -> dict[str, Any]:
        """The facts that are looked at, as they are now."""
        return {atom.fact: atom.read(x) for atom in self.atoms}


class Decided(NamedTuple):
    """One decision of an exchange: where, between which cases, and the values of all facts that these look at."""

    sort: str
    id: str
    cases: Cases
    values: dict[str, Any]
