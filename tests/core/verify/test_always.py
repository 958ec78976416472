"""Statements that hold for every exchange: told as tried and held, broken, or never tried."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from msgspec import to_builtins

from conftest import DEMO, Outcome, Record, make_pipeline, text
from patient_usher import RunState, Trace, Unusable
from patient_usher.core.model.always import EVERYDAY
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.run import run
from patient_usher.core.verify.summary import statement_record

Usher = Callable[..., Outcome]
NET = {"id": "net", "kind": "error-handler"}
LEAKY = {**NET, "reveal": "everything"}
WHO = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}]}
LAX = {**WHO, "without-credential": "pass-on"}
SHELF = {"id": "shelf", "kind": "cache"}
LIMIT = {"id": "limit", "kind": "rate-limit", "quota": 5, "window": "1m"}
GET = {"send": "GET /"}
KEYS = [{"headers": {"X-Api-Key": f"made-up-key-of-{name}"}} for name in ("ann", "bob")]
ACCOUNTS = {name: {"api-keys": [f"made-up-key-of-{name}"]} for name in ("ann", "bob")}
ASK = {"send": "OPTIONS /", "headers": {"Origin": "https://a.example", "Access-Control-Request-Method": "PUT"}}
PRIVATE = {"raise": {"type": "Oops", "message": "the password of the pump is made up"}}
MINE = {"access": "signed-in", "cache": "60s", "handler": text(text="${identity.name}")}
TWICE = {"handler": text(text="a", headers={"Content-Type": ["text/plain", "text/html"]})}
MUTE = {"id": "mute", "kind": "decide", "cases": [{"then": "nothing"}]}

# Which statement, the stages, how the route differs, the requests; how often it held, and who breaks it.
STATEMENTS: list[tuple[str, list[Any], dict[str, Any], list[dict[str, Any]], int, list[str]]] = [
    ("errors-stay-private", [LEAKY], {"handler": PRIVATE}, [GET], 0, ["q0"]),
    ("errors-stay-private", [NET], {"handler": PRIVATE}, [GET], 1, []),
    ("errors-stay-private", [NET], {}, [GET], 0, []),
    ("errors-have-one-shape", [NET], {"handler": text(status=409, text="no")}, [GET], 0, ["q0"]),
    ("errors-have-one-shape", [NET], {"handler": PRIVATE}, [GET], 1, []),
    ("errors-have-one-shape", [], {"handler": text(status=409, text="no")}, [GET], 0, []),
    ("copies-stay-private", [SHELF, WHO], MINE, [{**GET, **KEYS[0]}, {**GET, **KEYS[1]}], 0, ["q1"]),
    ("copies-stay-private", [SHELF, WHO], MINE, [{**GET, **KEYS[0]}, {**GET, **KEYS[0]}], 1, []),
    ("copies-stay-private", [WHO, SHELF], MINE, [{**GET, **KEYS[0]}, {**GET, **KEYS[1]}, {**GET, **KEYS[0]}], 1, []),
    ("one-content-type", [], TWICE, [GET], 0, ["q0"]),
    ("one-content-type", [], {}, [GET, {"send": "HEAD /"}], 1, []),
    ("preflights-are-free", [LIMIT], {}, [ASK], 0, ["q0"]),
    ("preflights-are-free", [{**LIMIT, "preflights": "free"}], {}, [ASK, GET], 1, []),
    ("strangers-stay-outside", [LAX], {"access": "signed-in"}, [GET], 0, ["q0"]),
    ("strangers-stay-outside", [WHO], {"access": "signed-in"}, [GET], 1, []),
    ("strangers-stay-outside", [LAX], {}, [GET], 0, []),
    ("no-slips", [MUTE], {}, [GET], 0, ["q0"]),
    ("no-slips", [], {"handler": PRIVATE}, [GET], 0, ["q0"]),
    ("no-slips", [NET], {"handler": PRIVATE}, [GET], 1, []),
]  # fmt: skip


def said(always: Any, stages: list[Any], route: dict[str, Any], requests: list[dict[str, Any]]) -> list[Record]:
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "handler": text(), **route}]
    pipeline = make_pipeline(stages, routes=routes, accounts=ACCOUNTS, always=always)
    statements = Statements(pipeline.compiled)
    for _ in run(RunState(pipeline), Trace.of(*requests).bound(pipeline.compiled), statements=statements):
        pass
    return [to_builtins(statement_record(one)) for one in statements.all]


@pytest.mark.parametrize(("name", "stages", "route", "requests", "held", "broken"), STATEMENTS)
def test_ready_made_statements(
    name: str, stages: list[Any], route: dict[str, Any], requests: list[dict[str, Any]], held: int, broken: list[str]
) -> None:
    expected = {"id": name, "held": held, "broken": broken, "tried": held + len(broken)}
    assert said([name], stages, route, requests) == [expected]


def test_everyday_stands_for_all_of_them() -> None:
    assert [entry["id"] for entry in said("everyday", [], {}, [GET])] == list(EVERYDAY)
    assert {row[0] for row in STATEMENTS} == set(EVERYDAY)
    with pytest.raises(Unusable, match="did you mean 'no-slips'"):
        said(["no-slip"], [], {}, [GET])


OWN = {"id": "quick", "when": {"route": "r"}, "expect": {"finishes-within": "1s", "ran": ["limit"]}}


def test_statements_of_ones_own_go_by_when_and_expect() -> None:
    slow = {"handler": {**text(), "busy-for": "2s"}}
    assert said([OWN], [LIMIT], {}, [GET, {"send": "GET /none"}])[0]["held"] == 1
    assert said([OWN], [LIMIT], slow, [GET])[0]["broken"] == ["q0"]
    assert said([OWN], [], {}, [GET])[0]["broken"] == ["q0"]


@pytest.mark.parametrize(
    ("statements", "status", "line"),
    [
        ("always: everyday\n", 1, "✗ invariant copies-stay-private: broken by mine-jory"),
        ("[one-content-type]\n", 1, "✓ invariant one-content-type: held 17 times"),
        ("- {id: far, when: {route: weather}, expect: {status: 200}}\n", 1, "✓ invariant far: held 2 times"),
        ("- {id: never, when: {path: /none}, expect: {status: 200}}\n", 1, "• invariant never: never tried"),
    ],
)
def test_a_file_of_statements_joins_the_pipelines_own(usher: Usher, statements: str, status: int, line: str) -> None:
    files = [str(DEMO / "shelf-leaking.yaml"), str(DEMO / "shelf-story.yaml")]
    done = usher("replay", *files, "--always", "a.yaml", a__yaml=statements)
    assert (done.status, line in done.out) == (status, True)


def test_what_is_broken_fails_the_replay_and_is_in_the_result(usher: Usher) -> None:
    files = [str(DEMO / "shelf.yaml"), str(DEMO / "shelf-story.yaml")]
    statement = "- {id: no-news, expect: {route: {not: news}}}\n"
    done = usher("replay", *files, "--always", "a.yaml", "--format", "json", a__yaml=statement)
    (record,) = done.json["always"]
    assert (done.status, record["id"], "news" in record["broken"]) == (1, "no-news", True)
    assert record["held"] + len(record["broken"]) == record["tried"] == 19
    wrong = usher("replay", *files, "--always", "a.yaml", a__yaml="everyday: yes\n")
    assert (wrong.status, "this file holds no invariants" in wrong.err) == (2, True)
