"""Laws that hold for every pipeline: what Hypothesis makes up is walked, and the journey looked at."""

from __future__ import annotations

import dataclasses
import json
from typing import Any
from urllib.parse import unquote

from hypothesis import example, given, settings
from hypothesis import strategies as st
from msgspec import structs

from conftest import make_pipeline, replay
from drawn import pipelines
from patient_usher import Pipeline
from patient_usher.core.engine.plan.router import Route, Router
from patient_usher.core.http.cookies import parse_cookies, sign_value, unsign_value
from patient_usher.core.http.fields import Fields, list_items
from patient_usher.core.http.urls import parse_url
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.stage import Stage
from patient_usher.core.model.templates import parse_template


class Witness(Stage):
    """Counts what it is told, around any stage."""

    def __init__(self) -> None:
        self.entered = self.told = 0

    def way_in(self, x: Exchange) -> None:
        self.entered += 1

    def done(self, x: Exchange, how: str) -> None:
        self.told += 1


def witnessed(stages: list[Any], more: dict[str, Any]) -> tuple[list[dict[str, Any]], list[Witness]]:
    """Replay with a counting stage woven in front of every other, in every plan."""
    made = make_pipeline(stages, **more).compiled
    witnesses: list[Witness] = []
    plans = {}
    for key, plan in made.plans.items():
        woven = []
        for step in plan.steps:
            witness = Witness()
            witnesses.append(witness)
            woven += [type(step)("witness", witness, raises=False, sequential=made.sequential), step]
        plans[key] = structs.replace(plan, steps=tuple(woven))
    service = Pipeline(dataclasses.replace(made, plans=plans))
    return replay(
        service,
        {"send": "GET /"},
        {"send": "GET /lost"},
        {"send": "GET /", "caller": "c"},
        callers={"c": {"patience": "500ms"}},
    ), witnesses


STALLED_BEHIND_A_LIMIT: list[Any] = [
    {"id": "g0", "kind": "decide", "cases": [{"then": {"answer-and-continue": {"status": 401}}}]},
    {"id": "late1", "kind": "timeout", "after": "300ms", "behind": "cancelled"},
    {"id": "g2", "kind": "decide", "cases": [{"then": "nothing"}]},
]


@given(pipelines())
@example((STALLED_BEHIND_A_LIMIT, {}))
@settings(max_examples=150, deadline=None)
def test_every_entered_stage_is_told_done_exactly_once(made: tuple[list[Any], dict[str, Any]]) -> None:
    _, witnesses = witnessed(*made)
    assert all(witness.told == witness.entered for witness in witnesses)


@given(pipelines(flow="nested"))
@settings(max_examples=200, deadline=None)
def test_the_way_out_mirrors_the_way_in_for_every_entered_frame(made: tuple[list[Any], dict[str, Any]]) -> None:
    stages, more = made
    for record in replay(make_pipeline(stages, **more), {"send": "GET /"}):
        if record["outcome"] in ("answered-twice", "stalled"):
            continue
        entered = [
            s["stage"]
            for s in record["journey"]
            if s["way"] == "in" and s["did"] == "continued" and s["stage"] != "router"
        ]
        left = [s["stage"] for s in record["journey"] if s["way"] in ("out", "error")]
        if record["outcome"] == "timed-out":  # nothing leaves from behind a timeout; what runs on does so later
            entered = entered[: entered.index(left[0]) + 1]
            left = left[: len(entered)]
            assert left[0].startswith("late")
        assert left == entered[::-1]


@given(pipelines())
@settings(max_examples=100, deadline=None)
def test_a_skipped_stage_leaves_no_mark(made: tuple[list[Any], dict[str, Any]]) -> None:
    stages, more = made
    skipped = {
        "id": "skip",
        "kind": "header-fields",
        "only": ["/elsewhere"],
        "on-request": {"put": {"X-Mark": "1"}},
        "on-answer": {"put": {"X-Mark": "1"}},
    }
    without, with_it = (
        replay(make_pipeline(list_, **more), {"send": "GET /"}) for list_ in (stages, [skipped, *stages])
    )
    for one, other in zip(without, with_it, strict=True):
        assert other["journey"].pop(0) == {
            "stage": "skip",
            "way": "in",
            "did": "skipped",
            "at": 0,
            "note": {"why": "only"},
        }
        assert one == other


@given(pipelines())
@settings(max_examples=60, deadline=None)
def test_same_input_same_bytes(made: tuple[list[Any], dict[str, Any]]) -> None:
    stages, more = made
    requests = ({"send": "GET /", "times": 3, "every": "300ms"}, {"send": "GET /lost"})
    runs = [json.dumps(replay(make_pipeline(stages, **more), *requests)) for _ in range(2)]
    assert runs[0] == runs[1]


@given(pipelines(flow="nested"))
@settings(max_examples=60, deadline=None)
def test_the_mirrored_list_gives_the_same(made: tuple[list[Any], dict[str, Any]]) -> None:
    stages, more = made
    group = {**more["groups"][0], "stages": more["groups"][0]["stages"][::-1]}
    mirrored = {**more, "listed": "innermost-first", "groups": [group]}
    assert replay(make_pipeline(stages, **more), {"send": "GET /"}) == replay(
        make_pipeline(stages[::-1], **mirrored), {"send": "GET /"}
    )


NAMES = st.text("ab%", min_size=1, max_size=2).map(lambda name: name.replace("%", "%61"))
PARTS = st.one_of(NAMES.map(lambda name: name.replace("%61", "a")), st.just("{}"))
METHODS = st.sampled_from(["GET", "HEAD", "POST"])


def template_of(shape: tuple[str, ...]) -> str:
    parts = [f"{{p{at}}}" if part == "{}" else "{+rest}" if part == "..." else part for at, part in enumerate(shape)]
    return "/" + "/".join(parts)


@given(
    st.dictionaries(st.tuples(st.lists(PARTS, max_size=3), st.sampled_from([[], [], ["..."]])).map(lambda both: (*both[0], *both[1])).filter(len), st.sets(METHODS, min_size=1), min_size=1, max_size=8),
    st.lists(NAMES | st.just(""), min_size=1, max_size=4),
    METHODS,
)  # fmt: skip
@example({("a",): {"GET"}, ("{}",): {"HEAD"}}, ["a"], "HEAD")
@example({("{}", "{}"): {"GET"}}, ["{p0}", "a"], "GET")
@settings(max_examples=400)
def test_the_router_picks_the_most_literal_route_that_fits(
    shapes: dict[tuple[str, ...], set[str]], path: list[str], method: str
) -> None:
    """Held against every route tried in turn: by method, with tails, and with segments that are written otherwise."""
    routes = [
        Route(f"{method} {template_of(shape)}", method, parse_template(template_of(shape)), None, None, ())
        for shape, methods in shapes.items()
        for method in sorted(methods)
    ]
    found, values, allowed = Router(routes).find(method, parse_url("https://x.example/" + "/".join(path)))
    given = [unquote(part) for part in path]

    def fits(shape: tuple[str, ...]) -> bool:
        fixed = shape[:-1] if shape[-1] == "..." else shape
        if any(got == "" if part == "{}" else part != got for part, got in zip(fixed, given, strict=False)):
            return False
        if shape[-1] == "...":
            return len(given) > len(fixed) and any(given[len(fixed) :])
        return len(given) == len(fixed)

    fitting = [shape for shape in shapes if fits(shape)]
    by_method = [shape for shape in fitting if method in shapes[shape] or (method == "HEAD" and "GET" in shapes[shape])]
    if not by_method:
        wanted = {name for shape in fitting for name in shapes[shape]}
        assert (found, set(allowed)) == (None, wanted | ({"HEAD"} if "GET" in wanted else set()))
        return
    best = max(by_method, key=lambda shape: [{"{}": 1, "...": 0}.get(part, 2) for part in shape])
    assert found is not None
    assert found.id == f"{method if method in shapes[best] else 'GET'} {template_of(best)}"
    rest = "/".join(given[len(best) - 1 :])
    named = [rest if part == "..." else got for part, got in zip(best, given, strict=False) if part in ("{}", "...")]
    assert list(values.values()) == named


@given(st.text(st.characters(codec="ascii", exclude_characters='";, \t\r\n'), min_size=1), st.binary(min_size=1))
def test_a_signed_value_comes_back_and_a_changed_one_does_not(value: str, secret: bytes) -> None:
    signed = sign_value(value, secret)
    assert unsign_value(signed, secret) == value
    assert unsign_value(signed, secret + b"x") is None
    assert unsign_value("x" + signed, secret) is None


@given(st.dictionaries(st.text("abc", min_size=1), st.text("xyz=", max_size=5), max_size=4))
def test_cookies_come_back_as_they_were_sent(pairs: dict[str, str]) -> None:
    assert parse_cookies("; ".join(f"{name}={value}" for name, value in pairs.items())) == pairs


@given(st.lists(st.tuples(st.text("aB-", min_size=1), st.text("x ,", max_size=4)), max_size=8))
def test_header_fields_keep_every_line(pairs: list[tuple[str, str]]) -> None:
    fields = Fields(pairs)
    for name, _ in pairs:
        assert fields.values(name.lower()) == tuple(value for other, value in pairs if other.lower() == name.lower())
    assert sorted(value for _, value in fields) == sorted(value for _, value in pairs)


@given(
    st.lists(
        st.one_of(
            st.text("ab", min_size=1),
            st.text('a,"\\', max_size=4).map(lambda t: '"' + t.replace("\\", "\\\\").replace('"', '\\"') + '"'),
        ),
        max_size=5,
    )
)
def test_lists_split_outside_quotes_only(items: list[str]) -> None:
    assert list_items(" , ".join(items)) == items
