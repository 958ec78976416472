"""Processes that work for one: the same comes of them however they are started, which is another way on each system."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import STARTED, Outcome

PIPELINE = """patient-usher: pipeline/1
stages: [{id: limit, kind: rate-limit, quota: 1, window: 1s, per: [address]}]
routes: [{id: a, at: GET /a, access: everyone, handler: {answer: {text: a}}}]
"""
COMMANDS = [
    ("replay", "p.yaml", "t.jsonl", "-q", "--into", "rows.csv"),
    ("sweep", "p.yaml", "t.jsonl", "--try", "limit.quota=1,2,3", "--format", "json"),
]


@pytest.mark.parametrize("command", COMMANDS, ids=lambda command: command[0])
def test_however_processes_are_started_the_same_comes_of_them(tmp_path: Path, command: tuple[str, ...]) -> None:
    (tmp_path / "p.yaml").write_text(PIPELINE)
    (tmp_path / "started.py").write_text(STARTED)
    rows = [
        {"id": f"r{at}", "at": f"{at * 50}ms", "send": "GET /a", "address": f"192.0.2.{at % 7}"} for at in range(500)
    ]
    lines = [{"patient-usher": "trace/1"}, *rows]
    (tmp_path / "t.jsonl").write_text("\n".join(map(json.dumps, lines)))

    def run(*words: str) -> Outcome:
        done = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True, timeout=120, check=False)
        rows = tmp_path / "rows.csv"
        return Outcome(done.returncode, done.stdout + (rows.read_text() if rows.exists() else ""), done.stderr)

    alone = run(sys.executable, "started.py", "fork", *command, "--cores", "1")
    assert (alone.status, alone.err) == (0, "")
    for method in ("fork", "forkserver", "spawn"):
        assert run(sys.executable, "started.py", method, *command, "--cores", "2") == alone, method
