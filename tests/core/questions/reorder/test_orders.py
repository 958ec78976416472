"""Orders of stages: what swapping changes, which order has what is wished for, and how to tell orders apart."""

from __future__ import annotations

import json
from collections.abc import Callable
from itertools import permutations
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import DEMO, Outcome, described, make_pipeline
from patient_usher import Pipeline, Trace, load, replay
from patient_usher.core.questions.reorder.discriminate import distinguish_orders
from patient_usher.core.questions.reorder.swaps import swaps
from patient_usher.core.variants.orders import EXACT, Constraints, by_moves, movable, moves, reordered
from pipelines import put_together

Usher = Callable[..., Outcome]
HARBOUR, STORY, MISTAKEN = (str(DEMO / name) for name in ("harbour.yaml", "story.yaml", "mistaken.yaml"))


def prepared(pipeline: Pipeline, *requests: dict[str, Any]) -> list[Any]:
    return [Trace.of(*requests, base="https://api.example").bound(pipeline.compiled)]


def decider(id_: str, name: str, status: int) -> dict[str, Any]:
    return {
        "id": id_,
        "kind": "decide",
        "cases": [{"when": {"header": {name: "present"}}, "then": {"answer": {"status": status}}}],
    }


def marker(id_: str, value: str) -> dict[str, Any]:
    return {"id": id_, "kind": "header-fields", "on-answer": {"put": {"X-Mark": value}}}


def test_a_reordered_pipeline_is_the_variant_of_that_order() -> None:
    """What is put together from the old plans is what loading the order afresh gives."""
    for name in ("harbour", "sequential"):
        pipeline = load(DEMO / f"{name}.yaml")
        trace = Trace.read(STORY)
        for order in list(by_moves(movable(pipeline.compiled)))[:12]:
            quick, fresh = Pipeline(reordered(pipeline.compiled, order)), pipeline.variant(order=list(order))
            assert [sent.exchanges for sent in replay(quick, trace)] == [
                sent.exchanges for sent in replay(fresh, trace)
            ]


@pytest.mark.parametrize("listed", ["outermost-first", "innermost-first"])
def test_stages_that_are_off_keep_their_places(listed: str) -> None:
    stages = [marker("a", "a"), {**marker("off", "off"), "enabled": False}, marker("b", "b"), marker("c", "c")]
    pipeline = make_pipeline(stages, listed=listed)
    order = movable(pipeline.compiled)
    assert order == (("a", "b", "c") if listed == "outermost-first" else ("c", "b", "a"))
    swapped = reordered(pipeline.compiled, order[::-1])
    assert [entry["id"] for entry in swapped.spec.stages] == ["c", "off", "b", "a"]
    assert movable(swapped) == order[::-1]


VERDICTS = [
    (["access-log", "request-id"], {}, "free"),
    ([marker("a", "a"), marker("b", "b")], {}, "fields"),
    ([decider("a", "X-A", 401), decider("b", "X-B", 400)], {"headers": {"X-A": "1", "X-B": "1"}}, "must-not"),
    ([decider("a", "X-A", 401), decider("b", "X-B", 400)], {"headers": {"X-A": "1"}}, "free"),
]


@pytest.mark.parametrize(("stages", "request_", "verdict"), VERDICTS)
def test_what_a_swap_changes(stages: list[Any], request_: dict[str, Any], verdict: str) -> None:
    pipeline = make_pipeline(stages)
    (pair,) = swaps(pipeline.compiled, prepared(pipeline, {"send": "GET /", **request_}))
    assert pair.verdict == verdict
    assert (pair.example is None) == (verdict == "free")


LETTERS = "abcde"


@settings(max_examples=25, deadline=None)
@given(st.data())
def test_the_fewest_moves_are_those_of_brute_force(data: st.DataObject) -> None:
    """Small random pipelines, random expectations and wishes: the search against all permutations."""
    count = data.draw(st.integers(2, 5))
    names = LETTERS[:count]
    pipeline = make_pipeline([decider(name, f"X-{name}", 400 + at) for at, name in enumerate(names)])
    requests = []
    for number in range(data.draw(st.integers(0, 4))):
        fields = data.draw(st.lists(st.sampled_from(names), min_size=1, max_size=3, unique=True))
        winner = data.draw(st.sampled_from(fields))
        expect = {"status": 400 + names.index(winner)}
        requests.append(
            {"id": f"q{number}", "send": "GET /", "headers": {f"X-{name}": "1" for name in fields}, "expect": expect}
        )
    wishes = data.draw(
        st.lists(
            st.tuples(st.sampled_from(names), st.sampled_from(names)).filter(lambda pair: pair[0] != pair[1]),
            max_size=3,
        )
    )
    found = Constraints(pipeline.compiled, prepared(pipeline, *requests), wishes).search()
    good = []
    for order in permutations(names):
        wished = all(order.index(a) < order.index(b) for a, b in wishes)
        other = pipeline.variant(order=list(order))
        if wished and not any(sent.failed for sent in replay(other, Trace.of(*requests, base="https://api.example"))):
            good.append(moves(names, order))
    assert (found.moves if found.order is not None else None) == min(good, default=None)
    if found.order is None:
        assert _unmet(pipeline, requests, found.conflict)
        for item in found.conflict:
            assert not _unmet(pipeline, requests, [other for other in found.conflict if other != item]), (
                "none may be left out"
            )


def _unmet(pipeline: Pipeline, requests: list[dict[str, Any]], items: Any) -> bool:
    """Whether no order meets all of these wishes and requests."""
    for order in permutations(movable(pipeline.compiled)):
        wished = all(order.index(item[0]) < order.index(item[2]) for item in items if "<" in item)
        sent = replay(pipeline.variant(order=list(order)), Trace.of(*requests, base="https://api.example"))
        if wished and not any(one.failed and one.id in items for one in sent):
            return False
    return True


@given(st.permutations("abcdef"))
def test_moves_are_counted_as_one_would(order: list[str]) -> None:
    """No move at all gives the order itself; one of its neighbours takes one; never more than all but one."""
    count = moves("abcdef", order)
    assert 0 <= count < len(order)
    assert (count == 0) == (order == list("abcdef"))


def test_many_stages_are_searched_as_far_as_is_said() -> None:
    names = [f"s{n}" for n in range(EXACT + 2)]
    pipeline = make_pipeline([marker(name, name) for name in names])
    did_you_mean = Constraints(pipeline.compiled, [], [("s3", "s0")]).search()
    assert (did_you_mean.moves, did_you_mean.exact) == (1, False)
    far = Constraints(pipeline.compiled, [], [(names[at + 1], names[at]) for at in range(len(names) - 1)]).search()
    assert (far.order, far.exact) == (None, False)


def test_every_order_that_can_be_told_apart_is() -> None:
    """Two guards and a mark: three requests at most, and every class answers otherwise."""
    pipeline = make_pipeline([decider("a", "X-A", 401), decider("b", "X-B", 400), marker("m", "m"), "access-log"])
    apart = distinguish_orders(pipeline.compiled)
    assert apart.exact
    answers = [one.answers for one in apart.classes]
    assert sum(one.orders for one in apart.classes) == apart.orders == 6
    assert len(apart.requests) <= 3
    assert len(answers) > 1


EQUAL = [
    {"id": "net", "kind": "error-handler"},
    {"id": "lim", "kind": "rate-limit", "quota": 2, "window": "10s"},
    {"id": "body", "kind": "read-body"},
]


@pytest.mark.parametrize("seed", ["equal", 3, 9, 14, 21])
def test_the_written_trace_answers_as_the_table_says(seed: Any) -> None:
    """Replayed through an example order of each class, it gives different answers for different classes."""
    note = {
        "id": "note",
        "at": "POST /notes",
        "access": "everyone",
        "handler": {"answer": {"json": {"n": "${body.n}"}}},
    }
    equal = {"patient-usher": "pipeline/1", "refuse": "raise", "stages": EQUAL, "routes": [note]}
    pipeline = described(json.dumps(equal if seed == "equal" else put_together(seed)))
    if len(pipeline.compiled.spec.stages) > 6:
        pytest.skip("too many orders for a quick test")
    apart = distinguish_orders(pipeline.compiled)
    answers = []
    for one in apart.classes:
        sent = replay(Pipeline(reordered(pipeline.compiled, one.example)), Trace.of(*apart.trace.requests))
        answers.append(json.dumps([_answer(s.final) for s in sent]))
    assert len({*answers}) == len(apart.classes)
    if seed == "equal":
        assert ("body", "lim") not in {tuple(sorted(pair)) for pair in apart.equal}


def _answer(record: Any) -> Any:
    got = record.response
    if got is None:
        return None
    return [got.status, sorted(pair for pair in got.headers if pair[0].lower() not in ("date", "age")), got.body]


# The command.


def test_the_demo_told_in_a_matrix_and_a_list(usher: Usher) -> None:
    outcome = usher("reorder", HARBOUR, STORY, "--all-pairs")
    assert outcome.status == 0
    for words in (
        "10 pairs",
        "✗ must not swap",
        "safety-net – who",
        "○ may swap freely",
        "access-log – marks",
        "swapped: key-absent",
        "≠",
    ):
        assert words in outcome.out
    assert max(map(len, outcome.out.splitlines())) <= 100


def test_the_document_is_as_designed(usher: Usher) -> None:
    document = usher("reorder", HARBOUR, STORY, "--format", "json").json
    assert document["patient-usher"] == "reorder/1"
    assert [(pair["a"], pair["b"], pair["verdict"]) for pair in document["pairs"]] == [
        ("access-log", "marks", "free"), ("marks", "safety-net", "fields"), ("safety-net", "who", "must-not"), ("who", "watch", "must-not"),
    ]  # fmt: skip
    assert document["replays"] == 6, "as it is, four swaps, and once more for what is expected"
    assert (document["found"], document["conflict"]) == (None, [])


def test_an_order_is_found_and_written(usher: Usher, tmp_path: Path) -> None:
    for name in ("harbour.yaml", "mistaken.yaml", "story.yaml"):
        (tmp_path / name).write_text((DEMO / name).read_text())
    outcome = usher("reorder", "mistaken.yaml", "story.yaml", "--into", "found.yaml", "--format", "json")
    assert (outcome.status, outcome.json["found"]) == (
        0,
        {"order": ["access-log", "marks", "safety-net", "who", "watch"], "moves": 1, "exact": True},
    )
    assert usher("replay", "found.yaml", "story.yaml", "-q").status == 0


def test_where_no_order_has_it_all_the_conflict_is_told(usher: Usher) -> None:
    outcome = usher("reorder", HARBOUR, STORY, "--wish", "watch<who", "--format", "json")
    assert (outcome.status, outcome.json["found"], outcome.json["conflict"]) == (1, None, ["role-right", "watch<who"])


BUDGETS: list[tuple[int, str, bool]] = [
    (50, "no order was found before the budget was used up; --budget N replays more", False),
    (100_000, "no order has all of it; ", True),
]


@pytest.mark.parametrize(("budget", "words", "whole"), BUDGETS)
def test_a_search_ends_with_its_budget_and_says_so(usher: Usher, budget: int, words: str, whole: bool) -> None:
    arguments = ["reorder", HARBOUR, STORY, "--wish", "watch<who", "--budget", str(budget)]
    told, document = usher(*arguments), usher(*arguments, "--format", "json")
    assert (told.status, document.status, document.json["whole"]) == (1, 1, whole)
    assert told.out.splitlines()[-1].startswith(f"✗ {words}")


RECORDED = """patient-usher: pipeline/1
stages:
  - {id: limit, kind: decide, cases: [{when: {header: {X-Flood: present}}, then: {answer: {status: 429}}}]}
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
routes: [{id: r, at: GET /r, access: signed-in, handler: {answer: {text: ok}}}]
accounts: {ann: {api-keys: [a-made-up-key]}}
"""


def recording(*answers: tuple[dict[str, str], int]) -> str:
    import json

    entries = [
        {"startedDateTime": f"2031-05-01T08:00:0{at}Z", "time": 1,
         "request": {"method": "GET", "url": "https://api.example/r", "httpVersion": "HTTP/1.1", "headers": [{"name": n, "value": v} for n, v in headers.items()], "queryString": [], "cookies": [], "headersSize": -1, "bodySize": 0},
         "response": {"status": status, "statusText": "", "httpVersion": "HTTP/1.1", "headers": [], "cookies": [], "content": {"size": 0, "mimeType": "text/plain"}, "redirectURL": "", "headersSize": -1, "bodySize": 0},
         "cache": {}, "timings": {"send": 0, "wait": 1, "receive": 0}}
        for at, (headers, status) in enumerate(answers)
    ]  # fmt: skip
    return json.dumps(
        {"log": {"version": "1.2", "creator": {"name": "a made-up client", "version": "1"}, "entries": entries}}
    )


def test_which_order_explains_a_recording(usher: Usher) -> None:
    """The service asked who is calling before it counted: one move from the model's order."""
    har = recording(({"X-Flood": "1"}, 401), ({}, 401))
    outcome = usher("reorder", "p.yaml", "r.har", "--expect-recorded", "--format", "json", p__yaml=RECORDED, r__har=har)
    assert (outcome.status, outcome.json["found"]["order"], outcome.json["found"]["moves"]) == (0, ["who", "limit"], 1)


def test_what_no_order_explains_is_named(usher: Usher) -> None:
    har = recording(({"X-Flood": "1"}, 401), ({}, 418))
    outcome = usher("reorder", "p.yaml", "r.har", "--expect-recorded", "--format", "json", p__yaml=RECORDED, r__har=har)
    assert (outcome.status, len(outcome.json["never"]), len(outcome.json["conflict"])) == (1, 1, 1)
    assert outcome.json["conflict"] == outcome.json["never"]


def test_requests_that_tell_orders_apart_are_written_and_do(usher: Usher, tmp_path: Path) -> None:
    outcome = usher("reorder", "p.yaml", "--tell-apart", "--into", "t.yaml", "--format", "json", p__yaml=RECORDED)
    apart = outcome.json["apart"]
    assert (outcome.status, apart["exact"], len(apart["classes"])) == (0, True, 2)
    results = []
    for order in (["limit", "who"], ["who", "limit"]):
        text = f"patient-usher: pipeline/1\nlike: p.yaml\norder: [{', '.join(order)}]\n"
        document = usher("replay", "v.yaml", "t.yaml", "--format", "json", v__yaml=text).json
        results.append([record["response"]["status"] for record in document["exchanges"]])
    assert results[0] != results[1]
    assert "A" in usher("reorder", "p.yaml", "--tell-apart").out


@pytest.mark.parametrize("name", ["m.png", "m.svg"])
def test_the_matrix_as_a_picture_is_the_same_every_time(usher: Usher, tmp_path: Path, name: str) -> None:
    pictures = []
    for _ in range(2):
        assert usher("reorder", HARBOUR, STORY, "--all-pairs", "--picture", name).status == 0
        pictures.append((tmp_path / name).read_bytes())
    assert pictures[0] == pictures[1]
    assert len(pictures[0]) > 5000


WRONG = [
    ([HARBOUR], "no trace"),
    ([HARBOUR, STORY, "--wish", "who"], "A<B"),
    ([HARBOUR, STORY, "--wish", "whoo<marks"], "did you mean 'who'?"),
    ([HARBOUR, STORY, "--picture", "m.gif"], "FILE.png or FILE.svg"),
]


@pytest.mark.parametrize(("arguments", "words"), WRONG)
def test_what_is_wrong_is_told(usher: Usher, arguments: list[str], words: str) -> None:
    outcome = usher("reorder", *arguments)
    assert (outcome.status, words in outcome.err) == (2, True)
