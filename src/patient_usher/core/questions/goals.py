"""Goals for what comes of a replay, in a small language.

A goal is a comparison of a figure with a number, or several joined by ``and``, ``or``, ``not`` and parentheses:
``refused(address=203.0.113.9) > 0.9 and refused(others) == 0``. The figures are ``requests``, ``refused``,
``over-quota`` and ``timed-out`` (shares; ``refused`` is the sum of all), ``status(401)`` (the share with that status),
``hits`` (a share of look-ups), ``age`` (of copies that answered, the 95th percentile, in seconds), ``handler`` (runs),
``latency`` (the 95th percentile, in seconds) and ``broken``. What stands in parentheses chooses whose: ``address=``,
``caller=``, ``identity=`` or ``route=`` and a name, or ``others``: those that no other part of the goal names.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import NamedTuple

from patient_usher.core.questions.metrics import NAMES, SHARES, Figures, Select


class Goal(NamedTuple):
    """What is wished of the figures. ``short`` says by how much they miss it: 0 where it is met; ``named`` of whom."""

    text: str
    short: Callable[[Figures], float]
    named: Sequence[Select] = ()


_TOKEN = re.compile(r"\s*(?:(\d+(?:\.\d+)?)|(and|or|not)\b|([a-z]+(?:-[a-z]+)*)|(>=|<=|==|!=|>|<)|([()]))")
_CHOICE = re.compile(r"\s*\(\s*(?:(address|caller|identity|route)\s*=\s*([^)\s]+)|(others))\s*\)")
_STATUS = re.compile(r"\s*\(\s*([1-5]\d\d)\s*\)")
_OPERATORS: dict[str, Callable[[float, float], float]] = {
    ">": lambda a, b: 0.0 if a > b else (b - a) or 1e-9,
    ">=": lambda a, b: max(b - a, 0.0),
    "<": lambda a, b: 0.0 if a < b else (a - b) or 1e-9,
    "<=": lambda a, b: max(a - b, 0.0),
    "==": lambda a, b: abs(a - b) if abs(a - b) > 1e-12 else 0.0,
    "!=": lambda a, b: 0.0 if a != b else 1.0,
}
"""By how much a comparison is missed."""


def goal(text: str) -> Goal:
    """A goal from its text. Raises ValueError with what is wrong and what would be right."""
    reader = _GoalReader(text)
    short = reader.either()
    if reader.rest().strip():
        raise ValueError(f"'{reader.rest().strip()[:30]}' is left over; join comparisons with and, or")
    return Goal(text, short, tuple(reader.named))


Short = Callable[[Figures], float]


class _GoalReader:
    def __init__(self, text: str) -> None:
        self.text, self.at = text, 0
        self.named: list[Select] = []

    def rest(self) -> str:
        return self.text[self.at :]

    def _next(self) -> tuple[str, str]:
        """The next word and its sort, without taking it."""
        match = _TOKEN.match(self.text, self.at)
        if match is None:
            return "", self.rest().strip()[:20]
        sorts = ("number", "join", "name", "operator", "bracket")
        return next((sort, part) for sort, part in zip(sorts, match.groups(), strict=True) if part is not None)

    def _take(self) -> str:
        match = _TOKEN.match(self.text, self.at)
        assert match is not None
        self.at = match.end()
        return match[0].strip()

    def either(self) -> Short:
        """Comparisons joined by ``or``: the one that is missed least counts."""
        parts = [self._both()]
        while self._next()[1] == "or":
            self._take()
            parts.append(self._both())
        return parts[0] if len(parts) == 1 else lambda figures: min(part(figures) for part in parts)

    def _both(self) -> Short:
        parts = [self._one()]
        while self._next()[1] == "and":
            self._take()
            parts.append(self._one())
        return parts[0] if len(parts) == 1 else lambda figures: sum(part(figures) for part in parts)

    def _one(self) -> Short:
        sort, word = self._next()
        if word == "not":
            self._take()
            inner = self._one()
            return lambda figures: 0.0 if inner(figures) else 1.0
        if word == "(":
            self._take()
            inside = self.either()
            if self._next()[1] != ")":
                raise ValueError("a parenthesis isn't closed; write )")
            self._take()
            return inside
        return self._comparison(sort, word)

    def _comparison(self, sort: str, word: str) -> Short:
        if sort != "name" or word not in NAMES:
            raise ValueError(f"'{word}' is no figure; there are {', '.join(NAMES)}")
        self._take()
        select = self._choice(word)
        if self._next()[0] != "operator":
            raise ValueError(f"{word} is compared with nothing; write {word} < 0.1, say")
        compare = _OPERATORS[self._take()]
        if self._next()[0] != "number":
            raise ValueError(f"{word} is compared with no number; write one, as in 0.1")
        bound = float(self._take())
        named = self.named
        return lambda figures: compare(figures.value(word, select, named), bound)

    def _choice(self, name: str) -> Select:
        if name == "status":
            return self._status()
        match = _CHOICE.match(self.text, self.at)
        if match is None:
            if self._next()[1] == "(":
                mend = "write address=, caller=, identity= or route= and a name in them, or others"
                raise ValueError(f"the parentheses can't be read; {mend}")
            return None
        if name not in (*SHARES, "requests"):
            raise ValueError(f"{name} isn't counted for some requests alone; leave the parentheses out")
        self.at = match.end()
        select: Select = ("others", "") if match[3] else (match[1], match[2])
        self.named.append(select)
        return select

    def _status(self) -> Select:
        match = _STATUS.match(self.text, self.at)
        if match is None:
            raise ValueError("status says not which; write status(401), say")
        self.at = match.end()
        return "status", match[1]
