"""Classes of values: one text for each way in which matchers can judge it.

What matchers ask of one fact cuts its values into classes: in each, all matchers hold alike. Exact texts, ``contains``
and patterns are searched together, by one walk, breadth first, over the product of their automata, so that the text of
a class is one of its shortest. Every text is judged by the matchers themselves in the end: what an automaton can't say
costs a class, and never makes a wrong one.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from ipaddress import ip_network
from typing import NamedTuple

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


class TextClasses(NamedTuple):
    """A text of each class that atoms cut one fact into, absent (None) among them.

    ``whole``: whether these are surely all. ``blanks``: whether a class is left out, all texts of which begin or end
    with a blank: no header field can hold one.
    """

    values: list[str | None]
    whole: bool
    blanks: bool


def texts(atoms: Sequence[Atom]) -> list[str | None]:
    """A text of each class that these atoms cut one fact into, absent (None) among them."""
    return text_classes(atoms).values


def text_classes(atoms: Sequence[Atom]) -> TextClasses:
    """The classes that these atoms cut one fact into."""
    basics = [*dict.fromkeys(basic for atom in atoms for basic in _basics(atom.wanted))]
    exact = [text for how, text in basics if how == "exact"]
    searched = [(how, text) for how, text in basics if how in ("contains", "pattern")]
    candidates: list[str | None] = [None, *exact, MADE_UP]
    walked = _Walked([], True, False)
    if searched:
        walked = _words([*searched, *(("exact", text) for text in exact)])
        given = (text if how == "contains" else text_for_pattern(text.removeprefix("(?i)")) for how, text in searched)
        candidates += [*given, *walked.words, *_ODD]
    found: dict[tuple[bool, ...], str | None] = {}
    for value in candidates:
        if value is None or value == value.strip():
            found.setdefault(tuple(atom.fits(value) for atom in atoms), value)
    blanks = walked.blanks or any(text != text.strip() for text in exact)
    return TextClasses(list(found.values()), walked.whole, blanks)


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
    sort_of: Callable[[str], int]


class _Walked(NamedTuple):
    """Texts found by a walk; whether it came to an end, and whether it left out texts for their blanks."""

    words: list[str]
    whole: bool
    blanks: bool


_FOREIGN = "\u00e9\u4e16\t"
"""Characters of other sorts: they must be like one of the preferred ones for a walk to be whole."""
_FOLDED = re.compile(r"\(\?i\).*[kKsS]", re.DOTALL)
"""Letters that characters outside ASCII are equal to where case doesn't count."""


def _words(searched: Sequence[tuple[str, str]]) -> _Walked:
    """A shortest text for each set of these that hold together."""
    made = [_automaton(how, text) for how, text in searched]
    automata = [one for one in made if one is not None]
    if not automata:
        return _Walked([], False, False)
    unlike: dict[tuple[int, ...], str] = {}
    for char in _PREFERRED:
        unlike.setdefault(tuple(one.sorts[char] for one in automata), char)
    whole = len(automata) == len(made) and all(
        tuple(one.sort_of(char) for one in automata) in unlike for char in _FOREIGN
    )
    whole &= all(set(text) <= set(_PREFERRED) and not _FOLDED.match(text) for _, text in searched)
    start: tuple[int | None, ...] = tuple(automaton.start for automaton in automata)
    reached: dict[tuple[int | None, ...], str] = {start: ""}
    pending = [start]
    seen: dict[tuple[bool, ...], bool] = {}
    words = []
    for state in pending:
        word = reached[state]
        taken = tuple(place in one.finals for place, one in zip(state, automata, strict=True))
        sendable = word == word.strip()
        if sendable and not seen.get(taken):
            words.append(word)
        seen[taken] = seen.get(taken, False) or sendable
        for char in unlike.values():
            after = tuple(
                None if place is None else one.steps.get(place, {}).get(char)
                for place, one in zip(state, automata, strict=True)
            )
            if after not in reached:
                if len(reached) >= MOST_STATES:
                    whole = False
                    break
                reached[after] = word + char
                pending.append(after)
    return _Walked(words, whole, not all(seen.values()))


def _automaton(how: str, text: str) -> _Automaton | None:
    """What takes the texts in which this is found; None where it can't be said by one."""
    if how == "exact":
        return _exactly(text)
    return _containing(text) if how == "contains" else _matching(text)


def _exactly(text: str) -> _Automaton:
    """Its states are how much of the text has been read."""
    steps: dict[int, dict[str, int]] = {at: {char: at + 1} for at, char in enumerate(text)}
    own = {char: at for at, char in enumerate(dict.fromkeys(text), 1)}
    sorts = {char: own.get(char, 0) for char in _PREFERRED}
    return _Automaton(0, frozenset([len(text)]), steps, sorts, lambda char: own.get(char, 0))


def _containing(text: str) -> _Automaton:
    """Its states are how much of the text has been read so far (Knuth, Morris and Pratt)."""
    steps: dict[int, dict[str, int]] = {len(text): dict.fromkeys(_PREFERRED, len(text))}
    for state in range(len(text)):
        steps[state] = {}
        for char in _PREFERRED:
            read = text[:state] + char
            steps[state][char] = next(size for size in range(state + 1, -1, -1) if read.endswith(text[:size]))
    own = {char: at for at, char in enumerate(dict.fromkeys(text), 1)}
    sorts = {char: own.get(char, 0) for char in _PREFERRED}
    return _Automaton(0, frozenset([len(text)]), steps, sorts, lambda char: own.get(char, 0))


def _matching(pattern: str) -> _Automaton | None:
    from greenery import parse  # only where there are patterns

    plain_dashes = _DASH.sub(lambda found: found[0].replace("-", "\\-"), _either_case(pattern))
    whole = "|".join(_anchored(part) for part in _alternatives(plain_dashes))
    try:
        machine = parse(whole).to_fsm()
    except Exception:  # whatever the package raises for what it doesn't know
        return None
    sorts = [*machine.alphabet]

    def sort_of(char: str) -> int:
        return next(at for at, chars in enumerate(sorts) if chars.accepts(char))

    of = {char: sort_of(char) for char in _PREFERRED}
    steps = {
        state: {char: below[sorts[at]] for char, at in of.items() if sorts[at] in below}
        for state, below in machine.map.items()
    }
    return _Automaton(machine.initial, frozenset(machine.finals), steps, of, sort_of)


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
    """An address of each class: of networks both ends count, and what stands beside them."""
    found: dict[tuple[bool, ...], str | None] = {}
    for value in _ADDRESSES[:1] + [text for atom in atoms for text in _around(atom)] + _ADDRESSES:
        found.setdefault(tuple(atom.fits(value) for atom in atoms), value)
    return list(found.values())


_ADDRESSES = ["192.0.2.1", "198.51.100.9", "203.0.113.9", "2001:db8::9"]


def are_networks(atoms: Sequence[Atom]) -> bool:
    """Whether all that is asked of an address are networks and addresses: then ``addresses`` has every class."""
    return all(how == "exact" for atom in atoms for how, _ in _basics(atom.wanted))


def _around(atom: Atom) -> Iterator[str]:
    """Addresses in the networks that an atom names, at their ends, and right beside them."""
    for how, text in _basics(atom.wanted):
        if how != "exact":
            continue
        network = ip_network(text, strict=False)
        first, last = int(network[0]), int(network[-1])
        most = (1 << network.max_prefixlen) - 1
        inner = [first + 1] * (network.num_addresses > 2)
        yield from (str(type(network[0])(number)) for number in (*inner, first, last))
        yield from (str(type(network[0])(number)) for number in (first - 1, last + 1) if 0 <= number <= most)
