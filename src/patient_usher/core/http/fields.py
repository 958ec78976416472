"""Header fields (RFC 9110 section 5): names without case, values in order."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Set

TOKEN = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+")
"""Names of fields, methods, directives (RFC 9110 5.6.2)."""
_QUOTED_PAIR = re.compile(r"\\(.)")


class Fields:
    """Header fields in the order in which they were first named.

    Names keep their spelling but match without case (RFC 9110 5.1). Methods that look a name up
    (``get``, ``values``, ``in``, ``drop``) take it in lower case: callers name constants, and
    this is the hottest code of all.
    """

    __slots__ = ("_rows",)

    def __init__(self, pairs: Iterable[tuple[str, str]] = ()) -> None:
        # Lower-case name -> (name as written, first value, further values ...).
        self._rows: dict[str, tuple[str, ...]] = {}
        for name, value in pairs:
            self.add(name, value)

    def add(self, name: str, value: str) -> None:
        """Append a value, keeping those that are there (RFC 9110 5.3)."""
        key = name.lower()
        row = self._rows.get(key)
        self._rows[key] = (name, value) if row is None else (*row, value)

    def put(self, name: str, value: str) -> None:
        """Set a field to this one value."""
        self._rows[name.lower()] = (name, value)

    def frame(self, length: str, date: str) -> None:
        """Put Content-Length and, unless it is there, Date: what every answer gets."""
        rows = self._rows
        if "date" not in rows:
            rows["date"] = ("Date", date)
        rows["content-length"] = ("Content-Length", length)

    def get(self, lower: str) -> str | None:
        """The field's value, several lines joined by a comma (RFC 9110 5.2), or None."""
        row = self._rows.get(lower)
        if row is None:
            return None
        if len(row) == 2:
            return row[1]
        return ("; " if lower == "cookie" else ", ").join(row[1:])  # RFC 9113 8.2.3: crumbs of one field

    def values(self, lower: str) -> tuple[str, ...]:
        """Every line of the field, one value each."""
        return self._rows.get(lower, ("",))[1:]

    def differing(self, other: Fields) -> list[str]:
        """Lower-case names of fields that one of both has only, or that say something else."""
        ours, theirs = self._rows, other._rows
        if ours == theirs:
            return []
        found = [name for name, row in ours.items() if theirs.get(name) != row]
        return found + [name for name in theirs if name not in ours]

    def drop(self, lower: str) -> None:
        """Remove the field, if it is there."""
        self._rows.pop(lower, None)

    def drop_where(self, prefix: str) -> None:
        """Remove every field whose lower-case name starts with ``prefix``."""
        for key in [key for key in self._rows if key.startswith(prefix)]:
            del self._rows[key]

    def update(self, other: Fields) -> None:
        """Take over another's fields, replacing those of the same name."""
        self._rows.update(other._rows)

    def copy(self) -> Fields:
        """Fields of its own, with the same lines."""
        copy_tree = Fields.__new__(Fields)
        copy_tree._rows = self._rows.copy()
        return copy_tree

    def pairs(self) -> list[tuple[str, str]]:
        """Every line as a name and its value."""
        rows = [*self._rows.values()]
        if sum(map(len, rows)) == 2 * len(rows):  # one line each: the rows are what is wanted
            return rows  # type: ignore[return-value]
        return [(row[0], value) for row in rows for value in row[1:]]

    def spelled(self, lower: str) -> str:
        """A name as it was written."""
        return self._rows[lower][0]

    def names(self) -> list[str]:
        """Lower-case names in order."""
        return list(self._rows)

    def has_none(self, lower: Set[str]) -> bool:
        """Whether none of these is there."""
        return lower.isdisjoint(self._rows)

    def __contains__(self, lower: str) -> bool:
        return lower in self._rows

    def __iter__(self) -> Iterator[tuple[str, str]]:
        for row in self._rows.values():
            for value in row[1:]:
                yield row[0], value

    def __len__(self) -> int:
        return len(self._rows)

    def __repr__(self) -> str:
        return f"Fields({list(self)!r})"


def split_outside_quotes(value: str, separator: str) -> list[str]:
    """The parts between separators of one character, quoted strings kept whole (RFC 9110 5.6.4)."""
    if '"' not in value:
        return value.split(separator)
    parts: list[str] = []
    start, inside, at = 0, False, 0
    while at < len(value):
        char = value[at]
        if inside and char == "\\":
            at += 1
        elif char == '"':
            inside = not inside
        elif char == separator and not inside:
            parts.append(value[start:at])
            start = at + 1
        at += 1
    return [*parts, value[start:]]


def list_items(value: str) -> list[str]:
    """The members of a comma-separated list that aren't empty (RFC 9110 5.6.1)."""
    return [item for part in split_outside_quotes(value, ",") if (item := part.strip(" \t"))]


def add_vary(fields: Fields, name: str) -> None:
    """Name a request field that the answer depends on, once (RFC 9110 12.5.5)."""
    present = fields.get("vary")
    if present is None:
        fields.put("Vary", name)
        return
    members = {item.lower() for item in list_items(present)}
    if "*" not in members and name.lower() not in members:
        fields.put("Vary", f"{present}, {name}")


LISTS = frozenset({"vary", "link", "server-timing"})
"""Fields of which a draft and the answer that is laid onto it both count (RFC 9110 5.3)."""


def merged(draft: Fields, fields: Fields) -> Fields:
    """An answer's fields laid onto a draft: the answer's count, and of lists and cookies both."""
    whole = draft.copy()
    for name in fields.names():
        values = fields.values(name)
        if name == "vary":
            for item in list_items(", ".join(values)):
                add_vary(whole, item)
        elif name in LISTS or name == "set-cookie":
            for value in values:
                whole.add(fields.spelled(name), value)
        else:
            whole.drop(name)
            for value in values:
                whole.add(fields.spelled(name), value)
    return whole


def laid_behind(fields: Fields, draft: Fields, said: Fields | None = None) -> Fields:
    """Of an answer's fields, those that aren't the draft's that they were laid onto; ``said``: what it said itself."""
    own = fields.copy()
    said = said if said is not None else Fields()
    for name in draft.names():
        if name == "vary":
            before = {item.lower() for item in list_items(draft.get("vary") or "")}
            before -= {item.lower() for item in list_items(said.get("vary") or "")}
            rest = [item for item in list_items(fields.get("vary") or "") if item.lower() not in before]
            own.drop("vary")
            if rest:
                own.put("Vary", ", ".join(rest))
        elif own.values(name) == draft.values(name) and name not in said:
            own.drop(name)
    return own


def merge_over(draft: Fields, fields: Fields) -> Fields:
    """What stands behind, on a draft whose own fields win; of Vary both count."""
    whole = draft.copy()
    for name, value in fields:
        if name.lower() == "vary":
            for item in list_items(value):
                add_vary(whole, item)
        elif name.lower() not in draft:
            whole.add(name, value)
    return whole


def quoted(text: str) -> str:
    """Text as a quoted-string (RFC 9110 5.6.4)."""
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def unquoted(text: str) -> str:
    """What a quoted-string says (RFC 9110 5.6.4); anything else as it stands."""
    if len(text) < 2 or not text[0] == text[-1] == '"':
        return text
    return _QUOTED_PAIR.sub(r"\1", text[1:-1])
