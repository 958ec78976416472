"""JSON Schemas (draft 2020-12): of what files may say, and of every document that a command prints."""

from __future__ import annotations

import json
import re
import sys
from collections.abc import Callable, Iterable, Mapping
from operator import itemgetter
from typing import Any, cast

import msgspec
from msgspec import Struct

from patient_usher.core.http.dates import moment
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.overlays import CHANGEABLE
from patient_usher.core.model.pipeline import PipelineSpec, StageOptions
from patient_usher.core.model.text_types import DURATION_PATTERN, SIGNED_PATTERN, SIZE_PATTERN, SIZES, UNITS
from patient_usher.core.model.trace import TraceSpec
from patient_usher.core.stages import kind, kinds
from patient_usher.core.verify.document_types import (
    Compare,
    CoverageRecord,
    Drifted,
    Explore,
    Findings,
    LearnedRecord,
    OrderFound,
    Reorder,
    Sweep,
    UnnoticedRecord,
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
        elif any(form.get("pattern") in (DURATION_PATTERN, SIGNED_PATTERN) for form in forms):
            node["default"] = _in_units(default, UNITS) if default else "0s"
        elif any(form.get("pattern") == SIZE_PATTERN for form in forms):
            node["default"] = _in_units(default, SIZES)
    return node


def _in_units(number: int, units: Mapping[str, int]) -> str:
    """A whole number of the largest unit that divides it."""
    fitting = [(name, worth) for name, worth in units.items() if number % worth == 0 and worth <= max(number, 1)]
    name, worth = max(fitting, key=itemgetter(1))
    return f"{number // worth}{name}"


def _does(name: str) -> str:
    """What a kind of stage does, in a line: its module says it."""
    first = (sys.modules[kind(name).options.__module__].__doc__ or "").strip().partition("\n")[0]
    return first.partition(": ")[2].rstrip(".").replace("``", "")


def pipeline_schema() -> Schema:
    """What a pipeline file may say: every kind with its options, and variants of other files."""
    schema = PipelineSpec.model_json_schema()
    definitions = schema.setdefault("$defs", {})
    does = {name: _does(name) for name in kinds()}
    bare: list[Schema] = [{"const": "routes", "description": "in a sequential flow, where the routes stand"}]
    forms: list[Schema] = []
    for name in kinds():
        options = kind(name).options.model_json_schema()
        definitions.update(options.pop("$defs", {}))
        options["properties"]["kind"] = {"const": name, "description": does[name]}
        options["required"] = [*(key for key in options.get("required", ()) if key not in ("id", "kind")), "kind"]
        options["title"] = name
        definitions[f"stage-{name}"] = options
        if options["required"] == ["kind"]:  # else it can't stand by its name alone
            bare.append({"const": name, "description": does[name]})
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
    # An editor leaves forms that don't fit yet out of what it offers; this has all kinds.
    named: Schema = {"kind": {"anyOf": [{"const": name, "description": told} for name, told in does.items()]}}
    definitions["Stage"] = {"title": "Stage", "anyOf": [*bare, *forms], "properties": named}
    stage_list = {"type": "array", "items": {"$ref": "#/$defs/Stage"}}
    for holder in (schema, definitions["GroupSpec"], definitions["RouteSpec"]):
        stages = holder["properties"]["stages"]
        holder["properties"]["stages"] = {**stage_list, **{k: v for k, v in stages.items() if k == "description"}}
    # Overlays name stages, groups and routes by id, so in a variant these may be mappings too.
    sentences = PipelineSpec.sentences
    schema["properties"]["stages"] = {**stage_list, "description": sentences["stages"]}
    changeable = {
        "stages": [definitions[f"stage-{name}"] for name in kinds()],
        "groups": [definitions["GroupSpec"]],
        "routes": [definitions["RouteSpec"]],
    }
    for part, whole in changeable.items():
        definitions[f"changed-{part}"] = _changed(option for one in whole for option in one["properties"].items())
        changes: Schema = {"type": "object", "additionalProperties": {"$ref": f"#/$defs/changed-{part}"}}
        schema["properties"][part] = {"anyOf": [schema["properties"][part], changes], "description": sentences[part]}
    overlay = _changed((key, part) for key, part in schema["properties"].items() if key in CHANGEABLE)
    overlay["properties"] |= {part: schema["properties"][part] for part in changeable}
    schema["properties"]["environments"]["additionalProperties"] = overlay
    schema["properties"]["like"] = {
        "type": "string",
        "description": "the pipeline file that this one is a variant of",
    }
    schema["required"] = [key for key in schema.get("required", ()) if key != "patient-usher"]
    schema["anyOf"] = [{"required": ["patient-usher"]}, {"required": ["like"]}]
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
    return {"$schema": DIALECT, **_titled(_as_written(schema)), "title": "Patient Usher pipeline"}


def _changed(options: Iterable[tuple[str, Schema]]) -> Schema:
    """What an overlay says of something that there is: any of its options, by themselves; null takes one out.

    Mappings are laid onto what stands there, so that of these a part will do.
    """
    forms: dict[str, list[Schema]] = {}
    for name, option in options:
        bare = {key: value for key, value in option.items() if key != "description"}
        held = forms.setdefault(name, [{"description": option.get("description", "")}])
        held += [bare] if bare not in held else []
    properties: Schema = {}
    for name, (told, *each) in forms.items():
        partly: list[Schema] = [{"type": "object"}] if re.search('"(object|\\$ref)"', json.dumps(each)) else []
        properties[name] = {**told, "anyOf": [*each, *partly, {"type": "null"}]}
    return {"type": "object", "additionalProperties": False, "properties": properties}


def trace_schema() -> Schema:
    """What a trace may say."""
    schema = TraceSpec.model_json_schema()
    return {"$schema": DIALECT, **_titled(_as_written(schema)), "title": "Patient Usher trace"}


_WORD_BEGINS = re.compile("(?<=[a-z])(?=[A-Z])")


def _titled(schema: Schema) -> Schema:
    """The same with parts that are called what people call them: editors and the reference show these names."""
    called = {
        name: _WORD_BEGINS.sub("-", name.removesuffix("Spec").removesuffix("Options")).lower()
        for name in schema.get("$defs", {})
    }
    whole = json.loads(_REF.sub(lambda match: f'"#/$defs/{called[match[1]]}"', json.dumps(schema)))
    whole["$defs"] = {called[name]: part for name, part in whole["$defs"].items()}
    for name, part in whole["$defs"].items():
        if "title" in part:
            part["title"] = name.removeprefix("stage-")
    return cast("Schema", whole)


_REF = re.compile(r'"#/\$defs/([^"]+)"')


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
    "unnoticed": lambda: _of_types(UnnoticedRecord, "unnoticed"),
    "explore": lambda: _of_types(Explore, "exploration"),
    "sweep": lambda: _of_types(Sweep, "sweep"),
    "drift": lambda: _of_types(Drifted, "drift"),
    "order-found": lambda: _of_types(OrderFound, "order-found"),
    "learned": lambda: _of_types(LearnedRecord, "learned"),
}
