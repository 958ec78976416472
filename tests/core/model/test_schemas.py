"""Schemas that are sound at a glance are sound when one looks closely, in every dialect."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from jsonschema import Draft201909Validator, Draft202012Validator

from patient_usher.core.model.formats import UNCHECKED
from patient_usher.core.model.schemas import _PLAIN, _plainly_sound, compiled_schema, schema_problems

VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-3, 9) | st.floats(-2, 5) | st.sampled_from(["", "string", "null", "object", "odd"]),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from([*_PLAIN, "$ref", "a"]), inner, max_size=4),
    max_leaves=8,
)  # fmt: skip
RIGHT: dict[str, st.SearchStrategy[Any]] = {
    "type": st.sampled_from(["string", "object", ["integer", "null"], [], ["null", "null"], "odd"]), "required": st.sampled_from([[], ["a"], ["a", "a"], ["a", 1]]),
    "properties": st.dictionaries(st.sampled_from("ab"), st.just({"type": "string"}) | VALUES, max_size=2), "minimum": st.sampled_from([1, 0.5, True, "1"]),
    "maxLength": st.sampled_from([3, -1, 2.0, True]), "enum": st.sampled_from([[], ["a", 1], "a"]), "uniqueItems": st.sampled_from([True, 1]),
}  # fmt: skip
SCHEMAS = st.fixed_dictionaries({}, optional=RIGHT) | VALUES


@settings(max_examples=400, deadline=None)
@given(SCHEMAS)
def test_sound_at_a_glance_is_sound(schema: Any) -> None:
    if _plainly_sound(schema):
        for dialect in (Draft201909Validator, Draft202012Validator):
            dialect.check_schema(schema)


def test_ordinary_schemas_are_sound_at_a_glance() -> None:
    ordinary = {"type": "object", "required": ["a"], "properties": {"a": {"type": "integer", "minimum": 1}, "b": {"type": "array", "items": {"enum": [1, "x"]}}}}  # fmt: skip
    assert _plainly_sound(ordinary)
    assert not any(
        map(_plainly_sound, [{"type": "odd"}, {"required": "a"}, {"properties": {"a": 1}}, {"$ref": "#"}, 3])
    )


def test_two_schemas_of_a_dialect_are_held_apart() -> None:
    whole, text = compiled_schema({"type": "integer"}), compiled_schema({"type": "string", "pattern": "^a"})
    assert [bool(list(one.iter_errors(value))) for one in (whole, text) for value in (1, "a", "b")] == [
        False, True, True, True, False, True,
    ]  # fmt: skip


SUITE = json.loads((Path(__file__).parents[2] / "vectors" / "json-schema-2020-12.json").read_text())
OTHERWISE = {
    "format": "formats are asserted here, which the standard leaves open (2020-12, Validation 7.2.1)",
    "vocabulary": "vocabularies of one's own would have to be fetched",
    "optional/format/ecmascript-regex": "patterns are of a dialect that takes linear time",
    **{f"optional/format/{name}": "isn't checked" for name in UNCHECKED},
}
"""Files of the suite of which some tests end otherwise, and why."""
FETCHED = {"anchor", "defs", "dynamicRef", "ref", "refRemote", "unevaluatedItems", "unevaluatedProperties"}
"""Files with schemas that are refused when they are loaded: their references lead out of the file, or elsewhere by $id."""


@pytest.mark.parametrize("name", [name for name in SUITE if name not in OTHERWISE])
def test_the_public_suite_of_json_schema(name: str) -> None:
    tried, differing = 0, []
    for described, schema, tests in SUITE[name]:
        if refused := list(schema_problems(schema)):
            assert name in FETCHED, (described, refused)
            continue
        validator = compiled_schema(schema)
        tried += len(tests)
        differing += [(described, test) for test in tests if (not validator.iter_errors(test[1])) != test[2]]
    assert (tried > 0 or name in ("defs", "refRemote"), differing) == (True, [])


def test_a_schema_that_doubles_at_every_step_is_too_involved() -> None:
    steps: dict[str, Any] = {f"d{at}": {"allOf": [{"$ref": f"#/$defs/d{at + 1}"}] * 2} for at in range(24)}
    schema = {"$ref": "#/$defs/d0", "$defs": {**steps, "d24": {"type": "integer"}}}
    assert [error.message for error in compiled_schema(schema).iter_errors(1)] == ["is too involved to be checked"]  # type: ignore[attr-defined]
