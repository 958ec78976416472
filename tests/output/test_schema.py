"""Schemas held against what loads: files of the demo with one thing changed at random, and what editors show."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable, Iterator
from copy import deepcopy
from pathlib import Path
from random import Random
from typing import Any

import pytest
from jsonschema import Draft202012Validator
from pydantic import ValidationError

from conftest import DEMO, Outcome
from patient_usher.core.model.document import Unusable
from patient_usher.core.model.trace import TraceSpec
from patient_usher.core.stages import kinds
from patient_usher.files.pipeline import load_pipeline
from patient_usher.files.yaml_reader import parse
from patient_usher.output.schema import pipeline_schema, trace_schema

Usher = Callable[..., Outcome]
VALUES: list[Any] = [
    True, False, 0, 1, -1, 3, 1.5, "", "a", "30s", "5m", "1MiB", "never", "everyone", "GET /a", "/x", "400", "4xx", [], ["a"],
    [1], {}, {"a": 1}, {"status": 200}, "nested", "browser", "*", "https://a.example", "a b", "${body.a}", "X-A", [["a"]],
    {"equals": "a"}, 1e9, "1h 30m", ".5s",
]  # fmt: skip
NOT_OF_FILES = {"outcome", "patient-usher"}
"""What is held against a pipeline, or said by the file's mark."""


def places(node: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    for key in node if isinstance(node, dict) else range(len(node)) if isinstance(node, list) else ():
        yield (*path, key)
        yield from places(node[key], (*path, key))


def changed(random: Random, doc: Any) -> tuple[Any, tuple[Any, ...]]:
    """The document with a value, a key or a whole part changed; and where."""
    doc = deepcopy(doc)
    every = list(places(doc))
    path = random.choice(every)
    holder, last = doc, path[-1]
    for key in path[:-1]:
        holder = holder[key]
    sort = random.random()
    if sort < 0.55:
        holder[last] = random.choice(VALUES)
    elif sort < 0.7:
        del holder[last]
    elif sort < 0.85 and isinstance(holder, dict):
        holder[f"{last}x"] = holder.pop(last)
    else:
        other = doc
        for key in random.choice(every):
            other = other[key]
        holder[last] = deepcopy(other)
    return doc, path


def of_demo(*, traces: bool) -> list[Any]:
    found = [json.loads(json.dumps(parse(path.read_text(), path.name))) for path in sorted(DEMO.glob("*.yaml"))]
    return [doc for doc in found if ("requests" in doc) is traces]


@pytest.mark.parametrize("traces", [False, True], ids=["pipelines", "traces"])
def test_an_editor_finds_no_fault_in_what_loads(tmp_path: Path, traces: bool) -> None:
    docs = of_demo(traces=traces)
    for path in DEMO.iterdir():
        if path.is_file():
            shutil.copy(path, tmp_path)
    editor = Draft202012Validator(trace_schema() if traces else pipeline_schema())
    loaded = 0
    for seed in range(300):
        random = Random(seed)
        doc, place = changed(random, random.choice(docs))
        (tmp_path / "p.yaml").write_text(json.dumps(doc))
        try:
            TraceSpec.model_validate(doc) if traces else load_pipeline(tmp_path / "p.yaml")
        except (Unusable, ValidationError):
            continue
        if not NOT_OF_FILES & set(place):
            assert editor.is_valid(doc), (place, next(editor.iter_errors(doc)).message)
            loaded += 1
    assert loaded > 30


MISTAKES: list[dict[str, Any]] = [
    {"stages": ["cors"]},
    {"stages": [{"kind": "decide", "cases": [{"then": {"anwser": {"status": 200}}}]}]},
    {"stages": [{"kind": "decide", "cases": [{"then": {"answer": {"sttus": 200}}}]}]},
    {"like": "p.yaml", "stages": {"browsers": {"alow-origins": ["*"]}}},
    {"environments": {"development": {"stages": {"net": {"reveel": "everything"}}}}},
    {"environments": {"development": {"stagse": {}}}},
    {"like": "p.yaml", "groups": {"v1": {"prefx": "/v2"}}},
    {"like": "p.yaml", "routes": {"tides": {"acces": "everyone"}}},
]


@pytest.mark.parametrize("doc", MISTAKES)
def test_an_editor_finds_what_is_misspelled(doc: dict[str, Any]) -> None:
    assert not Draft202012Validator(pipeline_schema()).is_valid({"patient-usher": "pipeline/1", **doc})


def test_an_editor_offers_every_kind_and_says_what_it_does() -> None:
    definitions = pipeline_schema()["$defs"]
    named = definitions["stage"]["properties"]["kind"]["anyOf"]
    assert [one["const"] for one in named] == list(kinds())
    assert all(len(one["description"]) > 10 for one in named)
    assert definitions["stage-cors"]["properties"]["kind"]["description"].startswith("answers preflights")
    for schema in (pipeline_schema(), trace_schema()):
        names = schema["$defs"].keys() | {part["title"] for part in schema["$defs"].values() if "title" in part}
        assert not [name for name in names if not name.islower()]
    assert {"handler", "route", "session-cookie"} <= definitions.keys()
