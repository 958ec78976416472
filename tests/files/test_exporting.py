"""Results handed on: tables that programs read back, and recordings that come in again as the same requests."""

from __future__ import annotations

import csv
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import DEMO, Outcome
from patient_usher.core.verify.exchange_table import COLUMNS

Usher = Callable[..., Outcome]
HARBOUR, STORY = str(DEMO / "harbour.yaml"), str(DEMO / "story.yaml")


def table(path: Path) -> list[dict[str, Any]]:
    """A table as its format's own reader reads it; what is missing is nothing, as text."""
    if path.suffix == ".parquet":
        import pandas  # heavy, and tests are collected in every process

        frame = pandas.read_parquet(path)
        return [
            {name: None if pandas.isna(value) else value for name, value in row.items()}
            for row in frame.to_dict("records")
        ]
    if path.suffix == ".csv":
        with path.open(newline="") as stream:
            return list(csv.DictReader(stream))
    return [json.loads(line) for line in path.read_text().splitlines()]


@pytest.mark.parametrize("name", ["r.jsonl", "r.csv", "r.parquet"])
@pytest.mark.parametrize("options", [["-q"], ["--format", "json"], []])
def test_a_row_an_exchange_in_every_form(usher: Usher, tmp_path: Path, name: str, options: list[str]) -> None:
    outcome = usher("replay", HARBOUR, STORY, "--into", name, *options)
    assert outcome.status == 0
    found = table(tmp_path / name)
    result = usher("replay", HARBOUR, STORY, "--format", "json").json["exchanges"]
    assert len(found) == len(result)
    for row, record in zip(found, result, strict=True):
        assert list(row) == list(COLUMNS)
        status = record["response"]["status"] if record["response"] else None
        assert (row["id"], str(row["status"] or "").removesuffix(".0"), row["outcome"]) == (
            record["id"],
            str(status or ""),
            record["outcome"],
        )
        assert float(row["took"]) == pytest.approx(record["finished"] - record["at"])


@pytest.mark.parametrize("name", ["r.jsonl", "r.csv", "r.parquet"])
def test_the_same_replay_writes_the_same_octets(usher: Usher, tmp_path: Path, name: str) -> None:
    written = []
    for _ in range(2):
        usher("replay", HARBOUR, STORY, "-q", "--into", name)
        written.append((tmp_path / name).read_bytes())
    assert written[0] == written[1]


def test_no_cell_is_taken_for_a_formula(usher: Usher, tmp_path: Path) -> None:
    trace = {
        "patient-usher": "trace/1",
        "callers": {"=1+1": {}},
        "requests": [{"id": "a", "caller": "=1+1", "send": "GET /health"}],
    }
    usher("replay", HARBOUR, "t.json", "-q", "--into", "r.csv", t__json=json.dumps(trace))
    assert table(tmp_path / "r.csv")[0]["caller"] == "'=1+1"


def test_a_table_is_whole_or_not_there(usher: Usher, tmp_path: Path) -> None:
    outcome = usher("replay", HARBOUR, STORY, "--into", "r.xlsx")
    assert (outcome.status, "FILE.parquet" in outcome.err) == (2, True)
    trace = '{"patient-usher": "trace/1"}\n{"id": "a", "send": "GET /health"}\nnot json\n'
    assert usher("replay", HARBOUR, "t.jsonl", "-q", "--into", "r.csv", t__jsonl=trace).status == 2
    assert list(tmp_path.glob("*r.csv*")) == []


def test_out_and_in_again_gives_the_same_requests(usher: Usher, tmp_path: Path) -> None:
    (tmp_path / "r.json").write_text(usher("replay", HARBOUR, STORY, "--format", "json").out)
    assert usher("export", "r.json", "--into", "out.har", "--starts", "2031-05-01T08:00:00Z").status == 0
    recording = json.loads((tmp_path / "out.har").read_text())["log"]
    result = [
        record
        for record in json.loads((tmp_path / "r.json").read_text())["exchanges"]
        if record["outcome"] != "not-sent"
    ]
    assert recording["version"] == "1.2"
    assert [
        (one["request"]["method"], one["request"]["url"], one["response"]["status"]) for one in recording["entries"]
    ] == [
        (
            record["request"]["method"],
            record["request"]["url"],
            record["response"]["status"] if record["response"] else 0,
        )
        for record in result
    ]
    assert recording["entries"][0]["startedDateTime"] == "2031-05-01T08:00:00Z"
    assert usher("import", "out.har", "--into", "back.jsonl").status == 0
    again = usher("replay", HARBOUR, "back.jsonl", "--format", "json").json["exchanges"]
    answered = [record for record in result if record["response"]]
    assert [(record["request"]["method"], record["request"]["url"]) for record in again] == [
        (record["request"]["method"], record["request"]["url"]) for record in answered
    ]


def test_what_is_no_result_is_refused(usher: Usher) -> None:
    outcome = usher("export", "r.json", "--into", "out.har", r__json="{}")
    assert (outcome.status, "this is no result" in outcome.err) == (2, True)


@pytest.mark.parametrize("name", ["r.jsonl", "r.csv", "r.parquet"])
def test_a_saved_result_gives_the_same_table(usher: Usher, tmp_path: Path, name: str) -> None:
    """But for what a result doesn't say: the address, and when the trace starts (--starts says that)."""
    (tmp_path / "r.json").write_text(usher("replay", HARBOUR, STORY, "--format", "json", "--into", f"a-{name}").out)
    assert usher("export", "r.json", "--into", name).status == 0
    ours, theirs = (table(tmp_path / path) for path in (name, f"a-{name}"))
    compared = [column for column in COLUMNS if column not in ("address", "time")]
    assert [[str(row[column]) for column in compared] for row in ours] == [
        [str(row[column]) for column in compared] for row in theirs
    ]


def test_parquet_has_times_categories_and_its_start(usher: Usher, tmp_path: Path) -> None:
    from pyarrow import parquet

    trace = "patient-usher: trace/1\nstarts: 2031-05-01T08:00:00Z\nrequests:\n  - {id: a, at: 1s, send: 'GET /health?q=1&api_key=made-up-key-of-nobody', headers: {User-Agent: buoy/1}}\n"
    assert usher("replay", HARBOUR, "t.yaml", "--into", "r.parquet", t__yaml=trace).status == 0
    found = parquet.read_table(tmp_path / "r.parquet")
    assert found.schema.metadata[b"starts"] == b"2031-05-01T08:00:00Z"
    assert [str(found.schema.field(name).type) for name in ("time", "method", "path")] == [
        "timestamp[us, tz=UTC]",
        "dictionary<values=string, indices=int32, ordered=0>",
        "string",
    ]
    row = found.to_pylist()[0]
    assert (str(row["time"]), row["agent"], row["host"]) == (
        "2031-05-01 08:00:01+00:00",
        "buoy/1",
        "service.example",
    )
    assert row["query"].startswith("q=1&api_key=")
    assert "made-up-key-of-nobody" not in row["query"]
