"""Logs in a trace's place: the same as what an import makes of them, whole and in parts."""

from __future__ import annotations

import gzip
import json
from collections.abc import Callable
from pathlib import Path
from random import Random

import pytest

from conftest import Outcome
from files.log_shapes import SHAPES, Shape

Usher = Callable[..., Outcome]
PIPELINE = """patient-usher: pipeline/1
stages: [{id: throttle, kind: rate-limit, quota: 3, window: 10s, per: [address]}]
routes: [{id: tides, at: GET /v1/tides, access: everyone, handler: {answer: {text: "${header.user-agent} ${query.station}"}}}]
"""


@pytest.mark.parametrize("shape", [one for one in SHAPES if not one.more], ids=lambda one: one.name)
def test_a_log_is_what_an_import_makes_of_it(usher: Usher, tmp_path: Path, shape: Shape) -> None:
    (tmp_path / "a.log").write_text(shape.text + "\n")
    assert usher("import", "a.log", "--into", "a.jsonl").status == 0
    whole, imported = (
        usher("replay", "p.yaml", f"a.{ending}", "--format", "jsonl", p__yaml=PIPELINE) for ending in ("log", "jsonl")
    )
    assert (whole.status, whole.err) == (0, "")
    assert whole.out.splitlines() == imported.out.splitlines() != []


def day(random: Random, count: int) -> str:
    """A day of a few callers, one line of which says nothing."""
    lines, at = [], 0
    for _ in range(count):
        at += random.choice([0, 0, 1, 5])
        caller = f"192.0.2.{random.randrange(6)}"
        clock = f"{8 + at // 3600:02}:{at // 60 % 60:02}:{at % 60:02}"
        request = random.choice(["GET /v1/tides?station=tern", "GET /none"])
        lines.append(f'{caller} - - [01/May/2031:{clock} +0000] "{request} HTTP/1.1" 200 5 "-" "buoy/1"')
    lines[count // 2] = "the tide took this line"
    return "\n".join(lines) + "\n"


def test_several_logs_in_parts_and_whole(usher: Usher, tmp_path: Path) -> None:
    (tmp_path / "logs").mkdir()
    for number in range(3):
        text = day(Random(number), 200)
        if number == 2:
            (tmp_path / f"logs/{number}.log.gz").write_bytes(gzip.compress(text.encode()))
        else:
            (tmp_path / f"logs/{number}.log").write_text(text)
    told = []
    for cores in ("1", "2"):
        done = usher("replay", "p.yaml", "logs/*.log*", "--cores", cores, "--into", f"{cores}.csv", p__yaml=PIPELINE)
        assert (done.status, done.err) == (0, "")
        told.append((done.out.splitlines(), (tmp_path / f"{cores}.csv").read_text().splitlines()))
    assert told[0] == told[1]
    assert "• 597 requests" in told[0][0][-1]
    assert sum("1 line of 200 can't be read or replayed; the first" in line for line in told[0][0]) == 3
    assert sum("read as a log" in line for line in told[0][0]) == 3
    one = [
        usher("replay", "p.yaml", "logs/0.log", "--cores", cores, "--into", f"one-{cores}.jsonl").out for cores in "12"
    ]
    assert one[0].splitlines() == one[1].splitlines()
    assert (tmp_path / "one-1.jsonl").read_bytes() == (tmp_path / "one-2.jsonl").read_bytes()


def test_details_tell_it_too(usher: Usher) -> None:
    done = usher("replay", "p.yaml", "a.log", "--details", p__yaml=PIPELINE, a__log=day(Random(1), 9))
    assert (done.status, "1 line of 9 can't be read" in " ".join(done.out.split())) == (0, True)


# What is no log, and what can't be replayed.
OTHERS = [
    ('{"id": "a", "send": "GET /"}\n', "1:2: unknown key 'id'"), ('{"time": "never", "method": "GET"}\n', "unknown key 'time'"), ("just words\n", "the file holds 'just words'"),
    ('192.0.2.7 - - [01/May/2031:08:00:00 +0000] "GET nowhere HTTP/1.1" 200 5\n', "no line of it can be replayed; see what usher import says of it"), ("", "the file is empty"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "said"), OTHERS)
def test_what_is_no_log_is_told_as_before(usher: Usher, text: str, said: str) -> None:
    done = usher("replay", "p.yaml", "a.x", p__yaml=PIPELINE, a__x=text)
    assert (done.status, said in done.err) == (2, True), done.err


def test_tables_of_a_replay_are_read_again_whatever_their_form(usher: Usher, tmp_path: Path) -> None:
    """The times at which requests came, to the microsecond."""
    random, at, rows = Random(4), 0, []
    for number in range(1, 200):
        at += random.randrange(1, 900_000)
        send = f"GET {random.choice(['/v1/tides?station=tern', '/none'])}"
        row = {"id": f"r{number}", "at": f"{at}us", "send": send, "address": f"192.0.2.{random.randrange(5)}"}
        rows.append(json.dumps(row, separators=(",", ":")))
    head = '{"patient-usher": "trace/1", "base": "https://a.example", "starts": "2031-05-01T08:00:00.123456Z"}'
    trace = "\n".join([head, *rows]) + "\n"
    first = json.loads(rows[0])["at"]
    for form in ("csv", "jsonl", "parquet"):
        files = {"p__yaml": PIPELINE, "t__jsonl": trace}
        assert usher("replay", "p.yaml", "t.jsonl", "--into", f"rows.{form}", **files).status == 0
        assert usher("import", f"rows.{form}", "--into", "again.jsonl").status == 0
        again = [json.loads(line) for line in (tmp_path / "again.jsonl").read_text().splitlines()[1:]]
        for one, other in zip(map(json.loads, rows), again, strict=True):
            since = int(one["at"][:-2]) - int(first[:-2])
            assert (other["send"], other["address"], other["at"]) == (one["send"], one["address"], f"{since}us")
        direct = usher("replay", "p.yaml", f"rows.{form}", "--format", "jsonl")
        imported = usher("replay", "p.yaml", "again.jsonl", "--format", "jsonl")
        assert direct.out.splitlines() == imported.out.splitlines() != []


@pytest.mark.parametrize("octets", [b"PAR1", b"PAR1 and no more", b"PAR1" + bytes(60) + b"PAR1"])
def test_a_broken_table_is_told_in_a_line(usher: Usher, tmp_path: Path, octets: bytes) -> None:
    (tmp_path / "a.parquet").write_bytes(octets)
    for command in (("import", "a.parquet", "--into", "t.jsonl"), ("replay", "p.yaml", "a.parquet")):
        done = usher(*command, p__yaml=PIPELINE)
        assert (done.status, len(done.err.splitlines())) == (2, 1), done.err
        assert done.err.startswith("a.parquet:1:1: this table in Parquet can't be read: ")
