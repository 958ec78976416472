"""JSON Schemas of inputs: checked when a pipeline is loaded, compiled once, described without values."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import cache
from typing import Any

from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.regex import searcher

Path = tuple[str | int, ...]


def schema_problems(schema: Json) -> Iterator[tuple[Path, str, str]]:
    """What is wrong with a schema: where in it, what, and the mend. Nothing is fetched to find out."""
    if _plainly_sound(schema):
        return
    from jsonschema import FormatChecker
    from jsonschema.exceptions import SchemaError

    try:
        _dialect(schema).check_schema(schema, format_checker=FormatChecker([]))  # patterns are of another dialect
    except SchemaError as error:
        yield tuple(error.absolute_path), f"this is no JSON Schema: {error.message[:200]}", "mend it"
        return
    except (RecursionError, OverflowError, ValueError) as error:
        yield (), f"this schema can't be read: {error}", "mend it"
        return
    text = ""
    for path, node in _nodes(schema):
        for key in ("$ref", "$dynamicRef"):
            if isinstance(ref := node.get(key), str):
                yield from _ref_problems(schema, (*path, key), ref)
        if "unevaluatedProperties" in node and '"patternProperties"' in (text := text or _dumped(schema)):
            what = "unevaluatedProperties beside patternProperties can't be checked in time that is linear"
            yield (*path, "unevaluatedProperties"), what, "write additionalProperties where the patterns stand"
        patterns = [(("pattern",), node.get("pattern"))] + [
            (("patternProperties", key), key) for key in node.get("patternProperties") or ()
        ]
        for below, pattern in patterns:
            if isinstance(pattern, str):
                try:
                    searcher(pattern)
                except ValueError as error:
                    what, _, mend = str(error).partition("; ")
                    yield (*path, *below), what, mend


def _whole(value: Json) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and value >= 0


def _number(value: Json) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def _names(value: Json) -> bool:
    return isinstance(value, list) and all(isinstance(name, str) for name in value) and len({*value}) == len(value)


def _type(value: Json) -> bool:
    return value in _TYPES if isinstance(value, str) else _names(value) and bool(value) and {*value} <= _TYPES


def _schemas(value: Json) -> bool:
    return isinstance(value, dict) and all(_plainly_sound(below) for below in value.values())


_TYPES = {"array", "boolean", "integer", "null", "number", "object", "string"}
_PLAIN: dict[str, Callable[[Json], bool]] = {
    "type": _type,
    "properties": _schemas,
    "items": lambda value: _plainly_sound(value),
    "additionalProperties": lambda value: _plainly_sound(value),
    "required": _names,
    "enum": lambda value: isinstance(value, list),
    **dict.fromkeys(("const", "default"), lambda value: True),
    **dict.fromkeys(("minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum"), _number),
    **dict.fromkeys(("minLength", "maxLength", "minItems", "maxItems", "minProperties", "maxProperties"), _whole),
    **dict.fromkeys(("title", "description", "format"), lambda value: isinstance(value, str)),
    "uniqueItems": lambda value: isinstance(value, bool),
}
"""Keywords that every dialect from 2019-09 on reads alike, and whether a value of theirs is sound."""


def _plainly_sound(schema: Json) -> bool:
    """Whether a schema is sound at a glance, as most are; where not, it may be all the same."""
    if not isinstance(schema, dict):
        return isinstance(schema, bool)
    return all(key in _PLAIN and _PLAIN[key](value) for key, value in schema.items())


def _dumped(schema: Json) -> str:
    import json

    return json.dumps(schema, default=str)


def _nodes(schema: Json) -> Iterator[tuple[Path, JsonObject]]:
    """Every mapping of a schema, with its path."""
    pending: list[tuple[Path, object]] = [((), schema)]
    while pending:
        path, node = pending.pop()
        if isinstance(node, dict):
            yield path, node
            pending += [((*path, key), value) for key, value in node.items() if key not in ("enum", "const", "default")]
        elif isinstance(node, list):
            pending += [((*path, at), value) for at, value in enumerate(node)]


def _ref_problems(schema: Json, path: Path, ref: str) -> Iterator[tuple[Path, str, str]]:
    if not ref.startswith("#"):
        yield path, f"the reference '{ref[:80]}' leads out of the file; nothing is fetched", "write it under $defs"
        return
    seen: list[str] = []
    while isinstance(ref, str):
        if ref in seen:
            yield path, f"the reference '{ref}' leads back to itself", "let it lead to a schema"
            return
        seen.append(ref)
        try:
            node = _resolve(schema, ref)
        except LookupError:
            yield path, f"the reference '{ref[:80]}' leads nowhere", "name what stands under $defs"
            return
        ref = node.get("$ref") if isinstance(node, dict) and ref.startswith("#") else None  # type: ignore[assignment]


def _resolve(schema: Json, ref: str) -> Json:
    """What a reference within the schema names. Raises LookupError."""
    from urllib.parse import unquote

    if ref == "#":
        return schema
    if not ref.startswith("#/"):
        for _, node in _nodes(schema):
            if ref[1:] in (node.get("$anchor"), node.get("$dynamicAnchor")):
                return node
        raise LookupError(ref)
    node = schema
    for raw in unquote(ref[2:]).split("/"):
        part = raw.replace("~1", "/").replace("~0", "~")
        if isinstance(node, dict) and part in node:
            node = node[part]
        elif isinstance(node, list) and part.isdecimal() and int(part) < len(node):
            node = node[int(part)]
        else:
            raise LookupError(ref)
    return node


def _dialect(schema: Json) -> Json:
    """The validator of the dialect that ``$schema`` names; of the newest where it names none that is known."""
    from jsonschema import Draft202012Validator
    from jsonschema.validators import validator_for

    return validator_for(schema, default=Draft202012Validator)


def compiled_schema(schema: Json) -> Compiled:
    """What validates values against a schema: ``format`` asserts, patterns are linear, nothing is fetched."""
    from referencing import Registry

    from patient_usher.core.model.formats import format_checker  # most pipelines have no schema

    base = _dialect(schema)
    made, left = _validating(base)
    return Compiled(made(schema, registry=Registry(), format_checker=format_checker()), left)


@cache
def _validating(base: Any) -> tuple[Any, list[int]]:
    """What validates in a dialect, our way, and how many references it may still follow."""
    from jsonschema import ValidationError, validators

    def pattern(validator: Any, wanted: str, instance: Json, schema: Json) -> Iterator[Any]:
        if validator.is_type(instance, "string") and not searcher(wanted)(instance):
            yield ValidationError("does not match")

    def pattern_properties(validator: Any, wanted: JsonObject, instance: Json, schema: Json) -> Iterator[Any]:
        if not validator.is_type(instance, "object"):
            return
        for key, below in wanted.items():
            found = searcher(key)
            for name, value in instance.items():
                if found(name):
                    yield from validator.descend(value, below, path=name, schema_path=key)

    def additional(validator: Any, wanted: Json, instance: Json, schema: Json) -> Iterator[Any]:
        if not validator.is_type(instance, "object"):
            return
        extras = unknown_members(schema, instance)
        if wanted is False and extras:
            yield ValidationError("more members than there may be")
        for name in extras if isinstance(wanted, dict) else ():
            yield from validator.descend(instance[name], wanted, path=name)

    def multiple(validator: Any, wanted: Any, instance: Any, schema: Json) -> Iterator[Any]:
        if validator.is_type(instance, "number") and not is_multiple(instance, wanted):
            yield ValidationError("is no multiple")

    def unique(validator: Any, wanted: Json, instance: Json, schema: Json) -> Iterator[Any]:
        items = {_canonical(one) for one in instance} if validator.is_type(instance, "array") else ()
        if wanted and items and len(items) < len(instance):
            yield ValidationError("has an item twice")

    def counted(keyword: str) -> object:
        plain = base.VALIDATORS.get(keyword)

        def followed(validator: object, wanted: Json, instance: Json, schema: Json) -> Iterator[object]:
            left[0] -= 1
            if left[0] < 0:
                raise _TooInvolved
            yield from plain(validator, wanted, instance, schema)

        return followed

    left = [0]
    extended: JsonObject = {
        "pattern": pattern,
        "patternProperties": pattern_properties,
        "additionalProperties": additional,
        "uniqueItems": unique,
        "multipleOf": multiple,
        **{keyword: counted(keyword) for keyword in _BRANCHING if keyword in base.VALIDATORS},
    }
    return validators.extend(base, extended), left  # type: ignore[no-untyped-call]


_BRANCHING = ("$ref", "$dynamicRef", "allOf", "anyOf", "oneOf", "not", "if")
"""Keywords that lead to further schemas of the same value: these could double at every step."""


def is_multiple(value: float, step: float) -> bool:
    """Whether a number is a multiple of another, both as they are written: 19.99 is one of 0.01 (RFC 8259 6)."""
    from fractions import Fraction

    return Fraction(str(value)) % Fraction(str(step)) == 0


MOST_REFERENCES, MOST_A_PART = 2_000, 40
"""How often one value may lead from schema to schema, at least, and for each part of it: some lead on without end."""


class _TooInvolved(Exception):
    """A schema leads to further ones without end, or nearly so."""


class Compiled:
    """What validates values against a schema, each within bounds."""

    def __init__(self, validator: Any, left: list[int]) -> None:
        self._validator, self._left = validator, left

    def iter_errors(self, value: Json) -> list[object]:
        """What is wrong with a value."""
        from jsonschema import ValidationError

        for most in (MOST_REFERENCES, MOST_A_PART * _parts(value)):
            self._left[0] = most
            try:
                return [*self._validator.iter_errors(value)]
            except _TooInvolved:
                continue
        return [ValidationError("is too involved to be checked")]


def _parts(value: Json) -> int:
    """Of how many values a value is made, itself among them."""
    count, pending = 0, [value]
    while pending:
        node = pending.pop()
        count += 1
        if isinstance(node, dict | list):
            pending += node.values() if isinstance(node, dict) else node
    return count


def _canonical(value: Json) -> object:
    """A value as one that can be looked up; equal where JSON Schema takes them for equal (2020-12, 4.2.2)."""
    if isinstance(value, dict):
        return "object", frozenset((key, _canonical(part)) for key, part in value.items())
    if isinstance(value, list):
        return "array", tuple(map(_canonical, value))
    return ("truth", value) if isinstance(value, bool) else value


def unknown_members(schema: JsonObject, instance: JsonObject) -> list[str]:
    """Members that neither ``properties`` nor ``patternProperties`` of a schema speaks of."""
    known = schema.get("properties", {})
    fits = [searcher(key) for key in schema.get("patternProperties", {})]
    return [name for name in instance if name not in known and not any(found(name) for found in fits)]


def deref(root: Json, schema: Json) -> Json:
    """A schema, or what its reference leads to."""
    for _ in range(20):
        if not (isinstance(schema, dict) and isinstance(schema.get("$ref"), str)):
            return schema
        try:
            schema = _resolve(root, schema["$ref"])
        except LookupError:
            return schema
    return schema


def types_asked(root: Json, schema: Json, depth: int = 0) -> set[str]:
    """Which JSON types a schema may accept, as far as it says: through references and alternatives."""
    schema = deref(root, schema)
    if not isinstance(schema, dict) or depth > 8:
        return set()
    given = schema.get("type", [])
    found = {given} if isinstance(given, str) else {name for name in given if isinstance(name, str)}
    for key in ("anyOf", "oneOf", "allOf"):
        for part in schema.get(key) or ():
            found |= types_asked(root, part, depth + 1)
    for value in [*(schema.get("enum") or ()), *([schema["const"]] if "const" in schema else [])]:
        found.add(_type_of(value))
    return found


def _type_of(value: Json) -> str:
    if value is None or isinstance(value, bool):
        return "null" if value is None else "boolean"
    if isinstance(value, int | float):
        return "integer" if isinstance(value, int) else "number"
    return "string" if isinstance(value, str) else "array" if isinstance(value, list) else "object"
