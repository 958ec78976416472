"""A service that was written by hand, right and with mistakes planted: the right one is quiet, each mistake is named.

All of them, with what was said of each: benchmarks/services/score.py.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import Outcome, make_pipeline
from patient_usher import Trace, drift, load
from patient_usher.core.variants.search import Explanation
from patient_usher.use_cases.drift import explain

SERVICES = Path(__file__).parents[2] / "benchmarks" / "services"
sys.path.insert(0, str(SERVICES))
score: Any = __import__("score")
Usher = Callable[..., Outcome]
ASK: dict[str, Any] = {"id": "a", "send": "GET /"}


@pytest.mark.parametrize("trace", ["story", "fresh"])
def test_the_right_service_differs_in_nothing(trace: str) -> None:
    found = score.held("buoys", load(SERVICES / "buoys.yaml"), trace, "")
    assert [(one.id, one.differs) for one in found if one.differs] == []


@pytest.mark.parametrize(("mistake", "words"), [
    ("no-gzip", "small isn't there"), ("net-outside-cors", "browsers and net have changed places"),

    ("remaining-off", "X-RateLimit-Remaining is 1 more"), ("stack", "the content shows a stack on 500"),
])  # fmt: skip
def test_a_planted_mistake_is_named_alone(mistake: str, words: str) -> None:
    verdict, said, _ = score.outcome("buoys", mistake, score.planted_in("buoys")[mistake])
    assert (verdict, said) == ("right", words)


# What is compared.

JSON = [("Content-Type", "application/json")]


def service(*answers: tuple[str, list[tuple[str, str]], str]) -> Callable[..., list[bytes]]:
    """A WSGI application that answers so, one after the other; the last again and again."""
    rest = list(answers)

    def app(environ: dict[str, Any], start_response: Callable[..., Any]) -> list[bytes]:
        status, fields, body = rest.pop(0) if len(rest) > 1 else rest[0]
        start_response(status, fields)
        return [body.encode()]

    return app


def model(answer: dict[str, Any], *stages: dict[str, Any]) -> Any:
    route = {"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": answer}}
    return make_pipeline(list(stages), routes=[route])


def differs(pipeline: Any, app: Any, *sends: dict[str, Any], **how: Any) -> list[str]:
    return [one.what for each in drift(pipeline, Trace.of(*sends or (ASK,)), app=app, **how) for _, one in each.differs]


def test_json_is_compared_by_value_and_content_as_far_as_the_trace_expects() -> None:
    pipeline = model({"json": {"a": 1, "b": {"c": 2}}})
    other_order, other = ("200 OK", JSON, '{"b":{"c":2}, "a":1}'), ("200 OK", JSON, '{"a": 1, "b": 3}')
    assert differs(pipeline, service(other_order), bodies=True) == []
    assert differs(pipeline, service(other), bodies=True) == ["body"]
    expects = {**ASK, "expect": {"body": {"json": {"a": 1}}}}
    assert differs(pipeline, service(other), expects) == []
    assert differs(pipeline, service(("200 OK", JSON, '{"a": 2}')), expects) == ["body"]


def test_a_burst_is_compared_by_how_often_each_status_came() -> None:
    pipeline = model(
        {"json": {}},
        {"id": "fair", "kind": "rate-limit", "quota": 2, "window": "60s", "per": ["address"], "fields": []},
    )
    good, late = ("200 OK", JSON, "{}"), ("429 Later", [("Retry-After", "60"), ("Content-Type", "text/plain")], "later")
    burst = {**ASK, "times": 3}
    assert differs(pipeline, service(good, late, good), burst) == []
    assert "status" in differs(pipeline, service(good, late, late), burst)


@pytest.mark.parametrize(("place", "same"), [
    ("/b", True), ("https://service.example/b", True), ("http://service.example/b", True), ("https://other.example/b", False), ("/c", False),
])  # fmt: skip
def test_a_redirect_to_the_asked_host_is_the_same_with_and_without_it(place: str, same: bool) -> None:
    pipeline = model({"status": 302, "headers": {"Location": "/b"}})
    assert (differs(pipeline, service(("302 Found", [("Location", place)], ""))) == []) is same


def test_every_field_that_a_stage_writes_is_compared(usher: Usher, tmp_path: Path) -> None:
    stages = [
        {"id": "safe", "kind": "header-fields", "on-answer": {"put": {"X-Frame-Options": "DENY"}}},
        {"id": "tag", "kind": "request-id"},
    ]
    bare = ("200 OK", [*JSON, ("X-Own", "1")], "{}")
    pipeline = model({"json": {}}, *stages)
    assert differs(pipeline, service(bare)) == ["x-frame-options", "x-request-id"]
    assert differs(pipeline, service(bare), leave_out=["x-frame-options"]) == ["x-request-id"]
    assert (
        differs(
            pipeline, service(("200 OK", [*bare[1], ("X-Frame-Options", "DENY"), ("X-Request-Id", "another")], "{}"))
        )
        == []
    )
    document = {
        "patient-usher": "pipeline/1",
        "stages": stages,
        "routes": [{"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": {"json": {}}}}],
    }
    (tmp_path / "p.json").write_text(json.dumps(document))
    app = 'def app(environ, start_response):\n    start_response("200 OK", [("Content-Type", "application/json")])\n    return [b"{}"]\n'
    trace = "patient-usher: trace/1\nrequests: [{id: a, send: GET /}]\n"
    ask = ("drift", "p.json", "t.yaml", "--app", "own:app", "--trust", "python", "--leave-out")
    left = usher(*ask, "X-Frame-Options", "--leave-out", "x-request-id", own__py=app, t__yaml=trace)
    assert (left.status, left.err) == (0, "")
    wrong = usher(*ask, "x-frame-option")
    assert (wrong.status, "did you mean 'x-frame-options'?" in wrong.err) == (2, True)


# What explains.


def test_a_credential_that_a_service_gives_back_is_written_nowhere(usher: Usher, tmp_path: Path) -> None:
    stage = "{id: who, kind: authenticate, realm: quay, schemes: [{scheme: api-key, name: X-Key}]}"
    route = "{id: r, at: GET /, access: signed-in, handler: {answer: {text: ok}}}"
    pipeline = f"patient-usher: pipeline/1\nstages: [{stage}]\nroutes: [{route}]\naccounts: {{maren: {{api-keys: [marens-made-up-key-000]}}}}\n"
    trace = "patient-usher: trace/1\nrequests: [{id: a, send: GET /, headers: {X-Key: other}}]\n"
    fields = """[("WWW-Authenticate", 'ApiKey realm="marens-made-up-key-000", in="header", name="X-Key"'), ("Content-Type", "text/plain")]"""
    app = f'def app(environ, start_response):\n    start_response("401 No", {fields})\n    return [b"no"]\n'
    ask = ("drift", "p.yaml", "t.yaml", "--app", "own:app", "--trust", "python", "--fit", "fit.yaml")
    told = usher(*ask, p__yaml=pipeline, t__yaml=trace, own__py=app)
    document = usher(*ask, "--format", "json")
    assert "who: realm mare" in told.out
    for text in (told.out, told.err, document.out, (tmp_path / "fit.yaml").read_text()):
        assert "marens-made-up-key-000" not in text


def why(pipeline: Any, app: Any, *sends: dict[str, Any]) -> Explanation:
    trace = Trace.of(*sends)
    return explain(pipeline, [trace], list(drift(pipeline, trace, app=app)))


def test_an_answer_that_does_not_come_is_explained_too() -> None:
    def app(environ: dict[str, Any], start_response: Callable[..., Any]) -> list[bytes]:
        if environ["PATH_INFO"] == "/b":
            raise ConnectionError("gone")
        start_response("200 OK", JSON)
        return [b"{}"]

    routes = [
        {"id": name, "at": f"GET /{name}", "access": "everyone", "handler": {"answer": {"json": {}}}} for name in "ab"
    ]
    found = why(make_pipeline([], routes=routes), app, {"id": "a", "send": "GET /a"}, {"id": "b", "send": "GET /b"})
    assert [(one.change.words, one.explains) for one in found.changes] == [("no answer comes on route b", ("b",))]
    assert found.leaves == ()


def test_a_longer_trace_loses_no_explanation() -> None:
    """Other differences, however many, crowd nothing out."""
    stages = [
        {"id": "who", "kind": "authenticate", "realm": "quay", "schemes": [{"scheme": "api-key", "name": "X-Key"}]}
    ]
    routes = [
        {"id": f"r{at}", "at": f"GET /r{at}", "access": "signed-in", "handler": {"answer": {"json": {}}}}
        for at in range(40)
    ]
    pipeline = make_pipeline(stages, routes=routes, accounts={"maren": {"api-keys": ["made-up"]}})

    def app(environ: dict[str, Any], start_response: Callable[..., Any]) -> list[bytes]:
        at = environ["PATH_INFO"].removeprefix("/r")
        realm = 'ApiKey realm="harbour", in="header", name="X-Key"'
        fields = [("WWW-Authenticate", realm), ("Content-Type", "text/plain"), ("Cache-Control", f"max-age={at}")]
        start_response("401 No", fields)
        return [b"no"]

    for count in (1, 40):
        found = why(pipeline, app, *({"id": f"q{at}", "send": f"GET /r{at}"} for at in range(count)))
        assert found.changes[0].change.words == "who: realm harbour, not quay"
        assert len(found.changes[0].explains) == count
