"""Values that are filled into what a file says."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import make_pipeline, replay
from patient_usher.core.http.messages import json_bytes
from patient_usher.core.model.values import fill, json_filler

LEAVES = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(),
    st.floats(allow_nan=False, allow_infinity=False),
    st.text(),
    st.sampled_from(
        ["${path.a}", "${path.b}", "of ${path.a} and ${path.b}", "$${path.a}", 'a "${path.b}" \\ in quotes']
    ),
)
TREES = st.recursive(LEAVES, lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner), max_leaves=12)
FOUND = st.one_of(
    st.text(), st.integers(), st.none(), st.booleans(), st.lists(st.text()), st.dictionaries(st.text(), st.integers())
)


class Holder:
    def __init__(self, values: dict[str, Any]) -> None:
        self.path_values = values


@given(TREES, FOUND, FOUND)
def test_json_that_is_made_ready_is_what_filling_and_writing_gives(tree: Any, a: Any, b: Any) -> None:
    x: Any = Holder({"a": a, "b": b})
    live, prepared = fill(tree)
    written: Any = json_filler(tree)
    assert (written(x) if live else written) == json_bytes(prepared(x) if live else prepared)


@pytest.mark.parametrize(
    ("json", "body"),
    [
        ({"a": "$${path.a}"}, '{"a": "${path.a}"}'),
        ({"a": "$${path.a}", "b": "${query.b}"}, '{"a": "${path.a}", "b": "1"}'),
        (["$${x}", [], {}], '["${x}", [], {}]'),
        ({"b": ["${query.b}", "${query.none}"], "é": {}}, '{"b": ["1", null], "é": {}}'),
    ],
)
def test_two_dollars_stand_for_themselves_wherever_they_are(json: Any, body: str) -> None:
    pipeline = make_pipeline(
        [], routes=[{"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": {"json": json}}}]
    )
    assert replay(pipeline, {"send": "GET /?b=1"})[0]["response"]["body"] == body
