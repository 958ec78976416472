"""Very many requests: the summary, the chart and the table behind it are what the records say."""

from __future__ import annotations

import csv
import io
import json
import re
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from random import Random
from typing import Any

import pytest

from conftest import DEMO, Outcome
from patient_usher.output.chart import Columns, figures_of

Usher = Callable[..., Outcome]
LIMITS, SHELF = str(DEMO / "limits.yaml"), str(DEMO / "shelf.yaml")
HEAD = '{"patient-usher": "trace/1", "base": "https://api.ternharbour.example"}'
ROWS = [
    json.dumps({"id": f"r{n}", "at": f"{n * 50}ms", "send": f"GET /v1/{('tides', 'charts', 'berths')[n % 3]}", "address": f"203.0.113.{9 if n % 2 else n % 40}"})
    for n in range(600)
]  # fmt: skip
BULK = "\n".join([HEAD, *ROWS]) + "\n"


def test_a_chart_obeys_no_configuration_of_a_folder(usher: Usher, tmp_path: Path) -> None:
    """Such a file may name modules, whose code would run; and a name with dollar signs is no formula."""
    pipeline = "patient-usher: pipeline/1\nname: cost $5_$ a call\nstages: [{id: t, kind: rate-limit, quota: 3, window: 1m, per: [header.X-K]}]\nroutes: [{id: a, at: GET /, access: everyone, handler: {answer: {text: x}}}]\n"
    trace = 'patient-usher: trace/1\nrequests: [{id: a, send: GET /, headers: {X-K: "$5_$"}, times: 5, every: 1s}]\n'
    plain = usher("chart", "p.yaml", "t.yaml", "--picture", "plain.svg", p__yaml=pipeline, t__yaml=trace)
    (tmp_path / "matplotlibrc").write_text("backend: module://planted\naxes.facecolor: red\ntext.usetex: True\n")
    (tmp_path / "planted.py").write_text("open('ran', 'w').write('x')\n")
    told = usher("chart", "p.yaml", "t.yaml", "--picture", "again.svg", env={"PYTHONPATH": str(tmp_path)})
    assert (plain.status, told.status, told.err) == (0, 0, "wrote again.svg\n")
    assert (tmp_path / "plain.svg").read_bytes() == (tmp_path / "again.svg").read_bytes()
    assert not (tmp_path / "ran").exists()


def test_the_summary_says_what_the_records_say(usher: Usher) -> None:
    told = usher("replay", LIMITS, "t.jsonl", t__jsonl=BULK)
    records = [json.loads(line) for line in usher("replay", LIMITS, "t.jsonl", "--format", "jsonl").out.splitlines()]
    assert (told.status, len(told.out.splitlines()) <= 40) == (0, True)
    assert "r17" not in told.out, "no list, unless it is asked for"
    flat = " ".join(told.out.split())
    for status, count in Counter(record["response"]["status"] for record in records).items():
        assert f"{status} {count:,} " in flat
    for (stage, why), count in Counter((r["refused_by"], r["why"]) for r in records if r["refused_by"]).items():
        assert f"{stage}: {why} {count:,} " in flat
    own = [
        record
        for record in records
        if record["request"]["headers"] and record["rates"] and record["rates"][0]["for"] == "203.0.113.9"
    ]
    share = 100 * sum(record["refused_by"] is not None for record in own) / len(own)
    assert f"203.0.113.9 {len(own):,} {share:.1f}% refused" in flat
    waits = sorted(record["finished"] - record["at"] for record in records)
    assert f"median {waits[300]:.3g} s" in flat


@pytest.mark.parametrize("options", [["--details"], ["--only", "r17"]])
def test_requests_are_listed_where_that_is_asked_for(usher: Usher, options: list[str]) -> None:
    assert "r17" in usher("replay", LIMITS, "t.jsonl", *options, t__jsonl=BULK).out


def test_what_is_not_as_expected_is_told(usher: Usher) -> None:
    rows = [HEAD, '{"id": "a", "send": "GET /v1/tides", "expect": {"status": 418}}']
    outcome = usher("replay", LIMITS, "t.jsonl", t__jsonl="\n".join(rows) + "\n")
    assert (outcome.status, "✗ 1 of 1 request not as expected" in outcome.out) == (1, True)


def table(text: str) -> list[dict[str, float]]:
    return [
        {name: float(value) if value else -1 for name, value in row.items()}
        for row in csv.DictReader(io.StringIO(text))
    ]


def test_the_table_behind_the_chart_adds_up(usher: Usher) -> None:
    rows = table(usher("chart", LIMITS, "t.jsonl", "--format", "csv", t__jsonl=BULK).out)
    records = [json.loads(line) for line in usher("replay", LIMITS, "t.jsonl", "--format", "jsonl").out.splitlines()]
    for leading in (2, 4):
        wanted = sum(record["response"]["status"] // 100 == leading for record in records)
        assert sum(row[f"answers: {leading}xx"] for row in rows) == wanted
    refused = sum(r["refused_by"] == "throttle" and r["rates"][0]["for"] == "203.0.113.9" for r in records)
    assert sum(row["refused: throttle for 203.0.113.9"] for row in rows) == refused > 0
    assert 0 in {row["remaining: throttle for 203.0.113.9"] for row in rows}
    assert 1 <= max(row["under way: at once"] for row in rows) <= 30


def test_a_saved_result_charts_like_its_replay(usher: Usher, tmp_path: Path) -> None:
    story = str(DEMO / "shelf-story.yaml")
    (tmp_path / "r.json").write_text(usher("replay", SHELF, story, "--format", "json").out)
    ours, theirs = (
        table(usher(*words, "--format", "csv").out) for words in (("chart", SHELF, story), ("chart", "r.json"))
    )
    states = [name for name in ours[0] if name.startswith(("cache", "answers"))]
    assert states
    assert [[row[name] for name in states] for row in ours] == [[row[name] for name in states] for row in theirs]


def test_axes_count_by_whole_numbers(usher: Usher, tmp_path: Path) -> None:
    """One at a time, a few answers: nobody counts halves of them. (Pictures of letters say beside them what they are.)"""
    rows = [HEAD, *(json.dumps({"id": f"r{n}", "at": f"{n}m", "send": "GET /v1/tides"}) for n in range(2))]
    done = usher("chart", LIMITS, "t.jsonl", "--picture", "c.svg", t__jsonl="\n".join(rows) + "\n")
    drawn = re.findall(r"<!-- (\S+) -->", (tmp_path / "c.svg").read_text().partition("latency")[0])
    assert (done.status, {"0", "1"} <= {*drawn}, [one for one in drawn if "." in one]) == (0, True, [])


@pytest.mark.parametrize(("name", "begins"), [("c.png", b"\x89PNG"), ("c.svg", b"<?xml")])
def test_a_picture_is_the_same_every_time(usher: Usher, tmp_path: Path, name: str, begins: bytes) -> None:
    pictures = []
    for _ in range(2):
        outcome = usher("chart", SHELF, str(DEMO / "shelf-story.yaml"), "--picture", name)
        assert (outcome.status, "Warning" in outcome.err) == (0, False)
        pictures.append((tmp_path / name).read_bytes())
    assert pictures[0] == pictures[1]
    assert pictures[0].startswith(begins)


WRONG = [
    ([LIMITS, "t.jsonl"], "--picture FILE.png"), ([LIMITS, "t.jsonl", "--picture", "c.gif"], "FILE.png or FILE.svg"), ([LIMITS, "--format", "csv"], "is no result"),
    ([LIMITS, "e.jsonl", "--format", "csv"], "nothing to draw"),
]  # fmt: skip


@pytest.mark.parametrize(("arguments", "words"), WRONG)
def test_what_can_not_be_drawn_is_told(usher: Usher, arguments: list[str], words: str) -> None:
    outcome = usher("chart", *arguments, t__jsonl=BULK, e__jsonl=HEAD + "\n")
    assert (outcome.status, words in outcome.err) == (2, True), outcome.err


def row_at_random(random: Random) -> dict[str, Any]:
    limit = random.choice((None, "fair", "slow"))
    return {
        "at": random.randrange(400) / 8, "took": random.choice((0.0, 0.125, 2.0, 7.5)), "status": random.choice((200, 304, 404, 429, 503, None)),
        "outcome": random.choice(("handled", "timed-out", "not-sent")), "cache": random.choice((None, "hit", "miss", "bypass")),
        "limit": limit, "limit_for": random.choice(("a", "b")) if limit else None, "limit_remaining": random.randrange(9) if limit else None,
        "refused_by": random.choice((limit, None)), "answer_octets": random.choice((10, 20)), "uncoded_octets": random.choice((20, None)),
    }  # fmt: skip


@pytest.mark.parametrize("seed", range(20))
def test_what_is_drawn_is_what_the_rows_say(seed: int) -> None:
    """Against brute force: every bin by itself, out of the rows that it has."""
    random = Random(seed)
    rows = [row_at_random(random) for _ in range(random.randrange(1, 200))]
    found = {(one.panel, one.name): one.values for one in figures_of(Columns(rows)).series}
    rows = [row for row in rows if row["outcome"] != "not-sent"]
    last = max([row["at"] + row["took"] for row in rows], default=0) or 1
    bins = [[row for row in rows if min(int(row["at"] / (last / 60)), 59) == at] for at in range(60)]

    def counted(fits: Callable[[dict[str, Any]], float]) -> list[float]:
        return [float(sum(map(fits, own))) for own in bins]

    wanted = {("answers", f"{n}xx"): counted(lambda row, n=n: (row["status"] or 0) // 100 == n) for n in (2, 3, 4, 5)}
    wanted |= {("cache", state): counted(lambda row, state=state: row["cache"] == state) for state in ("hit", "miss")}
    wanted |= {("octets", "on the wire"): counted(lambda row: row["answer_octets"])}
    wanted |= {("octets", "before coding"): counted(lambda row: row["uncoded_octets"] or 0)}
    for key, values in wanted.items():
        assert found.get(key, [0.0] * 60) == values, key
    for limit, whom in {
        (panel_name.split(" for ")[0], panel_name.split(" for ")[1])
        for panel, panel_name in found
        if panel == "refused"
    }:
        own = [[row for row in one if (row["limit"], row["limit_for"]) == (limit, whom)] for one in bins]
        assert found["refused", f"{limit} for {whom}"] == [
            sum(row["refused_by"] == limit for row in one) for one in own
        ]
        left = [min([row["limit_remaining"] for row in one], default=None) for one in own]
        assert [None if value != value else value for value in found["remaining", f"{limit} for {whom}"]] == left
    if ("under way", "at once") in found:
        moments = sorted({row["at"] for row in rows})
        at_once = {time: sum(row["at"] <= time < row["at"] + row["took"] for row in rows) for time in moments}
        for at, most in enumerate(found["under way", "at once"]):
            begun = [count for time, count in at_once.items() if min(int(time / (last / 60)), 59) == at]
            assert most >= max(begun, default=0)
        assert max(found["under way", "at once"]) == max(at_once.values())
