"""Other values that the options of stages, desks and routes may have, as their JSON Schemas allow them.

Flags are turned, words replaced by the others, lists made longer or shorter by one, entries of lists changed within;
numbers, durations and texts are taken from what was seen of a service.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache
from itertools import islice
from typing import Any, NamedTuple

from patient_usher.core.model.document import Json, JsonMapping, JsonObject, Path
from patient_usher.core.model.text_types import DURATION_PATTERN, parse_duration
from patient_usher.core.variants.change import said_of
from patient_usher.core.variants.seen import NOBODY, Seen

_ROUND = (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 86_400, 604_800)
"""Seconds that people write as lifetimes and windows."""
OWN = frozenset({"id", "kind", "enabled", "only", "except", "same-as", "call", "options", "file"})
"""What isn't tried as an option: who and where the stage is, and code."""
NEW_NAME = 6
"""What a member of a name that isn't there costs: as much as what no option says."""
MOST = 24
"""So many values of one place are tried."""
_NAMES = ("scheme", "raised", "id", "kind")
"""Members by which an entry of a list is called."""


class Other(NamedTuple):
    """Another value at a place: in words, and whether nobody has shown it."""

    path: Path
    words: str
    value: Json
    invented: int
    """How far from what anybody has shown: nothing, or what that costs."""


@lru_cache(maxsize=256)
def schema_of(model: Any) -> JsonObject:
    """The JSON Schema of options."""
    found: JsonObject = model.model_json_schema(by_alias=True)
    return found


def other_values(model: Any, entry: JsonMapping, seen: Seen, skip: frozenset[str] = OWN) -> Iterator[Other]:
    """Every other value of every option of an entry, a cap each."""
    schema = schema_of(model)
    yield from _members(schema, entry, seen, schema.get("$defs", {}), (), "", skip)


def _members(
    schema: JsonMapping, entry: JsonMapping, seen: Seen, defs: JsonMapping, path: Path, label: str, skip: frozenset[str]
) -> Iterator[Other]:
    declared = schema.get("properties", {})
    for name, part in declared.items():
        if name not in skip:
            present = entry.get(name, part.get("default"))
            yield from _at(part, present, seen, defs, (*path, name), f"{label}{name}")
    if not declared:
        spelled = {str(name).lower(): str(name) for name in entry}
        for lower, value in seen.fields:
            name = spelled.get(lower, lower.title())
            if value != entry.get(name):
                far = 0 if name in entry else NEW_NAME
                yield Other((*path, name), _words(f"{label}{name}", value, entry.get(name)), value, far)


def _words(label: str, value: Json, present: Json) -> str:
    if value is None:
        return f"no {label}"
    said = f", not {said_of(present)}" if present is not None and not isinstance(present, Mapping) else ""
    return f"{label} {said_of(value)}{said}"


def _at(part: JsonMapping, present: Json, seen: Seen, defs: JsonMapping, path: Path, label: str) -> Iterator[Other]:
    """Other values at one place, and within what is there."""
    known = [json.dumps(present, sort_keys=True)]
    for value, invented in islice(_others(part, present, seen, defs), 4 * MOST):
        if path[-1] != "allow-origins" and NOBODY in json.dumps(value):
            continue
        if (key := json.dumps(value, sort_keys=True)) not in known and len(known) <= MOST:
            known.append(key)
            yield Other(path, _words(label, value, present), value, invented)
    shapes = list(_shapes(part, defs))
    if isinstance(present, Mapping):
        for shape in (one for one in shapes if one.get("type") == "object"):
            yield from _members(shape, present, seen, defs, path, f"{label}.", frozenset())
    elif isinstance(present, list):
        for shape in (one for one in shapes if one.get("type") == "array"):
            for at, item in enumerate(present):
                if isinstance(item, Mapping):
                    inner = _fitting(shape.get("items", {}), item, defs)
                    name = next((str(item[key]) for key in _NAMES if isinstance(item.get(key), str)), str(at))
                    yield from _members(inner, item, seen, defs, (*path, at), f"{label}.{name}.", frozenset())


def _shapes(part: JsonMapping, defs: JsonMapping) -> Iterator[JsonMapping]:
    """A schema, or each of those that it allows."""
    part = defs.get(str(part.get("$ref", "")).rpartition("/")[2], part)
    choices = part.get("anyOf", part.get("oneOf"))
    if choices is None:
        yield part
    for choice in choices or ():
        yield from _shapes(choice, defs)


def _others(part: JsonMapping, present: Json, seen: Seen, defs: JsonMapping) -> Iterator[tuple[Json, bool]]:
    """Other values that a schema allows in place of the present one, and whether nobody has shown them."""
    for shape in _shapes(part, defs):
        sort = shape.get("type")
        if "const" in shape or "enum" in shape:
            yield from (
                (word, False) for word in (*shape.get("enum", ()), *([shape["const"]] if "const" in shape else ()))
            )
        elif sort == "null" and present is not None:
            yield None, False
        elif sort == "boolean":
            yield not present, False
        elif sort == "integer":
            least, most = shape.get("minimum", 0), shape.get("maximum", 10**9)
            yield from ((number, new) for number, new in _numbers(present, seen) if least <= number <= most)
        elif sort == "string" and shape.get("pattern") == DURATION_PATTERN:
            yield from durations(present, seen)
        elif sort == "string" and "pattern" not in shape:
            yield from ((text, False) for text in (*seen.texts, *seen.new_fields))
        elif sort == "array":
            yield from _lists(shape.get("items", {}), present if isinstance(present, list) else [], seen, defs)
        elif sort == "object" and present is None and "status" in shape.get("properties", {}):
            for status in seen.statuses:
                place = seen.places[0] if seen.places else None
                there = {"headers": {"Location": place}} if 300 <= status < 400 and place is not None else {}
                yield {"status": status, **there}, False


def _numbers(present: Json, seen: Seen) -> Iterator[tuple[int, bool]]:
    yield from ((number, False) for number in sorted(seen.numbers))
    if isinstance(present, int) and not isinstance(present, bool):
        yield from ((number, True) for number in (present + 1, present - 1, present * 2, present // 2, present * 10, 0))


def durations(present: Json, seen: Seen) -> Iterator[tuple[str, bool]]:
    """Other lifetimes and windows, and whether nobody has shown them."""
    numbers = [number for number in seen.numbers if 0 < number < 10**9]
    shown = {near for number in numbers for near in (number, *rounded(number))}
    now = 0
    if isinstance(present, str) and re.fullmatch(DURATION_PATTERN, present):
        now = parse_duration(present) // 1_000_000
    made = {now * 2, now // 2, now * 10, *rounded(now), *_ROUND} - {now, *shown}
    yield from ((f"{number}s", False) for number in sorted(shown) if number > 0)
    yield from ((f"{number}s", True) for number in sorted(made) if number > 0)


def rounded(number: int) -> Sequence[int]:
    """The least round numbers that aren't under it: what is left of a window is told, not the window."""
    return [one for one in _ROUND if one >= number][:2]


def _lists(items: JsonMapping, present: list[Json], seen: Seen, defs: JsonMapping) -> Iterator[tuple[list[Json], bool]]:
    items = defs.get(str(items.get("$ref", "")).rpartition("/")[2], items)
    yield from ((present[:at] + present[at + 1 :], False) for at in range(len(present)))
    plain = items.get("type") == "string" or not items or "enum" in items
    if not plain:
        return
    if "enum" not in items:
        yield from ((list(one), False) for one in seen.lists[:8])
    words = [one for one in items.get("enum", seen.texts) if one not in present]
    yield from (([*present, one], False) for one in words)
    yield from (([one], False) for one in words)


def _fitting(part: JsonMapping, item: JsonMapping, defs: JsonMapping) -> JsonMapping:
    """Of several shapes that an entry may have, the one that it has."""
    return next(
        (one for one in _shapes(part, defs) if item.keys() <= one.get("properties", {}).keys()),
        defs.get(str(part.get("$ref", "")).rpartition("/")[2], part),
    )
