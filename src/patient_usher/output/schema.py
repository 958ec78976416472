"""JSON Schemas (draft 2020-12): of what files may say, and of every document that a command prints."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from operator import itemgetter
from typing import Any

import msgspec
from msgspec import Struct

from patient_usher.core.http.dates import moment
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.pipeline import PipelineSpec, StageOptions
from patient_usher.core.model.text_types import DURATION_PATTERN, SIZE_PATTERN, SIZES, UNITS
from patient_usher.core.model.trace import TraceSpec
from patient_usher.core.stages import kind, kinds
from patient_usher.core.verify.document_types import (
    Compare,
    CoverageRecord,
    Drifted,
    Explore,
    Findings,
    OrderFound,
    Reorder,
    Sweep,
)
from patient_usher.core.verify.record import Result

DIALECT = "https://json-schema.org/draft/2020-12/schema"

Schema = JsonObject


def _as_written(node: Json) -> Any:
    """A schema whose defaults stand as files write them: ``30s``, not 30000000 microseconds."""
    if isinstance(node, list):
        return [_as_written(part) for part in node]
    if not isinstance(node, dict):
        return node
    node = {key: _as_written(value) for key, value in node.items()}
    default = node.get("default")
    if default is None or (node.get("type") == "string" and isinstance(default, list)):
        # What a key that nobody wrote amounts to inside; a file can't write it.
        node.pop("default", None)
    if isinstance(default, int) and not isinstance(default, bool):
        forms = [node, *node.get("anyOf", ())]
        if any(form.get("format") == "date-time" for form in forms):
            node["default"] = moment(default).isoformat().replace("+00:00", "Z")
        elif any(form.get("pattern") == DURATION_PATTERN for form in forms):
            node["default"] = _in_units(default, UNITS) if default else "0s"
        elif any(form.get("pattern") == SIZE_PATTERN for form in forms):
            node["default"] = _in_units(default, SIZES)
    return node


def _in_units(number: int, units: Mapping[str, int]) -> str:
    """A whole number of the largest unit that divides it."""
    fitting = [(name, worth) for name, worth in units.items() if number % worth == 0 and worth <= max(number, 1)]
    name, worth = max(fitting, key=itemgetter(1))
    return f"{number // worth}{name}"


def pipeline_schema() -> Schema:
    """What a pipeline file may say: every kind with its options, and variants of other files."""
    schema = PipelineSpec.model_json_schema()
    definitions = schema.setdefault("$defs", {})
    forms: list[Schema] = [{"enum": [*kinds(), "routes"]}]
    for name in kinds():
        options = kind(name).options.model_json_schema()
        definitions.update(options.pop("$defs", {}))
        options["properties"]["kind"] = {"const": name, "description": StageOptions.sentences["kind"]}
        options["required"] = [*(key for key in options.get("required", ()) if key not in ("id", "kind")), "kind"]
        options["title"] = name
        definitions[f"stage-{name}"] = options
        forms.append({"$ref": f"#/$defs/stage-{name}"})
    common = StageOptions.model_json_schema()["properties"]
    another: Schema = {"type": "string", "description": PipelineSpec.sentences["same-as"]}
    forms.append(
        {
            "title": "same-as",
            "type": "object",
            "properties": {**{key: part for key, part in common.items() if key != "kind"}, "same-as": another},
            "required": ["id", "same-as"],
        }
    )
    definitions["Stage"] = {"title": "Stage", "anyOf": forms}
    stage_list = {"type": "array", "items": {"$ref": "#/$defs/Stage"}}
    for holder in (schema, definitions["GroupSpec"], definitions["RouteSpec"]):
        stages = holder["properties"]["stages"]
        holder["properties"]["stages"] = {**stage_list, **{k: v for k, v in stages.items() if k == "description"}}
    # Overlays name stages, groups and routes by id, so in a variant these may be mappings too.
    sentences = PipelineSpec.sentences
    schema["properties"]["stages"] = {"anyOf": [stage_list, {"type": "object"}], "description": sentences["stages"]}
    for part in ("groups", "routes"):
        either: Schema = {"anyOf": [schema["properties"][part], {"type": "object"}]}
        schema["properties"][part] = {**either, "description": sentences[part]}
    schema["properties"]["like"] = {
        "type": "string",
        "description": "the pipeline file that this one is a variant of",
    }
    order: Schema = {"type": "array", "items": {"type": "string"}}
    schema["properties"]["order"] = {**order, "description": sentences["order"]}
    text: Schema = {"type": "string"}
    schema["properties"]["add"] = {
        "type": "array",
        "description": sentences["add"],
        "items": {
            "type": "object",
            "additionalProperties": False,
            "properties": {"before": text, "after": text, "stage": {"$ref": "#/$defs/Stage"}},
            "required": ["stage"],
        },
    }
    return {"$schema": DIALECT, **_as_written(schema), "title": "Patient Usher pipeline"}


def trace_schema() -> Schema:
    """What a trace may say."""
    schema = TraceSpec.model_json_schema()
    return {"$schema": DIALECT, **_as_written(schema), "title": "Patient Usher trace"}


def _of_types(document: type[Struct], title: str) -> Schema:
    """The schema of a document, made of its type: closed, with every key that is always there required."""
    (schema,), definitions = msgspec.json.schema_components([document], ref_template="#/$defs/{name}")
    name = schema["$ref"].rpartition("/")[2]
    for definition in definitions.values():
        properties = definition.get("properties", {})
        for key in ("default", "required"):
            definition.pop(key, None)
        definition["required"] = [key for key, value in properties.items() if key not in _SOMETIMES]
        definition["additionalProperties"] = False
        for value in properties.values():
            value.pop("default", None)
    whole = definitions.pop(name)
    return {"$schema": DIALECT, **whole, "title": f"Patient Usher {title}", "$defs": definitions}


_SOMETIMES = ("body_base64",)
"""Keys that are left out where there is nothing to say."""

SCHEMAS: dict[str, Callable[[], Schema]] = {
    "pipeline": pipeline_schema,
    "trace": trace_schema,
    "result": lambda: _of_types(Result, "result"),
    "findings": lambda: _of_types(Findings, "findings"),
    "compare": lambda: _of_types(Compare, "comparison"),
    "reorder": lambda: _of_types(Reorder, "orders"),
    "coverage": lambda: _of_types(CoverageRecord, "coverage"),
    "explore": lambda: _of_types(Explore, "exploration"),
    "sweep": lambda: _of_types(Sweep, "sweep"),
    "drift": lambda: _of_types(Drifted, "drift"),
    "order-found": lambda: _of_types(OrderFound, "order-found"),
}
