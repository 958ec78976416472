"""What runs for a route or a request: said by one function, and true of what then happens."""

from __future__ import annotations

import json

import pytest

from conftest import DEMO, described
from patient_usher import Pipeline, Trace, load, replay
from patient_usher.core.decisions.request_generators import scenarios
from patient_usher.core.http.urls import parse_url
from patient_usher.core.questions.route_matrix import standing, way
from pipelines import put_together

BASE = "https://api.example"
PIPELINES = {
    **{f"random {seed}": json.dumps(put_together(seed)) for seed in range(40)},
    "behind the routes": """
patient-usher: pipeline/1
flow: sequential
stages: [{id: first-net, kind: error-handler}, access-log, routes, {id: pages, kind: cors, allow-origins: ["https://a.example"]}, {id: net, kind: error-handler}]
routes: [{id: r, at: GET /, access: everyone, handler: {answer: {text: ok}}}]
""",
    "closed": """
patient-usher: pipeline/1
stages: [access-log, maintenance, {id: who, kind: authenticate, schemes: [{scheme: api-key}]}]
routes: [{id: r, at: GET /, access: signed-in, handler: {answer: {text: ok}}}]
""",
}
DEMOS = ["harbour", "sequential", "quay", "limits", "shelf", "front", "boaters", "busy"]
CASES = [
    *((name, described(text)) for name, text in PIPELINES.items()),
    *((name, load(DEMO / f"{name}.yaml")) for name in DEMOS),
]


@pytest.mark.parametrize(("name", "pipeline"), CASES, ids=[name for name, _ in CASES])
def test_what_is_said_to_run_is_what_runs(name: str, pipeline: Pipeline) -> None:
    compiled = pipeline.compiled
    grid = {row.item.route.id: row.stages for row in standing(compiled)}
    for scenario in list(scenarios(compiled))[:60]:
        doc = scenario.document(BASE)
        trace = Trace.of(*doc["requests"], base=BASE, callers=doc.get("callers", {}))
        if any("change" in request for request in doc["requests"]):
            continue
        for sent in replay(pipeline, trace):
            for record in sent.exchanges:
                if record.outcome in ("not-sent", "from-caller-cache"):
                    continue
                said = way(compiled, record.request.method, parse_url(record.request.url))
                states = {one.id: one.state for one in said.on_way}
                entered = [step.stage for step in record.journey if step.way == "in" and step.did != "skipped"]
                caught = [step.stage for step in record.journey if step.way == "error" and step.did != "skipped"]
                assert {states.get(id_) for id_ in entered} <= {"runs"}, (scenario, entered, states)
                assert {states.get(id_) for id_ in caught} <= {"runs", "errors"}, (scenario, caught, states)
                if record.handler_reached:
                    running = [id_ for id_, state in states.items() if state == "runs" and id_ != "handler"]
                    assert [id_ for id_ in entered if id_ != "handler"] == running, (
                        "who gets to the handler meets everything in front of it"
                    )
                if record.route is not None:
                    of_route = grid[record.route]
                    assert all(of_route[id_] in ("runs", "sometimes") for id_ in entered)
                    assert all(of_route[id_] == "elsewhere" for id_ in compiled.options if id_ not in states)
                    same = {id_: state for id_, state in states.items() if of_route[id_] != "sometimes"}
                    assert all(of_route[id_] == state for id_, state in same.items())


def test_nothing_is_said_to_be_unguarded_where_nothing_gets_through() -> None:
    (row,) = standing(described(PIPELINES["closed"]).compiled)
    assert (row.access, row.stages["handler"], row.stages["who"]) == ("signed-in", "never", "never")
