"""``validate``: holds query, headers and body against the route's ``input``."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any, Literal

from patient_usher.core.model import stage as base
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.errors import refusal
from patient_usher.core.model.exchange import UNREAD, Exchange
from patient_usher.core.model.pipeline import PipelineSpec, StageOptions
from patient_usher.core.model.routes import GroupSpec, InputSpec
from patient_usher.core.model.scalars import Status
from patient_usher.core.model.stage import Setup


class Options(StageOptions):
    """How much is reported, and with which status."""

    report: Literal["every-error", "first-error"] = "every-error"
    status: Status = 422


# JSON Schema keyword -> words for what it asks; never the value that broke it.
_WORDS: dict[str, Callable[[Any], str]] = {
    "type": lambda wanted: f"must be {' or '.join(wanted) if isinstance(wanted, list) else wanted}",
    "enum": lambda wanted: f"must be one of {', '.join(map(str, wanted))}",
    "const": lambda wanted: f"must be {wanted}",
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


def _pointer(parts: Iterable[Any]) -> str:
    return "".join("/" + str(part).replace("~", "~0").replace("/", "~1") for part in parts)


def _coerced(values: dict[str, Any], schema: dict[str, Any]) -> dict[str, Any]:
    """Text from a query, form or header as the type that the schema asks for."""
    properties = schema.get("properties", {})
    result: dict[str, Any] = {}
    for name, given in values.items():
        asked = properties.get(name, {}) if isinstance(properties, dict) else {}
        wanted = asked.get("type") if isinstance(asked, dict) else None
        items = list(given) if isinstance(given, list | tuple) else [given]
        if wanted == "array":
            inner = asked.get("items", {}).get("type") if isinstance(asked.get("items"), dict) else None
            result[name] = [_as(item, inner) for item in items]
        else:
            result[name] = _as(items[0], wanted) if len(items) == 1 else items
    return result


def _as(text: Any, wanted: Any) -> Any:
    if not isinstance(text, str):
        return text
    try:
        if wanted == "integer":
            return int(text)
        if wanted == "number":
            return float(text)
    except ValueError:
        return text
    return {"true": True, "false": False}.get(text, text) if wanted == "boolean" else text


_READ: dict[str, Callable[[Exchange], Any]] = {
    "query": lambda x: dict(x.request.url.params),
    "headers": lambda x: {name: x.request.fields.get(name) for name in x.request.fields.names()},
    "json": lambda x: None if x.body is UNREAD else x.body,
    "form": lambda x: None if x.body is UNREAD else x.body,
}


def inputs_of(spec: PipelineSpec) -> Iterator[tuple[str, InputSpec]]:
    """Every route with an input, by id."""
    pending: list[PipelineSpec | GroupSpec] = [spec]
    while pending:
        node = pending.pop()
        pending += node.groups
        yield from ((route.id, route.input) for route in node.routes if route.input is not None)


def _validators(spec: InputSpec) -> list[tuple[str, dict[str, Any], Any]]:
    """Each part of a request with its schema, and what validates it."""
    from jsonschema import Draft202012Validator
    from referencing import Registry

    # A registry of its own, with nothing in it: a schema's $ref never reaches out.
    return [
        (where, schema, Draft202012Validator(schema, registry=Registry())) for where, schema in spec.schemas().items()
    ]


class Stage(base.Stage):
    """422 with every field error, or the first."""

    def __init__(self, options: Options, setup: Setup) -> None:
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
        for where, schema, validator in self.validators[x.route.id]:
            value = _READ[where](x)
            if where in ("json", "form") and value is None:
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
            for error in validator.iter_errors(value):
                invalid += _described(where, error)
        if not invalid:
            return None
        own = spec.messages
        invalid = [{**item, "message": own.get(item["pointer"], item["message"])} for item in invalid]
        invalid.sort(key=lambda item: item["pointer"])
        shown = invalid[:1] if self.first else invalid
        message = "; ".join(f"{item['pointer']} {item['message']}" for item in invalid)
        return refusal("InvalidInput", "invalid-input", message, status=self.status, invalid=tuple(shown))


def _described(where: str, error: Any) -> list[dict[str, str]]:
    path = [where, *error.absolute_path]
    keyword, wanted = error.validator, error.validator_value
    if keyword == "required":
        missing = [name for name in wanted if name not in error.instance]
        # One error comes for each missing name; its message names it first.
        names = [name for name in missing if error.message.startswith(repr(name))] or missing
        return [{"pointer": _pointer([*path, name]), "message": "is missing"} for name in names]
    if keyword == "additionalProperties":
        known = error.schema.get("properties", {})
        return [
            {"pointer": _pointer([*path, name]), "message": "isn't known here"}
            for name in error.instance
            if name not in known
        ]
    words = _WORDS.get(keyword)
    return [{"pointer": _pointer(path), "message": words(wanted) if words else f"breaks {keyword}"}]
