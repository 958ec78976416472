"""Coverage: what can happen, what has, and requests that make the rest happen."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from msgspec import to_builtins

from conftest import DEMO, Outcome, make_pipeline, text
from patient_usher import RunState, Trace
from patient_usher.core.decisions.coverage import Coverage
from patient_usher.core.decisions.coverage_gaps import closings
from patient_usher.core.verify.run import run
from patient_usher.output.coverage import coverage_document

Usher = Callable[..., Outcome]
SCHEMES = [{"scheme": "bearer", "keys": "main"}, {"scheme": "basic"}, {"scheme": "api-key"}]
WHO = {"id": "s", "kind": "authenticate", "schemes": SCHEMES}
KNOWN = {
    "accounts": {
        "ann": {"password": "made-up", "api-keys": ["a-made-up-key"], "roles": ["boss"]},
        "bob": {"password": "made-up-too"},
    },
    "signing-keys": {"main": {"algorithm": "HS256", "secret": "made-up-secret-for-these-tests-only"}},
}
GUARDED = {"access": "signed-in"}
CORS = {"id": "s", "kind": "cors", "allow-origins": ["https://a.example"]}
CASES = [{"when": {"query": {"a": "1"}}, "then": "continue"}, {"when": {"query": {"b": "1"}}, "then": "continue"}]
INPUT = {"at": "POST /", "input": {"json": {"type": "object", "required": ["n"]}}}

# The stages, how the route differs, what is sent; how often the stage did what.
COUNTED: list[tuple[list[Any], dict[str, Any], list[dict[str, Any]], dict[str, int]]] = [
    ([WHO], GUARDED, [{"send": "GET /"}, {"send": "GET /", "sign": {"bearer": "ann"}}, {"send": "GET /", "sign": {"bearer": "ann", "expires-in": "0s"}},
                      {"send": "GET /", "headers": {"X-Api-Key": "wrong"}}],
     {"absent": 1, "bearer right": 1, "bearer wrong": 0, "bearer expired": 1, "bearer not-yet-valid": 0, "basic right": 0, "basic wrong": 0, "api-key right": 0, "api-key wrong": 1}),
    ([{**WHO, "id": "who"}, {"id": "s", "kind": "authorize"}], {"access": {"role": "boss"}}, [{"send": "GET /", "sign": {"basic": "ann"}}, {"send": "GET /", "sign": {"basic": "bob"}}], {"let through": 1, "refused": 1}),
    ([{"id": "s", "kind": "cache"}], {"cache": "60s"}, [{"send": "GET /"}, {"send": "GET /"}, {"send": "GET /", "after": "2m"}], {"hit": 1, "miss": 1, "stale": 1, "revalidated": 0, "bypass": 0}),
    ([{"id": "s", "kind": "cache"}], {"cache": {"private": "60s"}}, [{"send": "GET /"}, {"send": "HEAD /"}], {"private-only": 2}),
    ([{"id": "s", "kind": "cache"}], {}, [{"send": "GET /"}], {"not-opted-in": 1}),
    ([{"id": "s", "kind": "cache"}], {"cache": "60s"}, [{"send": "GET /", "headers": {"Range": "bytes=0-1"}}], {"hit": 0, "miss": 0, "stale": 0, "revalidated": 0, "bypass": 1}),
    ([{"id": "s", "kind": "decide", "cases": CASES}], {}, [{"send": "GET /?a=1"}, {"send": "GET /"}], {"case 1": 1, "case 2": 0, "no case": 1}),
    ([{"id": "s", "kind": "decide", "cases": [*CASES, {"then": "continue"}]}], {}, [{"send": "GET /"}], {"case 1": 0, "case 2": 0, "case 3": 1}),
    ([{"id": "s", "kind": "rate-limit", "quota": 2, "window": "1m"}], {}, [{"send": "GET /", "times": 4}], {"under": 1, "used up": 1, "over": 2, "refilled": 0}),
    ([{"id": "s", "kind": "rate-limit", "quota": 2, "window": "1m"}], {}, [{"send": "GET /", "times": 3}, {"send": "GET /", "after": "2m"}],
     {"under": 2, "used up": 1, "over": 1, "refilled": 1}),
    ([CORS], {}, [{"send": "GET /"}, {"send": "GET /", "headers": {"Origin": "https://a.example"}}, {"send": "GET /", "headers": {"Origin": "https://b.example"}}],
     {"no origin": 1, "origin https://a.example": 1, "origin not listed": 1, "preflight": 0, "preflight for another method": 0, "preflight for another header": 0}),
    ([{"id": "s", "kind": "read-body"}], {"at": "POST /"}, [{"send": "POST /", "json": 1}, {"send": "POST /"}], {"json read": 1, "form read": 0, "multipart read": 0, "text read": 0, "too large": 0, "malformed": 0, "another media type": 0, "no body": 1}),
    (["read-body", {"id": "s", "kind": "validate"}], INPUT, [{"send": "POST /", "json": {}}, {"send": "POST /", "json": {"n": 1}}], {"valid": 1, "invalid": 1, "r /json breaks type": 0, "r /json/n breaks required": 1}),
    ([{"id": "s", "kind": "https-only"}], {}, [{"send": "GET http://api.example/"}], {"secure": 0, "redirected": 1, "refused": 0}),
    ([{"id": "s", "kind": "timeout", "after": "1s"}], {"handler": {**text(), "busy-for": "2s"}}, [{"send": "GET /"}], {"in time": 0, "too slow": 1}),
    ([{"id": "s", "kind": "error-handler", "answers": [{"raised": "Oops", "status": 409}]}], {"handler": {"raise": "Oops"}}, [{"send": "GET /"}], {"Oops": 1, "another type": 0}),
    ([{"id": "s", "kind": "access-log"}], {}, [{"send": "GET /"}], {"ran": 1}),
    ([{"id": "s", "kind": "access-log", "only": ["GET /a", "/b"]}], {}, [{"send": "GET /"}, {"send": "GET /b"}], {"ran": 1, "passed over": 1, "only GET /a": 0, "only /b": 1}),
    ([{"id": "s", "kind": "request-id", "trusts-incoming": True}], {}, [{"send": "GET /"}], {"made": 1, "kept": 0}),
    ([{"id": "s", "kind": "compress", "codings": ["gzip"], "from-size": 1}], {}, [{"send": "GET /"}, {"send": "GET /", "headers": {"Accept-Encoding": "gzip"}}], {"gzip": 1, "left as it is": 1}),
    ([{"id": "s", "kind": "conditional"}], {}, [{"send": "GET /"}, {"send": "GET /", "headers": {"If-None-Match": "*"}}], {"no condition": 1, "not modified": 1, "precondition failed": 0}),
    ([{"id": "s", "kind": "rate-limit", "quota": 2, "window": "1m", "preflights": "free", "tiers": [{"when": {"header": {"X-A": ["1", "2"]}}, "quota": 1}]}], {},
     [{"send": "GET /"}, {"send": "GET /", "headers": {"X-A": "2"}, "times": 2}],
     {"tier 1 under": 0, "tier 1 used up": 1, "tier 1 over": 1, "under": 1, "used up": 0, "over": 0, "tier 1 by header.X-A 1": 0, "tier 1 by header.X-A 2": 2, "refilled": 0, "preflight not counted": 0}),
    ([{"id": "s", "kind": "decide", "way-out": [{"when": {"status": [404, "4xx"], "method": "GET"}}]}], {}, [{"send": "GET /"}, {"send": "GET /none"}],
     {"way out 1": 1, "way out 1 misses only method GET": 0, "way out 1 misses only status 404 or 4xx": 1, "way out 1 by status 404": 0, "way out 1 by status 4xx": 0, "no way out": 1}),
]  # fmt: skip


@pytest.mark.parametrize(("stages", "route", "requests", "counted"), COUNTED)
def test_what_each_kind_can_do(
    stages: list[Any], route: dict[str, Any], requests: list[dict[str, Any]], counted: dict[str, int]
) -> None:
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "handler": text(), **route}]
    pipeline = make_pipeline(stages, routes=routes, **KNOWN)
    coverage = Coverage(pipeline.compiled)
    for send, *_ in run(RunState(pipeline), Trace.of(*requests, base="https://api.example").bound(pipeline.compiled)):
        coverage.add(send)
    document = to_builtins(coverage_document(coverage, []))
    assert document["stages"]["s"] == counted
    outcomes = [times for part in ("stages", "routes") for row in document[part].values() for times in row.values()]
    assert (document["hit"], document["of"]) == (sum(1 for times in outcomes if times), len(outcomes))


PAIRS = ["harbour:story", "quay:quay-story", "boaters:boaters-story", "limits:limits-story", "shelf:shelf-story"]


@pytest.mark.parametrize("pair", PAIRS)
def test_what_closes_a_gap_closes_it_in_the_trace(usher: Usher, tmp_path: Path, pair: str) -> None:
    """Each request is seen to close what it claims; pasted into an empty trace they close all of that together."""
    pipeline = str(DEMO / f"{pair.partition(':')[0]}.yaml")
    empty = "patient-usher: trace/1\nbase: https://api.ternharbour.example\nrequests: []\n"
    first = usher("replay", pipeline, "t.yaml", "--coverage", "--append", "t.yaml", "--format", "json", t__yaml=empty)
    assert (first.status, first.json["hit"]) == (0, 0), first.err
    closing = first.json["missing"]
    assert len({request["id"] for request in closing}) == len(closing) > 3
    second = usher("replay", pipeline, "t.yaml", "--coverage", "--format", "json").json
    assert second["hit"] >= second["of"] * 0.6
    assert len(second["missing"]) <= 3, "what the requests do to each other may leave a little"


def test_every_probe_does_what_it_claims_alone() -> None:
    pipeline = make_pipeline(
        [WHO], routes=[{"id": "r", "at": "GET /{id}", "access": "signed-in", "handler": text()}], **KNOWN
    )
    missing = Coverage(pipeline.compiled).missing
    found = closings(pipeline.compiled, missing, "https://api.example")
    assert sorted(outcome for _, closed in found for outcome in closed) == sorted(missing)
    for requests, closed in found:
        coverage = Coverage(pipeline.compiled)
        for send, *_ in run(
            RunState(pipeline), Trace.of(*requests, base="https://api.example").bound(pipeline.compiled)
        ):
            coverage.add(send)
        assert [outcome for outcome in closed if not coverage.hits[outcome]] == []


@pytest.mark.parametrize(("least", "status"), [(10, 0), (100, 1)])
def test_a_share_that_must_be_reached(usher: Usher, least: int, status: int) -> None:
    files = [str(DEMO / "harbour.yaml"), str(DEMO / "story.yaml")]
    done = usher("replay", *files, "-q", "--coverage-at-least", str(least))
    assert done.status == status
    lines = done.out.splitlines()
    assert max(map(len, lines)) <= 100
    assert any(
        line.split()[0:1] == ["lock"] and "0 of 2" in line and "not yet: handler ran, refused" in line for line in lines
    )


def test_gaps_of_two_steps_are_closed_too() -> None:
    """Refilled needs a burst and a wait, a hit and a stale copy a request before."""
    stages = [{"id": "limit", "kind": "rate-limit", "quota": 2, "window": "1m"}, {"id": "shelf", "kind": "cache"}]
    route = {"id": "r", "at": "GET /", "access": "everyone", "cache": "10s", "handler": text()}
    pipeline = make_pipeline(stages, routes=[route])
    closed = {
        outcome
        for one in closings(pipeline.compiled, Coverage(pipeline.compiled).missing, "https://api.example")
        for outcome in one.closed
    }
    assert {("stages", "limit", "refilled"), ("stages", "shelf", "hit"), ("stages", "shelf", "stale")} <= closed


def test_a_listed_and_a_foreign_origin_are_found_to_close_their_gaps() -> None:
    pipeline = make_pipeline([CORS])
    open_ = [("stages", "s", name) for name in ("origin https://a.example", "origin not listed")]
    found = closings(pipeline.compiled, open_, "https://api.example")
    assert sorted(outcome for one in found for outcome in one.closed) == sorted(open_)


IMPOSSIBLE: list[tuple[str, list[Any], dict[str, Any], tuple[str, str, str]]] = [
    ("used up, where failures are counted", [{"id": "s", "kind": "rate-limit", "quota": 2, "window": "1m", "counts": "failures"}], {}, ("stages", "s", "used up")),
    ("refused, where everyone may", [{"id": "s", "kind": "authorize", "default": "everyone"}], {"access": "everyone"}, ("stages", "s", "refused")),
    ("refused, where nothing asks", ["access-log"], {"access": "signed-in"}, ("routes", "r", "refused")),
]  # fmt: skip


@pytest.mark.parametrize(
    ("stages", "route", "outcome"), [row[1:] for row in IMPOSSIBLE], ids=[row[0] for row in IMPOSSIBLE]
)
def test_what_nothing_can_cause_is_no_gap(
    stages: list[Any], route: dict[str, Any], outcome: tuple[str, str, str]
) -> None:
    own = {"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": {"text": "ok"}}, **route}
    pipeline = make_pipeline(stages, routes=[own])
    assert outcome not in Coverage(pipeline.compiled).possible


def test_a_case_that_no_request_can_take_does_not_count(usher: Usher) -> None:
    """What holds bb holds b: the second case is dead, and the first alone is missing."""
    cases = [{"when": {"header": {"X-A": {"contains": "b"}}}, "then": {"answer": {"status": 403}}}]
    cases.append({"when": {"header": {"X-A": "bb"}}, "then": {"answer": {"status": 418}}})
    gate = json.dumps({"id": "gate", "kind": "decide", "cases": cases})
    pipeline = f"patient-usher: pipeline/1\nstages: [{gate}]\nroutes: [{{id: r, at: GET /r, access: everyone, handler: {{answer: {{text: ok}}}}}}]\n"
    trace = "patient-usher: trace/1\nbase: https://service.example\nrequests: [{id: a, send: GET /r}, {id: b, send: GET /s}, {id: c, send: PUT /r}]\n"
    outcome = usher("replay", "p.yaml", "t.yaml", "--coverage", "--format", "json", p__yaml=pipeline, t__yaml=trace)
    coverage = outcome.json
    assert (coverage["impossible"], coverage["stages"]["gate"]) == (
        [["stages", "gate", "case 2"]],
        {"case 1": 0, "no case": 3},
    )
    text = usher("replay", "p.yaml", "t.yaml", "--coverage").out
    assert "no request can take  gate  case 2" in text
