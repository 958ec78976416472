"""Lines of styled pieces: plain in a pipe, in colour on a terminal."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable
from typing import Any, NamedTuple, TextIO

from patient_usher.output.door import DOOR, printable


class Piece(NamedTuple):
    """Text with a style: a name from ``STYLES``, or nothing."""

    text: str
    style: str = ""


Line = list[Piece]

STYLES = {
    "title": "bold",
    "dim": "dim",
    "good": "green",
    "bad": "bold red",
    "answered": "bold cyan",
    "raised": "bold yellow",
    "caught": "bold magenta",
    "name": "bold",
    "field": "cyan",
    "log": "italic",
}

# Where the output can't hold the drawing characters, these stand in.
_ASCII = str.maketrans("●○◆▲▼◇◈∞·─╌┌│├└╴✓✗×…→–•", "oxA!v@*?.-~,|||-v#x.>-*", "")


def line(*pieces: str | Piece | tuple[str, str]) -> Line:
    """A line from texts and (text, style) pairs."""
    return [Piece(piece) if isinstance(piece, str) else Piece(*piece) for piece in pieces]


def plain(pieces: Line) -> str:
    """A line without its styles."""
    return "".join(piece.text for piece in pieces).rstrip()


class Painter:
    """Writes lines to a stream."""

    def __init__(self, stream: TextIO, *, colour: bool) -> None:
        self._stream = stream
        self._console: Any = None
        encoding = (getattr(stream, "encoding", None) or "utf-8").lower().replace("-", "")
        self._ascii = encoding not in ("utf8", "utf16", "utf32")
        if colour:
            from rich.console import Console

            self._console = Console(
                file=stream, force_terminal=True, highlight=False, markup=False, emoji=False, soft_wrap=True
            )

    def write(self, lines: Iterable[Line]) -> None:
        """Write lines, each with its end."""
        for pieces in lines:
            text = DOOR.text(printable(plain(pieces)))
            if self._ascii:
                self._stream.write(text.translate(_ASCII).encode("ascii", "backslashreplace").decode() + "\n")
            elif self._console is None:
                self._stream.write(text + "\n")
            else:
                from rich.text import Text

                styled = ((DOOR.text(printable(piece.text)), STYLES.get(piece.style, "")) for piece in pieces)
                self._console.print(Text.assemble(*styled))


def wants_colour(stream: TextIO, environ: dict[str, str]) -> bool:
    """Whether to colour: a terminal that can, and no NO_COLOR."""
    return stream.isatty() and not environ.get("NO_COLOR") and environ.get("TERM") != "dumb"


def stdout_painter() -> Painter:
    """The painter for standard output."""
    return Painter(sys.stdout, colour=wants_colour(sys.stdout, dict(os.environ)))


def say(text: str) -> None:
    """One remark on standard error, on as many lines as it has."""
    for part in text.split("\n"):
        print(DOOR.text(printable(part)), file=sys.stderr)


def fit(text: str, width: int) -> str:
    """Text cut or padded to a width; a cut shows as an ellipsis."""
    return text.ljust(width) if len(text) <= width else text[: max(width - 1, 0)] + "…"


def chopped(text: str, width: int) -> list[str]:
    """Text in pieces of a width, nothing left out."""
    step = max(width, 20)
    return [text[at : at + step] for at in range(0, len(text), step)]
