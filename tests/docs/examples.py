"""The examples of the documentation: commands and what they print, run in order in a folder of the demo's files.

A block of ``console`` has commands behind ``$``, each with what it prints; a line of ``…`` stands for any lines. A
block of ``yaml`` that begins with ``# FILE`` is that file. ``python tests/examples.py PAGE ...`` writes anew what the
commands of pages print; a command whose output is cut keeps its first and last lines.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

BLOCK = re.compile(r"^```(console|yaml)\n(.*?)^```$", re.MULTILINE | re.DOTALL)
ANY = "…"

Run = Callable[[str, Path], str]


class Command(NamedTuple):
    """A command and the lines that it prints."""

    text: str
    lines: list[str]

    def fits(self, printed: list[str]) -> bool:
        """Whether this was printed."""
        parts: list[list[str]] = [[]]
        for line in self.lines:
            if line.strip() == ANY:
                parts.append([])
            else:
                parts[-1].append(line)
        if len(parts) == 1:
            return printed == parts[0]
        head, tail = parts[0], parts[-1]
        rest = printed[len(head) : len(printed) - len(tail) or None]
        if printed[: len(head)] != head or (tail and printed[-len(tail) :] != tail):
            return False
        for part in parts[1:-1]:
            at = next((n for n in range(len(rest)) if rest[n : n + len(part)] == part), None)
            if at is None:
                return False
            rest = rest[at + len(part) :]
        return True


def commands(block: str) -> Iterator[Command]:
    """The commands of a block of ``console``."""
    found: list[Command] = []
    for line in block.splitlines():
        if line.startswith("$ "):
            found.append(Command(line[2:], []))
        elif found and not found[-1].lines and found[-1].text.endswith("\\"):
            found[-1] = Command(f"{found[-1].text}\n{line}", [])
        else:
            found[-1].lines.append(line.rstrip())
    yield from found


def steps(page: str) -> Iterator[tuple[re.Match[str], list[Command], tuple[str, str] | None]]:
    """Every block, with its commands or the file that it is."""
    for match in BLOCK.finditer(page):
        if match[1] == "console":
            yield match, list(commands(match[2])), None
        elif match[2].startswith("# ") and match[2].split()[1].endswith((".yaml", ".yml")):
            yield match, [], (match[2].split()[1], match[2])


def in_a_shell(command: str, folder: Path) -> str:
    """What a command prints, both ways."""
    path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    env = {**os.environ, "PATH": path, "COLUMNS": "100", "NO_COLOR": "1", "PYTHONIOENCODING": "utf-8"}
    done = subprocess.run(
        ["bash", "-c", command], cwd=folder, env=env, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
        timeout=120,
    )  # fmt: skip
    return done.stdout


def rewritten(page: str, folder: Path) -> str:
    """The page with what its commands print."""
    parts, end = [], 0
    for match, found, file in steps(page):
        parts.append(page[end : match.start()])
        end = match.end()
        if file is not None:
            (folder / file[0]).write_text(file[1])
            parts.append(match[0])
            continue
        block = ["```console"]
        for command in found:
            printed = [line.rstrip() for line in in_a_shell(command.text, folder).splitlines()]
            block.append(f"$ {command.text}")
            if ANY in [line.strip() for line in command.lines] and not command.fits(printed):
                kept = next(n for n, line in enumerate(command.lines) if line.strip() == ANY)
                after = len(command.lines) - kept - 1
                printed = [*printed[:kept], ANY, *(printed[-after:] if after else [])]
            elif command.fits(printed):
                printed = command.lines
            block += printed
        parts.append("\n".join([*block, "```"]))
    return "".join([*parts, page[end:]])


def demo(folder: Path) -> None:
    """The demo's files, in a folder."""
    in_a_shell("usher demo --copy .", folder)


if __name__ == "__main__":
    for name in sys.argv[1:]:
        with tempfile.TemporaryDirectory() as made:
            demo(Path(made))
            Path(name).write_text(rewritten(Path(name).read_text(), Path(made)))
