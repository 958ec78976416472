"""The page on Python: every example on it runs, in order, on the demo's files."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

import patient_usher
from conftest import DEMO, ROOT

PAGE = (ROOT / "docs/python.md").read_text()


def test_the_examples_run(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> None:
    for path in DEMO.iterdir():
        if path.suffix in (".yaml", ".csv"):
            (tmp_path / path.name).write_bytes(path.read_bytes())
    monkeypatch.chdir(tmp_path)
    blocks = re.findall(r"^```python\n(.*?)^```", PAGE, re.MULTILINE | re.DOTALL)
    assert len(blocks) == 4
    names: dict[str, object] = {}
    for block in blocks:
        exec(block, names)
    said = capsys.readouterr().out.splitlines()
    assert said[0].split() == ["health", "200", "held", "False"]
    assert "['errors-uncaught@who']" in said
    assert (len(names["first"]), len(names["second"])) == (1, 1)  # type: ignore[arg-type]


def test_every_name_stands_on_the_page() -> None:
    assert [name for name in patient_usher.__all__ if f"`{name}" not in PAGE and name != "Sent"] == []
    assert all(callable(getattr(patient_usher, name)) for name in patient_usher.__all__)
