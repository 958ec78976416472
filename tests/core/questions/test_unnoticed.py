"""Which changes of a pipeline an accepted trace notices: held against changes that another walker of the document makes."""

from __future__ import annotations

import os
import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from ruamel.yaml import YAML

from conftest import DEMO, Outcome, make_pipeline
from patient_usher import RunState, Trace, Unusable, load
from patient_usher.core.questions.unnoticed import seen_of, unnoticed
from patient_usher.core.verify.run import run
from patient_usher.output.result import dump

Usher = Callable[..., Outcome]
ROUTE = {"id": "r", "at": "GET /r", "access": "everyone"}


def changed(doc: Any, chance: random.Random) -> str:
    """Make one value of a document another, in place; what it was."""
    places: list[tuple[Any, Any]] = []

    def walk(node: Any, key: Any = None) -> None:
        for name, value in node.items() if isinstance(node, dict) else enumerate(node):
            if name in (
                "id",
                "kind",
                "patient-usher",
                "name",
                "known",
                "always",
                "environments",
                "environment",
                "like",
                "accounts",
                "signing-keys",
            ):
                continue
            if isinstance(value, dict | list):
                walk(value, name)
            else:
                places.append((node, name))

    walk(doc)
    node, name = chance.choice(places)
    value = node[name]
    if isinstance(value, bool):
        node[name] = not value
    elif isinstance(value, int):
        node[name] = value + chance.choice([2, 3, 7])
    elif isinstance(value, str) and value[:-1].isdigit():
        node[name] = f"{int(value[:-1]) * 3 + 1}{value[-1]}"
    elif isinstance(value, str):
        node[name] = value[::-1] if chance.random() < 0.5 else f"other {value}"
    return f"{name}: {value} -> {node[name]}"


PAIRS = [("boaters", "boaters-story"), ("shelf", "shelf-story")]
if "USHER_LAWS" in os.environ:  # the same of longer stories takes minutes
    PAIRS += [("harbour", "story"), ("quay", "quay-story"), ("limits", "limits-story")]


@pytest.mark.parametrize(("name", "story"), PAIRS)
def test_an_accepted_trace_notices_what_changes_an_answer(usher: Usher, tmp_path: Path, name: str, story: str) -> None:
    yaml = YAML(typ="safe", pure=True)
    trace = yaml.load((DEMO / f"{story}.yaml").read_text())
    for entry in trace["requests"]:
        entry.pop("expect", None)
        entry.pop("expect-in", None)
    source = (DEMO / f"{name}.yaml").read_text()
    for file in DEMO.glob("*.csv"):
        (tmp_path / file.name).write_bytes(file.read_bytes())
    done = usher("accept", "p.yaml", "t.json", "--with-slips", p__yaml=source, t__json=dump(trace).decode())
    assert done.status == 0, done.err
    again = usher("accept", "p.yaml", "t.json", "--with-slips", "--replace", "--dry-run")
    assert again.out == "", "twice is the same"
    accepted = Trace.read(tmp_path / "t.json")
    plain = load(tmp_path / "p.yaml")
    before = [seen_of(judged.send.exchanges) for judged in run(RunState(plain), accepted.bound(plain.compiled))]
    changes, missed = 0, []
    for seed in range(60):
        doc = yaml.load(source)
        what = changed(doc, random.Random(seed))
        try:
            (tmp_path / "other.json").write_bytes(dump(doc))
            other = load(tmp_path / "other.json")
            judged = [*run(RunState(other), accepted.bound(other.compiled))]
        except Unusable:
            continue
        if [seen_of(one.send.exchanges) for one in judged] != before:
            changes += 1
            if not any(one.mark == "failed" for one in judged):
                missed.append(what)
    assert changes >= 8
    missed = [one for one in missed if not one.startswith("free: ")]  # a member of some repetitions' bodies
    assert len(missed) <= changes * 0.05, missed


def test_what_would_notice_is_the_cheapest_that_does() -> None:
    """A member of the body, a field, a field's absence; not what an expectation sees already."""
    stage = {"id": "marks", "kind": "header-fields", "on-answer": {"put": {"X-Served": "tern"}}}
    handler = {
        "cases": [
            {"when": {"query": {"q": "1"}}, "answer": {"json": {"a": {"b": 1}, "c": 2}, "headers": {"X-Q": "1"}}}
        ],
        "answer": {"json": {"a": {"b": 0}}},
    }
    pipeline = make_pipeline([stage], routes=[{**ROUTE, "handler": handler}])
    requests = [
        {"id": "q", "send": "GET /r?q=1", "expect": {"status": 200, "body": {"json": {"c": 2}}}},
        {"id": "plain", "send": "GET /r", "expect": {"status": 200}},
    ]
    found = unnoticed(pipeline.compiled, [Trace.of(*requests, base="https://api.example").bound(pipeline.compiled)])
    assert found.expects["q"] == {
        "headers": {"X-Served": "tern", "X-Q": "1"},
        "body": {"json": {"a": {"b": 1}}},
    }
    assert found.expects["plain"] == {
        "headers": {"Content-Type": "application/json", "X-Q": "missing"},
        "body": {"json": {"a": {"b": 0}}},
    }
    assert found.whole
    assert found.changing == found.noticed + len(found.gaps)
