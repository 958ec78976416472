"""Every example of the documentation does what the page says."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import ROOT
from docs.examples import Command, commands, demo, in_a_shell, steps

PAGES = sorted(
    path.relative_to(ROOT)
    for path in (ROOT / "docs").rglob("*.md")
    if "```console" in path.read_text() and path.name != "serve.md" and "_build" not in path.parts
)


@pytest.mark.parametrize("page", PAGES, ids=str)
def test_the_page_says_what_comes(page: Path, tmp_path: Path) -> None:
    demo(tmp_path)
    for _, found, file in steps((ROOT / page).read_text()):
        if file is not None:
            (tmp_path / file[0]).write_text(file[1])
        for command in found:
            assert not [line for line in command.lines if "Traceback" in line or str(ROOT) in line], command.text
            printed = [line.rstrip() for line in in_a_shell(command.text, tmp_path).splitlines()]
            assert command.fits(printed) or printed == command.lines, f"{page}: {command.text}"


FITS = [
    ("a\nb", "a\nb", True), ("a\n…", "a\nb\nc", True), ("…\nc", "a\nb\nc", True), ("a\n…\nc", "a\nb\nc", True), ("a\n…\nb\n…\nd", "a\nx\nb\ny\nd", True),
    ("a\nb", "a\nc", False), ("a\n…", "b", False), ("a\n…\nx\n…\nd", "a\nb\nd", False), ("a\n…\nc", "a\nb", False), ("a", "a\nb", False),
]  # fmt: skip


@pytest.mark.parametrize(("said", "printed", "fits"), FITS)
def test_what_an_example_may_leave_out(said: str, printed: str, *, fits: bool) -> None:
    assert Command("x", said.splitlines()).fits(printed.splitlines()) is fits
    assert [one.text for one in commands(f"$ a\n{said}\n$ b")] == ["a", "b"]
