"""What to do next: told once, at a terminal, when a command has gone well on a file for the first time."""

from __future__ import annotations

import os
import sys
from argparse import Namespace
from hashlib import sha256
from pathlib import Path

from patient_usher.output.terminal import line, stdout_painter

NEXT: dict[str, str] = {
    "show": "usher replay {pipeline} TRACE walks requests through it; usher check {pipeline} needs none",
    "send": "usher send ... --append TRACE keeps this request, with what happened as expected",
    "replay": "usher check {pipeline} looks for mistakes in the order that no trace has shown",
    "check": "usher explore {pipeline} shows what can happen at all; usher reorder {pipeline} TRACE what may move",
    "import": "usher replay PIPELINE {into} --quiet says what is not as expected; without --quiet what came of it",
    "compare": "--expect-same ends with 1 where anything differs; --format md is for a pull request",
    "reorder": "usher reorder {pipeline} TRACE --wish 'a<b' looks for the order with the fewest moves",
    "explore": "usher explore {pipeline} --into TRACE keeps one request for each case",
    "sweep": "--goal 'refused(others) == 0' finds the least change that meets it; --picture FILE draws it",
    "drift": "--fit FILE writes a variant of the model that answers as the service did",
    "accept": "usher replay {pipeline} TRACE holds it from now on; --report junit=FILE is for CI",
}
MOST = 2_000
"""How many files are remembered."""


def told(command: str, args: Namespace, status: int) -> None:
    """Say what comes next, if it hasn't been said of this command and file before. Nothing goes wrong for it."""
    if status != 0 or command not in NEXT or getattr(args, "quiet", False) or getattr(args, "format", "text") != "text":
        return
    if not sys.stdout.isatty() or os.environ.get("CI"):
        return
    names = {name: getattr(args, name, None) for name in ("pipeline", "into", "a")}
    file = names["pipeline"] or names["into"] or names["a"]
    if file is None or not _first(f"{command} {Path(file).absolute()}"):
        return
    text = NEXT[command].format(**{name: value or name.upper() for name, value in names.items()})
    stdout_painter().write([[], line(("next: ", "name"), (text, "dim"))])


def _first(what: str) -> bool:
    """Whether this is the first time; from now on it isn't."""
    state = Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local/state") / "patient-usher" / "told"
    mark = sha256(what.encode()).hexdigest()[:16]
    try:
        known = state.read_text().split() if state.exists() else []
        if mark in known:
            return False
        state.parent.mkdir(parents=True, exist_ok=True)
        state.write_text("\n".join([*known[-MOST:], mark]) + "\n")
    except OSError:
        return False
    return True
