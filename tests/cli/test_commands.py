"""The installed command, as people and programs use it."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from jsonschema import Draft202012Validator

from conftest import DEMO, ROOT, Outcome
from patient_usher.core.stages import kinds
from patient_usher.files.yaml_reader import parse_yaml

Usher = Callable[..., Outcome]

HARBOUR, STORY = str(DEMO / "harbour.yaml"), str(DEMO / "story.yaml")


def load_yaml(path: Path) -> Any:
    return parse_yaml(path.read_text(), path.name)


def test_the_demo_shows_a_story_and_a_mistake(usher: Usher) -> None:
    done = usher("demo")
    assert (done.status, done.err) == (0, "")
    assert "42 requests, all as expected" in done.out
    assert "6 of 42 requests not as expected: key-absent" in done.out
    assert "usher demo --copy" in done.out
    assert max(map(len, done.out.splitlines())) <= 100
    assert "\x1b" not in done.out


@pytest.mark.parametrize(
    ("pipeline", "trace", "status", "requests", "failed"),
    [
        ("harbour.yaml", "story.yaml", 0, 42, 0),
        ("mistaken.yaml", "story.yaml", 1, 42, 6),
        ("sequential.yaml", "story.yaml", 0, 42, 0),
        ("sequential-mistaken.yaml", "story.yaml", 1, 42, 12),
        ("quay.yaml", "quay-story.yaml", 0, 38, 0),
        ("workshop.yaml", "workshop-story.yaml", 0, 21, 0),
        ("front.yaml", "front-story.yaml", 1, 4, 3),
        ("boaters.yaml", "boaters-story.yaml", 0, 5, 0),
        ("limits.yaml", "limits-story.yaml", 0, 78, 0),
        ("shelf.yaml", "shelf-story.yaml", 0, 19, 0),
        ("shelf-leaking.yaml", "shelf-story.yaml", 1, 19, 1),
        ("limits-instances.yaml", "limits-story.yaml", 1, 78, 8),
        ("limits-misplaced.yaml", "limits-story.yaml", 1, 78, 2),
        ("boaters-blocked-1.yaml", "boaters-story.yaml", 1, 5, 3),
        ("boaters-blocked-2.yaml", "boaters-story.yaml", 1, 5, 3),
        ("boaters-blocked-3.yaml", "boaters-story.yaml", 1, 5, 1),
        ("boaters-blocked-4.yaml", "boaters-story.yaml", 1, 5, 5),
        ("boaters-blocked-5.yaml", "boaters-story.yaml", 1, 5, 2),
        ("front-believed.yaml", "front-story.yaml", 0, 4, 0),
    ],
)
def test_every_demo_pipeline_tells_its_story(
    usher: Usher, pipeline: str, trace: str, status: int, requests: int, failed: int
) -> None:
    done = usher("replay", str(DEMO / pipeline), str(DEMO / trace), "--format", "json")
    assert done.status == status, done.err
    summary = done.json["summary"]
    assert (summary["requests"], summary["failed"]) == (requests, failed)
    Draft202012Validator(usher("schema", "result").json).validate(done.json)
    again = usher("replay", str(DEMO / pipeline), str(DEMO / trace), "--format", "json")
    assert again.out == done.out


@pytest.mark.parametrize(
    "chapter",
    [
        "quay",
        "flows",
        "leak",
        "front",
        "pages",
        "return",
        "compare",
        "check",
        "limits",
        "shelf",
        "traffic",
        "recording",
        "serve",
        "workshop",
    ],
)
def test_every_chapter_goes_as_it_should(usher: Usher, chapter: str) -> None:
    done = usher("demo", chapter)
    assert (done.status, done.err) == (0, "")
    assert max(map(len, done.out.splitlines())) <= 100


def test_the_demo_can_be_copied_and_replayed(usher: Usher, tmp_path: Path) -> None:
    assert usher("demo", "--copy", "mine").status == 0
    assert usher("replay", "mine/harbour.yaml", "mine/story.yaml").status == 0
    again = usher("demo", "--copy", "mine")
    assert again.status == 2
    assert "there already" in again.err


def test_development_reveals_what_production_hides(usher: Usher) -> None:
    production = usher("replay", HARBOUR, STORY, "--only", "engine-room")
    development = usher("replay", HARBOUR, STORY, "--only", "engine-room", "--environment", "development")
    assert (production.status, development.status) == (0, 0)
    answer = production.out.partition("500 Internal Server Error")[2]
    assert "weather.py" not in answer
    assert "weather.py:41" in development.out.partition("500 Internal Server Error")[2]
    assert "weather.py:41" in production.out  # in the log


def test_set_changes_one_option(usher: Usher) -> None:
    done = usher(
        "replay", HARBOUR, STORY, "--only", "engine-room", "--set", "safety-net.reveal=message", "--format", "json"
    )
    assert done.status == 1
    assert "tern-gauge" in done.json["exchanges"][0]["response"]["body"]


def test_a_failed_request_is_shown_whole(usher: Usher) -> None:
    done = usher("replay", str(DEMO / "mistaken.yaml"), STORY)
    assert done.status == 1
    journey = done.out.partition("── key-absent ")[2].partition("── key-wrong ")[0]
    assert re.search(r"error +marks +dropped", journey)
    for part in (
        "raised Unauthenticated",
        "answered by server; refused by who (absent)",
        "expected 401, got 500",
    ):
        assert part in journey


def test_quiet_prints_only_what_failed(usher: Usher) -> None:
    assert usher("replay", HARBOUR, STORY, "--quiet").out == ""
    lines = usher("replay", str(DEMO / "mistaken.yaml"), STORY, "-q").out.splitlines()
    assert lines[0].strip() == "┌ access-log"
    assert next(line for line in lines if "┌" not in line).startswith("✗ key-absent")
    assert not any(line.startswith("✓") for line in lines)


def test_ascii_where_the_terminal_has_no_better(usher: Usher) -> None:
    done = usher("replay", HARBOUR, STORY, env={"PYTHONIOENCODING": "ascii"})
    assert done.status == 0
    assert "A" in done.out
    done.out.encode("ascii")


def test_json_lines_hold_one_exchange_each(usher: Usher) -> None:
    rows = [json.loads(line) for line in usher("replay", HARBOUR, STORY, "--format", "jsonl").out.splitlines()]
    whole = usher("replay", HARBOUR, STORY, "--format", "json").json
    assert rows == whole["exchanges"]
    assert [row["id"] for row in rows[-3:]] == ["buoys[19]", "buoys[20]", "health-again"]


def test_repetitions_are_one_line(usher: Usher) -> None:
    out = usher("replay", HARBOUR, STORY).out
    assert "buoys ×20" in out
    assert "20 × 200" in out
    assert "buoys[7]" in usher("replay", HARBOUR, STORY, "--only", "buoys[7]").out
    opened = usher("replay", HARBOUR, STORY, "--only", "buoys", "--details").out
    assert sum(row.startswith("✓ buoys[") for row in opened.splitlines()) == 20


def test_several_traces(usher: Usher) -> None:
    done = usher("replay", HARBOUR, STORY, STORY, "--format", "json")
    assert done.json["summary"]["requests"] == 84


# Schemas.


@pytest.mark.parametrize("name", ["pipeline", "trace", "result"])
def test_schemas_are_schemas(usher: Usher, name: str) -> None:
    Draft202012Validator.check_schema(usher("schema", name).json)


def defaults(schema: Any) -> Iterator[tuple[Any, Any]]:
    """Every schema that has a default, without references, and the default."""
    for part in schema.values() if isinstance(schema, dict) else schema if isinstance(schema, list) else ():
        yield from defaults(part)
    if isinstance(schema, dict) and not isinstance(schema.get("default", {}), dict):
        yield schema, schema["default"]


@pytest.mark.parametrize(("name", "one"), [("pipeline", "64MiB"), ("trace", "30s")])
def test_defaults_stand_in_schemas_as_files_write_them(usher: Usher, name: str, one: str) -> None:
    whole = usher("schema", name).json
    found = list(defaults(whole))
    for schema, default in found:
        assert Draft202012Validator({**schema, "$defs": whole["$defs"]}).is_valid(default), (schema, default)
    assert one in [default for _, default in found]


def test_the_demo_fits_the_schemas(usher: Usher) -> None:
    pipeline, trace = usher("schema", "pipeline").json, usher("schema", "trace").json
    files = {path.name: load_yaml(path) for path in DEMO.glob("*.yaml")}
    for name, doc in files.items():
        schema = trace if "requests" in doc else pipeline
        errors = [
            f"{list(error.absolute_path)}: {error.message}" for error in Draft202012Validator(schema).iter_errors(doc)
        ]
        assert errors == [], name


@pytest.mark.parametrize(
    ("cache", "fits"),
    [("never", True), ("5m", True), ({"shared": "5m", "same-for": "everyone"}, True), ({"never": True}, False)],
)
def test_an_editor_and_the_loader_agree_on_a_cache_rule(
    usher: Usher, tmp_path: Path, cache: object, fits: bool
) -> None:
    route = {"id": "tides", "at": "GET /tides", "cache": cache, "handler": {"echo": True}}
    doc = {"patient-usher": "pipeline/1", "stages": ["cache"], "routes": [route]}
    (tmp_path / "p.yaml").write_text(json.dumps(doc))
    assert Draft202012Validator(usher("schema", "pipeline").json).is_valid(doc) is fits
    assert usher("show", "p.yaml").status == (0 if fits else 2)


# init, show, send.


@pytest.mark.parametrize("flow", ["nested", "sequential"])
def test_init_writes_what_replays_well(usher: Usher, tmp_path: Path, flow: str) -> None:
    assert usher("init", "mine", "--flow", flow).status == 0
    done = usher("replay", "mine/pipeline.yaml", "mine/trace.yaml")
    assert (done.status, done.err) == (0, "")
    assert "10 requests, all as expected" in done.out
    for name in ("pipeline", "trace"):
        schema = json.loads((tmp_path / "mine" / f"{name}.schema.json").read_text())
        Draft202012Validator(schema).validate(load_yaml(tmp_path / "mine" / f"{name}.yaml"))
    again = usher("init", "mine")
    assert again.status == 2
    assert "there already" in again.err


SHOWN = """\
patient-usher: pipeline/1
name: Shown
stages:
  - access-log
  - {id: closed, kind: maintenance, enabled: false}
  - {id: tls, kind: https-only, except: [/health]}
  - {id: drafts, kind: request-id, only: ["/v1/berths/T*7"]}
"""


def test_show_draws_stages_against_routes(usher: Usher) -> None:
    text = SHOWN.replace("T*7", "T07") + (
        "routes: [{id: health, at: GET /health, access: everyone, handler: {answer: {}}}]\n"
        "groups: [{id: v1, prefix: /v1, stages: [{id: may, kind: authorize}], routes: [{id: berth, at: \"GET /berths/{berth}\", handler: {answer: {}}}]}]\n"
    )  # fmt: skip
    done = usher("show", "p.yaml", p__yaml=text)
    rows = {line.split()[0]: line for line in done.out.splitlines() if line and not line.startswith(" ")}
    assert rows["health"].split()[3] == "●─–─○─○─┼───◆"
    assert rows["berth"].split()[3] == "●─–─●─◐─┼─●─◆"
    one = usher("show", "p.yaml", "GET", "/v1/berths/T08").out
    for part in (
        "route berth",
        "access-log",
        "tls",
        "closed",
        "switched off",
        "drafts",
        "none of its only fits",
        "may",
    ):
        assert part in one
    lost = usher("show", "p.yaml", "POST", "/health").out
    assert "405, Allow: GET, HEAD" in lost
    assert "stands on group v1, behind the point where the router refuses" in lost
    assert usher("show", "p.yaml", "GET").status == 2


SEND: list[tuple[list[str], int, dict[str, Any]]] = [
    (["GET", "/health"], 200, {"handler_reached": True}),
    (["get", "/v1/harbour/ledger", "--sign", "api-key:odile"], 200, {"identity": "odile"}),
    (["GET", "/v1/harbour/ledger", "-H", "X-Harbour-Key: marens-made-up-key"], 403, {"why": "insufficient-role"}),
    (["GET", "https://elsewhere.example/v1/lighthouse", "--sign", "bearer:maren"], 404, {"refused_by": "router"}),
    (
        ["POST", "/v1/berths/T12/bookings", "--sign", "bearer:maren", "--body", 'json:{"nights": 2}'],
        409,
        {"outcome": "errored"},
    ),
]


@pytest.mark.parametrize(("arguments", "status", "facts"), SEND)
def test_send(usher: Usher, arguments: list[str], status: int, facts: dict[str, Any]) -> None:
    done = usher("send", HARBOUR, *arguments, "--format", "json")
    record = done.json["exchanges"][0]
    assert (done.status, record["response"]["status"]) == (0, status)
    assert facts.items() <= record.items()


@pytest.mark.parametrize(
    ("body", "content"),
    [
        (["--body", "file:body.txt", "-H", "Content-Type: text/plain"], "from a file"),
        (["--body", 'json:{"a": [1]}'], {"a": [1]}),
        (["--body", "form:a=1&b=x y"], {"a": "1", "b": "x y"}),
        (["--body", "text:ahoy"], "ahoy"),
    ],
)
def test_send_bodies(usher: Usher, body: list[str], content: Any) -> None:
    pipeline = "patient-usher: pipeline/1\nstages: [read-body]\nroutes: [{id: r, at: POST /, handler: {echo: true}}]\n"
    done = usher("send", "p.yaml", "POST", "/", *body, "--format", "json", p__yaml=pipeline, body__txt="from a file")
    assert json.loads(done.json["exchanges"][0]["response"]["body"])["body"] == content


def test_send_into_a_trace_keeps_its_comments(usher: Usher, tmp_path: Path) -> None:
    trace = "# my trace\npatient-usher: trace/1\nbase: https://api.example\ncallers: {buoy: {address: 198.51.100.4}}\nrequests:\n  # the first\n  - {id: a, send: GET /health}\n"
    done = usher(
        "send",
        HARBOUR,
        "GET",
        "/v1/tides?station=x",
        "--append",
        "t.yaml",
        "--caller",
        "buoy",
        "--id",
        "kept",
        t__yaml=trace,
    )
    assert done.status == 0, done.err
    text = (tmp_path / "t.yaml").read_text()
    assert text.startswith("# my trace\n")
    assert "# the first" in text
    last = load_yaml(tmp_path / "t.yaml")["requests"][-1]
    assert last == {
        "id": "kept",
        "send": "GET /v1/tides?station=x",
        "caller": "buoy",
        "expect": {"status": 200, "handler": "reached"},
    }
    assert usher("replay", HARBOUR, "t.yaml").status == 0
    usher("send", HARBOUR, "GET", "/v1/tides?station=x", "--append", "t.yaml", "--id", "kept")
    assert [entry["id"] for entry in load_yaml(tmp_path / "t.yaml")["requests"]] == ["a", "kept", "kept-2"]
    assert usher("send", HARBOUR, "GET", "/health", "--append", "new.yaml").status == 0
    assert usher("replay", HARBOUR, "new.yaml").status == 0


# Recordings and JSON Lines.


def test_the_recording_agrees_with_its_model_on_every_status(usher: Usher) -> None:
    done = usher(
        "replay",
        str(DEMO / "recorded.yaml"),
        str(DEMO / "harbour.har"),
        "--sign",
        "same:maren",
        "--expect-recorded",
        "--format",
        "json",
    )
    assert done.status == 0, done.err
    exchanges = done.json["exchanges"]
    assert len(exchanges) == 18
    assert sum(bool(x["checks"]) for x in exchanges) == 16  # two came from the browser's own cache
    assert all(check["ok"] for x in exchanges for check in x["checks"])
    assert "eyJ-made-up-token" not in done.out
    text = usher(
        "replay", str(DEMO / "recorded.yaml"), str(DEMO / "harbour.har"), "--sign", "same:maren", "--expect-recorded"
    ).out
    assert "2 requests to hosts other than api.ternharbour.example left out" in text
    without = usher(
        "replay", str(DEMO / "recorded.yaml"), str(DEMO / "harbour.har"), "--expect-recorded", "--format", "json"
    )
    assert (without.status, without.json["summary"]["failed"]) == (1, 4)


def test_another_host_of_the_recording(usher: Usher) -> None:
    pipeline = 'patient-usher: pipeline/1\nroutes: [{id: r, at: "GET /{+rest}", handler: {answer: {}}}, {id: s, at: GET /, handler: {answer: {}}}]\n'
    done = usher(
        "replay",
        "p.yaml",
        str(DEMO / "harbour.har"),
        "--host",
        "boaters.example",
        "--expect-recorded",
        "--format",
        "json",
        p__yaml=pipeline,
    )
    assert (done.status, done.json["summary"]["requests"]) == (0, 2)


def lines(*rows: dict[str, Any]) -> str:
    return "".join(json.dumps(row) + "\n" for row in rows)


HEAD = {"patient-usher": "trace/1", "base": "https://api.example"}


def test_json_lines_traces_are_told_by_their_content(usher: Usher) -> None:
    rows = [
        HEAD,
        *({"id": f"r{n}", "send": "GET /health", "at": f"{n}ms", "expect": {"status": 200}} for n in range(500)),
    ]
    done = usher("replay", HARBOUR, "t.yaml", "--format", "json", t__yaml=lines(*rows))
    assert (done.status, done.json["summary"]["requests"]) == (0, 500)


@pytest.mark.parametrize(
    ("rows", "where", "what"),
    [
        (
            [HEAD, {"id": "a", "send": "GET /health"}, {"id": "b", "snd": "GET /"}],
            "t.jsonl:3:13",
            "unknown key 'snd'; did you mean 'send'?",
        ),
        (
            [HEAD, {"id": "a", "send": "GET /", "at": "2s"}, {"id": "b", "send": "GET /", "at": "1s"}],
            "t.jsonl:3:1",
            "goes back in time",
        ),
        ([{**HEAD, "bse": 1}], "t.jsonl:1:", "unknown key 'bse'"),
        ([HEAD, {"id": "a", "send": "GET /", "caller": "x"}], "t.jsonl:2:1", "there is no caller 'x'"),
        (
            [HEAD, {"id": "a", "send": "POST /", "json": json.loads("[" * 200 + "]" * 200)}],
            "t.jsonl:2:1",
            "nested too deep",
        ),
        ([HEAD, {"id": "a", "send": "POST /", "text": "\ud800"}], "t.jsonl:2:", "half a character"),
    ],
)
def test_json_lines_mistakes(usher: Usher, rows: list[dict[str, Any]], where: str, what: str) -> None:
    done = usher("replay", HARBOUR, "t.jsonl", t__jsonl=lines(*rows))
    assert done.status == 2
    assert where in done.err
    assert what in done.err


# The user's own code.

OWN = """
class Counter:
    def __init__(self, start=0):
        self.seen = start

    def way_in(self, x):
        self.seen += 1
        x.context["seen"] = self.seen
        if x.request.url.path == "/broken":
            return {}["no such key"]

    def done(self, x, how):
        x.write_log("counter", "info", how)


def greet(x):
    return {"seen": x.context["seen"]}
"""
OWN_PIPELINE = """\
patient-usher: pipeline/1
stages:
  - {id: net, kind: error-handler, reveal: everything}
  - {id: counter, kind: python, call: "own:Counter", options: {start: 10}}
routes:
  - {id: r, at: GET /, handler: {python: "own:greet"}}
  - {id: b, at: GET /broken, handler: {answer: {}}}
"""


def test_python_only_where_it_is_allowed(usher: Usher) -> None:
    files = {"p__yaml": OWN_PIPELINE, "own__py": OWN}
    refused = usher("send", "p.yaml", "GET", "/", **files)
    assert refused.status == 2
    assert "p.yaml:4:5" in refused.err
    assert "--trust", "python" in refused.err
    allowed = usher("send", "p.yaml", "GET", "/", "--trust", "python", "--format", "json", **files)
    record = allowed.json["exchanges"][0]
    assert (record["response"]["body"], record["log"][-1]["message"]) == ('{"seen": 11}', "handled")
    broken = usher("send", "p.yaml", "GET", "/broken", "--trust", "python", "--format", "json", **files).json[
        "exchanges"
    ][0]
    assert broken["errors"][0]["type"] == "KeyError"
    assert "own.py:10 in way_in" in broken["response"]["body"]


@pytest.mark.parametrize(
    ("call", "what"),
    [
        ("own:Nobody", "own has no Nobody"),
        ("nothing:X", "there is no module nothing"),
        ("own", "names no code"),
        ("bad:X", "bad.py:1"),
        ("own:Counter2", "making it failed"),
    ],
)
def test_python_mistakes(usher: Usher, call: str, what: str) -> None:
    own = OWN + "\nclass Counter2:\n    def __init__(self, start):\n        raise ValueError('no')\n"
    done = usher(
        "send",
        "p.yaml",
        "GET",
        "/",
        "--trust",
        "python",
        p__yaml=OWN_PIPELINE.replace("own:Counter", call),
        own__py=own,
        bad__py="def",
    )
    assert done.status == 2
    assert what in done.err
    assert "Traceback" not in done.err


# The rest.


@pytest.mark.parametrize(
    ("arguments", "status", "part"),
    [
        (["--version"], 0, "patient-usher "), (["--help"], 0, "usher demo"), ([], 0, "usher demo"), (["replay", "--help"], 0, "--expect-recorded"),
        (["replai"], 2, "did you mean 'replay'?"), (["replay", "nowhere.yaml", "x.yaml"], 2, "nowhere.yaml:1:1: there is no such file"),
        (["replay", HARBOUR, STORY, "--only", "helth"], 2, "did you mean 'health'?"), (["replay"], 2, "no pipeline is named"),
        (["replay", HARBOUR, STORY, "-e", "devlopment"], 2, "did you mean 'development'?"),
        (["replay", HARBOUR, STORY, "--set", "x"], 2, "STAGE.OPTION=VALUE"), (["replay", HARBOUR, STORY, "--set", "safety-nt.log=full"], 2, "did you mean 'safety-net'?"),
        (["replay", HARBOUR, STORY, "--set", "safety-net.log=ful"], 2, "did you mean 'full'?"),
        (["replay", HARBOUR, str(DEMO / "harbour.har"), "--sign", "same:maron"], 2, "did you mean 'maren'?"),
        (["replay", HARBOUR, str(DEMO / "harbour.har"), "--host", "x.example"], 2, "no request went to x.example"),
        (["send", HARBOUR, "GET", "no slash"], 2, "command line"), (["send", HARBOUR, "GET", "/", "-H", "x"], 2, "NAME: VALUE"),
        (["send", HARBOUR, "GET", "/", "--sign", "bearer:nobody"], 2, "no account 'nobody'"), (["send", HARBOUR, "GET", "/", "--body", "json:{"], 2, "--body: the file ends"),
    ],
)  # fmt: skip
def test_words_and_exit_statuses(usher: Usher, arguments: list[str], status: int, part: str) -> None:
    done = usher(*arguments)
    assert done.status == status
    assert part in (done.err if status else done.out)
    assert "Traceback" not in done.err


def test_a_closed_pipe_is_no_fault(tmp_path: Path) -> None:
    import subprocess

    from conftest import USHER

    command = f"{USHER} replay {HARBOUR} {STORY} --format jsonl | head -1"
    done = subprocess.run(["bash", "-c", f"set -o pipefail; {command}"], capture_output=True, text=True, check=False)
    assert done.stderr == ""


@pytest.mark.parametrize(
    ("number", "why", "words"),
    [
        (1, "preflight-refused", "the preflight was answered 401 by who, which stands before browsers"),
        (2, "preflight-unrouted", "page-rules stands on group v1, which OPTIONS never reaches"),
        (3, "error-outside-cors", "safety-net stands outside browsers"),
        (4, "wildcard-with-credentials", "list https://boaters.example in allow-origins of browsers"),
        (5, "header-not-allowed", "authorization; add it to allow-headers of browsers"),
    ],
)
def test_five_ways_to_be_blocked(usher: Usher, number: int, why: str, words: str) -> None:
    done = usher("replay", str(DEMO / f"boaters-blocked-{number}.yaml"), str(DEMO / "boaters-story.yaml"))
    assert f"blocked ({why})" in done.out
    assert words in " ".join(done.out.split())
    assert max(map(len, done.out.splitlines())) <= 100


def test_the_docs_name_every_kind_option_and_code() -> None:
    from patient_usher.core.model.enumerations import BLOCKED
    from patient_usher.core.model.errors import WHY
    from patient_usher.core.model.expect import Expect
    from patient_usher.core.stages import kind

    docs = ROOT / "docs"
    pipeline, trace = (docs / "pipeline.md").read_text(), (docs / "trace.md").read_text()
    names = [*kinds(), *WHY]
    for name in kinds():
        names += [key.rstrip("_").replace("_", "-") for key in kind(name).options.model_fields]
    assert [name for name in names if f"`{name}" not in pipeline and name not in ("answer",)] == []
    keys = [*BLOCKED, *(key.rstrip("_").replace("_", "-") for key in Expect.model_fields)]
    assert [key for key in keys if f"`{key}" not in trace] == []


def test_the_readme_shows_what_the_tool_prints(usher: Usher) -> None:
    blocks = (ROOT / "README.md").read_text().split("```")[1::2]
    pipeline = next(block[5:] for block in blocks if block.startswith("yaml\npatient-usher: pipeline/1"))
    trace = next(block[5:] for block in blocks if block.startswith("yaml\npatient-usher: trace/1"))
    shown = next(block for block in blocks if "Boat notes  " in block)
    done = usher("replay", "pipeline.yaml", "trace.yaml", pipeline__yaml=pipeline, trace__yaml=trace)
    assert done.status == 0
    assert done.out.strip() == shown.strip()


@pytest.mark.parametrize("pipeline", sorted(path.name for path in DEMO.glob("*.yaml") if "story" not in path.name))
def test_every_demo_pipeline_can_be_shown(usher: Usher, pipeline: str) -> None:
    done = usher("show", str(DEMO / pipeline))
    assert (done.status, done.err) == (0, "")
    assert max(map(len, done.out.splitlines())) <= 100


def test_of_repetitions_the_first_that_failed_is_told(usher: Usher) -> None:
    trace = (
        "patient-usher: trace/1\nrequests:\n"
        "  - {id: r, send: GET /, times: 5, expect: {status: 200, tally: {200: 4, 500: 1}}}\n"
        "  - {id: s, send: GET /, expect: {status: 200}}\n"
    )
    pipeline = (
        "patient-usher: pipeline/1\nroutes: [{id: r, at: GET /, handler: {fails-every: 3, answer: {text: ok}}}]\n"
    )
    done = usher("replay", "p.yaml", "t.yaml", p__yaml=pipeline, t__yaml=trace)
    assert done.status == 1
    assert "✗ r ×5" in done.out
    assert "4 × 200, 1 × 500 from 0s" in done.out
    assert "    status: expected 200, got 500" in done.out
    assert "2 of 6 requests not as expected: r[3], s\n" in done.out


def test_a_failed_send_is_named_without_its_redirects(usher: Usher) -> None:
    done = usher("replay", str(DEMO / "front.yaml"), str(DEMO / "front-story.yaml"))
    assert "3 of 4 requests not as expected: plain-read, secure-read, secure-write\n" in done.out


def test_a_line_without_end_is_not_read_to_its_end(usher: Usher) -> None:
    trace = json.dumps(HEAD) + "\n" + '{"id": "a", "send": "' + "x" * (40 << 20)
    done = usher("replay", HARBOUR, "t.jsonl", t__jsonl=trace)
    assert done.status == 2
    assert "t.jsonl:2:1: this line is over 16 MiB" in done.err


COMPLETIONS: list[tuple[str, list[str]]] = [
    ("usher rep", ["replay"]),
    ("usher comp", ["compare", "completion"]),
    ("usher replay p.yaml --qu", ["--quiet"]),
    ("usher replay p.yaml t.yaml --only b", ["beta", "both"]),
    ("usher replay p.yaml --set late.aft", ["late.after="]),
    ("usher show p.yaml --environment st", ["staging"]),
    ("usher replay broken.yaml t.yaml --set x", []),
]


@pytest.mark.parametrize(("line", "offered"), COMPLETIONS)
def test_a_shell_is_offered_what_could_come_next(usher: Usher, tmp_path: Path, line: str, offered: list[str]) -> None:
    pipeline = (
        "patient-usher: pipeline/1\nstages: [{id: late, kind: timeout, after: 1s}]\nenvironments: {staging: {}}\n"
    )
    trace = "patient-usher: trace/1\nrequests: [{id: alpha, send: GET /}, {id: beta, send: GET /}, {id: both, send: GET /}]\n"
    out = tmp_path / "offered"
    env = {
        "_ARGCOMPLETE": "1",
        "COMP_LINE": line,
        "COMP_POINT": str(len(line)),
        "_ARGCOMPLETE_STDOUT_FILENAME": str(out),
    }
    usher(env={**env, "_ARGCOMPLETE_IFS": "\n"}, p__yaml=pipeline, t__yaml=trace, broken__yaml="[")
    found = [word.strip() for word in out.read_text().split("\n") if word.strip()] if out.exists() else []
    assert found == offered


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_what_a_shell_needs(usher: Usher, shell: str) -> None:
    done = usher("completion", shell)
    assert (done.status, "_ARGCOMPLETE" in done.out, "usher" in done.out) == (0, True, True)


SUMMED = [
    ("replay", "harbour.yaml story.yaml", r"✓ 42 requests"), ("send", "harbour.yaml GET /health", r"• 1 request"),
    ("check", "mistaken.yaml", r"✗ 1 finding"), ("compare", "harbour.yaml mistaken.yaml story.yaml", r"✗ 6 of 42 requests"),
    ("reorder", "limits.yaml limits-story.yaml", r"• 6 pairs: 3 must not swap, 3 may swap freely"),
    ("reorder", "front.yaml front-story.yaml --wish tls<access-log", r"✗ no order"), ("explore", "landing.yaml", r"✗ 1 of 7 invariants broken"),
    ("sweep", "limits.yaml limits-story.yaml --try throttle.quota=10,30", r"● 1 of 2 combinations"),
    ("sweep", "limits.yaml limits-story.yaml --try throttle.quota=10,30 --goal refused<0.1", r"✗ none meets"),
    ("drift", "landing.yaml landing-story.yaml --app landing_service:drifted --trust python --writes", r"✗ the service differs from its model in 5 of 12"),
]  # fmt: skip


@pytest.mark.parametrize(("command", "arguments", "words"), SUMMED)
def test_the_last_line_sums_up(usher: Usher, command: str, arguments: str, words: str) -> None:
    words_of = [str(DEMO / word) if (DEMO / word).is_file() else word for word in arguments.split()]
    lines = usher(command, *words_of).out.rstrip("\n").splitlines()
    last = next(text for text in reversed(lines) if not text.startswith("  "))  # it may go on in a second line
    assert re.match(words, last), last
    assert lines.index(last) >= len(lines) - 2
