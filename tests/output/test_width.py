"""How wide the terminal is, where one is and where none is."""

from __future__ import annotations

import os
import pty
import sys
from pathlib import Path

import pytest

from patient_usher.output.width import terminal_columns


@pytest.mark.parametrize(
    ("said", "wide"), [("70", 70), ("0", 90), ("", 90), ("abc", 90), ("-70", 90), ("²", 90), ("9" * 5000, 999999)]
)
def test_what_the_environment_says_counts_where_it_is_a_number(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path, said: str, wide: int
) -> None:
    monkeypatch.setenv("COLUMNS", said)
    with (tmp_path / "no-terminal").open("w") as stream:
        monkeypatch.setattr(sys, "__stdout__", stream)
        assert terminal_columns(90) == wide


def test_a_terminal_says_how_wide_it_is(monkeypatch: pytest.MonkeyPatch) -> None:
    import termios

    monkeypatch.delenv("COLUMNS", raising=False)
    ours, theirs = pty.openpty()
    termios.tcsetwinsize(theirs, (24, 77))
    with os.fdopen(theirs, "w") as stream, os.fdopen(ours):
        monkeypatch.setattr(sys, "__stdout__", stream)
        assert terminal_columns(90) == 77
    monkeypatch.setattr(sys, "__stdout__", None)
    assert terminal_columns(90) == 90
