"""A file's content as a tree that remembers where each part stands, and what is wrong with it.

Files become plain dictionaries and lists (``Map`` and ``Seq``), so the models validate them like
any data; a problem's path through the tree leads back to file, line and column.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping
from typing import Any, NamedTuple

Path = tuple[str | int, ...]
"""Keys and indexes from the root of a document."""

Json = Any
"""Whatever JSON can say."""
JsonObject = dict[str, Json]
"""A document, or a part of one, before a model has read it."""
JsonMapping = Mapping[str, Json]
"""The same, only to be read."""


COMMAND_LINE = "command line"


class Spot(NamedTuple):
    """A place in a file; line and column count from 1."""

    file: str
    line: int
    column: int

    def __str__(self) -> str:
        """Where it is; an option and the command line have no lines."""
        named = self.file.startswith("--") or self.file == COMMAND_LINE
        return self.file if named else f"{self.file}:{self.line}:{self.column}"


class Map(dict[str, Any]):
    """A mapping with its own place and, for every key, the key's and the value's."""

    __slots__ = ("spot", "spots")

    def __init__(self, spot: Spot, items: Iterable[tuple[str, object]] = ()) -> None:
        super().__init__(items)
        self.spot = spot
        self.spots: dict[str, tuple[Spot, Spot]] = {}


class Seq(list[Any]):
    """A list with its own place and each item's."""

    __slots__ = ("spot", "spots")

    def __init__(self, spot: Spot, items: Iterable[object] = ()) -> None:
        super().__init__(items)
        self.spot = spot
        self.spots: list[Spot] = []


class Problem(NamedTuple):
    """One thing that is wrong: where, what, and what would be right."""

    spot: Spot
    what: str
    mend: str = ""

    def __str__(self) -> str:
        return f"{self.spot}: {self.what}" + (f"; {self.mend}" if self.mend else "")


class Unusable(Exception):
    """The input can't be used. ``problems`` says why, in the order of the file."""

    def __init__(self, problems: Iterable[Problem]) -> None:
        self.problems = sorted(set(problems))
        super().__init__("\n".join(map(str, self.problems)))


def unusable(what: str, mend: str, where: str = COMMAND_LINE) -> Unusable:
    """What is wrong with what was asked for, or with a file that it names, and what would be right."""
    return Unusable([Problem(Spot(where, 1, 1), what, mend)])


def locate(root: object, path: Iterable[str | int], *, key: bool = False) -> Spot:
    """The place of the deepest part of ``path`` that is in the tree.

    Parts that aren't (a missing key, a validator's own label) are passed over. ``key`` asks for
    the last key rather than its value.
    """
    spot = getattr(root, "spot", Spot("", 1, 1))
    node = root
    for part in path:
        if isinstance(node, Map) and part in node.spots and part in node:
            key_spot, value_spot = node.spots[str(part)]
            node, spot = node[str(part)], (key_spot if key else value_spot)
        elif isinstance(node, Seq) and isinstance(part, int) and part < len(node):
            spot, node = node.spots[part] if part < len(node.spots) else node.spot, node[part]
    return spot


def merge(base: dict[str, Any], over: Mapping[str, Any]) -> None:
    """Lay ``over`` on ``base``, in place: mappings merge key by key, null takes a key out, anything else replaces.

    As RFC 7396 section 2 has it.
    """
    for key, value in over.items():
        if isinstance(value, Mapping) and isinstance(base.get(key), dict):
            merge(base[key], value)
        elif value is None:
            base.pop(key, None)
        else:
            base[key] = copy_tree(value)
            if isinstance(base, Map) and isinstance(over, Map) and key in over.spots:
                base.spots[key] = over.spots[key]


def _twin(node: Mapping[str, object]) -> dict[str, object]:
    if not isinstance(node, Map):
        return dict(node)
    copy_tree = Map(node.spot, node.items())
    copy_tree.spots = dict(node.spots)
    return copy_tree


def copy_tree(node: Any) -> Any:
    """A copy of the tree's mappings and lists, places included; scalars are shared."""
    if isinstance(node, Mapping):
        copy = _twin(node)
        for key, value in copy.items():
            if isinstance(value, dict | list):
                copy[key] = copy_tree(value)
        return copy
    if isinstance(node, Seq):
        items = Seq(node.spot, map(copy_tree, node))
        items.spots = [*node.spots]
        return items
    return [copy_tree(item) for item in node] if isinstance(node, list) else node


MOST_NAMES = 60
"""How many names a message lists."""


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """A "did you mean" for a word that isn't known, or what is known, if that is short."""
    from difflib import get_close_matches  # only mistakes need it

    names = [str(name) for name in known]
    likely = sorted(names, key=lambda name: abs(len(name) - len(word)))[:60]  # comparing takes time
    if len(word) < 100 and (close := get_close_matches(str(word), likely, n=1, cutoff=0.6)):
        return f"did you mean '{close[0]}'?"
    if not names:
        return ""
    return f"known here: {', '.join(name[:40] for name in names[:MOST_NAMES])}" + (
        f" and {len(names) - MOST_NAMES:,} more" if len(names) > MOST_NAMES else ""
    )


_FROM_ENVIRONMENT = re.compile(r"(?<!\$)\$\{env:([A-Za-z_][A-Za-z0-9_]*)(?:\|([^}]*))?\}")


class FromEnvironment(str):
    """Text of a file in which something came from the environment; ``written`` is what the file says."""

    written: str

    def __new__(cls, text: str, written: str) -> FromEnvironment:
        made = super().__new__(cls, text)
        made.written = written
        return made

    def __reduce__(self) -> Any:
        return FromEnvironment, (str(self), self.written)


def fill_from_environment(
    root: object, variables: Mapping[str, str], allowed: Collection[str] | None = None
) -> list[Problem]:
    """Replace ``${env:NAME}`` and ``${env:NAME|fallback}`` in every text of the tree, in place.

    ``allowed``: the names that may be read, None for all. Of any other the fallback stands.
    """
    problems: list[Problem] = []

    def filled(text: str, spot: Spot) -> str:
        def value(match: re.Match[str]) -> str:
            name, fallback = match.group(1), match.group(2)
            if name in variables and (allowed is None or name in allowed):
                return variables[name]
            if fallback is None and name in variables:
                what = f"the file asks for {name} of the environment"
                problems.append(Problem(spot, what, f"if you trust it, give --trust env:{name}"))
            elif fallback is None:
                problems.append(
                    Problem(
                        spot,
                        f"the environment has no variable {name}",
                        f"set it, or write ${{env:{name}|fallback}}",
                    )
                )
            return fallback or ""

        return FromEnvironment(_FROM_ENVIRONMENT.sub(value, text), text)

    pending: list[object] = [root]
    while pending:
        node = pending.pop()
        if isinstance(node, dict):
            for key, value in node.items():
                if isinstance(value, str):
                    if "${env:" in value and _FROM_ENVIRONMENT.search(value):
                        node[key] = filled(value, locate(node, [key]))
                else:
                    pending.append(value)
        elif isinstance(node, list):
            for index, value in enumerate(node):
                if isinstance(value, str):
                    if "${env:" in value and _FROM_ENVIRONMENT.search(value):
                        node[index] = filled(value, locate(node, [index]))
                else:
                    pending.append(value)
    return problems
