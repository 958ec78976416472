"""``validate``: holds path, query, headers and body against the route's ``input``."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from math import isfinite
from typing import Any, ClassVar, Literal

from patient_usher.core.http.media import is_json, parse_media_type
from patient_usher.core.http.messages import json_text
from patient_usher.core.model import stage as base
from patient_usher.core.model.document import Json, JsonMapping, JsonObject
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.errors import refusal
from patient_usher.core.model.exchange import UNREAD, Exchange
from patient_usher.core.model.pipeline import PipelineSpec, StageOptions
from patient_usher.core.model.regex import searcher
from patient_usher.core.model.routes import GroupSpec, InputSpec, RouteSpec
from patient_usher.core.model.schemas import compiled_schema, deref, types_asked, unknown_members
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.text_types import Status


class Options(StageOptions):
    """How much is reported, and with which status."""

    trade_names: ClassVar[tuple[str, ...]] = ("input", "schema", "validation", "validator")
    sentences: ClassVar[dict[str, str]] = {
        "report": "Whether every error is told, or the first.",
        "status": "The refusal's status.",
    }

    report: Literal["every-error", "first-error"] = "every-error"
    status: Status = 422

    def needs(self, route: RouteSpec | None = None) -> Collection[str]:
        """The body, where the route says what it must be."""
        given = route.input if route is not None else None
        return ("body",) if given is not None and (given.json_ is not None or given.form is not None) else ()

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """The input fits; or not, by each keyword of a schema that a request can break by itself."""
        asked = [(route, route.input.schemas()) for route in routes if route.input is not None]
        return [
            "valid",
            "invalid",
            *(_broken(route.id, *one) for route, schemas in asked for one in _keywords(schemas)),
        ]

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """By whether it passed on; keywords are recorded as they are broken."""
        if way != "in":
            return ()
        return ("valid",) if did == "continued" else ("invalid",)


_MOST_KEYWORDS = 60
"""How many keywords of one route's schemas are counted."""


def _keywords(schemas: Mapping[str, JsonObject]) -> Iterator[tuple[str, str]]:
    """The keywords that a request can break by itself, each with the place of what it asks."""
    pending: list[tuple[str, Json]] = [(f"/{where}", schema) for where, schema in schemas.items()]
    places = {place for place, _ in pending} - {"/json", "/form"}
    count = 0
    while pending and count < _MOST_KEYWORDS:
        place, node = pending.pop(0)
        for keyword, wanted in node.items() if isinstance(node, dict) else ():
            found: list[tuple[str, str]] = []
            if keyword == "required" and isinstance(wanted, list) and place != "/path":
                found = [(f"{place}/{name}", keyword) for name in wanted]
            elif (keyword in _WORDS and place not in places) or (keyword == "additionalProperties" and wanted is False):
                found = [(place, keyword)]
            elif keyword == "properties" and isinstance(wanted, dict):
                pending += [(f"{place}/{name}", part) for name, part in wanted.items()]
            count += len(found)
            yield from found


def _broken(route: str, place: str, keyword: str) -> str:
    return f"{route} {place} breaks {keyword}"


def _said(value: Json) -> str:
    """A value as JSON says it; text without its quotes."""
    return value if isinstance(value, str) else json_text(value)


# JSON Schema keyword -> words for what it asks; never the value that broke it.
_WORDS: dict[str, Callable[[Any], str]] = {
    "type": lambda wanted: f"must be {' or '.join(wanted) if isinstance(wanted, list) else wanted}",
    "enum": lambda wanted: f"must be one of {', '.join(map(_said, wanted))}",
    "const": lambda wanted: f"must be {_said(wanted)}",
    "minimum": lambda wanted: f"must be at least {wanted}",
    "maximum": lambda wanted: f"must be at most {wanted}",
    "exclusiveMinimum": lambda wanted: f"must be more than {wanted}",
    "exclusiveMaximum": lambda wanted: f"must be less than {wanted}",
    "multipleOf": lambda wanted: f"must be a multiple of {wanted}",
    "minLength": lambda wanted: f"must have at least {wanted} characters",
    "maxLength": lambda wanted: f"must have at most {wanted} characters",
    "pattern": lambda wanted: f"must match {wanted}",
    "format": lambda wanted: f"must be a {wanted}",
    "minItems": lambda wanted: f"must have at least {wanted} items",
    "maxItems": lambda wanted: f"must have at most {wanted} items",
    "uniqueItems": lambda wanted: "must not repeat items",
}


def _pointer(parts: Iterable[object]) -> str:
    return "".join("/" + str(part).replace("~", "~0").replace("/", "~1") for part in parts)


_NUMBER = re.compile(r"-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?")


def _coerced(values: JsonObject, schema: JsonObject) -> JsonObject:
    """Text from a query, form or header as the type that the schema asks for; names may come by a pattern."""
    root, schema = schema, deref(schema, schema)
    properties = schema.get("properties") or {}
    patterns = [(searcher(key), part) for key, part in (schema.get("patternProperties") or {}).items()]
    others = schema.get("additionalProperties")
    result: JsonObject = {}
    for name, given in values.items():
        by_pattern = next((part for found, part in patterns if found(name)), others)
        asked = deref(root, properties.get(name, by_pattern))
        items = list(given) if isinstance(given, list | tuple) else [given]
        if "array" in types_asked(root, asked):
            inner = asked.get("items") if isinstance(asked, dict) else None
            result[name] = [_as(item, types_asked(root, inner)) for item in items]
        else:
            result[name] = _as(items[0], types_asked(root, asked)) if len(items) == 1 else items
    return result


def _as(text: Json, wanted: set[str]) -> object:
    """Text as the first of the wanted types that it is in JSON, or as it is (RFC 8259 section 6)."""
    if not isinstance(text, str) or "string" in wanted or len(text) > 400:
        return text
    if wanted & {"integer", "number"} and _NUMBER.fullmatch(text):
        if "." not in text and "e" not in text.lower():
            return int(text)
        number = float(text)
        if isfinite(number):
            return int(number) if number.is_integer() and "number" not in wanted else number
    if "boolean" in wanted and text in ("true", "false"):
        return text == "true"
    return None if "null" in wanted and text == "null" else text


_MISSING: object = object()
"""What stands for a body that nobody has sent, or read, or that came in another form."""


def _content(x: Exchange, wanted: str) -> object:
    """The body, if it came as JSON, or as a form: the one is no stand-in for the other."""
    if x.body is UNREAD or not x.request.body:
        return _MISSING
    essence = parse_media_type(x.request.fields.get("content-type") or "")[0]
    return x.body if is_json(essence) == (wanted == "json") else _MISSING


_READ: dict[str, Callable[[Exchange], Any]] = {
    "path": lambda x: dict(x.path_values),
    "query": lambda x: dict(x.request.url.params),
    "headers": lambda x: {name: x.request.fields.get(name) for name in x.request.fields.names()},
    "json": lambda x: _content(x, "json"),
    "form": lambda x: _content(x, "form"),
}


def inputs_of(spec: PipelineSpec) -> Iterator[tuple[str, InputSpec]]:
    """Every route with an input, by id."""
    pending: list[PipelineSpec | GroupSpec] = [spec]
    while pending:
        node = pending.pop()
        pending += node.groups
        yield from ((route.id, route.input) for route in node.routes if route.input is not None)


def _validators(spec: InputSpec) -> list[tuple[str, JsonObject, Any]]:
    """Each part of a request with its schema, and what validates it."""
    return [(where, schema, compiled_schema(schema)) for where, schema in spec.schemas().items()]


class Stage(base.Stage):
    """422 with every field error, or the first."""

    def __init__(self, options: Options, setup: Setup) -> None:
        self.id = options.id
        self.first, self.status = options.report == "first-error", options.status
        # Made once for each route, at load: routes are known by their ids.
        self.validators = {id_: _validators(spec) for id_, spec in inputs_of(setup.spec)}

    def way_in(self, x: Exchange) -> Effect:
        """Validate what the route asks for."""
        settings = x.route.settings if x.route is not None else None
        if settings is None or settings.input is None:
            return None
        spec: InputSpec = settings.input
        invalid: list[dict[str, str]] = []
        broken: list[str] = []
        for where, schema, validator in self.validators[x.route.id]:
            value = _READ[where](x)
            if value is _MISSING and spec.body == "optional" and not x.request.body:
                continue
            if value is _MISSING:
                invalid.append({"pointer": f"/{where}", "message": "the body is missing"})
                if x.body is UNREAD:
                    x.note = {"body": "no stage in front of this one has read it"}
                continue
            if where == "headers":  # names have no case: compare them as the schema spells them
                spelled = {str(name).lower(): name for name in schema.get("properties", {})}
                spelled.update({str(name).lower(): name for name in schema.get("required", ())})
                value = {spelled.get(name, name): text for name, text in value.items()}
            if where != "json" and isinstance(value, dict):
                value = _coerced(value, schema)
            try:
                for error in validator.iter_errors(value):
                    described = _described(where, error)
                    invalid += described
                    broken += [
                        _broken(x.route.id, place, str(error.validator)) for place in _places(where, error, described)
                    ]
            except RecursionError:
                invalid.append({"pointer": f"/{where}", "message": "is nested too deep"})
        if not invalid:
            return None
        if x.journey is not None:
            x.take("stages", self.id, broken)
        own = spec.messages
        invalid = [{**item, "message": own.get(item["pointer"], item["message"])} for item in invalid]
        invalid.sort(key=lambda item: item["pointer"])
        shown = invalid[:1] if self.first else invalid
        message = "; ".join(f"{item['pointer']} {item['message']}" for item in invalid)
        return refusal("InvalidInput", "invalid-input", message, status=self.status, invalid=tuple(shown))


def _places(where: str, error: Any, described: list[dict[str, str]]) -> list[str]:
    """The place of each value that a keyword is about, as ``_keywords`` names it."""
    if error.validator == "required":
        return [item["pointer"] for item in described]
    return [_pointer([where, *error.absolute_path])]


def _described(where: str, error: Any) -> list[dict[str, str]]:
    path = [where, *error.absolute_path]
    keyword, wanted = error.validator, error.validator_value
    if not isinstance(keyword, str):  # it is about the whole value, and no keyword's
        return [{"pointer": _pointer(path), "message": error.message}]
    if keyword == "required":
        missing = [name for name in wanted if name not in error.instance]
        # One error comes for each missing name; its message names it first.
        names = [name for name in missing if error.message.startswith(repr(name))] or missing
        return [{"pointer": _pointer([*path, name]), "message": "is missing"} for name in names]
    if keyword == "additionalProperties":
        extras = unknown_members(error.schema, error.instance)
        return [{"pointer": _pointer([*path, name]), "message": "isn't known here"} for name in extras]
    words = _WORDS.get(keyword)
    return [{"pointer": _pointer(path), "message": words(wanted) if words else f"breaks {keyword}"}]
