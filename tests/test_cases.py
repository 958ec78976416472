"""Small pipelines and traces, each behind something that was wrong once, and what they must print now."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from conftest import records
from patient_usher import Pipeline, Trace, Unusable, load

CASES = Path(__file__).parent / "cases"
FACTS: dict[str, list[str] | str] = json.loads((CASES / "facts.json").read_text())


def read(name: str) -> tuple[Pipeline, Trace]:
    """The pipeline and the trace of a case: NAME.pipeline.json with its trace, or PIPELINE:TRACE."""
    if ":" in name:
        pipeline, trace = (CASES / f"{part}.yaml" for part in name.split(":"))
    else:
        pipeline = CASES / f"{name}.pipeline.json"
        trace = next(CASES / f"{name}.{end}" for end in ENDS if (CASES / f"{name}.{end}").exists())
    return load(pipeline), Trace.read(trace)


ENDS = ("trace.json", "trace.jsonl", "har")


def told(record: dict[str, Any]) -> str:
    """An exchange in a line: who answered what, why, from which copy, for whom."""
    response = record["response"]
    fields = {name.lower(): value for name, value in response["headers"]} if response else {}
    words = [record["id"], str(response["status"]) if response else record["outcome"], str(record["answered_by"])]
    words += [f"why={record['why']}"] if record["why"] else []
    words += [f"{use['state']}{'+stored' if use['stored'] else ''}" for use in record["caches"]]
    words += [f"for {record['identity']}"] if record["identity"] else []
    words += [f"{name}: {fields[name]}" for name in SHOWN if name in fields]
    words += [f"page: {record['browser']['why'] or 'readable'}"] if record["browser"] else []
    return " ".join(words)


SHOWN = ("age", "location", "vary", "retry-after", "content-encoding", "www-authenticate")


def outcome(name: str) -> list[str] | str:
    """A line for each exchange; or what is wrong with the pipeline or trace."""
    try:
        pipeline, trace = read(name)
        return [told(record) for record in records(pipeline, trace)]
    except Unusable as error:
        return error.problems[0].what


@pytest.mark.parametrize("name", sorted(FACTS))
def test_what_was_wrong_once(name: str) -> None:
    assert outcome(name) == FACTS[name]


EXPECTED = CASES / "expected"
"""Pipelines, each with a trace that expects what a standard says: the section stands beside each request."""


@pytest.mark.parametrize(
    "name", sorted(path.name.removesuffix(".trace.yaml") for path in EXPECTED.glob("*.trace.yaml"))
)
def test_what_the_standards_expect(name: str) -> None:
    found = records(load(EXPECTED / f"{name}.yaml"), Trace.read(EXPECTED / f"{name}.trace.yaml"))
    assert any(record["checks"] for record in found)
    assert [(record["id"], check) for record in found for check in record["checks"] if not check["ok"]] == []


NAMES = sorted(path.name.removesuffix(".pipeline.json") for path in CASES.glob("*.pipeline.json"))


@pytest.mark.parametrize("name", NAMES)
def test_every_case_ends_with_an_answer_or_a_sentence(name: str) -> None:
    assert outcome(name)
