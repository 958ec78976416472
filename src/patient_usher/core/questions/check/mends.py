"""Changes to a pipeline's document that mend something: small edits, each with the words for it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import chain, count
from typing import Any, NamedTuple

from patient_usher.core.model.document import Json, JsonObject, Seq, Spot
from patient_usher.core.model.overlays import named
from patient_usher.core.model.pipeline import MARKER, stage_lists

Document = JsonObject
Edit = Callable[[Document], None]


class Mend(NamedTuple):
    """What to do, in words, and the edit that does it to a document in place.

    Edits raise LookupError where the document has no such place. ``left``: what the edit can't know, and leaves to
    the developer: such a mend proves a mistake and isn't offered. ``intent``: what the developer may have meant by
    the place, where it can be more than one thing; mends of different intents are offered side by side.
    """

    words: str
    edit: Edit
    left: str | None = None
    intent: str = ""


PASS_ON = "pass on"
"""An intent: the stage was meant to let the request through."""


def mend(words: str, *edits: Edit, left: str | None = None, intent: str = "") -> Mend:
    """Make a mend of one edit or several."""

    def edit(doc: Document) -> None:
        for each in edits:
            each(doc)

    return Mend(words, edit, left, intent)


def value_at(doc: Document, path: Sequence[str | int]) -> Json:
    """What stands at a place of a document. Raises LookupError where there is nothing."""
    node: Json = doc
    for part in path:
        node = node[part]
    return node


def put(path: Sequence[str | int], value: Json) -> Edit:
    """Put a value at a place; mappings on the way are made where there are none."""

    def edit(doc: Document) -> None:
        node: Json = doc
        for part in path[:-1]:
            if isinstance(node, dict) and part not in node:
                node[str(part)] = {}
            node = node[part]
        node[path[-1]] = value

    return edit


def drop(path: Sequence[str | int]) -> Edit:
    """Take out what stands at a place."""

    def edit(doc: Document) -> None:
        del value_at(doc, path[:-1])[path[-1]]

    return edit


def append(path: Sequence[str | int], *values: object) -> Edit:
    """Add to the list at a place, which is made where there is none."""

    def edit(doc: Document) -> None:
        node: Json = doc
        for part in path[:-1]:
            node = node.setdefault(part, {}) if isinstance(node, dict) else node[part]
        held = node.get(path[-1]) if isinstance(node, dict) else node[path[-1]]
        held = [] if held is None else held if isinstance(held, list) else [held]
        node[path[-1]] = [*held, *(value for value in values if value not in held)]

    return edit


def option(stage: str, key: str, value: Json) -> Edit:
    """Set an option of a stage, wherever that stands."""

    def edit(doc: Document) -> None:
        named(doc, "stages")[stage][key] = value

    return edit


def setting(route: str, key: str, value: Json) -> Edit:
    """Set a setting of a route, or take it out with None."""

    def edit(doc: Document) -> None:
        if value is None:
            named(doc, "routes")[route].pop(key)
        else:
            named(doc, "routes")[route][key] = value

    return edit


def copies_per(route: str, name: str) -> Edit:
    """Let a route's stored answers differ by one thing more: ``query.NAME``, ``header.NAME`` or ``identity``."""

    def edit(doc: Document) -> None:
        node = named(doc, "routes")[route]
        rule = node["cache"]
        rule = {"shared": rule, "private": rule} if isinstance(rule, str) else rule
        per = [entry for entry in rule.get("per", []) if not (entry == "no-query" and name.startswith("query."))]
        node["cache"] = {**rule, "per": [*per, name]}

    return edit


def leave_alone(id_: str, names: Sequence[str]) -> Edit:
    """Let a header-fields stage neither put nor drop these on answers; without any other work it is switched off."""

    def edit(doc: Document) -> None:
        stage = named(doc, "stages")[id_]
        work = {**stage["on-answer"]}
        work["put"] = {name: value for name, value in work.get("put", {}).items() if name not in names}
        dropped = work.get("drop", [])
        work["drop"] = [name for name in ([dropped] if isinstance(dropped, str) else dropped) if name not in names]
        work = {key: part for key, part in work.items() if part}
        if work:
            stage["on-answer"] = work
        elif "on-request" in stage:
            del stage["on-answer"]
        else:
            stage["enabled"] = False

    return edit


def _id(entry: Json) -> str:
    return entry if isinstance(entry, str) else str(entry.get("id", ""))


def _standing(doc: Document, stage: str) -> tuple[list[Json], int]:
    for stages, _ in stage_lists(doc):
        for at, entry in enumerate(stages):
            if _id(entry) == stage:
                return stages, at
    raise LookupError(stage)


def _reversed(doc: Document) -> bool:
    return doc.get("listed") == "innermost-first" and doc.get("flow") != "sequential"


def _insert(stages: list[Json], at: int, entry: Json) -> None:
    stages.insert(at, entry)
    if isinstance(stages, Seq):
        stages.spots.insert(at, stages.spot)


def _take(stages: list[Json], at: int) -> Json:
    if isinstance(stages, Seq) and at < len(stages.spots):
        del stages.spots[at]
    return stages.pop(at)


def stand(stage: str, side: str, other: str) -> Edit:
    """Let a stage run right ``before`` or right ``behind`` another."""

    def edit(doc: Document) -> None:
        stages, at = _standing(doc, stage)
        _standing(doc, other)
        _beside(doc, _take(stages, at), side, other)

    return edit


def add(entry: Document, side: str, other: str) -> Edit:
    """Let a further stage run right ``before`` or right ``behind`` another."""
    return lambda doc: _beside(doc, dict(entry), side, other)


def _beside(doc: Document, entry: Json, side: str, other: str) -> None:
    stages, at = _standing(doc, other)
    _insert(stages, at if (side == "before") is not _reversed(doc) else at + 1, entry)


_WATCHERS = ("access-log", "request-id")


def to_front(stage: str) -> Edit:
    """Let a stage run first of all, but for those that only watch."""

    def edit(doc: Document) -> None:
        stages, at = _standing(doc, stage)
        _first(doc, _take(stages, at))

    return edit


def add_first(entry: Document, *, before_watchers: bool = False) -> Edit:
    """Let a further stage run first of all, but for those that only watch."""
    return lambda doc: _first(doc, dict(entry), () if before_watchers else _WATCHERS)


def _first(doc: Document, entry: Json, passed: Sequence[str] = _WATCHERS) -> None:
    stages = doc.setdefault("stages", Seq(Spot("", 1, 1)))
    order = stages[::-1] if _reversed(doc) else stages
    watchers = 0
    for each in order:
        if isinstance(each, dict) and each.get("kind") in passed:
            watchers += 1
        else:
            break
    _insert(stages, len(stages) - watchers if _reversed(doc) else watchers, entry)


def to_end(stage: str) -> Edit:
    """Let a stage of a sequential flow run last of all."""

    def edit(doc: Document) -> None:
        stages, at = _standing(doc, stage)
        _insert(doc["stages"], len(doc["stages"]), _take(stages, at))

    return edit


def add_last(entry: Document) -> Edit:
    """Let a further stage run last of the server-wide ones; in a sequential flow in front of the routes."""

    def edit(doc: Document) -> None:
        stages = doc.setdefault("stages", Seq(Spot("", 1, 1)))
        at = stages.index(MARKER) if MARKER in stages else 0 if _reversed(doc) else len(stages)
        _insert(stages, at, dict(entry))

    return edit


def add_behind_routes(entry: Document) -> Edit:
    """Let a further stage of a sequential flow run last of all."""
    return lambda doc: _insert(doc["stages"], len(doc["stages"]), dict(entry))


def remove(stage: str) -> Edit:
    """Take a stage out."""

    def edit(doc: Document) -> None:
        stages, at = _standing(doc, stage)
        _take(stages, at)

    return edit


def free_id(doc: Document, wanted: str) -> str:
    """The id, or one like it that is not taken."""
    taken = {name for part in ("stages", "groups", "routes") for name in named(doc, part)}
    return next(name for name in chain([wanted], (f"{wanted}-{n}" for n in count(2))) if name not in taken)


# What a mended document changes, as a variant of the file.


def variant_between(before: Document, after: Document) -> Document:
    """The keys of a variant file that make the one document of the other."""
    found: Document = {}
    ours, theirs = _ids(before.get("stages")), _ids(after.get("stages"))
    if ours != theirs:
        if sorted(ours) == sorted(theirs):
            found["order"] = theirs
        else:
            found["stages"] = _plain(after.get("stages", []))
    parts = {part: dict(_changed(before, after, part, found)) for part in ("stages", "groups", "routes")}
    for part, changes in parts.items():
        if changes and not (part == "stages" and "stages" in found):
            found[part] = changes
    for key in {*before, *after} - {"stages", "groups", "routes"}:
        if before.get(key) != after.get(key):
            found[key] = _difference(before.get(key), after.get(key))
    return found


def _ids(stages: Any) -> list[str]:
    return [_id(entry) for entry in stages or ()]


def _changed(before: Document, after: Document, part: str, found: Document) -> Iterator[tuple[str, object]]:
    """What differs in stages, groups and routes of an id, but for what they contain of these."""
    ours, theirs = named(before, part), named(after, part)
    lists = ("stages", "groups", "routes")
    for id_, entry in theirs.items():
        own = ours.get(id_)
        if own is None:
            continue
        changes = {
            key: _difference(own.get(key), entry.get(key))
            for key in {**own, **entry}
            if key not in (lists if part != "stages" else ()) and own.get(key) != entry.get(key)
        }
        if part != "stages" and _ids(own.get("stages")) != _ids(entry.get("stages")):
            changes["stages"] = _plain(entry.get("stages", []))
        for inner in lists[1:] if part == "groups" else ():
            if _ids(own.get(inner)) != _ids(entry.get(inner)):
                changes[inner] = _plain(entry.get(inner, []))
        if changes:
            yield id_, changes
    if part == "routes" and _ids(before.get("routes")) != _ids(after.get("routes")):
        found["routes"] = _plain(after.get("routes", []))


def _difference(before: Json, after: Json) -> Json:
    if isinstance(before, dict) and isinstance(after, dict):
        return {
            key: _difference(before.get(key), after.get(key))
            for key in {**before, **after}
            if before.get(key) != after.get(key)
        }
    return _plain(after)


def _plain(value: Json) -> Json:
    """Without places."""
    if isinstance(value, dict):
        return {key: _plain(part) for key, part in value.items()}
    return [_plain(part) for part in value] if isinstance(value, list) else value
