"""JSON Schemas (draft 2020-12) of the three formats: pipeline, trace, result."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from operator import itemgetter
from typing import Any

from patient_usher.core.http.dates import moment
from patient_usher.core.model.enumerations import CACHE_STATES, DID, KINDS, OUTCOMES, VERDICTS, WAYS
from patient_usher.core.model.pipeline import PipelineSpec
from patient_usher.core.model.text_types import DURATION_PATTERN, SIZE_PATTERN, SIZES, UNITS
from patient_usher.core.model.trace import TraceSpec
from patient_usher.core.stages import kind, kinds
from patient_usher.output.editor_sentences import KEYS, STAGE

DIALECT = "https://json-schema.org/draft/2020-12/schema"

Schema = dict[str, Any]


def _as_written(node: Any) -> Any:
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
        options["properties"]["kind"] = {"const": name}
        options["required"] = [*(key for key in options.get("required", ()) if key not in ("id", "kind")), "kind"]
        options["title"] = name
        definitions[f"stage-{name}"] = options
        forms.append({"$ref": f"#/$defs/stage-{name}"})
    definitions["Stage"] = {"title": "Stage", "anyOf": forms}
    stage_list = {"type": "array", "items": {"$ref": "#/$defs/Stage"}}
    for holder in (schema, definitions["GroupSpec"], definitions["RouteSpec"]):
        holder["properties"]["stages"] = stage_list
    # Overlays name stages, groups and routes by id, so in a variant these may be mappings too.
    schema["properties"]["stages"] = {"anyOf": [stage_list, {"type": "object"}]}
    for part in ("groups", "routes"):
        schema["properties"][part] = {"anyOf": [schema["properties"][part], {"type": "object"}]}
    schema["properties"]["like"] = {
        "type": "string",
        "description": "the pipeline file that this one is a variant of",
    }
    schema["properties"]["order"] = {"type": "array", "items": {"type": "string"}}
    return {"$schema": DIALECT, **_as_written(_told(schema, "pipeline")), "title": "Patient Usher pipeline"}


def trace_schema() -> Schema:
    """What a trace may say."""
    schema = _told(TraceSpec.model_json_schema(), "trace")
    return {"$schema": DIALECT, **_as_written(schema), "title": "Patient Usher trace"}


def _told(schema: Schema, name: str) -> Schema:
    """The schema with a sentence on every key, in place."""
    for title, node in [(name, schema), *schema.get("$defs", {}).items()]:
        kind_ = title.removeprefix("stage-")
        sentences = {**(STAGE if kind_ != title else {}), **KEYS.get(kind_, {})}
        properties = node.get("properties", {})
        for key in properties.keys() & sentences.keys():
            properties[key] = {**properties[key], "description": sentences[key]}
    return schema


def _object(**properties: Any) -> Schema:
    return {
        "type": "object",
        "additionalProperties": False,
        "required": list(properties),
        "properties": properties,
    }


def _list(items: Schema) -> Schema:
    return {"type": "array", "items": items}


def _nullable(schema: Schema) -> Schema:
    return {"anyOf": [schema, {"type": "null"}]}


TEXT = {"type": "string"}
NUMBER = {"type": "number"}
COUNT = {"type": "integer", "minimum": 0}
BOOL = {"type": "boolean"}
ANY: Schema = {}
MAYBE_TEXT = {"type": ["string", "null"]}
HEADERS = _list({"type": "array", "prefixItems": [TEXT, TEXT], "minItems": 2, "maxItems": 2})
COUNTS = {"type": "object", "additionalProperties": COUNT}


def _message(**more: Any) -> Schema:
    schema = _object(**more, headers=HEADERS, body=MAYBE_TEXT, body_size=COUNT)
    schema["properties"]["body_base64"] = TEXT
    return schema


def result_schema() -> Schema:
    """What a replay writes as json; a line of jsonl is one of its exchanges."""
    answer = {"$ref": "#/$defs/answer"}
    exchange = _object(
        id=TEXT,
        request_id=TEXT,
        kind={"enum": list(KINDS)},
        parent=MAYBE_TEXT,
        caller=TEXT,
        instance=COUNT,
        at=NUMBER,
        finished=NUMBER,
        request=_message(method=TEXT, url=TEXT),
        forwarded=MAYBE_TEXT,
        route=MAYBE_TEXT,
        response=_nullable(answer),
        outcome={"enum": list(OUTCOMES)},
        answered_by=MAYBE_TEXT,
        refused_by=MAYBE_TEXT,
        why=MAYBE_TEXT,
        handler_reached=BOOL,
        handler_finished=BOOL,
        identity=MAYBE_TEXT,
        roles=_list(TEXT),
        context={"type": "object"},
        journey=_list(
            _object(
                stage=TEXT,
                way={"enum": list(WAYS)},
                did={"enum": list(DID)},
                at=NUMBER,
                note={"type": "object"},
            )
        ),
        errors=_list(_object(type=TEXT, message=TEXT, raised_by=TEXT, caught_by=MAYBE_TEXT, because=MAYBE_TEXT)),
        second_answer=_nullable(answer),
        log=_list(_object(at=NUMBER, stage=TEXT, level=TEXT, message=TEXT, detail={"type": ["object", "null"]})),
        caches=_list(
            _object(
                stage=TEXT,
                state={"enum": list(CACHE_STATES)},
                stored=BOOL,
                why=MAYBE_TEXT,
                age={"type": ["number", "null"]},
            )
        ),
        rates=_list(_object(**{"stage": TEXT, "for": TEXT, "quota": NUMBER, "remaining": NUMBER, "reset": NUMBER})),
        browser=_nullable(
            _object(
                verdict={"enum": list(VERDICTS)},
                why=MAYBE_TEXT,
                reason=MAYBE_TEXT,
                readable_headers=_list(TEXT),
            )
        ),
        checks=_list(_object(what=TEXT, expected=ANY, actual=ANY, ok=BOOL)),
    )
    document = _object(
        **{
            "patient-usher": {"const": "result/1"},
            "pipeline": TEXT,
            "trace": TEXT,
            "environment": _list(TEXT),
            "seed": {"type": "integer"},
            "summary": _object(requests=COUNT, exchanges=COUNT, failed=COUNT, by_status=COUNTS, by_answerer=COUNTS),
            "always": _list(_object(id=TEXT, held=COUNT, broken=_list(TEXT))),
            "exchanges": _list({"$ref": "#/$defs/exchange"}),
        }
    )
    definitions = {"exchange": exchange, "answer": _message(status={"type": "integer"}, encoding=MAYBE_TEXT)}
    return {"$schema": DIALECT, "title": "Patient Usher result", **document, "$defs": definitions}


SCHEMAS: dict[str, Callable[[], Schema]] = {
    "pipeline": pipeline_schema,
    "trace": trace_schema,
    "result": result_schema,
}
