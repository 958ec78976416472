"""Schemas of descriptions at random, held against validators of the OpenAPI dialects; parameters in their styles."""

from __future__ import annotations

import json
from collections.abc import Callable
from random import Random
from typing import Any

import pytest
from openapi_schema_validator import OAS30WriteValidator, OAS31Validator

from conftest import Outcome
from patient_usher.core.model.schemas import compiled_schema
from patient_usher.files.openapi_description import Description

Usher = Callable[..., Outcome]
Schema = dict[str, Any]
VALUES: list[Any] = [
    None, True, False, 0, 1, 2, 5, -1, 1.5, 10, "", "a", "ab", "abc", "red", [], [1], [1, 1], ["a"], [None], {}, {"a": 1},
    {"a": "x", "b": 2}, {"a": None}, {"b": None, "c": [1]}, {"id": 1, "a": 1}, {"id": None},
]  # fmt: skip
BESIDE: list[Schema] = [{"minLength": 2}, {"type": "string"}, {"required": ["a"]}, {"description": "x"}, {"maximum": 1}]
MORE: dict[str, list[Schema]] = {
    "string": [{"minLength": 2}, {"maxLength": 2}, {"pattern": "^a"}, {}],
    "integer": [{"minimum": 1}, {"maximum": 5}, {"multipleOf": 2}, {"enum": [1, 2]}, {}],
    "array": [{"minItems": 1}, {"maxItems": 1}, {"uniqueItems": True}, {}],
    "object": [{"required": ["a"]}, {"required": ["id", "b"]}, {"additionalProperties": False}, {"additionalProperties": {"type": "integer"}}, {"minProperties": 1}, {}],
}  # fmt: skip


def schema_of(random: Random, depth: int, version: str, names: list[str]) -> Schema:
    if names and random.random() < 0.12:
        beside = random.choice(BESIDE) if version == "3.1" and random.random() < 0.4 else {}  # nothing counts in 3.0
        return {"$ref": f"#/components/schemas/{random.choice(names)}", **beside}
    if depth and random.random() < 0.4:
        word = random.choice(["allOf", "anyOf", "oneOf", "not"])
        below = [schema_of(random, depth - 1, version, names) for _ in range(random.randrange(1, 3))]
        return {word: below[0] if word == "not" else below, **({"nullable": True} if random.random() < 0.2 else {})}
    kind = random.choice(["string", "integer", "number", "boolean", "array", "object"])
    made: Schema = {"type": kind, **random.choice(MORE.get("integer" if kind == "number" else kind, [{}]))}
    if kind in ("integer", "number") and random.random() < 0.5:
        key = random.choice(["exclusiveMinimum", "exclusiveMaximum"])
        made[key] = random.choice([True, False]) if version == "3.0" else random.choice([1, 2])
    if kind == "array":
        made["items"] = schema_of(random, max(depth - 1, 0), version, names) if depth else {}
    if kind == "object" and depth:
        members = random.sample(["a", "b", "id"], random.randrange(3))
        made["properties"] = {name: schema_of(random, depth - 1, version, names) for name in members}
    if random.random() < 0.1:
        del made["type"]
    if version == "3.0" and "enum" not in made and random.random() < 0.25:
        made["nullable"] = random.choice([True, True, False])
    if version == "3.1" and "type" in made and random.random() < 0.2:
        made["type"] = [kind, "null"]
    return made


@pytest.mark.parametrize(("version", "validator"), [("3.0", OAS30WriteValidator), ("3.1", OAS31Validator)])
def test_what_fits_a_schema_is_what_the_dialect_says(version: str, validator: Any) -> None:
    for seed in range(250):
        random = Random(f"{version} {seed}")
        named = {name: schema_of(random, 1, version, []) for name in ("S", "T")}
        if random.random() < 0.2:
            named["S"] = {"type": "object", "properties": {"a": {"$ref": "#/components/schemas/S"}}}
        schema = schema_of(random, 3, version, list(named))
        doc = {"openapi": f"{version}.0", "components": {"schemas": named}}
        ours = compiled_schema(Description(doc).schema({"schema": schema}))
        theirs = validator({"allOf": [schema], "components": doc["components"]})
        for value in VALUES:
            assert (not list(ours.iter_errors(value))) == theirs.is_valid(value), (value, schema, named)


READ_ONLY: list[tuple[Schema, list[str] | None]] = [
    ({"type": "object", "required": ["id", "name"], "properties": {"id": {"readOnly": True}, "name": {}}}, ["name"]),
    ({"type": "object", "required": ["id"], "properties": {"id": {"$ref": "#/components/schemas/Id"}}}, None),
    ({"type": "object", "required": ["id"], "properties": {"id": {"writeOnly": True}}}, ["id"]),
]


@pytest.mark.parametrize(("schema", "required"), READ_ONLY)
def test_what_only_answers_hold_need_not_be_sent(schema: Schema, required: list[str] | None) -> None:
    doc = {"openapi": "3.0.0", "components": {"schemas": {"Id": {"type": "integer", "readOnly": True}}}}
    made = Description(doc).schema({"schema": schema})
    assert isinstance(made, dict)
    assert made.get("required") == required


def test_what_stands_in_an_older_dialect_is_put_into_the_newest() -> None:
    schema = {
        "$schema": "http://json-schema.org/draft-04/schema#",
        "type": "number",
        "minimum": 10,
        "exclusiveMinimum": True,
    }
    assert Description({"openapi": "3.1.0"}).schema({"schema": schema}) == {"type": "number", "exclusiveMinimum": 10}


def test_what_a_description_asks_for_is_not_hidden(usher: Usher) -> None:
    """Names that look like secrets, of schemas, of members and of ways to sign in, change nothing of what is asked."""
    long = "AVeryLongNameOfASchema7f3a9c21d4e8b6059f1c"
    schema = {
        "type": "object",
        "required": ["secret_mode"],
        "properties": {
            "secret_mode": {"enum": ["open", "shut"], "default": "shut"},
            "token": {
                "type": "string",
                "pattern": "^[A-Za-z0-9_-]{20,40}[.][0-9a-f]{8}$",
                "example": "a-made-up-token-1",
            },
            "inner": {"$ref": f"#/components/schemas/{long}"},
        },
    }
    either = [{"key": []}, {"basic": []}]
    operation = {
        "security": either,
        "requestBody": {
            "required": True,
            "content": {"application/json": {"schema": {"$ref": f"#/components/schemas/{long}"}}},
        },
        "responses": {"204": {"description": "ok"}},
    }
    schemes = {"key": {"type": "apiKey", "in": "header", "name": "X-Key"}, "basic": {"type": "http", "scheme": "basic"}}
    doc = {"openapi": "3.1.0", "info": {"title": "Berths", "version": "1"}, "paths": {"/a": {"post": operation}, "/b": {"get": {"security": [{"key": []}], "responses": {"204": {"description": "ok"}}}}}, "components": {"schemas": {long: schema}, "securitySchemes": schemes}}  # fmt: skip
    made = usher("import", "d.json", "--into", "p.yaml", d__json=json.dumps(doc))
    assert (made.status, "hidden: 1 token" in made.out) == (0, True), made.out
    bodies = [
        {"secret_mode": "open"},
        {"secret_mode": "open", "inner": {"secret_mode": "x"}},
        {"secret_mode": "open", "token": "x"},
    ]
    requests = [
        {
            "id": f"r{at}",
            "send": "POST /a",
            "sign": {"api-key": "somebody"},
            "json": body,
            "expect": {"status": 204 if at == 0 else 422},
        }
        for at, body in enumerate(bodies)
    ]
    done = usher("replay", "p.yaml", "t.json", t__json=json.dumps({"patient-usher": "trace/1", "requests": requests}))
    assert done.status == 0, (done.out, done.err)


def param(name: str, place: str, schema: Schema, **more: Any) -> Schema:
    return {"name": name, "in": place, "schema": schema, **more}


INTEGERS: Schema = {"type": "array", "items": {"type": "integer"}}
WORDS: Schema = {"type": "array", "items": {"enum": ["a", "b"]}, "minItems": 2, "maxItems": 3}
OBJECT: Schema = {"type": "object", "required": ["n"], "properties": {"n": {"type": "integer"}}}
OPTIONAL = {"content": {"application/json": {"schema": OBJECT}}}
SENT: list[tuple[list[Schema], Schema | None, dict[str, Any], int]] = [
    ([param("n", "query", INTEGERS)], None, {"send": "GET /a?n=1&n=2"}, 200),
    ([param("n", "query", INTEGERS)], None, {"send": "GET /a?n=1,2"}, 422),
    ([param("n", "query", INTEGERS, explode=False)], None, {"send": "GET /a?n=1,2"}, 200),
    ([param("n", "query", INTEGERS, explode=False)], None, {"send": "GET /a?n=1,x"}, 422),
    ([param("n", "query", INTEGERS, style="pipeDelimited", explode=False)], None, {"send": "GET /a?n=1%7C2"}, 200),
    ([param("n", "query", INTEGERS, style="spaceDelimited", explode=False)], None, {"send": "GET /a?n=1%202"}, 200),
    ([param("n", "query", WORDS, explode=False)], None, {"send": "GET /a?n=a,b,a"}, 200),
    ([param("n", "query", WORDS, explode=False)], None, {"send": "GET /a?n=a"}, 422),
    ([param("n", "query", WORDS, explode=False)], None, {"send": "GET /a?n=a,b,a,b"}, 422),
    ([param("X-N", "header", INTEGERS)], None, {"send": "GET /a", "headers": {"X-N": "1, 2"}}, 200),
    ([param("X-N", "header", INTEGERS)], None, {"send": "GET /a", "headers": {"X-N": "1, b"}}, 422),
    ([param("o", "query", OBJECT, style="deepObject", required=True)], None, {"send": "GET /a?o[n]=1"}, 200),
    ([param("o", "query", OBJECT, required=True)], None, {"send": "GET /a?n=1"}, 200),
    ([], OPTIONAL, {"send": "POST /a"}, 200),
    ([], OPTIONAL, {"send": "POST /a", "json": {"n": 1}}, 200),
    ([], OPTIONAL, {"send": "POST /a", "json": {}}, 422),
    ([], OPTIONAL, {"send": "POST /a", "form": {"n": "1"}}, 422),
    ([], {**OPTIONAL, "required": True}, {"send": "POST /a"}, 422),
]


@pytest.mark.parametrize(("parameters", "body", "request_", "status"), SENT)
def test_what_a_description_takes_is_taken(
    usher: Usher, tmp_path: Any, parameters: list[Schema], body: Schema | None, request_: dict[str, Any], status: int
) -> None:
    operation = {"parameters": parameters, "responses": {"200": {"description": "ok"}}}
    method = request_["send"].partition(" ")[0].lower()
    path = {method: {**operation, **({"requestBody": body} if body is not None else {})}}
    doc = {"openapi": "3.1.0", "info": {"title": "Berths", "version": "1"}, "paths": {"/a": path}}
    trace = {"patient-usher": "trace/1", "requests": [{"id": "a", "expect": {"status": status}, **request_}]}
    made = usher("import", "d.json", "--into", "p.yaml", d__json=json.dumps(doc))
    assert made.status == 0, made.err
    done = usher("replay", "p.yaml", "t.json", t__json=json.dumps(trace))
    assert done.status == 0, done.out


def test_paths_with_lists_in_them(usher: Usher) -> None:
    operation = {
        "parameters": [param("ids", "path", INTEGERS, required=True)],
        "responses": {"200": {"description": "ok"}},
    }
    doc = {"openapi": "3.1.0", "info": {"title": "Berths", "version": "1"}, "paths": {"/b/{ids}": {"get": operation}}}
    assert usher("import", "d.json", "--into", "p.yaml", d__json=json.dumps(doc)).status == 0
    requests = [
        {"id": f"r{status}-{len(text)}", "send": f"GET /b/{text}", "expect": {"status": status}}
        for text, status in (("1,2", 200), ("7", 200), ("x", 422))
    ]
    done = usher("replay", "p.yaml", "t.json", t__json=json.dumps({"patient-usher": "trace/1", "requests": requests}))
    assert done.status == 0, done.out
