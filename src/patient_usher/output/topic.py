"""What a kind of stage or a key of a file says, made of the same data as the schemas and the reference."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from importlib import import_module
from typing import Any

from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.stages import kind
from patient_usher.output.schema import SCHEMAS
from patient_usher.output.terminal import Line, line, wrapped


def form(schema: Mapping[str, Any]) -> str:
    """What a value must be, in a few words."""
    if "const" in schema:
        return f"`{schema['const']}`"
    if "enum" in schema:
        return ", ".join(f"`{value}`" for value in schema["enum"])
    if "$ref" in schema:
        return str(schema["$ref"]).rpartition("/")[2]
    for key in ("anyOf", "oneOf"):
        if key in schema:
            return " or ".join(dict.fromkeys(form(part) for part in schema[key] if part.get("type") != "null"))
    if not schema.get("type") and not schema:
        return "any"
    if schema.get("type") == "array":
        items = schema.get("items")
        return f"list of {form(items) if isinstance(items, dict) else 'any'}"
    if schema.get("type") == "object":
        return "mapping"
    return str(schema.get("type", "any"))


def default(value: object) -> str:
    """What it is if it is left out, as a file would say it."""
    if value is None or value in ([], {}):
        return ""
    return f"`{json.dumps(value) if not isinstance(value, str) else value}`"


def said_of(name: str) -> str:
    """What a kind of stage does, in a sentence."""
    doc = import_module(kind(name).stage.__module__).__doc__ or ""
    said = doc.strip().partition(": ")[2].partition("\n\n")[0].replace("\n", " ")
    return f"{said[:1].upper()}{said[1:]}"


def topics() -> dict[str, list[tuple[str, Mapping[str, Any]]]]:
    """Every key of pipelines and traces, with the places where it may stand and what stands there."""
    found: dict[str, list[tuple[str, Mapping[str, Any]]]] = {}
    for file in ("pipeline", "trace"):
        schema = SCHEMAS[file]()
        parts = {f"a {file}": schema, **{f"{file}: {name}": part for name, part in schema["$defs"].items()}}
        for place, part in parts.items():
            for key, value in (part.get("properties") or {}).items():
                found.setdefault(key, []).append((place, value))
    return found


def of_kind(name: str) -> Iterator[Line]:
    """A kind of stage: what it does, its options, an example."""
    yield line((name, "title"), ("  a kind of stage", "dim"))
    yield from (line(part) for part in wrapped(said_of(name), 0))
    yield []
    own = SCHEMAS["pipeline"]()["$defs"][f"stage-{name}"]["properties"]
    common = StageOptions.model_json_schema()["properties"]
    for key, part in own.items():
        if key not in common:
            yield from _option(key, part)
    yield line((f"  {', '.join(common)}: as of every stage", "dim"))
    yield []
    yield line(("For example:", "title"))
    example = "{id: mine, kind: " + name + "}" if any(key not in common for key in own) else name
    yield line((f"  stages: [{example}]", "field"))


def of_key(name: str, places: Iterable[tuple[str, Mapping[str, Any]]]) -> Iterator[Line]:
    """A key: the places where it may stand, as ``topics`` has them, and what it says there."""
    yield line((name, "title"), ("  a key", "dim"))
    for place, part in places:
        yield line(("  in ", "dim"), place)
        yield from _option(name, part)


def _option(key: str, part: Mapping[str, Any]) -> Iterator[Line]:
    told = default(part.get("default")).replace("`", "")
    what = form(part).replace("`", "") + (f"; {told}, if left out" if told else "")
    first, *rest = wrapped(what, 24) or [""]
    yield line("  ", (f"{key:<22}", "name"), (first, "dim"))
    yield from (line(" " * 24, (each, "dim")) for each in rest)
    yield from (line(" " * 24, each) for each in wrapped(str(part.get("description", "")), 24))
