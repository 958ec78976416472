"""Overlays: environments, ``--set``, changes in a trace, and variants of another pipeline.

An overlay is a piece of a pipeline file in which stages, groups and routes are named by id,
wherever they stand. All of these work on the document, before it is validated.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from patient_usher.core.model.document import (
    Json,
    JsonObject,
    Map,
    Problem,
    Seq,
    Spot,
    copy_tree,
    did_you_mean,
    locate,
    merge,
)
from patient_usher.core.model.pipeline import MARKER, PipelineSpec, spell_out, stage_lists
from patient_usher.core.model.text_types import show

_BY_ID = ("stages", "groups", "routes")
CHANGEABLE = frozenset(
    field.alias or name.replace("_", "-") for name, field in PipelineSpec.model_fields.items()
) - {"patient-usher", "environments", "environment"}  # fmt: skip
"""The keys of a pipeline that an overlay may change."""


def named(doc: Json, part: str) -> dict[str, JsonObject]:
    """Every stage, group or route of the document by id."""
    if part == "stages":
        entries: Iterable[object] = (entry for stages, _ in stage_lists(doc) for entry in stages)
    else:
        found: list[Json] = []
        pending = [doc]
        while pending:
            node = pending.pop(0)
            for key in ("groups", "routes"):
                items = (
                    [item for item in node.get(key) or () if isinstance(item, dict)] if isinstance(node, dict) else []
                )
                found += items if key == part else []
                pending += items if key == "groups" else []
        entries = found
    return {entry["id"]: entry for entry in entries if isinstance(entry, dict) and isinstance(entry.get("id"), str)}


def apply_overlay(doc: Json, overlay: Json, what: str) -> list[Problem]:
    """Lay one overlay on the document, in place. Returns what is wrong with it."""
    problems: list[Problem] = []
    if not isinstance(overlay, Mapping):
        return [Problem(locate(overlay, ()), f"{what} must be a mapping", "write stages: {ID: {OPTION: VALUE}}, say")]
    for key, value in overlay.items():
        if key not in CHANGEABLE:
            spot = locate(overlay, [key], key=True)
            problems.append(Problem(spot, f"{what} can't change '{key}'", did_you_mean(key, sorted(CHANGEABLE))))
        elif key in _BY_ID and isinstance(value, Mapping):
            known = named(doc, key)
            for id_, changes in value.items():
                if id_ not in known:
                    spot = locate(overlay, [key, id_], key=True)
                    problems.append(
                        Problem(spot, f"there is no {key[:-1]} '{id_}' to change", did_you_mean(id_, known))
                    )
                elif not isinstance(changes, Mapping):
                    spot = locate(overlay, [key, id_])
                    problems.append(Problem(spot, f"{show(changes)} is no change", "write {OPTION: VALUE}"))
                else:
                    merge(known[id_], changes)
        else:
            piece = (
                Map(getattr(overlay, "spot", Spot("", 1, 1)), [(key, value)]) if isinstance(doc, Map) else {key: value}
            )
            if isinstance(piece, Map) and isinstance(overlay, Map) and key in overlay.spots:
                piece.spots[key] = overlay.spots[key]
            merge(doc, piece)
            spell_out(doc)
    return problems


def apply_environments(doc: Json, names: Iterable[str]) -> list[Problem]:
    """Lay the named environments on the document, one after the other."""
    problems: list[Problem] = []
    known = doc.get("environments") if isinstance(doc, dict) else None
    known = known if isinstance(known, Mapping) else {}
    for name in names:
        if name not in known:
            if name != "production":  # the plain pipeline needs no overlay
                spot = locate(doc, ["environment"])
                problems.append(
                    Problem(
                        spot,
                        f"there is no environment '{name}'",
                        did_you_mean(name, known) or "add it under environments",
                    )
                )
            continue
        problems += apply_overlay(doc, known[name], f"environment {name}")
    return problems


def variant(base: object, doc: Json) -> tuple[object, list[Problem]]:
    """The pipeline that ``doc`` makes of ``base``: flow and overlays changed, then stages reordered."""
    result = copy_tree(base)
    spell_out(result)
    overlay = copy_tree(doc)
    problems: list[Problem] = []
    for key in ("patient-usher", "like", "add", "order", "environment", "environments"):
        value = overlay.pop(key, None)
        if value is not None and key in ("environment", "environments"):
            merge(result, {key: value})
    problems += apply_overlay(result, overlay, "a variant")
    if isinstance(result, dict) and isinstance(result.get("stages", []), list):
        problems += _add(result, doc)
        problems += _reorder(result, doc)
    return result, problems


def _add(result: JsonObject, doc: Json) -> list[Problem]:
    """Stages that the variant adds, each beside another in the list that it stands in."""
    problems: list[Problem] = []
    entries = doc.get("add", [])
    if not isinstance(entries, list):
        return [Problem(locate(doc, ["add"]), "add must be a list", _ADD)]
    for at, entry in enumerate(entries):
        spot = locate(doc, ["add", at])
        side = next((key for key in ("before", "after") if isinstance(entry, dict) and key in entry), None)
        if side is None or entry.keys() != {side, "stage"} or not isinstance(entry["stage"], dict | str):
            problems.append(Problem(spot, "this adds no stage", _ADD))
            continue
        beside = entry[side]
        places = [
            (stages, place)
            for stages, _ in stage_lists(result)
            for place, standing in enumerate(stages)
            if (standing.get("id") if isinstance(standing, dict) else standing) == beside
        ]
        if not places:
            known = [*named(result, "stages"), *([MARKER] if result.get("flow") == "sequential" else [])]
            where = locate(doc, ["add", at, side])
            problems.append(Problem(where, f"there is no stage '{beside}'", did_you_mean(str(beside), known)))
            continue
        stages, place = places[0]
        place += side == "after"
        stages.insert(place, copy_tree(entry["stage"]))
        if isinstance(stages, Seq) and stages.spots:
            stages.spots.insert(place, locate(doc, ["add", at, "stage"]))
        spell_out(result)
    return problems


_ADD = "write add: [{before: STAGE, stage: {id: NAME, kind: KIND}}], or after: STAGE"


_ITS_OWN = ("id", "enabled", "only", "except")


MOST_ALIKE = 20
"""How many stages may stand one behind the other, each the same as the next."""


def same_as(known: Mapping[str, JsonObject], entry: JsonObject) -> JsonObject:
    """A stage's entry with the kind and options of the one that it is the same as, and what it says itself on top.

    Where and whether that one stands (only, except, enabled) is its own affair. ``known``: every stage's entry by
    id. Raises ValueError.
    """
    chain, seen = [entry], [entry.get("id")]
    while (name := chain[-1].get("same-as")) is not None:
        if not isinstance(name, str):
            raise ValueError("same-as must name a stage; write its id")
        if name not in known:
            raise ValueError(
                f"there is no stage '{name}'; {did_you_mean(str(name), [k for k in known if k not in seen])}"
            )
        if len(seen) > MOST_ALIKE:
            raise ValueError(f"over {MOST_ALIKE} stages are the same as one another in turn; name the one with a kind")
        if name in seen:
            raise ValueError(f"'{name}' is the same as itself; name a stage that has a kind")
        seen.append(name)
        chain.append(known[name])
    own = ("id", "enabled", "only", "except")
    alike = {key: value for part in chain[:0:-1] for key, value in part.items() if key not in own}
    return {key: value for key, value in {**alike, **entry}.items() if key != "same-as"}


def _reorder(result: JsonObject, doc: Json) -> list[Problem]:
    order = doc.get("order")
    stages = result.get("stages", [])
    sequential = result.get("flow") == "sequential"
    if order is None:
        return []
    if not isinstance(order, list) or not all(isinstance(id_, str) for id_ in order):
        return [Problem(locate(doc, ["order"]), "order must be a list of stage ids", "write order: [first, second]")]
    by_id: JsonObject = {entry["id"]: entry for entry in stages if isinstance(entry, dict) and "id" in entry}
    if sequential:
        by_id["routes"] = "routes"
    problems = []
    for at, id_ in enumerate(order):
        spot = locate(doc, ["order", at])
        if id_ not in by_id:
            hint = "the routes marker stands in sequential flow only" if id_ == "routes" else did_you_mean(id_, by_id)
            problems.append(Problem(spot, f"order names '{id_}', which is no server-wide stage", hint))
        elif id_ in order[:at]:
            problems.append(Problem(spot, f"order names '{id_}' twice", "name every stage once"))
    for id_ in by_id:
        if id_ not in order:
            problems.append(
                Problem(locate(doc, ["order"]), f"order leaves out '{id_}'", "name every server-wide stage once")
            )
    if not problems:
        places = Seq(locate(doc, ["order"]), [by_id[id_] for id_ in order])
        places.spots = [locate(doc, ["order", at]) for at in range(len(order))]
        result["stages"] = places
    return problems


def place_of(name: str) -> list[str]:
    """Where a setting stands: ``STAGE.OPTION``, ``routes.ROUTE.SETTING`` or ``deployment.KEY``."""
    parts = name.split(".")
    return parts if parts[0] in ("deployment", "routes") else ["stages", *parts]


def setting(text: str, parse: Any) -> tuple[Map, list[Problem]]:
    """``STAGE.OPTION=VALUE``, or another place's, as an overlay; ``parse`` reads VALUE as YAML."""
    spot = Spot("--set", 1, 1)
    overlay = Map(spot)
    target, equals, raw = text.partition("=")
    *outer, last = place_of(target)
    least = 1 if outer[:1] == ["deployment"] else 2
    if not equals or not all((*outer, last)) or len(outer) < least:
        return overlay, [
            Problem(
                spot,
                f"{show(text)} sets nothing",
                "write STAGE.OPTION=VALUE, as in safety-net.reveal=everything",
            )
        ]
    value = parse(raw)
    node = overlay
    for key in outer:
        node[key], node.spots[key] = Map(spot), (spot, spot)
        node = node[key]
    node[last], node.spots[last] = value, (spot, spot)
    return overlay, []
