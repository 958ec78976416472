"""Replays in parts: whole and parted give the same, over pipelines and traffic at random; what ties requests is told."""

from __future__ import annotations

import gzip
import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from random import Random
from typing import Any

import pytest

from conftest import DEMO, Outcome, make_pipeline
from patient_usher import NotParted, Unusable, load, replay_in_parts
from patient_usher.core.engine.partition import parted_by
from patient_usher.use_cases.line_keys import BUCKETS
from patient_usher.use_cases.parts import _shared_out

Usher = Callable[..., Outcome]
ROUTES = [
    {"id": "tides", "at": "GET /tides", "access": "everyone", "handler": {"answer": {"json": {"s": "${query.station}", "more": "tide " * 40}}, "busy-for": "80ms"}},
    {"id": "berths", "at": "GET /berths", "handler": {"answer": {"text": "free"}}},
]  # fmt: skip
MAREN = {name: {"api-keys": [f"{name}s-made-up-key"]} for name in ("maren", "odile", "jory")}
STAGES: list[Any] = [
    "access-log", {"id": "net", "kind": "error-handler"}, {"id": "squeeze", "kind": "compress", "from-size": 1},
    {"id": "throttle", "kind": "rate-limit", "quota": 4, "window": "10s", "per": ["address"]},
    {"id": "bucket", "kind": "rate-limit", "algorithm": "token-bucket", "quota": 3, "window": "5s", "per": ["address", "route"]},
    {"id": "once", "kind": "rate-limit", "algorithm": "at-once", "quota": 1, "per": ["address"]},
    {"id": "guard", "kind": "rate-limit", "quota": 2, "window": "1m", "counts": "failures", "per": ["address"]},
    {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}]}, {"id": "tags", "kind": "conditional"}, {"id": "late", "kind": "timeout", "after": "50ms", "only": ["/tides"]},
]  # fmt: skip


def dict_of(stage: Any) -> dict[str, Any]:
    """A stage as a mapping."""
    return stage if isinstance(stage, dict) else {"id": stage, "kind": stage}


def in_order(stages: list[dict[str, Any]], part: str) -> list[dict[str, Any]]:
    """Who goes by the identity stands behind whoever finds it out."""
    who = dict_of(next(stage for stage in STAGES if dict_of(stage)["id"] == "who"))
    return [who, *(stage for stage in stages if stage != who)] if part == "identity" else stages


def traffic(random: Random) -> str:
    """Lines of a few callers, one of whom sends nearly half; each at its time, some at the same one."""
    lines, at = (
        [
            json.dumps(
                {"patient-usher": "trace/1", "base": "https://a.example", "callers": {"buoy": {"address": "192.0.2.3"}}}
            )
        ],
        0,
    )
    for number in range(400):
        at += random.choice([0, 10, 300, 900])
        row: dict[str, Any] = {
            "id": f"r{number}",
            "at": f"{at}ms",
            "send": random.choice(["GET /tides?station=a", "GET /tides?station=b", "GET /berths", "GET /none"]),
        }
        if random.random() < 0.8:
            row["address"] = "198.51.100.1" if random.random() < 0.46 else f"192.0.2.{random.randrange(9)}"
        elif random.random() < 0.5:
            row["caller"] = "buoy"
        if random.random() < 0.3:
            row["headers"] = {"Accept-Encoding": "gzip"}
        if random.random() < 0.5:
            row.setdefault("headers", {})[random.choice(["X-Buoy", "x-buoy"])] = f"b{random.randrange(5)}"
        if random.random() < 0.2:
            row["sign"] = {"api-key": random.choice([*MAREN])}
        elif random.random() < 0.2:
            key = random.choice(["marens-made-up-key", "a-key-of-nobody"])
            row.setdefault("headers", {})[random.choice(["X-Api-Key", "x-api-key"])] = key
        if random.random() < 0.1:
            row["expect"] = {"status": 200}
        lines.append(json.dumps(row))
    return "\n".join(lines) + "\n"


def with_blank_lines(random: Random, text: str) -> str:
    """The same, where somebody has pressed a key too often."""
    lines = text.splitlines()
    for _ in range(random.choice([0, 3])):
        lines.insert(random.randrange(1, len(lines)), "")
    return "\n".join(lines) + random.choice(["", "\n", "\n\n"])


@pytest.mark.parametrize(
    ("part", "seed"),
    [
        *(("address", seed) for seed in range(4)),
        *(("identity", seed) for seed in range(3)),
        *(("header.X-Buoy", 0), ("header.x-buoy", 1), ("route", 0), ("query.station", 0)),
    ],
)
def test_whole_and_parted_give_the_same(usher: Usher, tmp_path: Path, part: str, seed: int) -> None:
    random = Random(f"{seed} {part}")
    stages = [
        {**stage, "per": [part, *stage["per"][1:]]} if "per" in stage else stage for stage in map(dict_of, STAGES)
    ]
    pipeline = {
        "patient-usher": "pipeline/1",
        "stages": in_order(random.sample(stages, random.randrange(2, len(STAGES) + 1)), part),
        "routes": ROUTES,
        "accounts": MAREN,
        "always": [{"id": "found", "when": {"path": "/none"}, "expect": {"status": 200}}],
    }
    form = random.choice(["jsonl", "csv"])
    files = {"p__json": json.dumps(pipeline), "t__jsonl": with_blank_lines(random, traffic(random))}
    whole = usher("replay", "p.json", "t.jsonl", "--into", f"whole.{form}", **files)
    parted = usher("replay", "p.json", "t.jsonl", "--into", f"parted.{form}", "--cores", str(random.choice([2, 3])))
    assert parted.err == whole.err
    assert (parted.status, parted.out.splitlines()) == (whole.status, whole.out.splitlines())
    rows = [(tmp_path / f"{name}.{form}").read_text().splitlines() for name in ("whole", "parted")]
    assert rows[0] == rows[1]
    assert len(rows[0]) >= 400
    quiet = [usher("replay", "p.json", "t.jsonl", "-q", "--cores", cores).status for cores in ("1", "2")]
    assert quiet[0] == quiet[1]


ROUTE = {"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": {"text": "ok"}}}
TIED: list[tuple[list[Any], dict[str, Any], str | None, str]] = [
    ([], {}, "nothing", ""), (["access-log", {"id": "c", "kind": "compress"}], {}, "nothing", ""), ([STAGES[3]], {}, "address", ""), ([STAGES[4], STAGES[5]], {}, "address", ""),
    ([{**STAGES[3], "per": ["identity"]}], {}, None, "throttle"), ([STAGES[7], {**STAGES[3], "per": ["identity"]}], {}, "identity", ""), ([{**STAGES[3], "per": ["identity"]}, STAGES[7]], {}, None, "throttle"),
    ([{"id": "marks", "kind": "header-fields", "on-request": {"drop": ["X-Api-Key"]}}, STAGES[7], {**STAGES[3], "per": ["identity"]}], {}, None, "marks"), ([{**STAGES[3], "per": ["route"]}], {}, "route", ""), ([{"id": "shelf", "kind": "cache"}], {}, None, "shelf"),
    (["request-id"], {}, None, "request-id"), ([STAGES[3]], {"deployment": {"instances": 2}}, None, "the spread (round-robin)"), ([STAGES[3]], {"deployment": {"instances": 2, "spread": "by-address"}}, "address", ""),
    ([STAGES[3]], {"deployment": {"trusts-forwarded": ["192.0.2.0/24"]}}, None, "the front"), ([STAGES[3]], {"deployment": {"in-front": {"ends-tls": True, "address": "10.0.0.1"}}}, None, "the front"),
    ([], {"routes": [{**ROUTE, "handler": {**ROUTE["handler"], "fails-every": 3}}]}, "route", ""), ([], {"records": {"boats": {}}, "routes": [{**ROUTE, "handler": {"records": "boats", "do": "list"}}]}, None, "records boats"),
    ([], {"always": ["no-slips"]}, None, "the invariant no-slips"),
    ([{**STAGES[3], "per": ["header.X-Buoy"]}, {**STAGES[4], "per": ["address", "header.x-buoy"]}], {}, "header.x-buoy", ""), ([{**STAGES[3], "per": ["query.Station"]}], {}, "query.Station", ""),
    ([STAGES[3], STAGES[5], {**STAGES[4], "per": ["header.x-buoy"]}], {}, None, "bucket"), ([{**STAGES[3], "per": ["header.x-buoy", "address"]}, {**STAGES[4], "per": ["header.x-buoy", "route"]}], {}, "header.x-buoy", ""), ([{**STAGES[3], "per": ["header.authorization"]}], {}, None, "throttle"), ([{**STAGES[3], "per": ["header.X-Forwarded-For"]}], {}, None, "throttle"),
    ([{"id": "marks", "kind": "header-fields", "on-request": {"put": {"X-Buoy": "b"}}}, {**STAGES[3], "per": ["header.x-buoy"]}], {}, None, "marks"),
    ([{"id": "marks", "kind": "decide", "cases": [{"drop": ["x-buoy"]}]}, {**STAGES[3], "per": ["header.x-buoy"]}], {}, None, "marks"), ([{**STAGES[3], "per": ["body.a"]}], {}, None, "throttle"),
]  # fmt: skip


@pytest.mark.parametrize(("stages", "more", "part", "who"), TIED)
def test_what_ties_requests_together(stages: list[Any], more: dict[str, Any], part: str | None, who: str) -> None:
    found, against = parted_by(make_pipeline(stages, **more).compiled)
    assert found == part
    assert who == "" or any(who in tie.who for tie in against)


LINES = [
    ('{"id":"a","send":"GET /health"}', "line 2 of t.jsonl doesn't begin with its id and its time"), ('{"id":"a","at":"0s","send":"GET /health","keep":{"x":{"header":"Date"}}}', "line 2 of t.jsonl keeps a value"),
    ('{"at":"0s","change":{"name":"x"}}', "line 2 of t.jsonl doesn't begin with its id and its time"),
]  # fmt: skip


@pytest.mark.parametrize(("line", "words"), LINES)
def test_traces_that_are_not_parted_are_replayed_whole(usher: Usher, line: str, words: str) -> None:
    head = json.dumps({"patient-usher": "trace/1", "base": "https://a.example"})
    outcome = usher("replay", str(DEMO / "harbour.yaml"), "t.jsonl", "--cores", "2", t__jsonl=f"{head}\n{line}\n")
    assert (outcome.status, "on one core: " in outcome.err, words in outcome.err) == (0, True, True)


def test_what_is_wrong_far_down_is_told_with_its_line(usher: Usher) -> None:
    rows = [{"id": f"r{at}", "at": f"{at}ms", "send": "GET /health"} for at in range(200)]
    rows[190]["id"] = "r7"
    text = "\n".join(map(json.dumps, [{"patient-usher": "trace/1", "base": "https://a.example"}, *rows]))
    outcome = usher("replay", str(DEMO / "harbour.yaml"), "t.jsonl", "--cores", "2", "-q", t__jsonl=text)
    whole = usher("replay", str(DEMO / "harbour.yaml"), "t.jsonl", "-q")
    assert (outcome.status, outcome.err) == (whole.status, whole.err)
    assert "t.jsonl:192:1: the id 'r7' is taken" in outcome.err


def test_whom_a_token_names_hangs_on_the_time(usher: Usher) -> None:
    stages = [STAGES[7], {**STAGES[3], "per": ["identity"]}]
    pipeline = json.dumps({"patient-usher": "pipeline/1", "stages": stages, "routes": ROUTES, "accounts": MAREN})
    head = json.dumps({"patient-usher": "trace/1", "base": "https://a.example"})
    for more in ('"headers":{"Authorization":"Bearer x"}', r'"headers":{"Authorization":"\u0042earer x"}'):
        line = f'{{"id":"a","at":"0s","send":"GET /tides",{more}}}'
        done = usher("replay", "p.json", "t.jsonl", "--cores", "2", p__json=pipeline, t__jsonl=f"{head}\n{line}\n")
        assert (done.status, "line 2 of t.jsonl brings a token" in done.err) == (0, True), done.err


def test_a_folder_gets_one_part_of_what_is_tied(usher: Usher, tmp_path: Path) -> None:
    pipeline = {"patient-usher": "pipeline/1", "stages": ["request-id"], "routes": ROUTES, "accounts": MAREN}
    files = {"p__json": json.dumps(pipeline), "t__jsonl": traffic(Random(1))}
    done = usher("replay", "p.json", "t.jsonl", "--cores", "2", "--into", "rows", **files)
    assert "on one core: request-id keeps its state by everything" in done.err
    whole = usher("replay", "p.json", "t.jsonl", "--into", "whole.parquet")
    assert whole.status == done.status
    assert [path.name for path in (tmp_path / "rows").iterdir()] == ["part-0000.parquet"]
    assert (tmp_path / "rows/part-0000.parquet").read_bytes() == (tmp_path / "whole.parquet").read_bytes()


@pytest.mark.parametrize("into", ["rows.csv", "rows.jsonl", "rows"])
def test_python_gives_what_the_command_gives(usher: Usher, tmp_path: Path, into: str) -> None:
    """Credentials are shortened in what is written here, too: a query of theirs stands in the rows."""
    asks = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key", "in": "query", "name": "pass"}]}
    pipeline = {"patient-usher": "pipeline/1", "stages": [asks], "routes": ROUTES, "accounts": MAREN}
    lines = [json.dumps({"patient-usher": "trace/1", "base": "https://a.example"})]
    for at in range(30):
        lines.append(json.dumps({"id": f"r{at}", "at": f"{at}s", "send": "GET /berths?pass=marens-made-up-key"}))
    files = {"p__json": json.dumps(pipeline), "t__jsonl": "\n".join(lines) + "\n"}
    assert usher("replay", "p.json", "t.jsonl", "--cores", "2", "--into", into, **files).status == 0
    code = (
        "from patient_usher import load, replay_in_parts\n"
        f"found = replay_in_parts(load('p.json'), ['t.jsonl'], cores=2, into='own-{into}')\n"
        "print(found.parts, found.totals.requests, found.summary.failed)\n"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, timeout=60)
    assert (done.stdout, done.stderr) == ("2 30 0\n", "")
    for path in [tmp_path / into] if "." in into else sorted((tmp_path / into).iterdir()):
        own = tmp_path / f"own-{into}" if "." in into else tmp_path / f"own-{into}" / path.name
        assert own.read_bytes() == path.read_bytes()
        assert b"marens-made-up-key" not in own.read_bytes()


def test_python_is_told_what_ties_requests(tmp_path: Path) -> None:
    (tmp_path / "t.jsonl").write_text(traffic(Random(1)))
    with pytest.raises(NotParted, match="request-id keeps its state by everything"):
        replay_in_parts(make_pipeline(["request-id"]), [tmp_path / "t.jsonl"], cores=2)
    (tmp_path / "rows").mkdir()
    (tmp_path / "rows" / "part-0000.parquet").touch()
    with pytest.raises(Unusable, match="rows is no folder without parts"):
        replay_in_parts(make_pipeline([]), [tmp_path / "t.jsonl"], into=tmp_path / "rows")
    with pytest.raises(Unusable, match=r"rows\.gif is no table's name"):
        replay_in_parts(make_pipeline([]), [tmp_path / "t.jsonl"], into=tmp_path / "rows.gif")


def test_what_cannot_be_parted(usher: Usher) -> None:
    head = json.dumps({"patient-usher": "trace/1", "base": "https://a.example"})
    row = '{"id":"a","at":"0s","send":"GET /health"}'
    twice = usher("replay", str(DEMO / "harbour.yaml"), "t.jsonl", "--cores", "2", t__jsonl=f"{head}\n{row}\n{row}\n")
    assert (twice.status, "t.jsonl:3:1: the id 'a' is taken" in twice.err) == (2, True)
    odd = usher(
        "replay",
        str(DEMO / "harbour.yaml"),
        "t.jsonl",
        "--cores",
        "2",
        t__jsonl=f"{head}\n{row}\n" + '{"id":"b","at":"0s","sent":"x"}\n',
    )
    assert (odd.status, "t.jsonl:3:" in odd.err) == (2, True)
    with_report = usher("replay", str(DEMO / "harbour.yaml"), "t.jsonl", "--cores", "2", "--format", "json")
    assert (with_report.status, "--cores is for" in with_report.err) == (2, True)


def test_a_process_that_is_ended_is_told(usher: Usher, tmp_path: Path) -> None:
    """One of the processes of the pool, killed: a sentence, no half-written table."""
    random = Random(1)
    (tmp_path / "t.jsonl").write_text(traffic(random))
    (tmp_path / "p.json").write_text(json.dumps({"patient-usher": "pipeline/1", "routes": ROUTES, "accounts": MAREN}))
    (tmp_path / "dies.py").write_text("import os\n\ndef dies(*_):\n    os._exit(9)\n")
    code = (
        "import dies, patient_usher.use_cases.parted as p\np._come = dies.dies\nfrom patient_usher.cli import main\n"
        "raise SystemExit(main(['replay', 'p.json', 't.jsonl', '--cores', '2', '--into', 'o.jsonl']))\n"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, timeout=60)
    assert (done.returncode, (tmp_path / "o.jsonl").exists()) == (2, False)
    assert "a process that worked on it was ended from outside" in done.stderr


def test_show_says_on_what_state_hangs(usher: Usher) -> None:
    busy = usher("show", str(DEMO / "busy.yaml"), "--state")
    assert busy.status == 0
    for words in ("throttle  by address", "shelf     by everything", "replay --cores runs on one core"):
        assert words in busy.out
    harbour = usher("show", str(DEMO / "harbour.yaml"), "--state")
    assert "nothing is remembered from one request to the next" in harbour.out
    assert load(DEMO / "harbour.yaml").name


def several(random: Random, folder: Path, days: int) -> None:
    """Traces of some days, each of which starts when the one before is over; some packed."""
    (folder / "logs").mkdir()
    for day in range(1, days + 1):
        head, *lines = traffic(random).splitlines()
        header = {**json.loads(head), "starts": f"2031-05-{day:02}T00:00:00Z"}
        text = "\n".join([json.dumps(header), *lines]).encode()
        name = folder / "logs" / f"2031-05-{day:02}.jsonl"
        if day % 2:
            name.write_bytes(text)
        else:
            name.with_suffix(".jsonl.gz").write_bytes(gzip.compress(text))


@pytest.mark.parametrize("more", [[], ["--keep-state"]])
@pytest.mark.parametrize("seed", range(3))
def test_days_apart_and_one_after_the_other(usher: Usher, tmp_path: Path, seed: int, more: list[str]) -> None:
    random = Random(seed)
    several(random, tmp_path, 3)
    pipeline = {
        "patient-usher": "pipeline/1", "routes": ROUTES, "accounts": MAREN,
        "stages": random.sample(STAGES, random.randrange(3, len(STAGES) + 1)),
        "always": [{"id": "found", "when": {"path": "/none"}, "expect": {"status": 200}}],
    }  # fmt: skip
    whole = usher("replay", "p.json", "logs", "--into", "whole.jsonl", *more, p__json=json.dumps(pipeline))
    parted = usher("replay", "p.json", "logs/2031-05-*", "--into", "parted.jsonl", *more, "--cores", "2")
    assert (parted.status, parted.err, parted.out) == (whole.status, whole.err, whole.out)
    assert ", 3 traces" in whole.out.splitlines()[0]
    assert (tmp_path / "parted.jsonl").read_bytes() == (tmp_path / "whole.jsonl").read_bytes()


def test_what_ties_requests_doesnt_tie_traces(usher: Usher, tmp_path: Path) -> None:
    several(Random(1), tmp_path, 2)
    pipeline = {
        "patient-usher": "pipeline/1",
        "stages": [{"id": "shelf", "kind": "cache"}],
        "routes": ROUTES,
        "accounts": MAREN,
        "always": [{"id": "found", "when": {"path": "/none"}, "expect": {"status": 200}}],
    }
    files = {"p__json": json.dumps(pipeline)}
    whole = usher("replay", "p.json", "logs", **files)
    apart = usher("replay", "p.json", "logs", "--cores", "2")
    assert (apart.err, apart.out) == (whole.err, whole.out)
    joined = usher("replay", "p.json", "logs", "--cores", "2", "--keep-state")
    assert (joined.status, "on one core: shelf keeps its state by everything" in joined.err) == (whole.status, True)


def test_traces_that_overlap_cannot_go_on_in_one_another(usher: Usher, tmp_path: Path) -> None:
    for name in ("a", "b"):
        (tmp_path / f"{name}.jsonl").write_text(traffic(Random(3)))
    pipeline = {"patient-usher": "pipeline/1", "routes": ROUTES, "stages": STAGES[:2], "accounts": MAREN}
    done = usher("replay", "p.json", "a.jsonl", "b.jsonl", "--cores", "2", "--keep-state", p__json=json.dumps(pipeline))
    assert done.status == 2
    assert "b.jsonl:1:1: it starts before all requests of a.jsonl are over" in done.err


def test_one_caller_with_nearly_half_of_all_leaves_the_rest_to_the_other_parts() -> None:
    weights = [0] * BUCKETS
    weights[77] = 460
    for bucket in range(54):
        weights[bucket] += 10
    owners = _shared_out(weights, 2)
    assert [sum(weights[bucket] for bucket in range(BUCKETS) if owners[bucket] == share) for share in (0, 1)] == [
        500,
        500,
    ]
