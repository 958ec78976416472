"""Figures of a replay, counted while it streams by; and goals that are set for them, in a small language.

A goal is a comparison of a figure with a number, or several joined by ``and``, ``or``, ``not`` and parentheses:
``refused(address=203.0.113.9) > 0.9 and refused(others) == 0``. The figures are ``requests``, ``refused`` (a share),
``hits`` (a share of look-ups), ``handler`` (runs), ``waiting`` (the 95th percentile, in seconds) and ``broken``. What
stands in parentheses chooses whose: ``address=``, ``caller=``, ``identity=`` or ``route=`` and a name, or ``others``:
those that no other part of the goal names.
"""

from __future__ import annotations

import re
from array import array
from collections import Counter
from collections.abc import Callable, Iterable
from typing import Any, NamedTuple

from patient_usher.core.engine.replay import Send
from patient_usher.core.model.exchange import Exchange

SECOND = 1_000_000
BY: dict[str, Callable[[Exchange], str]] = {
    "address": lambda x: x.address or x.sent.peer,
    "caller": lambda x: x.caller,
    "identity": lambda x: x.identity.name if x.identity is not None else "nobody",
    "route": lambda x: x.route.id if x.route is not None else "none",
}
"""By what requests can be told apart."""
NAMES = ("requests", "refused", "hits", "handler", "waiting", "broken")
MOST_NAMES = 20_000
"""Of how many names of one sort are counted apart; of further ones nothing is said."""

Select = tuple[str, str] | None
"""Whose figure: by what, and which; ("others", "") for those that nothing else names; None for all."""


class Figures:
    """What came of a replay, in numbers."""

    def __init__(self) -> None:
        self.requests: Counter[Any] = Counter()
        self.refused: Counter[Any] = Counter()
        self.looked = self.hit = self.handled = self.broken = 0
        self.took = array("q")

    def add(self, send: Send, *, failed: bool) -> None:
        """Count a send and its exchanges."""
        self.broken += failed
        for x in send.exchanges:
            if x.outcome == "not-sent":
                continue
            keys = [None, *((by, read(x)) for by, read in BY.items())]
            for key in keys:
                if key in self.requests or len(self.requests) < MOST_NAMES * len(BY):
                    self.requests[key] += 1
                    self.refused[key] += x.refused_by is not None
            self.handled += x.handler_reached
            for use in x.caches:
                self.looked += use.state in ("hit", "miss", "stale", "revalidated")
                self.hit += use.state == "hit"
            self.took.append(x.finished - x.at)

    def share(self, select: Select, named: Iterable[Select] = ()) -> float:
        """The share of a choice's requests that were refused."""
        requests, refused = (self._of(counter, select, named) for counter in (self.requests, self.refused))
        return refused / requests if requests else 0.0

    def _of(self, counter: Counter[Any], select: Select, named: Iterable[Select]) -> int:
        if select is None or select[0] != "others":
            return counter[select]
        return counter[None] - sum(counter[one] for one in {*named} if one is not None and one[0] != "others")

    def waiting(self, percent: int = 95) -> float:
        """A percentile of how long requests took, in seconds."""
        ordered = sorted(self.took)
        return ordered[min(len(ordered) * percent // 100, len(ordered) - 1)] / SECOND if ordered else 0.0

    def value(self, name: str, select: Select, named: Iterable[Select] = ()) -> float:
        """A figure by its name, for a choice of requests where it has any."""
        if name == "refused":
            return self.share(select, named)
        if name == "requests":
            return self._of(self.requests, select, named)
        plain = {"handler": self.handled, "broken": self.broken, "waiting": self.waiting()}
        return float(plain[name]) if name in plain else self.hit / self.looked if self.looked else 0.0

    def most_refused(self, by: str, count: int = 3) -> list[str]:
        """The names that were refused most."""
        found = [(key[1], refused) for key, refused in self.refused.items() if key and key[0] == by and refused]
        return [name for name, _ in sorted(found, key=lambda pair: (-pair[1], pair[0]))[:count]]

    @property
    def told_by(self) -> str:
        """By what callers are told apart: their names, where a trace gives them several; else their addresses."""
        names = {key[1] for key in self.requests if key is not None and key[0] == "caller"}
        return "caller" if len(names) > 1 else "address"

    def document(self) -> dict[str, Any]:
        """The figures as JSON says them."""
        return {
            "requests": self.requests[None],
            "refused": self.share(None),
            **{
                f"refused_by_{by}": {name: self.share((by, name)) for name in self.most_refused(by)}
                for by in ("address", "caller")
            },
            "hits": self.value("hits", None),
            "handler": self.handled,
            "waiting": self.waiting(),
            "broken": self.broken,
        }


# Goals.


class Goal(NamedTuple):
    """What is wished of the figures. ``short`` says by how much they miss it: 0 where it is met."""

    text: str
    short: Callable[[Figures], float]


_TOKEN = re.compile(r"\s*(?:(\d+(?:\.\d+)?)|(and|or|not)\b|([a-z]+)|(>=|<=|==|!=|>|<)|([()]))")
_CHOICE = re.compile(r"\s*\(\s*(?:(address|caller|identity|route)\s*=\s*([^)\s]+)|(others))\s*\)")
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
    reader = _Reader(text)
    short = reader.either()
    if reader.rest().strip():
        raise ValueError(f"'{reader.rest().strip()[:30]}' is left over; join comparisons with and, or")
    return Goal(text, short)


Short = Callable[[Figures], float]


class _Reader:
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
        match = _CHOICE.match(self.text, self.at)
        if match is None:
            if self._next()[1] == "(":
                mend = "write address=, caller=, identity= or route= and a name in them, or others"
                raise ValueError(f"the parentheses can't be read; {mend}")
            return None
        if name not in ("refused", "requests"):
            raise ValueError(f"{name} isn't counted for some requests alone; leave the parentheses out")
        self.at = match.end()
        select: Select = ("others", "") if match[3] else (match[1], match[2])
        self.named.append(select)
        return select
