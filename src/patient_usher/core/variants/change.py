"""One change of a pipeline: values put at places of its document, or another order of its stages."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.compile.compiler import overlaid
from patient_usher.core.model.document import Json, JsonObject, Path, Unusable
from patient_usher.core.model.overlays import named
from patient_usher.core.variants.deviation import Deviation
from patient_usher.core.variants.orders import Order, as_listed, movable, reordered

BY_ID = ("stages", "routes", "groups")
"""Parts of a document whose entries are named by their ids."""


class Change(NamedTuple):
    """One change: whose it is, in words, and what it is.

    ``edits``: places in the document, entries of stages, routes and groups by id, each with its value; None takes it
    away. ``order``: of the movable stages. ``deviation``: what no option says. ``cost``: how far from the model it is.
    """

    where: str
    words: str
    edits: tuple[tuple[Path, Json], ...] = ()
    order: Order | None = None
    deviation: Deviation | None = None
    cost: int = 1


def changed_by(compiled: CompiledPipeline, changes: Iterable[Change]) -> CompiledPipeline | None:
    """The pipeline with these changes; None where it can't be so."""
    changes = list(changes)
    orders = [one.order for one in changes if one.order is not None]
    if len(orders) > 1:
        return None
    overlay = overlay_of(compiled, changes)
    try:
        found = overlaid(compiled.source, overlay, "a change") if overlay else compiled
        if not orders:
            return found
        there = movable(found)
        order = tuple(id_ for id_ in orders[0] if id_ in there)  # what is switched off has no place any more
        return reordered(found, order) if set(there) == set(order) else None
    except Unusable:
        return None


def overlay_of(compiled: CompiledPipeline, changes: Iterable[Change]) -> JsonObject:
    """The values of changes as an overlay: lists whole, as each change leaves them to the next."""
    overlay: JsonObject = {}
    for path, value in (edit for one in changes for edit in one.edits):
        depth = 3 if path[0] in BY_ID else 2
        node = overlay
        for key in path[: depth - 1]:
            node = node.setdefault(str(key), {})
        key, rest = str(path[depth - 1]), path[depth:]
        if key not in node and rest:
            node[key] = json.loads(json.dumps(_present(compiled, path[:depth])))
        node[key] = _put(node.get(key), rest, value)
    return overlay


def _present(compiled: CompiledPipeline, path: Path) -> Json:
    """What the document has at a place; None for nothing."""
    part, *rest = path
    doc = compiled.source.doc
    node: Json = named(doc, str(part)).get(str(rest.pop(0))) if part in BY_ID else doc.get(part)
    for key in rest:
        node = node.get(key) if isinstance(node, Mapping) else None
    return node


def _put(node: Json, path: Path, value: Json, *, listed: bool = False) -> Json:
    """A value with another at a place in it; a place behind the end of a list makes it longer.

    What is taken away from a mapping stays as None there, as overlays have it, but for those within lists.
    """
    if not path:
        return value
    key, rest = path[0], path[1:]
    if isinstance(key, int):
        items = list(node) if isinstance(node, list) else []
        old = items[key] if key < len(items) else None
        return [*items[:key], _put(old, rest, value, listed=True), *items[key + 1 :]]
    members = dict(node) if isinstance(node, Mapping) else {}
    members[key] = _put(members.get(key), rest, value, listed=listed)
    return {name: one for name, one in members.items() if one is not None or not listed}


def document_of(compiled: CompiledPipeline, changes: Iterable[Change], like: str) -> JsonObject:
    """The changes as a variant's document."""
    changes = list(changes)
    doc: JsonObject = {"patient-usher": "pipeline/1", "like": like, **overlay_of(compiled, changes)}
    for one in changes:
        if one.order is not None:
            doc["order"] = as_listed(compiled, one.order)
    return doc


def said_of(value: Json) -> str:
    """A value as people write it."""
    if isinstance(value, bool) or value is None:
        return {True: "true", False: "false", None: "nothing"}[value]
    if isinstance(value, list):
        return f"[{', '.join(said_of(item) for item in value)}]"
    if isinstance(value, Mapping):
        return ", ".join(f"{name}: {said_of(item)}" for name, item in value.items())
    return str(value) if isinstance(value, str | int) else json.dumps(value, ensure_ascii=False)
