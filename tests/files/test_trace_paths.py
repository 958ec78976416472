"""Folders and patterns: which files they stand for."""

from __future__ import annotations

import gzip
import json
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import DEMO, Outcome
from patient_usher.core.model.document import Unusable
from patient_usher.files.trace_paths import expanded

Usher = Callable[..., Outcome]
FILES = ("b.jsonl", "a.jsonl", "c.jsonl.gz", "d.jsonl.zst", "notes.txt", "p.yaml", "e[1].jsonl")
NAMED = [
    (["."], ["a.jsonl", "b.jsonl", "c.jsonl.gz", "d.jsonl.zst", "e[1].jsonl"]), (["*.jsonl"], ["a.jsonl", "b.jsonl", "e[1].jsonl"]), (["c.*", "a.jsonl"], ["c.jsonl.gz", "a.jsonl"]),
    (["e[1].jsonl"], ["e[1].jsonl"]), (["gone.yaml", "-"], ["gone.yaml", "-"]), (["?.jsonl"], ["a.jsonl", "b.jsonl"]), (["**/x.jsonl"], ["sub/x.jsonl"]),
]  # fmt: skip


@pytest.mark.parametrize(("named", "found"), NAMED)
def test_what_is_named(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, named: list[str], found: list[str]) -> None:
    monkeypatch.chdir(tmp_path)
    for name in FILES:
        Path(name).touch()
    Path("sub").mkdir()
    Path("sub/x.jsonl").touch()
    assert [str(path) for path in expanded(map(Path, named))] == found


@pytest.mark.parametrize(("named", "words"), [("*.jsonl", "no file fits this pattern"), (".", "this folder has no")])
def test_nothing_is_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, named: str, words: str) -> None:
    monkeypatch.chdir(tmp_path)
    with pytest.raises(Unusable, match=words):
        expanded([Path(named)])


def test_a_packed_trace_is_replayed_as_it_is(usher: Usher, tmp_path: Path) -> None:
    rows = [{"patient-usher": "trace/1", "base": "https://a.example"}, {"id": "a", "at": "0s", "send": "GET /health"}]
    text = ("\n".join(map(json.dumps, rows)) + "\n").encode()
    (tmp_path / "t.jsonl.gz").write_bytes(gzip.compress(text))
    (tmp_path / "t.jsonl").write_bytes(text)
    plain, packed = (usher("replay", str(DEMO / "harbour.yaml"), name) for name in ("t.jsonl", "t.jsonl.gz"))
    assert (packed.status, packed.out) == (0, plain.out)
    (tmp_path / "cut.jsonl.gz").write_bytes(gzip.compress(text)[:-6])
    assert "cut off" in usher("replay", str(DEMO / "harbour.yaml"), "cut.jsonl.gz", "-q").err
