"""Files as strangers made them, each of which once ended in a fault, a hang or a loss: now in a sentence, or in order."""

from __future__ import annotations

import json
import re
import shlex
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

import fuzz
from conftest import DEMO, Outcome

CASES = Path(__file__).parents[1] / "cases" / "strangers"
FACTS: dict[str, tuple[str, int]] = json.loads((CASES / "facts.json").read_text())


@pytest.mark.parametrize("name", FACTS)
def test_a_file_as_strangers_made_it(usher: Callable[..., Outcome], tmp_path: Path, name: str) -> None:
    command, status = FACTS[name]
    for folder in (DEMO, CASES / name):
        for path in folder.iterdir():
            if path.is_file():
                shutil.copy(path, tmp_path)
    done = usher(*shlex.split(command))
    assert (done.status, "Traceback" in done.err) == (status, False), done.err
    if status == 2:  # where, what is wrong, and what would be right; and nothing else has come of it
        assert done.out == ""
        for line in done.err.splitlines():
            assert re.match(r"\S+:\d+:\d+: |--[a-z-]+: |command line: |usher ", line), line
            assert "warning: " in line or "; " in line or "must be" in line, line
    elif "import" in command:
        into = re.search(r"--into (\S+)", command)
        assert into is not None
        written = tmp_path / into[1]
        assert fuzz.refused(written, written.read_text()) == "" or "has no stage" in fuzz.refused(
            written, written.read_text()
        )
