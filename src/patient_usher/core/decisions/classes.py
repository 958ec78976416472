"""Classes of values: one text for each way in which matchers can judge it.

What matchers ask of one fact cuts its values into classes: in each, all matchers hold alike. Exact texts, ``contains``
and patterns are searched together, by one walk, breadth first, over the product of their automata, so that the text of
a class is one of its shortest. Every text is judged by the matchers themselves in the end: what an automaton can't say
costs a class, and never makes a wrong one.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from ipaddress import ip_network
from typing import Any, NamedTuple

from patient_usher.core.decisions.schema_samples import MADE_UP, text_for_pattern
from patient_usher.core.model.document import Json
from patient_usher.core.model.matcher import Atom
from patient_usher.core.model.values import plain

MOST_STATES = 4_000
"""How many states of the product are walked."""
_PREFERRED = "abcdefghijklmnopqrstuvwxyz0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ-._~!#$%&'()*+,/:;<=>?@[]^`{|}\"\\ "
"""The characters of texts, those first that stand anywhere without harm. A blank never begins or ends a header."""

_ODD = ("0", "A", "a", "-1", "~", "a b", "1.5", "MADE-UP", "x" * 300)
"""Texts that may fit where an expression can't be read as an automaton."""


def texts(atoms: Sequence[Atom]) -> list[str | None]:
    """A text of each class that these atoms cut one fact into, absent (None) among them."""
    found: dict[tuple[bool, ...], str | None] = {}
    for value in _candidates(atoms):
        if value is None or value == value.strip():
            found.setdefault(tuple(atom.fits(value) for atom in atoms), value)
    return list(found.values())


def _candidates(atoms: Sequence[Atom]) -> Iterator[str | None]:
    yield None
    basics = [basic for atom in atoms for basic in _basics(atom.wanted)]
    yield from (text for how, text in basics if how == "exact")
    yield MADE_UP
    searched = [(how, text) for how, text in dict.fromkeys(basics) if how in ("contains", "pattern")]
    if not searched:
        return
    yield from (text if how == "contains" else text_for_pattern(text.removeprefix("(?i)")) for how, text in searched)
    yield from _words(searched)
    yield from _ODD


def _basics(wanted: Json) -> Iterator[tuple[str, str]]:
    """What a text matcher comes down to: exact texts, ``contains`` and patterns, whether they are denied or not."""
    if isinstance(wanted, list):
        for one in wanted:
            yield from _basics(one)
    elif isinstance(wanted, dict):
        ((how, part),) = wanted.items()
        if how == "not":
            yield from _basics(part)
        else:
            yield how, str(part)
    elif wanted not in ("missing", "present"):
        yield "exact", plain(wanted)


# One walk over the product of automata.


class _Automaton(NamedTuple):
    """A deterministic automaton: where it starts, in which states a text is taken, and where each character leads.

    ``sorts`` tells the characters apart that it does.
    """

    start: int
    finals: frozenset[int]
    steps: dict[int, dict[str, int]]
    sorts: dict[str, int]


def _words(searched: Sequence[tuple[str, str]]) -> Iterator[str]:
    """A shortest text for each set of these that hold together."""
    automata = [one for how, text in searched if (one := _automaton(how, text)) is not None]
    if not automata:
        return
    unlike: dict[tuple[int, ...], str] = {}
    for char in _PREFERRED:
        unlike.setdefault(tuple(one.sorts[char] for one in automata), char)
    start: tuple[int | None, ...] = tuple(automaton.start for automaton in automata)
    reached: dict[tuple[int | None, ...], str] = {start: ""}
    pending = [start]
    seen: set[tuple[bool, ...]] = set()
    for state in pending:
        word = reached[state]
        taken = tuple(place in one.finals for place, one in zip(state, automata, strict=True))
        if taken not in seen and word == word.strip():
            seen.add(taken)
            yield word
        for char in unlike.values():
            after = tuple(
                None if place is None else one.steps.get(place, {}).get(char)
                for place, one in zip(state, automata, strict=True)
            )
            if after not in reached and len(reached) < MOST_STATES:
                reached[after] = word + char
                pending.append(after)


def _automaton(how: str, text: str) -> _Automaton | None:
    """What takes the texts in which this is found; None where it can't be said by one."""
    return _containing(text) if how == "contains" else _matching(text)


def _containing(text: str) -> _Automaton:
    """Its states are how much of the text has been read so far (Knuth, Morris and Pratt)."""
    steps: dict[int, dict[str, int]] = {len(text): dict.fromkeys(_PREFERRED, len(text))}
    for state in range(len(text)):
        steps[state] = {}
        for char in _PREFERRED:
            read = text[:state] + char
            steps[state][char] = next(size for size in range(state + 1, -1, -1) if read.endswith(text[:size]))
    own = {char: at for at, char in enumerate(dict.fromkeys(text), 1)}
    return _Automaton(0, frozenset([len(text)]), steps, {char: own.get(char, 0) for char in _PREFERRED})


def _matching(pattern: str) -> _Automaton | None:
    from greenery import parse  # only where there are patterns

    plain_dashes = _DASH.sub(lambda found: found[0].replace("-", "\\-"), _either_case(pattern))
    whole = "|".join(_anchored(part) for part in _alternatives(plain_dashes))
    try:
        machine = parse(whole).to_fsm()
    except Exception:  # whatever the package raises for what it doesn't know
        return None
    sorts = [*machine.alphabet]
    of = {char: next(at for at, chars in enumerate(sorts) if chars.accepts(char)) for char in _PREFERRED}
    steps = {
        state: {char: below[sorts[at]] for char, at in of.items() if sorts[at] in below}
        for state, below in machine.map.items()
    }
    return _Automaton(machine.initial, frozenset(machine.finals), steps, of)


_DASH = re.compile(r"\[\^?-|(?<!\\)-\]")
"""A dash that begins or ends a class stands for itself."""


def _either_case(pattern: str) -> str:
    """A pattern that has no case as one that spells both; others as they are."""
    if not pattern.startswith("(?i)"):
        return pattern
    letters = re.compile(r"(\\.|\[[^\]]*\])|([a-zA-Z])")
    return letters.sub(lambda found: found[1] or f"[{found[2].lower()}{found[2].upper()}]", pattern[4:])


def _alternatives(pattern: str) -> list[str]:
    """The pattern split at the bars that stand in no brackets."""
    parts, depth, at, inside = [""], 0, 0, False
    while at < len(pattern):
        char = pattern[at]
        if char == "\\":
            parts[-1] += pattern[at : at + 2]
            at += 2
            continue
        if inside:
            inside = char != "]"
        elif char == "[":
            inside = True
        depth += (char == "(") - (char == ")") if not inside else 0
        if char == "|" and not depth and not inside:
            parts.append("")
        else:
            parts[-1] += char
        at += 1
    return parts


def _anchored(part: str) -> str:
    """A pattern that is found somewhere, as one that the whole text fits."""
    ends = part.endswith("$") and not part.endswith("\\$")
    inner = part.removeprefix("^").removesuffix("$" if ends else "")
    return f"{'' if part.startswith('^') else '.*'}({inner}){'' if ends else '.*'}"


# Facts that are no plain texts.


def addresses(atoms: Sequence[Atom]) -> list[str | None]:
    """An address of each class."""
    named = [text for atom in atoms for how, text in _basics(atom.wanted) if how == "exact"]
    within = [str(_first(text)) if "/" in text else text for text in named]
    tried = ["192.0.2.1", *within, "198.51.100.9", "203.0.113.9", "2001:db8::9"]
    found: dict[tuple[bool, ...], str | None] = {}
    for value in tried:
        found.setdefault(tuple(atom.fits(value) for atom in atoms), value)
    return list(found.values())


def _first(network: str) -> Any:
    """An address in a network, not its own."""
    known = ip_network(network, strict=False)
    return known.network_address + (1 if known.num_addresses > 2 else 0)
