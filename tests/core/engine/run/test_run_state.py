"""Where state lives: laws that every replay keeps, whatever happens in it.

A pipeline is frozen, a run state is made fresh for each replay, and only what a run state holds goes from one
exchange to the next.
"""

from __future__ import annotations

import json
import pickle
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import DEMO, Outcome, make_pipeline, records, replay, text
from drawn import pipelines
from patient_usher import RunState, Trace, compare, load
from patient_usher import replay as replayed
from patient_usher.core.verify.run import run

Usher = Callable[..., Outcome]
STORIES = [("harbour", "story"), ("quay", "quay-story"), ("limits", "limits-story"), ("shelf", "shelf-story")]
NOTHING: dict[str, Any] = {"change": {"name": "the same"}}
ROUTE = {"id": "r", "at": "GET /", "access": "everyone"}


# The same input gives the same bytes.


def schemas(count: int) -> list[dict[str, Any]]:
    """Requests between changes of a route's schema, there and back: each change frees what the last one made."""
    entries: list[dict[str, Any]] = []
    for number in range(count):
        least = 10 if number % 2 else 0
        query = {"properties": {"n": {"type": "integer", "minimum": least}}}
        entries.append({"change": {"routes": {"r": {"input": {"query": query}}}}})
        entries.append({"id": f"q{number}", "send": "GET /?n=5", "expect": {"status": 422 if least else 200}})
    return entries


def keys(count: int) -> list[dict[str, Any]]:
    """Requests between changes of what makes a copy of its own."""
    entries: list[dict[str, Any]] = []
    for number in range(count):
        mine, other = "ab" if number % 2 else "ba"
        entries.append({"change": {"routes": {"r": {"cache": {"shared": "60s", "per": [f"query.{mine}"]}}}}})
        for id_, value in (("x", "u"), ("y", "w")):
            query = f"{mine}=v{number}&{other}={value}{number}"
            entries.append({"id": f"{id_}{number}", "send": f"GET /?{query}"})
        entries[-1]["expect"] = {"cache": "hit"}
    return entries


CHANGING: list[tuple[str, list[Any], list[dict[str, Any]]]] = [
    ("validate", ["validate"], schemas(30)),
    ("cache", ["cache"], keys(40)),
]


@pytest.mark.parametrize(("name", "stages", "entries"), CHANGING, ids=[row[0] for row in CHANGING])
def test_the_same_input_gives_the_same_bytes_in_every_process(
    usher: Usher, name: str, stages: list[Any], entries: list[dict[str, Any]]
) -> None:
    route = {**ROUTE, "cache": "60s", "handler": text()}
    pipeline = json.dumps({"patient-usher": "pipeline/1", "stages": stages, "routes": [route]})
    trace = json.dumps({"patient-usher": "trace/1", "requests": entries})
    files = {"p__json": pipeline, "t__json": trace}
    runs = [
        usher("replay", "p.json", "t.json", "--format", "json", env={"PYTHONHASHSEED": seed}, **files)
        for seed in ("0", "1", "random", "random")
    ]
    assert [run.status for run in runs] == [0] * 4, runs[0].out[-500:]
    assert len({run.out for run in runs}) == 1


@pytest.mark.parametrize(("pipeline", "story"), STORIES)
def test_a_trace_can_be_replayed_as_often_as_is_wanted(pipeline: str, story: str) -> None:
    made, trace = load(DEMO / f"{pipeline}.yaml"), Trace.read(DEMO / f"{story}.yaml")
    first = records(made, trace)
    assert first
    assert records(made, trace) == first
    assert records(pickle.loads(pickle.dumps(made)), trace) == first


@pytest.mark.parametrize(("pipeline", "story"), STORIES)
def test_a_change_that_changes_nothing_changes_nothing(pipeline: str, story: str) -> None:
    made = load(DEMO / f"{pipeline}.yaml")
    doc = json.loads(json.dumps(Trace.read(DEMO / f"{story}.yaml").document()))
    plain = records(made, Trace.of(*doc["requests"], **_head(doc)))
    same = {"change": {"name": made.name}}
    noisy = [entry for request in doc["requests"] for entry in (_timeless(same, request), request)]
    assert records(made, Trace.of(*noisy, **_head(doc))) == plain


def _head(doc: dict[str, Any]) -> dict[str, Any]:
    return {key: doc[key] for key in ("starts", "base", "callers") if key in doc}


def _timeless(change: dict[str, Any], request: dict[str, Any]) -> dict[str, Any]:
    """The change at the time of the request behind it, so that what follows what stays as it was."""
    return {**change, **({"at": request["at"]} if "at" in request else {})}


@given(pipelines(), st.lists(st.sampled_from(["GET /", "GET /lost"]), min_size=1, max_size=4))
@settings(max_examples=60, deadline=None)
def test_no_change_no_difference_in_any_pipeline(made: tuple[list[Any], dict[str, Any]], sends: list[str]) -> None:
    stages, more = made
    plain = [{"id": f"r{number}", "send": send} for number, send in enumerate(sends)]
    noisy = [entry for request in plain for entry in (request, {"change": {"name": "pipeline"}})]
    pipeline = make_pipeline(stages, **more)
    assert replay(pipeline, *noisy) == replay(pipeline, *plain)


def test_two_traces_in_one_call_are_two_calls(usher: Usher) -> None:
    limits, stories = str(DEMO / "limits.yaml"), [str(DEMO / "limits-story.yaml")] * 2
    both = usher("replay", limits, *stories, "--format", "jsonl")
    one = usher("replay", limits, stories[0], "--format", "jsonl")
    assert both.out == one.out * 2
    assert one.out


def test_keep_state_carries_state_and_clock_on(usher: Usher) -> None:
    pipeline = {
        "patient-usher": "pipeline/1",
        "stages": [{"id": "limit", "kind": "rate-limit", "quota": 2, "window": "60s"}],
        "routes": [{**ROUTE, "handler": text()}],
    }
    one = {"patient-usher": "trace/1", "requests": [{"id": "a", "send": "GET /", "times": 2, "every": "5s"}]}
    two = {"patient-usher": "trace/1", "requests": [{"id": "b", "send": "GET /", "after": "4s"}]}
    files = {"p__json": json.dumps(pipeline), "a__json": json.dumps(one), "b__json": json.dumps(two)}
    fresh = usher("replay", "p.json", "a.json", "b.json", "--format", "json", **files).json["exchanges"]
    kept = usher("replay", "p.json", "a.json", "b.json", "--keep-state", "--format", "json").json["exchanges"]
    assert [x["response"]["status"] for x in fresh] == [200, 200, 200]
    assert [x["response"]["status"] for x in kept] == [200, 200, 429]
    assert ["retry-after", "51"] in [[name.lower(), value] for name, value in kept[-1]["response"]["headers"]]


# What a change reaches, and what it leaves alone.

KEY = {"algorithm": "HS256", "secret": "k-0123456789012345678901234567890123456789"}
NEW = {"algorithm": "HS256", "secret": "n-0123456789012345678901234567890123456789"}
DESK: dict[str, Any] = {
    "groups": [
        {
            "id": "g",
            "prefix": "/v1",
            "desk": {"at": "/session", "gives": "cookie"},
            "routes": [{"id": "me", "at": "GET /me", "handler": {"echo": True}}],
        }
    ],
    "accounts": {"maren": {"password": "pw1"}, "odile": {"password": "pw2"}},
    "signing-keys": {"main": KEY},
}
TOKENS: dict[str, Any] = {**DESK, "groups": [{**DESK["groups"][0], "desk": {"at": "/session", "keys": "main"}}]}
OFF = {"id": "closed", "kind": "maintenance", "enabled": False}
SAME = {"change": {"stages": {"closed": {"enabled": False}}}}
MAREN = {"name": "maren", "password": "pw1"}
ODILE = {"name": "odile", "password": "pw2"}
COOKIES = [
    "read-body",
    "read-cookies",
    {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "session-cookie"}]},
]
BEARER = ["read-body", {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "bearer", "keys": "main"}]}]
CALLERS = {"a": {"cookies": "keep"}, "b": {"cookies": "keep"}}

CHANGES: list[tuple[str, list[Any], dict[str, Any], list[dict[str, Any]]]] = [
    (
        "one caller's session stays that caller's",
        [*COOKIES, OFF],
        DESK,
        [
            {"caller": "a", "send": "POST /v1/session", "json": MAREN},
            SAME,
            {"caller": "b", "send": "POST /v1/session", "json": ODILE},
            {"caller": "a", "send": "GET /v1/me", "expect": {"identity": "maren"}},
            {"caller": "b", "send": "GET /v1/me", "expect": {"identity": "odile"}},
        ],
    ),
    (
        "a fresh token is not one that was signed out",
        [*BEARER, OFF],
        TOKENS,
        [
            {"send": "POST /v1/session", "json": MAREN, "keep": {"one": "/token"}},
            {"send": "DELETE /v1/session", "bearer": "${kept.one}", "expect": {"status": 204}},
            SAME,
            {"send": "POST /v1/session", "json": ODILE, "keep": {"two": "/token"}},
            {"send": "GET /v1/me", "bearer": "${kept.two}", "expect": {"identity": "odile"}},
            {"send": "GET /v1/me", "bearer": "${kept.one}", "expect": {"why": "signed-out"}},
        ],
    ),
    (
        "who has signed up stays",
        [*COOKIES, OFF],
        DESK,
        [
            {"send": "POST /v1/session/accounts", "json": {"name": "jory", "password": "p"}, "expect": {"status": 201}},
            SAME,
            {"caller": "a", "send": "POST /v1/session", "json": {"name": "jory", "password": "p"}},
            {"caller": "a", "send": "GET /v1/me", "expect": {"identity": "jory"}},
        ],
    ),
    (
        "a rotated key holds for stages whose options stayed, and a token minted before counts no more",
        [*BEARER, OFF],
        TOKENS,
        [
            {"send": "POST /v1/session", "json": MAREN, "keep": {"old": "/token"}},
            {"change": {"signing-keys": {"main": NEW}}},
            {"send": "GET /v1/me", "bearer": "${kept.old}", "expect": {"status": 401, "why": "wrong"}},
            {"send": "GET /v1/me", "sign": {"bearer": "maren"}, "expect": {"status": 200}},
        ],
    ),
    (
        "an account's new password and roles hold at once",
        [{"id": "who", "kind": "authenticate", "schemes": [{"scheme": "basic"}]}, {"id": "may", "kind": "authorize"}],
        {
            "accounts": {"maren": {"password": "old"}},
            "routes": [{"id": "r", "at": "GET /", "access": {"role": "master"}, "handler": text()}],
        },
        [
            {"send": "GET /", "sign": {"basic": "maren"}, "expect": {"status": 403}},
            {"change": {"accounts": {"maren": {"password": "new", "roles": ["master"]}}}},
            {"send": "GET /", "headers": {"Authorization": "Basic bWFyZW46b2xk"}, "expect": {"status": 401}},
            {"send": "GET /", "sign": {"basic": "maren"}, "expect": {"status": 200, "role": "master"}},
        ],
    ),
    (
        "an error type's new status holds for handlers that stayed",
        [{"id": "net", "kind": "error-handler"}],
        {"errors": {"Taken": {"status": 409}}, "routes": [{**ROUTE, "handler": {"raise": "Taken"}}]},
        [
            {"send": "GET /", "expect": {"status": 409}},
            {"change": {"errors": {"Taken": {"status": 410}}}},
            {"send": "GET /", "expect": {"status": 410}},
        ],
    ),
    (
        "the environment that was laid on stays",
        [{"id": "mark", "kind": "header-fields", "on-answer": {"put": {"X-Env": "plain"}}}, OFF],
        {
            "environment": "development",
            "environments": {"development": {"stages": {"mark": {"on-answer": {"put": {"X-Env": "dev"}}}}}},
        },
        [
            {"send": "GET /", "expect": {"headers": {"X-Env": "dev"}}},
            SAME,
            {"send": "GET /", "expect": {"headers": {"X-Env": "dev"}}},
            {"change": {"stages": {"mark": {"on-answer": {"put": {"X-Env": "by hand"}}}}}},
            {"send": "GET /", "expect": {"headers": {"X-Env": "by hand"}}},
        ],
    ),
    (
        "a tier keeps its own counts wherever it stands",
        [
            {
                "id": "limit",
                "kind": "rate-limit",
                "quota": 2,
                "window": "60s",
                "tiers": [{"when": {"header": {"X-T": "a"}}, "quota": 5}],
            }
        ],
        {},
        [
            {"send": "GET /", "headers": {"X-T": "a"}, "times": 2},
            {
                "change": {
                    "stages": {
                        "limit": {
                            "tiers": [
                                {"when": {"header": {"X-T": "b"}}, "quota": 1},
                                {"when": {"header": {"X-T": "a"}}, "quota": 5},
                            ]
                        }
                    }
                }
            },
            {"send": "GET /", "headers": {"X-T": "a"}, "expect": {"headers": {"RateLimit": {"contains": "r=2"}}}},
            {"send": "GET /", "headers": {"X-T": "b"}, "expect": {"status": 200}},
        ],
    ),
    (
        "records stay, and ids go on",
        ["read-body", OFF],
        {
            "records": {"notes": {"ids": "n-{n}"}},
            "routes": [
                {"id": "w", "at": "POST /", "access": "everyone", "handler": {"records": "notes", "do": "create"}},
                {"id": "l", "at": "GET /", "access": "everyone", "handler": {"records": "notes", "do": "list"}},
            ],
        },
        [
            {"send": "POST /", "json": {"a": 1}},
            SAME,
            {"send": "POST /", "json": {"a": 2}, "expect": {"headers": {"Location": "/n-2"}}},
            {"send": "GET /", "expect": {"body": {"json": [{"id": "n-1"}, {"id": "n-2"}]}}},
        ],
    ),
    (
        "a handler that fails every third time goes on counting",
        [OFF],
        {"routes": [{**ROUTE, "handler": {"answer": {"text": "ok"}, "fails-every": 3, "raise": "NotFound"}}]},
        [
            {"send": "GET /", "times": 2, "expect": {"tally": {200: 2}}},
            SAME,
            {"send": "GET /", "expect": {"raised": "NotFound"}},
        ],
    ),
]


@pytest.mark.parametrize(("law", "stages", "more", "requests"), CHANGES, ids=[row[0] for row in CHANGES])
def test_what_a_change_reaches(
    law: str, stages: list[Any], more: dict[str, Any], requests: list[dict[str, Any]]
) -> None:
    callers = {"callers": CALLERS} if any("caller" in request for request in requests) else {}
    sent = list(replayed(make_pipeline(stages, **more), Trace.of(*requests, base="https://api.example", **callers)))
    assert [check for one in sent for check in one.checks if not check.ok] == []
    assert any(one.checks for one in sent)


def test_spreading_goes_on_over_a_change_and_new_instances_start_fresh() -> None:
    limit = {"id": "limit", "kind": "rate-limit", "quota": 1, "window": "60s", "fields": []}
    pipeline = make_pipeline([limit, OFF], deployment={"instances": 3})
    found = replay(pipeline, {"send": "GET /"}, SAME, {"send": "GET /"}, SAME, {"send": "GET /", "times": 2})
    assert [(r["instance"], r["response"]["status"]) for r in found] == [(0, 200), (1, 200), (2, 200), (0, 429)]
    grown = make_pipeline([limit], deployment={"instances": 1})
    found = replay(
        grown,
        {"send": "GET /", "times": 2},
        {"change": {"deployment": {"instances": 2}}},
        {"send": "GET /", "times": 2},
    )
    assert [r["response"]["status"] for r in found] == [200, 429, 429, 200]


# Own code keeps to itself.


def test_what_a_python_stage_does_to_a_request_is_not_seen_by_the_next(usher: Usher) -> None:
    own = "class Mark:\n    def way_in(self, x):\n        x.request.fields.add('X-User', f'user{x.number}')\n"
    pipeline = {
        "patient-usher": "pipeline/1",
        "stages": [{"id": "own", "kind": "python", "call": "own:Mark"}],
        "routes": [{**ROUTE, "handler": {"echo": True}}],
    }
    trace = {"patient-usher": "trace/1", "requests": [{"id": "x", "send": "GET /", "times": 2}]}
    done = usher(
        "replay", "p.json", "t.json", "--trust", "python", "--format", "json",
        own__py=own, p__json=json.dumps(pipeline), t__json=json.dumps(trace),
    )  # fmt: skip
    bodies = [json.loads(x["response"]["body"])["headers"]["X-User"] for x in done.json["exchanges"]]
    assert bodies == ["user1", "user2"]


def test_two_folders_each_run_their_own_code(tmp_path: Path) -> None:
    found = []
    for name in ("one", "two"):
        folder = tmp_path / name
        folder.mkdir()
        (folder / "helper.py").write_text(f"NAME = '{name}'\n")
        (folder / "own.py").write_text("import helper\n\ndef answer(x):\n    return {'from': helper.NAME}\n")
        doc = {"patient-usher": "pipeline/1", "routes": [{**ROUTE, "handler": {"python": "own:answer"}}]}
        (folder / "p.json").write_text(json.dumps(doc))
        pipeline = load(folder / "p.json", trust=["python"])
        found.append(json.loads(records(pipeline, Trace.of({"send": "GET /"}))[0]["response"]["body"])["from"])
    assert found == ["one", "two"]


@pytest.mark.parametrize(
    ("method", "returns", "said"),
    [
        ("way_out(self, x)", "Wait(1, lambda x: None)", "own:Own returned a value of type Wait on the way out"),
        ("way_error(self, x, e)", "AnswerAndPass(None)", "own:Own returned a value of type AnswerAndPass on the way"),
        ("way_in(self, x)", "'text'", "own:Own returned a value of type str on the way in"),
    ],
)
def test_own_code_may_return_only_what_means_something_there(
    usher: Usher, method: str, returns: str, said: str
) -> None:
    own = f"from patient_usher.plugin_api import AnswerAndPass, Wait\nclass Own:\n    def {method}: return {returns}\n"
    pipeline = {
        "patient-usher": "pipeline/1",
        "stages": [{"id": "own", "kind": "python", "call": "own:Own"}],
        "routes": [{**ROUTE, "handler": {"raise": "NotFound"} if "error" in method else text()}],
    }
    done = usher("send", "p.json", "GET", "/", "--trust", "python", own__py=own, p__json=json.dumps(pipeline))
    assert done.status == 2
    assert said in done.err


# A streamed trace is a trace like any other.


@st.composite
def timed(draw: st.DrawFn) -> list[dict[str, Any]]:
    """Requests with and without times of their own, in order of time where they have one."""
    entries: list[dict[str, Any]] = []
    now = 0
    for number in range(draw(st.integers(1, 8))):
        if draw(st.integers(0, 6)) == 0:
            entry: dict[str, Any] = {"change": {"name": "another"}}
        else:
            entry = {"id": f"r{number}", "send": draw(st.sampled_from(["GET /", "GET /slow", "GET /lost"]))}
            if draw(st.integers(0, 3)) == 0:
                entry["times"] = draw(st.integers(2, 3))
                if draw(st.booleans()):
                    entry["every"] = draw(st.sampled_from(["0s", "300ms", "1s"]))
        how = draw(st.integers(0, 3))
        if how == 0:
            now += draw(st.sampled_from([0, 200, 1000, 5000]))
            entry["at"] = f"{now}ms"
        elif how == 1:
            entry["after"] = draw(st.sampled_from(["0s", "400ms", "2s"]))
        entries.append(entry)
    return entries


@given(timed())
@settings(max_examples=80, deadline=None)
def test_a_streamed_trace_is_a_trace_like_any_other(
    tmp_path_factory: pytest.TempPathFactory, entries: list[dict[str, Any]]
) -> None:
    slow = {"id": "s", "at": "GET /slow", "access": "everyone", "handler": {**text(), "busy-for": "700ms"}}
    limit = {"id": "limit", "kind": "rate-limit", "quota": 3, "window": "2s"}
    pipeline = make_pipeline([limit], routes=[{**ROUTE, "handler": text()}, slow])
    path = tmp_path_factory.mktemp("lines") / "trace.jsonl"
    path.write_text("\n".join(json.dumps(line) for line in [{"patient-usher": "trace/1"}, *entries]))
    streamed = sorted(records(pipeline, Trace.read(path)), key=lambda record: record["id"])
    assert streamed == sorted(records(pipeline, Trace.of(*entries)), key=lambda record: record["id"])


def lines(*entries: dict[str, Any]) -> str:
    return "".join(json.dumps(entry) + "\n" for entry in ({"patient-usher": "trace/1"}, *entries))


STREAMS: list[tuple[str, str, int, int, str]] = [
    ("overlapping", lines(*({"id": f"r{n}", "send": "GET /", "at": f"{n * 100}ms"} for n in range(4))), 0, 4, ""),
    ("an id twice", lines({"id": "a", "send": "GET /"}, {"id": "a", "send": "GET /"}), 2, 1, ":3:1: the id 'a' is taken"),
    ("no request", lines({"id": "a", "send": "GET /"}, {"id": "b", "sned": "GET /"}), 2, 1, ":3:13: unknown key 'sned'"),
    ("no JSON", lines({"id": "a", "send": "GET /"}) + "{\n", 2, 1, ":3:2: this line is no JSON"),
    ("a key twice", lines() + '{"id": "a", "send": "GET /", "send": "GET /b"}\n', 2, 0, ":2:30: the key 'send' stands"),
    ("backwards", lines({"id": "a", "send": "GET /", "at": "5s"}, {"id": "b", "send": "GET /", "at": "1s"}), 2, 1, ":3:1: this request goes back in time"),
    ("a bad change", lines({"id": "a", "send": "GET /"}, {"change": {"stages": {"no": {}}}}), 2, 1, ":3:1: there is no stage 'no'"),
    ("blank lines", lines({"id": "a", "send": "GET /"}) + "\n\n", 0, 1, ""),
    ("nothing", lines(), 0, 0, ""),
]  # fmt: skip


@pytest.mark.parametrize(("name", "trace", "status", "sent", "said"), STREAMS, ids=[row[0] for row in STREAMS])
def test_a_line_that_cannot_be_used_ends_the_replay(
    usher: Usher, name: str, trace: str, status: int, sent: int, said: str
) -> None:
    slow = {"patient-usher": "pipeline/1", "routes": [{**ROUTE, "handler": {**text(), "busy-for": "1s"}}]}
    done = usher("replay", "p.json", "t.jsonl", "--format", "jsonl", p__json=json.dumps(slow), t__jsonl=trace)
    assert (done.status, len(done.out.splitlines())) == (status, sent), done.err
    assert (f"t.jsonl{said}" in done.err) if said else (done.err == "")


def test_a_trace_may_come_through_a_pipe(tmp_path: Path) -> None:
    import subprocess

    from conftest import USHER

    (tmp_path / "p.json").write_text(
        json.dumps({"patient-usher": "pipeline/1", "routes": [{**ROUTE, "handler": text()}]})
    )
    for trace in (lines({"id": "a", "send": "GET /"}), 'patient-usher: trace/1\nrequests: [{id: a, send: "GET /"}]\n'):
        for name in ("-", "/dev/stdin"):
            done = subprocess.run(
                [str(USHER), "replay", "p.json", name, "--format", "jsonl"],
                cwd=tmp_path, input=trace.encode(), capture_output=True, timeout=60, check=False,
            )  # fmt: skip
            assert (done.returncode, done.stdout.count(b'"id":"a"')) == (0, 1), done.stderr


TIES: list[tuple[list[dict[str, Any]], list[str]]] = [
    ([{"id": "a", "send": "GET /", "times": 2, "every": "1s"}, {"id": "b", "send": "GET /", "at": "1s"}], ["a[1]", "a[2]", "b"]),
    ([{"id": "a1", "send": "GET /", "at": "0s"}, {"id": "a2", "send": "GET /", "at": "1s"}, {"id": "b", "send": "GET /", "at": "1s"}], ["a1", "a2", "b"]),
    ([{"id": "late", "send": "GET /", "at": "1s"}, {"id": "first", "send": "GET /", "at": "0s"}, {"id": "then", "send": "GET /", "after": "1s"}], ["first", "late", "then"]),
]  # fmt: skip


@pytest.mark.parametrize(("requests", "order"), TIES)
def test_what_arrives_together_is_served_in_the_order_of_the_file(
    requests: list[dict[str, Any]], order: list[str]
) -> None:
    tag = {"id": "tag", "kind": "rate-limit", "quota": 100, "window": "1h"}
    found = replay(make_pipeline([tag]), *requests)
    assert [r["id"] for r in sorted(found, key=lambda r: -r["rates"][0]["remaining"])] == order


def test_a_limit_that_counts_failures_forgets_who_is_as_good_as_new() -> None:
    limit = {"id": "limit", "kind": "rate-limit", "quota": 2, "window": "1s", "counts": "failures"}
    run_state = RunState(make_pipeline([limit], routes=[{**ROUTE, "handler": {"answer": {"status": 403}}}]))
    callers = {f"c{n}": {"address": f"10.0.{n // 250}.{n % 250}"} for n in range(3000)}
    trace = Trace.of(*({"send": "GET /", "caller": name, "after": "1s"} for name in callers), callers=callers)
    for _ in run(run_state, trace.bound(run_state.compiled)):
        pass
    assert all(len(limiter.states) < 1500 for limiter in run_state.memories[0]["limit"].values())


def test_quiet_with_details_prints_every_journey_as_it_comes(usher: Usher) -> None:
    done = usher("replay", str(DEMO / "harbour.yaml"), str(DEMO / "story.yaml"), "--quiet", "--details")
    assert done.out.count("── ") >= 26
    assert "── engine-room ─" in done.out


def test_compare_tells_what_changes_between_two_pipelines() -> None:
    harbour, story = load(DEMO / "harbour.yaml"), Trace.read(DEMO / "story.yaml")
    same = compare(harbour, load(DEMO / "harbour.yaml"), story)
    assert (same.changed, same.differs) == (0, ())
    order = ["access-log", "marks", "who", "safety-net", "watch"]
    found = compare(harbour, harbour.variant(order=order), story)
    statuses = {
        difference.id: (difference.a, difference.b) for difference in found.differs if difference.what == "status"
    }
    assert statuses["key-absent"] == (401, 500)
    assert "health" not in {difference.id for difference in found.differs if difference.kind == "status"}
    assert 0 < found.changed <= found.requests
