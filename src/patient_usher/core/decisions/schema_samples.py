"""Made-up values that fit a JSON Schema, a matcher or a path template: as small as they can be."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice
from typing import Any

from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.regex import searcher
from patient_usher.core.model.schemas import deref
from patient_usher.core.model.templates import Template

Request = JsonObject

MADE_UP = "made-up"
_FORMATS = {
    "date": "2031-05-01",
    "date-time": "2031-05-01T08:00:00Z",
    "time": "08:00:00Z",
    "email": "maren@boaters.example",
    "uri": "https://boaters.example/",
    "hostname": "boaters.example",
    "ipv4": "192.0.2.1",
    "ipv6": "2001:db8::1",
    "uuid": "00000000-0000-4000-8000-000000000000",
}
_DEEPEST = 12
_LARGEST, _LONGEST = 2_000, 100
"""How deep and how large what is made may be, and how many items a list may have."""


def sample(schema: Json, root: Json = None) -> Json:
    """A value that fits a JSON Schema, as far as its commonest keywords say (JSON Schema 2020-12, Validation).

    References lead into ``root``, the schema itself where that is left out.
    """
    left = _LARGEST
    whole = schema if root is None else root

    def made(schema: Json, depth: int) -> Json:
        nonlocal left
        left -= 1
        schema = deref(whole, schema)
        if not isinstance(schema, dict) or depth > _DEEPEST or left < 0:
            return MADE_UP
        for key in ("const", "default"):
            if key in schema:
                return schema[key]
        for key in ("enum", "examples"):
            if isinstance(schema.get(key), list) and schema[key]:
                return schema[key][0]
        for key in ("allOf", "anyOf", "oneOf"):
            found = [part for one in _listed(schema.get(key)) if isinstance(part := deref(whole, one), dict)]
            parts = list({id(part): part for part in found}.values())[:_LONGEST]  # what is named twice says no more
            if parts:
                others = {name: value for name, value in schema.items() if name != key}
                return made(_merged([others, *(parts if key == "allOf" else parts[:1])]), depth + 1)
        kind = schema.get("type")
        kind = kind[0] if isinstance(kind, list) and kind else kind
        if kind == "object" or (kind is None and ("properties" in schema or "required" in schema)):
            properties = schema.get("properties")
            known = properties if isinstance(properties, dict) else {}
            return {str(name): made(known.get(name), depth + 1) for name in _listed(schema.get("required"))}
        if kind == "array":
            least = schema.get("minItems")
            each = made(schema.get("items"), depth + 1) if least else None
            most = min(_LONGEST, max(_LARGEST // _size(each), 1))  # lists of lists would multiply
            return [each] * (min(least, most) if isinstance(least, int) else 0)
        if kind in ("integer", "number"):
            return _number(schema)
        if kind in ("boolean", "null"):
            return True if kind == "boolean" else None
        return _text(schema)

    return made(schema, 0)


MOST_BROKEN = 40
"""How many values that break one keyword each are made of one schema."""


def broken(schema: Json) -> Iterator[Json]:
    """Members that break one keyword of a schema each, laid over a value that fits; null leaves a member out."""
    return islice(_broken(schema, deref(schema, schema), 0), MOST_BROKEN)


def _broken(root: Json, schema: Json, depth: int) -> Iterator[Json]:
    if not isinstance(schema, dict) or depth > _DEEPEST:
        return
    for name in _listed(schema.get("required")):
        yield {str(name): None}
    if schema.get("additionalProperties") is False:
        yield {"made-up-member": MADE_UP}
    properties = schema.get("properties")
    for name, part in properties.items() if isinstance(properties, dict) else ():
        inner = deref(root, part)
        if isinstance(inner, dict):
            yield from ({name: value} for value in _unfit(inner))
            yield from ({name: value} for value in _broken(root, inner, depth + 1))


def _unfit(schema: JsonObject) -> Iterator[Json]:
    """Values that break the keywords of a schema for one value, one each."""
    asked = schema.get("type")
    kinds = asked if isinstance(asked, list) else [asked]
    if asked is not None:
        yield 7 if not {"integer", "number"} & {*map(str, kinds)} else MADE_UP
    if "enum" in schema or "const" in schema:
        yield f"not-{MADE_UP}"
    for keyword, step in (("minimum", -1), ("exclusiveMinimum", 0), ("maximum", 1), ("exclusiveMaximum", 0)):
        bound = schema.get(keyword)
        if isinstance(bound, int | float) and not isinstance(bound, bool):
            yield bound + step
    if isinstance(least := schema.get("minLength"), int) and least > 0:
        yield "x" * min(least - 1, _LARGEST)
    if isinstance(most := schema.get("maxLength"), int) and most < _LARGEST:
        yield "x" * (most + 1)
    if isinstance(schema.get("pattern"), str) and (text := misfit(schema, schema)) is not None:
        yield text
    if isinstance(least := schema.get("minItems"), int) and least > 0:
        yield []
    if isinstance(most := schema.get("maxItems"), int) and most < _LONGEST:
        yield [sample(schema.get("items"))] * (most + 1)


def misfit(schema: Json, root: Json) -> str | None:
    """A text of a parameter that its schema refuses; None where any will do, or none is found. ``root`` as above."""
    schema = deref(root, schema)
    if not isinstance(schema, dict):
        return None
    kind = schema.get("type")
    if kind == "array":
        return misfit(schema.get("items"), root)
    if kind in ("integer", "number", "boolean", "null") or "enum" in schema or "const" in schema or "format" in schema:
        return MADE_UP
    if kind != "string":
        return None
    if isinstance(pattern := schema.get("pattern"), str):
        try:
            fits = searcher(pattern)
        except ValueError:
            return None
        return next((text for text in (MADE_UP, "-", "7") if not fits(text)), None)
    most, least = schema.get("maxLength"), schema.get("minLength")
    if isinstance(most, int) and most < _LARGEST:
        return "x" * (most + 1)
    return "x" if isinstance(least, int) and least > 1 else None


def _size(value: Json) -> int:
    """How many values there are in one."""
    below = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return 1 + sum(map(_size, below))


def _listed(value: Json) -> list[Json]:
    return value if isinstance(value, list) else []


def _merged(parts: list[JsonObject]) -> JsonObject:
    merged: JsonObject = {}
    for part in parts:
        for key, value in part.items():
            own = merged.get(key)
            if isinstance(own, dict) and isinstance(value, dict):
                merged[key] = {**own, **value}
            else:
                merged[key] = [*own, *value] if isinstance(own, list) and isinstance(value, list) else value
    return merged


def _number(schema: JsonObject) -> Json:
    least, most = (
        next((found for key in keys if type(found := schema.get(key)) in (int, float)), None)
        for keys in (("minimum", "exclusiveMinimum"), ("maximum", "exclusiveMaximum"))
    )
    if least is not None:
        return least + 1 if "exclusiveMinimum" in schema else least
    if most is not None:
        return most - 1 if "exclusiveMaximum" in schema else most
    return schema.get("multipleOf", 1)


def _text(schema: JsonObject) -> str:
    pattern = schema.get("pattern")
    if isinstance(pattern, str):
        return text_for_pattern(pattern)
    text = _FORMATS.get(str(schema.get("format")), MADE_UP)
    least, most = schema.get("minLength"), schema.get("maxLength")
    text = text + "x" * (min(least, 10_000) - len(text) if isinstance(least, int) else 0)
    return text[:most] if isinstance(most, int) else text


def text_for_pattern(pattern: str) -> str:
    """A text that fits a plain pattern: classes, literals and counts. Of any other, the pattern itself is tried."""
    import re

    try:
        from re import _parser  # type: ignore[attr-defined]  # the language's own reader of patterns

        text = _walked(_parser.parse(pattern))
    except Exception:
        return pattern
    return text if re.search(pattern, text) else pattern


def _walked(parts: Any) -> str:
    found = ""
    for name, argument in parts:
        word = str(name)
        if word == "LITERAL":
            found += chr(argument)
        elif word == "IN":
            found += _member(argument)
        elif word in ("MAX_REPEAT", "MIN_REPEAT"):
            least, _, inner = argument
            found += _walked(inner) * min(least, 100)
        elif word == "SUBPATTERN":
            found += _walked(argument[-1])
        elif word == "BRANCH":
            found += _walked(argument[1][0])
        elif word == "ANY":
            found += "a"
        elif word == "NOT_LITERAL":
            found += "b" if argument == ord("a") else "a"
    return found


def _member(choices: Any) -> str:
    for name, argument in choices:
        word = str(name)
        if word == "LITERAL":
            return chr(argument)
        if word == "RANGE":
            return chr(argument[0])
        if word == "CATEGORY":
            return {"CATEGORY_DIGIT": "1", "CATEGORY_SPACE": " "}.get(str(argument), "a")
    return "a"


def path_of(template: Template, values: dict[str, str]) -> str:
    """A path that fits a template; what ``values`` doesn't name is 1."""
    from urllib.parse import quote

    parts = [text if sort == "literal" else values.get(text, "1") for sort, text in template.segments]
    return "/" + "/".join(quote(part, safe="") for part in parts)


def as_pattern(template: Template) -> str:
    """The path pattern that fits a template's paths."""
    stars = {"parameter": "*", "tail": "**"}
    return "/" + "/".join(stars.get(sort, text) for sort, text in template.segments)
