"""Exploring: what can happen, what never does, statements that break, and a trace of the distinct cases."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from jsonschema import Draft202012Validator

from conftest import DEMO, Outcome, described, make_pipeline
from patient_usher import Pipeline, RunState, Trace, Unusable, explore, load, replay
from patient_usher.core.decisions.branch_requests import solved
from patient_usher.core.decisions.request_factory import RequestFactory
from patient_usher.core.decisions.schema_samples import sample
from patient_usher.core.questions.explore import Ending, ending_of
from patient_usher.core.verify.run import run

Usher = Callable[..., Outcome]
SHOWN = [
    "harbour:story",
    "boaters:boaters-story",
    "limits:limits-story",
    "return:return-story",
    "front-believed:front-story",
]


def story_of(pipeline: Pipeline, trace: str) -> dict[Ending, str]:
    """Every case that a story shows, with the exchange that does."""
    found: dict[Ending, str] = {}
    for send, *_ in run(RunState(pipeline), Trace.read(DEMO / f"{trace}.yaml").bound(pipeline.compiled)):
        found.update({ending_of(x): x.id for x in send.exchanges if x.outcome != "not-sent"})
    return found


@pytest.mark.parametrize("pair", SHOWN)
def test_whatever_a_story_reaches_is_reached(pair: str) -> None:
    name, _, trace = pair.partition(":")
    pipeline = load(DEMO / f"{name}.yaml")
    reached = explore(pipeline).cases.keys()
    assert {id_ for case, id_ in story_of(pipeline, trace).items() if case not in reached} == set()


@pytest.mark.parametrize("name", ["harbour", "quay", "shelf", "limits", "sequential"])
def test_the_trace_of_distinct_cases_holds_and_reaches_as_much(usher: Usher, tmp_path: Path, name: str) -> None:
    pipeline = str(DEMO / f"{name}.yaml")
    usher("explore", pipeline, "--into", "cases.yaml")
    again = usher("replay", pipeline, "cases.yaml", "-q")
    assert (again.status, again.err) == (0, "")
    covered = usher("replay", pipeline, "cases.yaml", "--coverage", "--format", "json").json
    assert covered["hit"] >= 0.8 * covered["of"]
    records = usher("replay", pipeline, "cases.yaml", "--format", "json").json["exchanges"]
    assert len({record["request_id"] for record in records}) < 150


def test_the_same_seed_explores_the_same(usher: Usher) -> None:
    runs = [
        usher("explore", str(DEMO / "shelf.yaml"), "--format", "json", "--seed", seed).out for seed in ("1", "1", "2")
    ]
    assert runs[0] == runs[1]
    assert runs[0] != runs[2]


def test_a_broken_statement_has_the_shortest_counterexample() -> None:
    """Of all that a request may say only the field that makes the stage slip is left."""
    slip = {"id": "keeper", "kind": "decide", "cases": [{"when": {"header": {"X-Boat": "present"}}, "then": "nothing"}]}
    explored = explore(make_pipeline([slip], always=["no-slips"]))
    (broken,) = explored.broken
    assert broken.id == "no-slips"
    assert broken.scenario.requests == ({"send": "GET /", "headers": {"X-Boat": "made-up"}},)


def test_statements_that_hold_and_things_that_never_happen(usher: Usher) -> None:
    never = {
        "id": "never",
        "kind": "decide",
        "cases": [{"when": {"scheme": "gopher"}, "then": {"answer": {"status": 418}}}],
    }
    explored = explore(make_pipeline(["error-handler", never], always=["no-slips"]))
    assert explored.broken == ()
    assert ("stages", "never", "case 1") in explored.coverage.missing
    assert all(case.status != 418 for case in explored.cases)


def test_the_text_tells_what_can_happen(usher: Usher) -> None:
    outcome = usher("explore", str(DEMO / "harbour.yaml"))
    assert outcome.status == 1, "the story's slips break no-slips"
    for words in (
        "ways to end",
        " requests tried",
        "ledger  GET /v1/harbour/ledger",
        "insufficient-role",
        "handler ran",
        "✗ invariant no-slips",
        "no route",
    ):
        assert words in outcome.out
    assert max(len(row) for row in outcome.out.splitlines() if "a stage" not in row) <= 100


@pytest.mark.parametrize(
    ("invariant", "sign"),
    [
        ("{id: x, when: {path: /}, expect: {status: [2xx, 4xx, 5xx]}}", "✓"),
        ("{id: x, when: {path: /}, expect: {body: {lacks: [secret]}}}", "●"),
        ("{id: x, when: {path: /}, expect: {status: 2xx}}", "✗"),
        ("{id: x, when: {scheme: gopher}, expect: {status: 200}}", "•"),
    ],
)
def test_what_was_never_tried_has_not_held(usher: Usher, invariant: str, sign: str) -> None:
    text = "patient-usher: pipeline/1\nroutes: [{id: r, at: GET /, access: everyone, handler: {answer: {text: ok}}}]\n"
    told = usher("explore", "p.yaml", p__yaml=f"{text}always: [{invariant}]\n").out.splitlines()
    assert [row[:12] for row in told if " invariant x" in row] == [f"{sign} invariant "[:12]]
    assert told[-1].startswith(f"{sign} ")


def test_a_budget_bounds_what_is_tried(usher: Usher) -> None:
    assert usher("explore", str(DEMO / "harbour.yaml"), "--budget", "20", "--format", "json").json["tried"] <= 20


SCHEMAS: list[dict[str, Any]] = [
    {"type": "object", "required": ["a", "b"], "properties": {"a": {"type": "integer", "minimum": 3}, "b": {"type": "string", "pattern": "^T[0-9]{2}$"}}},
    {"type": "array", "minItems": 2, "items": {"enum": ["x", "y"]}},
    {"type": "string", "minLength": 20},
    {"type": "string", "maxLength": 3},
    {"type": "string", "format": "date", "pattern": r"^\d{4}-\d{2}-\d{2}$"},
    {"type": "number", "exclusiveMinimum": 0.5},
    {"type": "number", "maximum": -2},
    {"allOf": [{"type": "object", "required": ["n"]}, {"properties": {"n": {"const": 7}}}]},
    {"anyOf": [{"type": "boolean"}, {"type": "null"}]},
    {"type": "integer", "multipleOf": 5},
    {"type": "object", "required": ["in"], "properties": {"in": {"type": "object", "required": ["er"], "properties": {"er": {"type": "null"}}}}},
    {"type": "string", "pattern": "^(red|green)-[a-f]+$"},
]  # fmt: skip


@pytest.mark.parametrize("schema", SCHEMAS)
def test_a_made_up_value_fits_its_schema(schema: dict[str, Any]) -> None:
    assert list(Draft202012Validator(schema).iter_errors(sample(schema))) == []


WHENS: list[dict[str, Any]] = [
    {"header": {"X-A": "1"}}, {"header": {"X-A": "present", "X-B": {"contains": "quay"}}}, {"query": {"q": {"pattern": "^b[0-9]+$"}}},
    {"header": {"X-A": ["one", "two"]}}, {"all": [{"header": {"X-A": "1"}}, {"query": {"q": "2"}}]}, {"header": {"X-A": {"not": "no"}}},
]  # fmt: skip


@pytest.mark.parametrize("when", WHENS)
def test_a_made_up_request_fits_its_matcher(when: dict[str, Any]) -> None:
    pipeline = make_pipeline(
        [{"id": "s", "kind": "decide", "cases": [{"when": when, "then": {"answer": {"status": 299}}}]}]
    )
    words = RequestFactory(pipeline.compiled)
    (item,) = words.compiled.placed
    tried = solved(words, item, words.may(item))
    fitting = next(one for one in tried if ("stages", "s", "case 1") in one.branches)
    request = words.scenario("matched", item, fitting.credential, **fitting.parts).requests[-1]
    (sent,) = replay(pipeline, Trace.of(request, base="https://api.example"))
    assert sent.status == 299


ROUTE = {"id": "r", "at": "GET /r", "access": "everyone", "handler": {"answer": {"text": "seven"}}}
POST = {"id": "w", "at": "POST /w", "access": "everyone", "handler": {"echo": True}}
DESK = {
    "accounts": {"maren": {"password": "not-a-real-one"}},
    "stages": ["read-cookies", "read-body", {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "session-cookie", "cookie": "deck"}]}, "authorize"],
    "routes": [],
    "groups": [{"id": "g", "desk": {"at": "/in", "gives": "cookie", "cookie": "deck", "lasts": "20m"}, "routes": [{**ROUTE, "access": "signed-in"}]}],
}  # fmt: skip
BREAKS: dict[str, dict[str, Any]] = {
    "HEAD": {"routes": [ROUTE], "always": [{"id": "s", "when": {"method": "HEAD"}, "expect": {"status": 204}}]},
    "a session that is over": {**DESK, "always": [{"id": "s", "when": {"status": 401}, "expect": {"why": ["absent", "wrong"]}}]},
    "an ordinary JSON body": {"stages": ["read-body"], "routes": [POST], "always": [{"id": "s", "when": {"body": {"name": "present"}}, "expect": {"status": 201}}]},
    "another listed address": {
        "stages": [{"id": "gate", "kind": "decide", "cases": [{"when": {"address": ["198.51.100.7", "203.0.113.9"]}, "set": {"near": "yes"}}]}],
        "routes": [ROUTE],
        "always": [{"id": "s", "when": {"address": "203.0.113.9"}, "expect": {"status": 204}}],
    },
    "two fields for two stages": {
        "stages": [
            {"id": "a", "kind": "decide", "cases": [{"when": {"header": {"X-A": "1"}}, "set": {"a": "yes"}}, {"set": {"a": "no"}}]},
            {"id": "b", "kind": "decide", "cases": [{"when": {"header": {"X-B": "1"}}, "set": {"b": "yes"}}, {"set": {"b": "no"}}]},
        ],
        "routes": [ROUTE],
        "always": [{"id": "s", "when": {"context": {"a": "yes", "b": "yes"}}, "expect": {"status": 204}}],
    },
    "a unique record made twice": {
        "errors": {"BerthTaken": {"is-a": "Conflict"}},
        "records": {"bookings": {"unique": {"berth": "BerthTaken"}}},
        "stages": ["read-body"],
        "routes": [{**POST, "handler": {"records": "bookings", "do": "create"}}],
        "always": [{"id": "s", "when": {"handler": "reached"}, "expect": {"status": 201}}],
    },
}  # fmt: skip


@pytest.mark.parametrize("name", BREAKS)
def test_what_breaks_a_statement_is_tried(name: str) -> None:
    doc = {"patient-usher": "pipeline/1", **BREAKS[name]}
    explored = explore(described(json.dumps(doc)))
    assert [one.id for one in explored.broken] == ["s"]


QUIET = [*sorted(path.stem for path in DEMO.glob("*.yaml") if "story" not in path.stem and "leaking" not in path.stem)]


@pytest.mark.parametrize("name", QUIET)
def test_private_errors_and_strangers_are_nothing_to_worry_about_in_the_demo(name: str) -> None:
    """Neither our own words to callers nor a service without any authentication breaks what everyday says."""
    try:
        pipeline = load(DEMO / f"{name}.yaml")
    except Unusable:
        pytest.skip("this is no pipeline")
    explored = explore(pipeline, budget=600)
    broken = {one.id for one in explored.broken} & {"errors-stay-private", "strangers-stay-outside"}
    assert broken == set()


def test_a_message_of_the_authors_that_is_private_still_breaks_it() -> None:
    doc = {
        "patient-usher": "pipeline/1",
        "environment": "production",
        "stages": [{"id": "net", "kind": "error-handler", "reveal": "message"}],
        "routes": [{**ROUTE, "handler": {"raise": {"type": "GaugeOffline", "message": "no answer from 192.0.2.77"}}}],
        "always": ["errors-stay-private"],
    }
    assert [one.id for one in explore(described(json.dumps(doc))).broken] == ["errors-stay-private"]
    doc["errors"] = {"GaugeOffline": {"message": "no answer from 192.0.2.77"}}
    assert [one.id for one in explore(described(json.dumps(doc))).broken] == []
