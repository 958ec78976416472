"""What changes between two pipelines, environments or results, the gravest first."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest
from junitparser import JUnitXml

from conftest import DEMO, Outcome, make_pipeline, text
from patient_usher import Trace, compare

Usher = Callable[..., Outcome]
WHO = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}]}
OPEN = {**WHO, "without-credential": "pass-on"}
NET = {"id": "net", "kind": "error-handler"}
SHELF = {"id": "shelf", "kind": "cache"}
LOG = {"id": "log", "kind": "access-log"}
CORS = {"id": "browsers", "kind": "cors", "allow-origins": ["https://a.example"]}
GET = {"send": "GET /"}
PAGE = {"send": "GET /", "caller": "page"}
KEYS = [{"send": "GET /", "headers": {"X-Api-Key": f"made-up-key-of-{name}"}} for name in ("ann", "bob")]
ACCOUNTS = {name: {"api-keys": [f"made-up-key-of-{name}"]} for name in ("ann", "bob")}
BOOM = {"handler": {"raise": {"type": "Oops", "message": "the pump's password is made up"}}}
MINE = {"access": "signed-in", "cache": "60s", "handler": text(text="${identity.name}")}
HELD = {"id": "held", "kind": "maintenance"}

# The stages before and after, the route before and after, the requests; the gravest kind, and how many change.
CHANGES: list[tuple[list[Any], list[Any], dict[str, Any], dict[str, Any], list[dict[str, Any]], str, int]] = [
    ([WHO], [OPEN], {"access": "signed-in"}, {"access": "signed-in"}, [GET], "opened", 1),
    ([WHO, SHELF], [SHELF, WHO], MINE, MINE, KEYS, "shared", 2),
    ([NET], [{**NET, "reveal": "everything"}], BOOM, BOOM, [GET], "told", 1),
    ([CORS], [], {}, {}, [PAGE], "readable", 1),
    ([NET], [], BOOM, BOOM, [GET], "headers", 1),
    ([], [HELD], {}, {}, [GET], "status", 1),
    ([], [HELD | {"status": 200}], {}, {}, [GET], "body", 1),
    ([LOG, CORS], [CORS, LOG], {}, {}, [GET], "order", 1),
    ([], [], {}, {"handler": text(text="ok", headers={"X-New": "1"})}, [GET], "headers", 1),
    ([], [], {}, {"handler": text(text="ko")}, [GET], "body", 1),
    ([LOG], [{**LOG, "write-on": "departure"}], {}, {}, [GET], "log", 1),
    ([], [], {}, {"handler": {**text(), "busy-for": "1s"}}, [GET], "time", 1),
    ([LOG], [LOG], {}, {}, [GET], "", 0),
]  # fmt: skip


@pytest.mark.parametrize(("before", "after", "route", "routed", "requests", "kind", "changed"), CHANGES)
def test_the_gravest_change_of_all(
    before: list[Any], after: list[Any], route: dict[str, Any], routed: dict[str, Any],
    requests: list[dict[str, Any]], kind: str, changed: int,
) -> None:  # fmt: skip
    first, second = (
        make_pipeline(stages, routes=[{"id": "r", "at": "GET /", "access": "everyone", **own}], accounts=ACCOUNTS)
        for stages, own in ((before, {"handler": text(), **route}), (after, {"handler": text(), **routed}))
    )
    callers = {"page": {"kind": "browser", "origin": "https://a.example"}}
    found = compare(first, second, Trace.of(*requests, callers=callers))
    assert (found.groups[0].kind if found.groups else "", found.changed) == (kind, changed)
    assert {one.id for one in found.differs} == {id_ for group in found.groups for id_ in group.ids}


HARBOUR = [str(DEMO / "harbour.yaml"), str(DEMO / "mistaken.yaml"), str(DEMO / "story.yaml")]


def test_five_lines_tell_what_a_mistaken_order_breaks(usher: Usher) -> None:
    done = usher("compare", *HARBOUR)
    foot = done.out.splitlines()[-5:]
    assert foot[-1] == "✗ 6 of 42 requests differ; 36 more only inside"
    assert foot[1].startswith("  status 401 → 500: key-absent, key-wrong, token-forged")
    assert any(line.startswith("  in    safety-net") and " ≠ " in line for line in done.out.splitlines())
    assert max(map(len, done.out.splitlines())) <= 100
    assert done.status == 0
    assert usher("compare", *HARBOUR, "--expect-same").status == 1


def test_a_pipeline_is_the_same_as_itself(usher: Usher) -> None:
    done = usher("compare", HARBOUR[0], HARBOUR[0], *HARBOUR[2:], "--expect-same")
    assert (done.status, done.out.splitlines()[-1]) == (0, "✓ 42 requests, none differs")
    document = usher("compare", HARBOUR[0], HARBOUR[0], *HARBOUR[2:], "--format", "json").json
    assert document == {"patient-usher": "compare/1", "requests": 42, "changed": 0, "groups": [], "differs": []}


SIDES: list[tuple[list[str], str]] = [
    (["--b-environment", "development"], "harbour.yaml → harbour.yaml development"),
    (["--b-set", "safety-net.reveal=everything"], "harbour.yaml → harbour.yaml safety-net.reveal=everything"),
]


@pytest.mark.parametrize(("arguments", "title"), SIDES)
def test_environments_and_settings_of_one_side(usher: Usher, arguments: list[str], title: str) -> None:
    done = usher("compare", HARBOUR[0], HARBOUR[0], *HARBOUR[2:], *arguments)
    lines = done.out.splitlines()
    assert lines[0] == title
    assert any(line.startswith("  a private part of an error is told: ") for line in lines[-6:])


def test_saved_results_compare_like_replays(usher: Usher) -> None:
    saved = [usher("replay", file, HARBOUR[2], "--format", "json").out for file in HARBOUR[:2]]
    now = usher("compare", *HARBOUR, "--format", "json").json
    then = usher("compare", "a.json", "b.json", "--format", "json", a__json=saved[0], b__json=saved[1])
    assert then.json == now
    mixed = usher("compare", "a.json", HARBOUR[1], *HARBOUR[2:], "--format", "json")
    assert mixed.json == now


def test_several_traces_count_together(usher: Usher) -> None:
    trace = "patient-usher: trace/1\nrequests: [{id: health, send: GET /health}]\n"
    done = usher("compare", *HARBOUR, "more.yaml", "--format", "json", more__yaml=trace).json
    assert (done["requests"], done["changed"]) == (43, 43)
    assert "more: health" in {row["id"] for row in done["differs"]}


def test_markdown_that_a_pull_request_shows(usher: Usher) -> None:
    marks = "patient-usher: pipeline/1\nname: '*x* <b>'\nroutes: [{id: r, at: GET /, access: everyone, handler: {answer: {text: '```'}}}]\n"
    trace = "patient-usher: trace/1\nrequests: [{id: a, send: GET /}]\n"
    done = usher(
        "compare",
        "p.yaml",
        "q.yaml",
        "t.yaml",
        "--format",
        "md",
        p__yaml=marks,
        q__yaml=marks.replace("```", "````"),
        t__yaml=trace,
    )
    assert done.out.startswith("### p.yaml → q.yaml: 1 of 1 request differs\n")
    assert "| the content | the content | 1: a |" in done.out
    fences = [line for line in done.out.splitlines() if line and not line.strip("`")]
    assert fences == ["`````", "`````"], "no run of marks within ends the block"
    assert "| status | 401 → 500" not in done.out


WRONG: list[tuple[list[str], str]] = [
    (["p.yaml", "p.yaml"], "two pipelines, and no trace to replay; name one behind them"),
    (
        ["r.json", "r.json"],
        "this result isn't whole: expected `str`, got `int` - at `$.exchanges[0].id`; save what replay --format json prints",
    ),
    (["s.json", "s.json"], "this result isn't whole"),
    (["none.yaml", "p.yaml"], "none.yaml:1:1: there is no such file"),
]


@pytest.mark.parametrize(("arguments", "said"), WRONG)
def test_what_cannot_be_compared(usher: Usher, arguments: list[str], said: str) -> None:
    files = {
        "p__yaml": "patient-usher: pipeline/1\n",
        "r__json": '{"patient-usher": "result/1", "exchanges": [{"id": 1}]}',
        "s__json": '{"patient-usher": "result/1", "exchanges": []}',
    }
    done = usher("compare", *arguments, **files)
    assert (done.status, done.out) == (2, "")
    assert said in done.err


def test_a_comparison_is_written_in_several_forms(usher: Usher, tmp_path: Path) -> None:
    forms = ("md", "html", "json", "junit", "svg")
    done = usher("compare", *HARBOUR, *(f"--report={form}=out.{form}" for form in forms))
    assert done.status == 0, done.err
    found = {form: (tmp_path / f"out.{form}").read_text() for form in forms}
    (suite,) = JUnitXml.fromfile(str(tmp_path / "out.junit"))
    assert (suite.tests, suite.failures) == (42, 42)
    assert (
        next(case for case in suite if case.name == "key-absent")
        .result[0]
        .message.startswith("status 401 → 500; header fields")
    )
    assert json.loads(found["json"])["changed"] == 42
    assert "6 of 42 requests differ" in found["md"]
    assert found["html"].count("<h2>") == found["html"].count('<table class="journey">') == 2
    assert found["html"].count('<tr class="part">') == 2
    assert not [mark for mark in ('http-equiv="refresh', 'src="', "url(", "<script") if mark in found["html"]]
    texts = [element.text for element in ElementTree.fromstring(found["svg"]).iter("{http://www.w3.org/2000/svg}text")]
    assert (texts.count("-"), texts.count("+"), "key-absent" in texts) == (6, 6, True)
    refused = usher("compare", *HARBOUR, "--report", "pdf=x")
    assert (refused.status, "there is no report of the form 'pdf'" in refused.err) == (2, True)
