"""Pipelines that differ from one by a change: another order, a stage that isn't there, another option, another access.

Options are changed as their JSON Schemas allow it: flags are turned, words replaced by the others, lists made longer
or shorter by one, numbers and durations taken from what was seen of a service (``Seen``).
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import lru_cache
from itertools import combinations
from typing import Any, NamedTuple

from patient_usher.core.analysis.orders.search import Order, as_listed, movable, one_move_away, reordered
from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.engine.compile.compiler import overlaid
from patient_usher.core.model.document import Json, JsonMapping, JsonObject, Unusable
from patient_usher.core.model.overlays import named
from patient_usher.core.model.text_types import DURATION_PATTERN, parse_duration

_ROUND = (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 86_400, 604_800)
"""Seconds that people write as lifetimes and windows."""
_OWN = frozenset({"id", "kind", "enabled", "only", "except", "same-as", "call", "options", "file"})
"""What isn't tried as an option: who and where the stage is, and code."""
MOST_OF_AN_OPTION = 24
NOBODY = "https://nobody.example"
"""Stands in a list of origins for whatever a service lists in the place of what it doesn't."""


class Seen(NamedTuple):
    """What a service has shown: numbers and texts of fields, and whole fields by name in lower case."""

    numbers: frozenset[int] = frozenset()
    texts: tuple[str, ...] = ()
    lists: tuple[tuple[str, ...], ...] = ()
    fields: tuple[tuple[str, str | None], ...] = ()
    paths: tuple[tuple[str, str], ...] = ()
    """Method and path of what was answered otherwise."""


class Change(NamedTuple):
    """One change: whose it is, in words, and as an overlay or an order of the stages that move."""

    where: str
    words: str
    overlay: JsonObject
    order: Order | None = None


def changed_by(blueprint: Blueprint, changes: Iterable[Change]) -> Blueprint | None:
    """The pipeline with these changes; None where it can't be so."""
    overlay: JsonObject = {}
    order: Order | None = None
    for one in changes:
        if one.order is not None and order is not None:
            return None
        order = one.order or order
        merge_whole(overlay, one.overlay)
    try:
        found = overlaid(blueprint.source, overlay, "a change") if overlay else blueprint
        return reordered(found, order) if order is not None and set(movable(found)) == set(order) else found
    except Unusable:
        return None


def merge_whole(base: JsonObject, over: JsonMapping) -> None:
    """As ``merge``, but what is to be taken out stays to be taken out."""
    for key, value in over.items():
        if isinstance(value, Mapping) and isinstance(base.get(key), dict):
            merge_whole(base[key], value)
        else:
            base[key] = json.loads(json.dumps(value))


def document_of(blueprint: Blueprint, changes: Iterable[Change], like: str) -> JsonObject:
    """The changes as a variant's document."""
    doc: JsonObject = {"patient-usher": "pipeline/1", "like": like}
    for one in changes:
        merge_whole(doc, one.overlay)
        if one.order is not None:
            doc["order"] = as_listed(blueprint, one.order)
    return doc


def changes_of(blueprint: Blueprint, seen: Seen, first: Sequence[str] = ()) -> list[Change]:
    """Every change that is tried, those of the stages named ``first`` in front."""
    found = [
        *_switched(blueprint),
        *_options(blueprint, seen),
        *_routes(blueprint, seen),
        *_passed_over(blueprint, seen),
    ]
    found += _orders(blueprint)
    rank = {id_: at for at, id_ in enumerate(first)}
    return sorted(found, key=lambda one: rank.get(one.where, len(rank)))


def _switched(blueprint: Blueprint) -> Iterator[Change]:
    for id_, options in blueprint.options.items():
        words = f"{id_} isn't there" if options.enabled else f"{id_} is switched on"
        yield Change(id_, words, {"stages": {id_: {"enabled": not options.enabled}}})


def _orders(blueprint: Blueprint) -> Iterator[Change]:
    present = movable(blueprint)
    known = {present}
    for a, b in combinations(range(len(present)), 2):
        order = list(present)
        order[a], order[b] = order[b], order[a]
        if (made := tuple(order)) not in known:
            known.add(made)
            yield Change(present[a], f"{present[a]} and {present[b]} have changed places", {}, made)
    for order_ in one_move_away(present):
        if order_ not in known:
            known.add(order_)
            yield Change(*_moved(present, order_), {}, order_)


def _moved(before: Order, after: Order) -> tuple[str, str]:
    for id_ in before:
        if [one for one in before if one != id_] == [one for one in after if one != id_]:
            at = after.index(id_)
            place = f"behind {after[at - 1]}" if at else f"in front of {after[1]}"
            return id_, f"{id_} stands {place}"
    return before[0], "the stages stand in another order"


def _routes(blueprint: Blueprint, seen: Seen) -> Iterator[Change]:
    routes = named(blueprint.source.doc, "routes")
    roles = sorted({role for account in blueprint.spec.accounts.values() for role in account.roles})
    for id_ in routes:
        now = routes[id_].get("access")
        for other in ("everyone", "signed-in", *({"role": role} for role in roles)):
            if other != now:
                words = f"route {id_}: access {_told(other)}"
                yield Change(id_, words, {"routes": {id_: {"access": other}}})
        kept = routes[id_].get("cache")
        for name, present in kept.items() if isinstance(kept, Mapping) else (("", kept),):
            lasts = isinstance(present, str) and re.fullmatch(DURATION_PATTERN, present) is not None
            for value in _durations(present, seen) if lasts else ():
                words = f"route {id_}: cache {f'{name} ' if name else ''}{value}, not {present}"
                yield Change(id_, words, {"routes": {id_: {"cache": {name: value} if name else value}}})
        if kept is not None:
            yield Change(id_, f"route {id_}: no cache", {"routes": {id_: {"cache": None}}})


def _passed_over(blueprint: Blueprint, seen: Seen) -> Iterator[Change]:
    """A stage that isn't on the way of what was answered otherwise."""
    stages = named(blueprint.source.doc, "stages")
    for path in dict.fromkeys(path for _, path in seen.paths):
        for id_ in blueprint.options:
            entry = stages.get(id_)
            if entry is None or "only" in entry:
                continue
            rest = [*entry.get("except", []), path]
            yield Change(id_, f"{id_} passes {path} over", {"stages": {id_: {"except": rest}}})


# Options, by their schemas.


@lru_cache(maxsize=256)
def _schema(model: Any) -> JsonObject:
    found: JsonObject = model.model_json_schema(by_alias=True)
    return found


def _options(blueprint: Blueprint, seen: Seen) -> Iterator[Change]:
    stages = named(blueprint.source.doc, "stages")
    for id_, options in blueprint.options.items():
        schema, entry = _schema(type(options)), stages.get(id_, {})
        for name, part in schema.get("properties", {}).items():
            if name in _OWN:
                continue
            present = entry.get(name, part.get("default"))
            others = _others(part, present, seen, schema.get("$defs", {}))
            known = [json.dumps(present, sort_keys=True)]
            for value in others:
                if name != "allow-origins" and NOBODY in json.dumps(value):
                    continue
                if (key := json.dumps(value, sort_keys=True)) in known:
                    continue
                known.append(key)
                if len(known) > MOST_OF_AN_OPTION:
                    break
                said = f", not {_told(present)}" if present is not None and not isinstance(present, Mapping) else ""
                words = f"{id_}: {name} {_told(value)}{said}"
                yield Change(id_, words, {"stages": {id_: {name: value}}})


def _told(value: Json) -> str:
    if isinstance(value, bool) or value is None:
        return {True: "true", False: "false", None: "left out"}[value]
    if isinstance(value, list) and all(isinstance(one, str) for one in value):
        return f"[{', '.join(value)}]"
    if isinstance(value, Mapping):
        return ", ".join(f"{key} {_told(part)}" for key, part in value.items())
    return str(value) if isinstance(value, str | int) else json.dumps(value, ensure_ascii=False)


def _others(part: JsonMapping, present: Json, seen: Seen, defs: JsonMapping) -> Iterator[Json]:
    """Other values that a schema allows in place of the present one."""
    part = defs.get(str(part.get("$ref", "")).rpartition("/")[2], part)
    for choice in part.get("anyOf", part.get("oneOf", ())):
        yield from _others(choice, present, seen, defs)
    if "const" in part:
        yield part["const"]
    yield from part.get("enum", ())
    sort = part.get("type")
    if sort == "null":
        if present is not None:
            yield None
    elif sort == "boolean":
        yield not present
    elif sort == "integer":
        least, most = part.get("minimum", 0), part.get("maximum", 10**9)
        yield from (number for number in _numbers(present, seen) if least <= number <= most)
    elif sort == "string" and part.get("pattern") == DURATION_PATTERN:
        yield from _durations(present, seen)
    elif sort == "string" and "pattern" not in part:
        yield from seen.texts
    elif sort == "array":
        yield from _lists(part.get("items", {}), present if isinstance(present, list) else [], seen, defs)
    elif sort == "object" and isinstance(present, Mapping):
        yield from _objects(part, present, seen, defs)


def _numbers(present: Json, seen: Seen) -> Iterator[int]:
    yield from sorted(seen.numbers)
    if isinstance(present, int) and not isinstance(present, bool):
        yield from (present + 1, present - 1, present * 2, present // 2, present * 10)


def _durations(present: Json, seen: Seen) -> Iterator[str]:
    numbers = [number for number in seen.numbers if 0 < number < 10**9]
    seconds = {near for number in numbers for near in (number, *_rounded(number))}
    if isinstance(present, str) and re.fullmatch(DURATION_PATTERN, present):
        now = parse_duration(present) // 1_000_000
        seconds |= {now * 2, now // 2, now * 10, *_rounded(now)} - {now}
    yield from (f"{number}s" for number in sorted(seconds) if number > 0)


def _rounded(number: int) -> Sequence[int]:
    """The least round numbers that aren't under it: what is left of a window is told, not the window."""
    return [one for one in _ROUND if one >= number][:2]


def _lists(items: JsonMapping, present: list[Json], seen: Seen, defs: JsonMapping) -> Iterator[list[Json]]:
    items = defs.get(str(items.get("$ref", "")).rpartition("/")[2], items)
    yield from (present[:at] + present[at + 1 :] for at in range(len(present)))
    plain = items.get("type") == "string" or not items or "enum" in items
    words = [one for one in items.get("enum", seen.texts) if one not in present] if plain else []
    yield from ([*present, one] for one in words)
    yield from ([one] for one in words)
    if plain and "enum" not in items:
        yield from (list(one) for one in seen.lists)
    for at, item in enumerate(present):
        if isinstance(item, Mapping):
            for other in _objects(_fitting(items, item, defs), item, seen, defs):
                yield [*present[:at], other, *present[at + 1 :]]


def _fitting(part: JsonMapping, item: JsonMapping, defs: JsonMapping) -> JsonMapping:
    """Of several shapes that an entry may have, the one that it has."""
    choices = [
        defs.get(str(one.get("$ref", "")).rpartition("/")[2], one) for one in part.get("oneOf", part.get("anyOf", ()))
    ]
    return next((one for one in choices if item.keys() <= one.get("properties", {}).keys()), part)


def _objects(part: JsonMapping, present: JsonMapping, seen: Seen, defs: JsonMapping) -> Iterator[JsonObject]:
    """The same with one member another: declared ones by their schemas, fields by what they are in answers."""
    declared = part.get("properties", {})
    for name, schema in declared.items():
        for value in _others(schema, present.get(name, schema.get("default")), seen, defs):
            yield {**present, name: value}
    if not declared:
        spelled = {str(name).lower(): name for name in present}
        for lower, value in seen.fields:
            yield {**present, spelled.get(lower, lower.title()): value}
