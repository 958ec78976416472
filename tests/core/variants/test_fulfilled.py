"""The nearest changes with which what a trace expects comes: what a demo's own story holds, broken by hidden changes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from jsonschema import Draft202012Validator

from conftest import DEMO, Outcome
from patient_usher import Pipeline, Trace, load, replay
from patient_usher.core.variants.change import changed_by
from patient_usher.core.variants.search import Explanation, fulfilled
from patient_usher.output.schema import SCHEMAS
from patient_usher.use_cases.session import bound_all
from pipelines import MANY

Usher = Callable[..., Outcome]
PIPELINE = """patient-usher: pipeline/1
stages:
  - {id: browsers, kind: cors, allow-origins: ["https://page.example"], allow-headers: [x-key]}
  - {id: who, kind: authenticate, realm: quay, schemes: [{scheme: api-key, name: X-Key}]}
  - {id: fair, kind: rate-limit, quota: 3, window: 60s, per: [address], fields: []}
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {json: {high: 6}}}}
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {json: {free: 2}}}}
accounts: {maren: {api-keys: [made-up]}}
"""
TRACE = """patient-usher: trace/1
callers: {page: {kind: browser, origin: "https://page.example"}, buoy: {address: 203.0.113.9}}
requests:
  - {id: page, caller: page, send: GET /berths, sign: {api-key: maren}, expect: {status: 200, browser: readable}}
  - {id: stranger, caller: page, send: GET /berths, expect: {status: 401, browser: readable, headers: {WWW-Authenticate: {contains: quay}}}}
  - {id: hurry, caller: buoy, send: GET /tides, times: 6, expect: {tally: {200: %s}}}
"""


def found(pipeline: Pipeline, story: Trace) -> Explanation:
    return fulfilled(pipeline.compiled, bound_all(pipeline.compiled, [story]))


@pytest.mark.parametrize(("name", "story", "change"), [
    ("landing", "landing-story", {"stages": {"fair": {"quota": 2}}}), ("landing", "landing-story", {"stages": {"may": {"enabled": False}}}),
    ("landing", "landing-story", {"routes": {"berths": {"access": "everyone"}}}), ("landing", "landing-story", {"stages": {"browsers": {"enabled": False}}}),
    ("boaters", "boaters-story", {"stages": {"browsers": {"allow-credentials": False}}}), ("harbour", "story", {"stages": {"fuel-card": {"enabled": False}}}),
    ("harbour", "story", {"routes": {"health": {"access": "signed-in"}}}), ("harbour", "story", {"stages": {"safety-net": {"write-as": "text"}}}),
][:: 1 if MANY else 2])  # fmt: skip
def test_a_hidden_change_is_taken_back(name: str, story: str, change: dict[str, Any]) -> None:
    """With what is named everything comes that the story expects."""
    model, trace = load(DEMO / f"{name}.yaml"), Trace.read(DEMO / f"{story}.yaml")
    assert found(model, trace).tried == 0
    broken = model.changed(change)
    failing = {sent.id for sent in replay(broken, trace) if sent.failed}
    why = found(broken, trace)
    made = changed_by(broken.compiled, why.all_changes)
    assert failing
    assert made is not None
    assert why.leaves == ()
    assert [sent.id for sent in replay(Pipeline(made), trace) if sent.failed] == []


def test_check_says_what_would_bring_it(usher: Usher) -> None:
    good = usher("check", "p.yaml", "t.yaml", "--level", "error", p__yaml=PIPELINE, t__yaml=TRACE % "3, 429: 3")
    assert (good.status, "as expected" in good.out) == (0, False), good.out
    told = usher("check", "p.yaml", "t.yaml", "--level", "error", t__yaml=TRACE % "5, 429: 1")
    assert told.status == 1
    for words in (
        "with these changes everything comes that the trace expects",
        "fair: quota 5, not 3",
        "then as expected: hurry[6]",
        "1 request not as expected",
    ):
        assert words in told.out
    document = usher("check", "p.yaml", "t.yaml", "--format", "json").json
    Draft202012Validator(SCHEMAS["findings"]()).validate(document)
    assert [change["change"] for change in document["unmet"]["changes"]] == ["fair: quota 5, not 3"]


def test_a_change_that_the_trace_makes_goes_with_every_variant(usher: Usher) -> None:
    """A variant that what the trace changes doesn't fit is none: costs may be over a quota then."""
    trace = """patient-usher: trace/1
requests:
  - {id: a, send: GET /tides, expect: {status: 404}}
  - change: {stages: {fair: {quota: 1}}}
  - {id: b, send: GET /tides, expect: {status: 429}}
"""
    told = usher("check", "p.yaml", "t.yaml", p__yaml=PIPELINE, t__yaml=trace)
    assert (told.status, told.err) == (1, "")
    assert "then as expected: a" in told.out


def test_what_nothing_brings_is_left(usher: Usher) -> None:
    told = usher(
        "check",
        "p.yaml",
        "t.yaml",
        p__yaml=PIPELINE,
        t__yaml=(TRACE % "3, 429: 3").replace("status: 401", "status: 299"),
    )
    assert told.status == 1
    assert "no change that was tried brings what the trace expects" in told.out
    assert "still not as expected: stranger" in told.out
