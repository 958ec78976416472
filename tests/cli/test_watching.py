"""A replay that runs again when a file changes."""

from __future__ import annotations

import os
import signal
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from queue import Empty, Queue

import pytest

from conftest import USHER, Outcome

PIPELINE = "patient-usher: pipeline/1\nroutes: [{id: r, at: GET /, access: everyone, handler: {answer: {text: one}}}]\n"
TRACE = "patient-usher: trace/1\nrequests: [{id: a, send: GET /, expect: {body: one}}]\n"

WRITES = """
from pathlib import Path

def handler(exchange):
    new = Path("next.yaml")
    if new.exists():
        new.rename("p.yaml")
    return "one"
"""


class Watching:
    """A process that watches, and what it has said since it was last asked."""

    def __init__(self, folder: Path, *options: str) -> None:
        env = {**os.environ, "PYTHONUNBUFFERED": "1", "PYTHONIOENCODING": "utf-8"}
        command = [str(USHER), "replay", "p.yaml", "t.yaml", "--watch", *options]
        pipe = subprocess.PIPE
        self.process = subprocess.Popen(
            command,
            cwd=folder,
            stdout=pipe,
            stderr=subprocess.STDOUT,
            text=True,
            env=env,
            # Where the tests run in the background, the signal would be ignored from the start.
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL) and None,
        )
        self.lines: Queue[str] = Queue()
        threading.Thread(target=self._read, daemon=True).start()

    def _read(self) -> None:
        assert self.process.stdout is not None
        for line in self.process.stdout:
            self.lines.put(line)

    def said(self) -> str:
        """Everything until it watches again."""
        text = ""
        try:
            while "Ctrl-C ends it" not in text:
                text += self.lines.get(timeout=60)
        except Empty:
            pytest.fail(f"it says no more than: {text}")
        return text


@pytest.fixture
def watching(tmp_path: Path) -> Iterator[Watching]:
    (tmp_path / "p.yaml").write_text(PIPELINE)
    (tmp_path / "t.yaml").write_text(TRACE)
    found = Watching(tmp_path)
    yield found
    found.process.kill()


def test_what_is_different_is_shown_and_nothing_else(watching: Watching, tmp_path: Path) -> None:
    first = watching.said()
    assert "✓ 1 request, all as expected" in first
    assert "watching 2 files" in first
    (tmp_path / "p.yaml").write_text(PIPELINE.replace("text: one", "text: another"))
    second = watching.said()
    assert "✗ 1 of 1 request differs" in second
    assert "- body: one" in second
    assert "+ body: another" in second
    assert "1 not as expected: a" in second
    (tmp_path / "p.yaml").write_text("routes: [\n")
    assert "p.yaml:" in watching.said(), "what can't be read is told, and the watch goes on"
    (tmp_path / "p.yaml").write_text(PIPELINE)
    assert "all as expected" in watching.said()
    watching.process.send_signal(signal.SIGINT)
    assert watching.process.wait(timeout=60) == 0


def test_a_file_is_read_when_whoever_writes_it_is_done(watching: Watching, tmp_path: Path) -> None:
    watching.said()
    pipeline = tmp_path / "p.yaml"
    with pipeline.open("w") as stream:  # emptied, as editors do before they write
        time.sleep(0.5)
        stream.write(PIPELINE.replace("text: one", "text: another"))
    second = watching.said()
    assert ("empty" in second, "+ body: another" in second) == (False, True), second
    pipeline.unlink()  # taken away, and put back by another name
    time.sleep(0.4)
    (tmp_path / "new").write_text(PIPELINE)
    (tmp_path / "new").rename(pipeline)
    third = watching.said()
    assert ("no such file" in third, "+ body: one" in third) == (False, True), third
    pipeline.unlink()
    assert "p.yaml:1:1: there is no such file" in watching.said(), "what stays away is told in the end"


def test_what_changes_during_a_run_is_run_again(tmp_path: Path) -> None:
    (tmp_path / "p.yaml").write_text(PIPELINE.replace("answer: {text: one}", 'python: "slow:handler"'))
    (tmp_path / "t.yaml").write_text(TRACE.replace(", expect: {body: one}", ""))
    (tmp_path / "slow.py").write_text(WRITES)
    (tmp_path / "next.yaml").write_text(PIPELINE.replace("text: one", "text: another"))
    watching = Watching(tmp_path, "--trust", "python")
    try:
        assert "1 request" in watching.said()
        assert "+ body: another" in watching.said()
    finally:
        watching.process.kill()


def test_watching_is_for_people_and_files(usher: object) -> None:
    assert callable(usher)
    done: Outcome = usher("replay", "p.yaml", "t.yaml", "--watch", "--format", "json", p__yaml=PIPELINE, t__yaml=TRACE)
    assert (done.status, "--watch belongs to text and to files" in done.err) == (2, True)
