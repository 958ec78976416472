"""Lines of styled pieces: plain in a pipe, in colour on a terminal, as wide as that is."""

from __future__ import annotations

import os
import sys
import textwrap
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextvars import ContextVar
from functools import wraps
from itertools import groupby
from operator import itemgetter
from typing import Any, NamedTuple, ParamSpec, TextIO, TypeVar

from patient_usher.output.redactor import REDACTOR, printable
from patient_usher.output.width import terminal_columns

P = ParamSpec("P")
T = TypeVar("T")


class Piece(NamedTuple):
    """Text with a style: a name from ``STYLES``, or nothing."""

    text: str
    style: str = ""


Line = list[Piece]

# How wide lines are.

FULL = 100
"""How wide lines are that go into a file or a pipe."""
NARROWEST, WIDEST = 60, 160
_UNSAID = 0
_room: ContextVar[int] = ContextVar("width", default=_UNSAID)


def line_width() -> int:
    """How many cells a line has."""
    return _room.get() or FULL


def adjust(stream: TextIO, environ: Mapping[str, str]) -> None:
    """Let lines be as wide as the terminal is, or as COLUMNS says."""
    columns = environ.get("COLUMNS", "")
    if columns.isdecimal():
        wide = int(columns)
    elif stream.isatty():
        wide = terminal_columns(FULL)
    else:
        wide = _UNSAID
    _room.set(min(max(wide, NARROWEST), WIDEST) if wide else _UNSAID)


def at_full_width(make: Callable[P, T]) -> Callable[P, T]:
    """What makes a file, whose lines are as wide wherever it is made."""

    @wraps(make)
    def made(*args: P.args, **more: P.kwargs) -> T:
        token = _room.set(FULL)
        try:
            return make(*args, **more)
        finally:
            _room.reset(token)

    return made


def cells(text: str) -> int:
    """How many cells a text takes: East Asian characters count two."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


def fit(text: str, wide: int) -> str:
    """Text cut or padded to so many cells; a cut shows as an ellipsis."""
    if text.isascii():
        return text.ljust(wide) if len(text) <= wide else text[: max(wide - 1, 0)] + "…"
    from rich.cells import cell_len, set_cell_size

    return set_cell_size(text, wide) if cell_len(text) <= wide else set_cell_size(text, max(wide - 1, 0)) + "…"


def squeezed(text: str, wide: int) -> str:
    """A name of at most so many characters: one too long loses its middle, since names often differ at their ends."""
    if len(text) <= wide:
        return text
    behind = (wide - 1) // 2
    return f"{text[: wide - 1 - behind]}…{text[len(text) - behind :]}"


def wrapped(text: str, less: int = 0, indent: str = "") -> list[str]:
    """Text on lines that leave so many cells free; ``indent`` stands in front of all but the first."""
    wide = max(line_width() - less, 20)
    return textwrap.wrap(text, wide, subsequent_indent=indent, break_on_hyphens=False)


def chopped(text: str, wide: int) -> list[str]:
    """Text in pieces of a width, nothing left out."""
    step = max(wide, 20)
    return [text[at : at + step] for at in range(0, len(text), step)]


def folded(pieces: Line, wide: int) -> Iterator[Line]:
    """A line on as many as it takes, broken at spaces; what goes on stands a little further in."""
    if cells(plain(pieces)) <= wide:
        yield pieces
        return
    letters = [(letter, style) for text, style in pieces for letter in text]
    text = plain(pieces)
    indent = min(len(text) - len(text.lstrip()) + 4, wide // 2)
    start = ""
    while letters:
        room, fits = wide - len(start), 0
        while fits < len(letters) and (room := room - cells(letters[fits][0])) >= 0:
            fits += 1
        if fits < len(letters):
            spaces = [at for at in range(max(fits // 2, indent), fits + 1) if letters[at][0] == " "]
            fits = spaces[-1] if spaces else fits
        runs = ((style, "".join(letter for letter, _ in run)) for style, run in groupby(letters[:fits], itemgetter(1)))
        yield [Piece(start), *(Piece(text, style) for style, text in runs)]
        letters = letters[fits:]
        while letters and letters[0][0] == " ":
            letters.pop(0)
        start = " " * indent


# What they look like.

STYLES: dict[str, dict[str, str]] = {
    "either": {
        "dim": "color(243)", "good": "color(29)", "bad": "bold color(163)", "answered": "bold color(63)",
        "raised": "bold color(131)", "caught": "bold color(98)", "field": "color(63)",
    },
    "dark": {
        "dim": "color(247)", "good": "color(114)", "bad": "bold color(210)", "answered": "bold color(117)",
        "raised": "bold color(221)", "caught": "bold color(183)", "field": "color(117)",
    },
    "light": {
        "dim": "color(240)", "good": "color(22)", "bad": "bold color(124)", "answered": "bold color(24)",
        "raised": "bold color(94)", "caught": "bold color(90)", "field": "color(24)",
    },
    "few": {
        "dim": "", "good": "bold", "bad": "bold underline", "answered": "bold", "raised": "underline", "caught": "",
        "field": "bold",
    },
}  # fmt: skip
"""By ground: colours that hold 4.5:1 on it (WCAG 2.2, 1.4.3); on black and white alike where nobody says which.
``few``: where a terminal has sixteen of its own choosing, none of which can be relied on."""
_ALWAYS = {"title": "bold", "name": "bold", "log": "italic"}

ASCII: dict[str, str] = {
    "●": "o", "○": "0", "◆": "A", "▲": "!", "▼": "V", "◇": "C", "◈": "2", "∞": "?", "·": ".", "◐": "%",
    "─": "-", "╌": "~", "┌": ",", "│": "|", "├": "|", "└": "`", "╴": "-", "┼": "+",
    "✓": "v", "✗": "X", "•": "*", "≠": "#", "×": "x", "…": ".", "→": ">", "–": "-", "—": "-", "█": "#", "░": ".",
}  # fmt: skip
"""What stands in for a sign where an output can't hold it, or ``--plain`` asks for it: each for one, cell by cell."""
_ASCII = str.maketrans(ASCII)


class Display:
    """What the command line says of the looks: ``colour`` is auto, always or never."""

    colour = "auto"
    plain = False


DISPLAY = Display()


def line(*pieces: str | Piece | tuple[str, str]) -> Line:
    """A line from texts and (text, style) pairs."""
    return [Piece(piece) if isinstance(piece, str) else Piece(*piece) for piece in pieces]


def plain(pieces: Line) -> str:
    """A line without its styles."""
    return "".join(piece.text for piece in pieces).rstrip()


class Painter:
    """Writes lines to a stream."""

    def __init__(self, stream: TextIO, *, colour: bool, ground: str = "either", ascii_only: bool = False) -> None:
        self._stream = stream
        self._console: Any = None
        self._styles = {**_ALWAYS, **STYLES[ground]}
        encoding = (getattr(stream, "encoding", None) or "utf-8").lower().replace("-", "")
        self._ascii = ascii_only or encoding not in ("utf8", "utf16", "utf32")
        if colour:
            from rich.console import Console

            self._console = Console(
                file=stream, force_terminal=True, highlight=False, markup=False, emoji=False, soft_wrap=True
            )
            if self._console.color_system not in ("256", "truecolor"):
                self._styles = {**_ALWAYS, **STYLES["few"]}

    def write(self, lines: Iterable[Line]) -> None:
        """Write lines, each with its end."""
        fitting = (part for whole in lines for part in folded(whole, line_width()))
        for pieces in lines if _room.get() == _UNSAID else fitting:
            if self._console is None:
                self._stream.write(self._told(plain(pieces)) + "\n")
            else:
                from rich.text import Text

                styled = ((self._told(piece.text), self._styles.get(piece.style, "")) for piece in pieces)
                self._console.print(Text.assemble(*styled))

    def _told(self, text: str) -> str:
        text = REDACTOR.text(printable(text))
        if self._ascii:
            text = text.translate(_ASCII).encode("ascii", "backslashreplace").decode()
        return text


def wants_colour(stream: TextIO, environ: Mapping[str, str], asked: str = "auto") -> bool:
    """Whether to colour: as it is asked for; else a terminal that can, and no NO_COLOR, or FORCE_COLOR."""
    if asked != "auto":
        return asked == "always"
    if environ.get("NO_COLOR"):
        return False
    return bool(environ.get("FORCE_COLOR")) or (stream.isatty() and environ.get("TERM") != "dumb")


def ground_of(environ: Mapping[str, str]) -> str:
    """On what it is written: as COLORFGBG says (``15;0``), whose last number is the background's colour."""
    back = environ.get("COLORFGBG", "").rpartition(";")[2]
    if not back.isdecimal():
        return "either"
    return "light" if int(back) in (7, 15) else "dark" if int(back) < 16 else "either"


def stdout_painter() -> Painter:
    """The painter for standard output."""
    colour = wants_colour(sys.stdout, os.environ, DISPLAY.colour)
    return Painter(sys.stdout, colour=colour, ground=ground_of(os.environ), ascii_only=DISPLAY.plain)


def say(text: str) -> None:
    """One remark on standard error, on as many lines as it has."""
    for part in text.split("\n"):
        told = REDACTOR.text(printable(part))
        print(told.translate(_ASCII) if DISPLAY.plain else told, file=sys.stderr)
