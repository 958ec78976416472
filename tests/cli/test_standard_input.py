"""A pipeline on standard input."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from conftest import DEMO

PIPELINE = (DEMO / "landing.yaml").read_text()
STORY = str(DEMO / "landing-story.yaml")


def usher(folder: Path, text: str, *arguments: str) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "patient_usher", *arguments]
    return subprocess.run(command, input=text, capture_output=True, text=True, cwd=folder, check=False)


@pytest.mark.parametrize(("arguments", "status", "words"), [
    (["show", "-"], 0, "browsers"), (["replay", "-", STORY, "--quiet"], 0, ""), (["check", "-"], 0, "no findings"), (["sweep", "-", STORY, "--try", "fair.quota=1,9"], 0, "quota"),
])  # fmt: skip
def test_a_pipeline_is_read_from_it(tmp_path: Path, arguments: list[str], status: int, words: str) -> None:
    done = usher(tmp_path, PIPELINE, *arguments)
    assert (done.returncode, words in done.stdout) == (status, True), done.stdout + done.stderr


def test_what_is_wrong_has_its_place(tmp_path: Path) -> None:
    done = usher(tmp_path, "patient-usher: pipeline/1\nstages: [nope]\n", "show", "-")
    assert (done.returncode, "standard input:2:10: there is no kind 'nope'" in done.stderr) == (2, True)


@pytest.mark.parametrize(("arguments", "words"), [
    (["check", "-", "--mend", "all"], "--mend needs the pipeline's file"), (["replay", "-", "-"], "a pipeline or a trace, not both"), (["replay", "-", STORY, "--cores", "2"], "--cores needs"),
])  # fmt: skip
def test_what_reads_it_again_is_refused(tmp_path: Path, arguments: list[str], words: str) -> None:
    done = usher(tmp_path, PIPELINE, *arguments)
    assert (done.returncode, words in done.stderr) == (2, True)
    assert list(tmp_path.iterdir()) == []
