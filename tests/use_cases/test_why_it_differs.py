"""Why a service differs: hidden changes and hidden orders, served, are found again by what they answer."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path
from random import Random
from typing import Any

import pytest
from jsonschema import Draft202012Validator

from conftest import DEMO, Outcome, described
from patient_usher import Pipeline, Trace, drift, load, replay
from patient_usher.core.model.overlays import variant
from patient_usher.core.questions.reorder.discriminate import orders_of
from patient_usher.core.variants.candidates import changes_of
from patient_usher.core.variants.change import changed_by, document_of
from patient_usher.core.variants.orders import movable, reordered
from patient_usher.core.variants.search import Explanation
from patient_usher.core.variants.seen import Seen
from patient_usher.core.verify.outside import drifts
from patient_usher.output.schema import SCHEMAS
from patient_usher.use_cases.drift import explain
from patient_usher.use_cases.find_order import find_order
from served import Served

Usher = Callable[..., Outcome]
LAWS = int(os.environ.get("USHER_LAWS", "24"))
"""With ``make fuzz`` all hidden changes are looked for."""
STORIES = {"landing": "landing-story", "boaters": "boaters-story", "harbour": "story"}


def stage(id_: str, **options: Any) -> dict[str, Any]:
    return {"stages": {id_: {key.replace("_", "-"): value for key, value in options.items()}}}


def route(id_: str, **options: Any) -> dict[str, Any]:
    return {"routes": {id_: options}}


HIDDEN: list[tuple[str, dict[str, Any]]] = [
    ("landing", stage("fair", quota=2)), ("landing", stage("fair", window="30s")), ("landing", stage("fair", fields=["ratelimit"])), ("landing", stage("fair", enabled=False)),
    ("landing", stage("may", enabled=False)), ("landing", stage("who", realm="quay")), ("landing", stage("marks", enabled=False)), ("landing", stage("browsers", allow_origins=["https://quay.example"])),
    ("landing", stage("browsers", allow_headers=[])), ("landing", stage("browsers", allow_credentials=True)), ("landing", stage("browsers", max_age="600s")), ("landing", stage("browsers", enabled=False)),
    ("landing", route("berths", access="everyone")), ("landing", route("tides", access="signed-in")), ("landing", route("ledger", access="signed-in")), ("landing", stage("marks", on_answer={"put": {"Cache-Control": "public"}})),
    ("boaters", stage("browsers", max_age="60s")), ("boaters", stage("browsers", expose_headers=[])), ("boaters", stage("browsers", allow_credentials=False)), ("boaters", stage("browsers", allow_methods=["GET", "PUT"])),
    ("boaters", stage("safety-net", enabled=False)), ("boaters", route("tides", access="signed-in")), ("boaters", route("weather", access="signed-in")), ("boaters", stage("browsers", enabled=False)),
    ("harbour", stage("watch", enabled=False)), ("harbour", stage("safety-net", write_as="text")), ("harbour", stage("fuel-card", enabled=False)), ("harbour", route("weather", access="signed-in")),
    ("harbour", route("health", access="signed-in")), ("harbour", stage("lock-keeper", enabled=False)),
]  # fmt: skip
EQUALS = {13, 14}
"""Of these another change answers alike on the story, and is named first; the hidden one stands beside it."""


def why(model: Pipeline, story: Trace, hidden: Pipeline) -> Explanation:
    served = Served(hidden.compiled)
    held = list(drift(model, story, app=served, wait=served.wait, writes=True))
    assert any(one.differs for one in held)
    return explain(model, [story], held, writes=True)


@pytest.mark.parametrize("at", range(0, len(HIDDEN), 1 if LAWS >= 200 else 6))
def test_a_single_change_is_named(at: int) -> None:
    """First, in all but two of thirty; those stand among what answers alike."""
    name, change = HIDDEN[at]
    model, story = load(DEMO / f"{name}.yaml"), Trace.read(DEMO / f"{STORIES[name]}.yaml")
    found = why(model, story, model.changed(change))
    assert (len(found.changes), found.leaves, found.whole) == (1, (), True)
    ((part, parts),) = change.items()
    ((where, options),) = parts.items()
    named = [
        {str(path[2]) for path, _ in one.edits if path[:2] == (part, where)}
        for one in (found.changes[0].change, *found.changes[0].alike)
    ]
    assert options.keys() & (named[0] if at not in EQUALS else {key for keys in named for key in keys}), named


@pytest.mark.parametrize("seed", range(4))
def test_two_changes_and_an_order_are_told_together(seed: int) -> None:
    """What is found answers as the service did: the law of every explanation that leaves nothing."""
    random = Random(seed)
    model, story = load(DEMO / "landing.yaml"), Trace.read(DEMO / "landing-story.yaml")
    hidden = model
    for _, change in random.sample(HIDDEN[:12], 2):
        hidden = hidden.changed(change)
    order, *_ = random.sample(orders_of(hidden.compiled)[0], 1)
    hidden = Pipeline(reordered(hidden.compiled, order)) if seed % 2 else hidden
    found = why(model, story, hidden)
    assert found.changes
    explains = {id_ for one in found.changes for id_ in one.explains}
    served = Served(hidden.compiled)
    differing = {one.id for one in drift(model, story, app=served, wait=served.wait) if one.differs}
    assert explains | set(found.leaves) >= differing


def test_the_variant_that_is_written_answers_as_the_service(usher: Usher, tmp_path: Path) -> None:
    paths = [
        str(DEMO / "landing.yaml"),
        str(DEMO / "landing-story.yaml"),
        "--app",
        "landing_service:drifted",
        "--trust",
        "python",
    ]
    first = usher("drift", *paths, "--fit", "fit.yaml", "--format", "json", "--into", "kept.har")
    document = first.json
    Draft202012Validator(SCHEMAS["drift"]()).validate(document)
    assert document["explanation"]["leaves"] == []
    assert {change["where"] for change in document["explanation"]["changes"]} >= {"may", "fair"}
    text = (tmp_path / "fit.yaml").read_text().replace("like: ", f"like: {DEMO}/").replace(f"{DEMO}/../", f"{DEMO}/")
    (tmp_path / "fit.yaml").write_text(
        "\n".join(
            line if not line.startswith("like:") else f"like: {DEMO / 'landing.yaml'}" for line in text.splitlines()
        )
    )
    again = usher("drift", "fit.yaml", paths[1], "--recorded", "kept.har", "--trust", "files")
    assert "not as the trace expects; the model answers them alike" in again.out
    assert "differs from its model" not in again.out
    told = usher("drift", *paths)
    for words in (
        "with these changes the model answers as the service does",
        "explains ledger-skipper",
        "these explain the same: ",
    ):
        assert words in told.out


def test_what_no_change_explains_is_said(usher: Usher) -> None:
    model = "patient-usher: pipeline/1\nroutes: [{id: r, at: GET /, access: everyone, handler: {answer: {text: ok}}}]\n"
    code = 'def app(environ, start_response):\n    raise ConnectionError("gone")\n'
    trace = "patient-usher: trace/1\nrequests: [{id: a, send: GET /}]\n"
    outcome = usher(
        "drift",
        "p.yaml",
        "t.yaml",
        "--app",
        "odd:app",
        "--trust",
        "python",
        "--fit",
        "f.yaml",
        p__yaml=model,
        t__yaml=trace,
        odd__py=code,
    )
    assert outcome.status == 1
    assert "no change of the model explains it" in outcome.out
    assert "what no option of the model says" in outcome.out
    assert "no answer comes\n    explains a" in outcome.out
    assert "nothing was written to f.yaml: no change of an option or an order explains it" in outcome.err


# Orders.


@pytest.mark.parametrize("name", STORIES)
def test_hidden_orders_are_found(name: str) -> None:
    """Each is among those that are told; no two of those that are told can be told apart."""
    model = load(DEMO / f"{name}.yaml")
    orders, exact = orders_of(model.compiled)
    assert exact
    for hidden in Random(7).sample(orders, 4):
        served = Served(reordered(model.compiled, hidden))
        found = find_order(model, app=served, wait=served.wait, writes=True)
        assert hidden in found.fitting
        class_ = next(one for one in found.apart.classes if one.example in found.fitting)
        assert len(found.fitting) >= class_.orders
        assert found.present == (found.example == movable(model.compiled))


@pytest.mark.parametrize(("app", "status", "words"), [
    ("agreeing", 0, "the model's order answers so, alone of 120 orders"), ("drifted", 1, "none of 120 orders answers so"),
])  # fmt: skip
def test_find_order_on_the_services_of_the_demo(usher: Usher, app: str, status: int, words: str) -> None:
    paths = [str(DEMO / "landing.yaml"), "--app", f"landing_service:{app}", "--trust", "python", "--find-order"]
    outcome = usher("drift", *paths)
    assert (outcome.status, words in " ".join(outcome.out.split())) == (status, True), outcome.out
    document = usher("drift", *paths, "--format", "json").json
    Draft202012Validator(SCHEMAS["order-found"]()).validate(document)
    assert document["present"] is (status == 0)
    assert all(entry["send"].split()[0] in ("GET", "HEAD", "OPTIONS") for entry in document["requests"])


def test_an_order_that_nothing_tells(usher: Usher) -> None:
    plain = "patient-usher: pipeline/1\nstages: [access-log]\nroutes: [{id: r, at: GET /, access: everyone, handler: {answer: {text: ok}}}]\n"
    outcome = usher("drift", "p.yaml", "--find-order", "--at", "http://127.0.0.1:1", p__yaml=plain)
    assert (outcome.status, "no request tells these orders apart" in outcome.err) == (2, True)
    both = usher(
        "drift", "p.yaml", "t.yaml", "--find-order", "--at", "http://127.0.0.1:1", p__yaml=plain, t__yaml=plain
    )
    assert (both.status, "makes its own requests" in both.err) == (2, True)


def test_a_change_in_words_is_one_in_fact() -> None:
    """Every variant that is tried differs from the model as it says: its document, loaded, answers as it does."""
    model = load(DEMO / "landing.yaml")
    seen = Seen(
        numbers=frozenset({5, 30}),
        texts=("https://quay.example",),
        lists=(("GET", "PUT"),),
        fields=(("cache-control", "public"),),
        paths=("/tides",),
    )
    changes = changes_of(model.compiled, seen)
    assert len(changes) > 100
    for change in Random(3).sample(changes, 25):
        made = changed_by(model.compiled, [change])
        doc, problems = variant(
            model.compiled.source.doc,
            {k: v for k, v in document_of(model.compiled, [change], "x").items() if k != "like"},
        )
        assert problems == []
        if made is None:
            continue
        twin = described(json.dumps(json.loads(json.dumps(doc, default=str))), "p.json")
        story = Trace.read(DEMO / "landing-story.yaml")
        first, second = (records_of(one, story) for one in (Pipeline(made), twin))
        assert all(not drifts(a, b, bodies=True) for a, b in zip(first, second, strict=True)), change.words


def records_of(pipeline: Pipeline, story: Trace) -> list[Any]:
    return [record for sent in replay(pipeline, story) for record in sent.exchanges]


def test_what_was_not_tried_explains_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    """Where the budget ends, what a change is said to explain has been tried."""
    model, story = load(DEMO / "landing.yaml"), Trace.read(DEMO / "landing-story.yaml")
    hidden = model.changed({"stages": {"fair": {"quota": 2}, "who": {"realm": "quay"}, "may": {"enabled": False}}})
    served = Served(hidden.compiled)
    held = list(drift(model, story, app=served, wait=served.wait))
    differing = {one.id for one in held if one.differs}
    for tries in (1, 20, 170, 260):
        monkeypatch.setattr("patient_usher.core.variants.search.BUDGET", tries * len(held))
        found = explain(model, [story], held)
        assert found.tried <= (1 if tries == 1 else tries * len(held)), "each takes a request at least, the first all"
        assert {id_ for one in found.changes for id_ in one.explains} | set(found.leaves) >= differing


def test_a_change_is_named_of_several_traces_too() -> None:
    model, story = load(DEMO / "landing.yaml"), Trace.read(DEMO / "landing-story.yaml")
    served = Served(model.changed({"stages": {"who": {"realm": "quay"}}}).compiled)
    held = list(drift(model, story, story, app=served, wait=served.wait))
    found = explain(model, [story, story], held)
    assert [one.change.words for one in found.changes] == ["who: realm quay, not landing"]
    assert found.leaves == ()
