"""What to do next: at a terminal, once a command and file, and nowhere else."""

from __future__ import annotations

import os
import pty
import sys
from pathlib import Path

from conftest import DEMO
from patient_usher.cli import QUESTIONS
from patient_usher.cli.hints import NEXT

CODE = "import sys; from patient_usher.cli import main; sys.exit(main(sys.argv[1:]))"


def at_a_terminal(folder: Path, *arguments: str) -> str:
    """What a command prints at a terminal."""
    said: list[bytes] = []
    child, terminal = pty.fork()
    if not child:
        env = {key: value for key, value in os.environ.items() if key != "CI"}
        os.chdir(folder)
        os.execve(sys.executable, [sys.executable, "-c", CODE, *arguments], {**env, "XDG_STATE_HOME": str(folder / "state")})  # fmt: skip
    try:
        while part := os.read(terminal, 65_536):
            said.append(part)
    except OSError:  # it is over
        pass
    os.waitpid(child, 0)
    os.close(terminal)
    return b"".join(said).decode()


def test_the_next_step_is_told_once(tmp_path: Path) -> None:
    first, second = (at_a_terminal(tmp_path, "show", str(DEMO / "harbour.yaml")) for _ in range(2))
    assert "next: " in first
    assert "next: " not in second
    other = at_a_terminal(tmp_path, "show", str(DEMO / "boaters.yaml"))
    assert "next: " in other
    quiet = at_a_terminal(tmp_path, "replay", str(DEMO / "harbour.yaml"), str(DEMO / "story.yaml"), "--quiet")
    assert "next: " not in quiet
    failed = at_a_terminal(tmp_path, "replay", str(DEMO / "mistaken.yaml"), str(DEMO / "story.yaml"))
    assert "next: " not in failed


def test_it_says_it_of_commands_that_there_are() -> None:
    assert NEXT.keys() <= QUESTIONS.keys()


def test_nothing_goes_wrong_where_nothing_can_be_kept(tmp_path: Path) -> None:
    (tmp_path / "state").write_text("a file where a folder should be")
    assert "next: " not in at_a_terminal(tmp_path, "show", str(DEMO / "harbour.yaml"))
