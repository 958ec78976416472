"""Arguments that can't be used are told in one line, like everything else."""

from __future__ import annotations

import re
import sys
import textwrap
from argparse import SUPPRESS, ArgumentParser, ArgumentTypeError, Namespace, RawDescriptionHelpFormatter
from pathlib import Path
from typing import NoReturn

from patient_usher.core.model.document import did_you_mean
from patient_usher.core.model.document import unusable as unusable
from patient_usher.output.terminal import say

ALSO = {"--into": "-o", "--format": "-f", "--header": "-H", "--quiet": "-q", "--colour": "--color"}
"""Further names of options, in every command that has them."""
FIRST = {"--colour": 1, "--color": 1, "--plain": 0}
"""Options of all commands, which may stand before the command, and how many words each takes."""


def behind(arguments: list[str]) -> list[str]:
    """The arguments with options of all commands behind the command."""
    at = 0
    while at < len(arguments) and (name := arguments[at].partition("=")[0]) in FIRST:
        at += 1 + (FIRST[name] if "=" not in arguments[at] else 0)
    return [*arguments[at : at + 1], *arguments[:at], *arguments[at + 1 :]] if at < len(arguments) else arguments


class Parser(ArgumentParser):
    """An argument parser that says what is wrong, and where to look."""

    def shorten(self) -> None:
        """Give options their short and other names, and ``--json`` where a command can print JSON."""
        for action in [*self._actions]:
            for name, also in ALSO.items():
                if name in action.option_strings and also not in self._option_string_actions:
                    action.option_strings = [*action.option_strings, also]
                    self._option_string_actions[also] = action
            if "--format" in action.option_strings and "json" in (action.choices or ()):
                self.add_argument(
                    "--json", dest=action.dest, action="store_const", const="json", default=SUPPRESS,
                    help="the same as --format json",
                )  # fmt: skip

    def error(self, message: str) -> NoReturn:
        """Say it and end with exit status 2."""
        start = "unrecognized arguments: "
        if message.startswith(start):
            word = message.removeprefix(start).split(" ")[0]
            hint = did_you_mean(word, self._option_string_actions) if word.startswith("-") else ""
            message = f"there is no option or argument '{word}' here" + (f"; {hint}" if hint.startswith("did") else "")
        say(f"{self.prog}: {message}; {self.prog} --help says more")
        sys.exit(2)


class Formatter(RawDescriptionHelpFormatter):
    """Help that fits the terminal: paragraphs are filled, lines that stand in (examples) go on behind a backslash."""

    def _fill_text(self, text: str, width: int, indent: str) -> str:
        paragraphs = []
        for paragraph in text.strip("\n").split("\n\n"):
            lines = paragraph.splitlines()
            if any(line.startswith("  ") for line in lines):
                more = " \\" if lines[0] == "examples:" else ""
                paragraphs.append("\n".join(part for line in lines for part in _went_on(line, width, more)))
            else:
                paragraphs.append(textwrap.fill(" ".join(lines), width, break_on_hyphens=False, break_long_words=False))
        return "\n\n".join(paragraphs)


def _went_on(line: str, width: int, more: str) -> list[str]:
    """A line that stands in, on as many lines as it takes; ``more`` ends all but the last."""
    if len(line) <= width:
        return [line]
    head = re.match(r"\s+\S+\s{2,}", line)
    inner = " " * (len(head[0]) if head and not more else len(line) - len(line.lstrip()) + 4)
    parts = textwrap.wrap(
        line, width - len(more), subsequent_indent=inner, break_on_hyphens=False, break_long_words=False
    )
    return [*(f"{part}{more}" for part in parts[:-1]), parts[-1]]


_AGAIN = ("mend", "fit", "watch", "cluster")


def read_again_by(args: Namespace) -> None:
    """Raise Unusable for options that read the pipeline again, or name it in a file: standard input is read once."""
    traces = [str(path) for path in (getattr(args, "traces", None) or [getattr(args, "trace", None)])]
    named = [f"--{name.replace('_', '-')}" for name in _AGAIN if getattr(args, name, None)]
    if hasattr(args, "cluster") and args.cores > 1:
        named.append("--cores")
    if hasattr(args, "wish") and args.into is not None:
        named.append("--into")
    if "-" in traces or named:
        what = f"{named[0]} needs the pipeline's file" if named else "standard input is a pipeline or a trace, not both"
        raise unusable(what, "save the pipeline in a file, and name that")


def add_display(parser: ArgumentParser) -> None:
    """How it looks: options that every command has."""
    group = parser.add_argument_group("display")
    group.add_argument(
        "--colour", choices=["auto", "always", "never"], default="auto",
        help="auto: on a terminal, unless NO_COLOR is set; FORCE_COLOR and COLORFGBG count too",
    )  # fmt: skip
    group.add_argument("--plain", action="store_true", help="signs and lines of ASCII alone")


def outgoing_picture(text: str) -> Path:
    """Where a picture goes. Raises ArgumentTypeError."""
    path = outgoing(text)
    if path.suffix not in (".png", ".svg"):
        raise ArgumentTypeError(f"{text} is no picture's name; write FILE.png or FILE.svg")
    return path


def outgoing(text: str) -> Path:
    """Where a file goes that takes long to make. Raises ArgumentTypeError."""
    path = Path(text)
    if path.is_dir() or not path.parent.is_dir():
        what = "is a folder" if path.is_dir() else f"can't be written: there is no folder {path.parent}"
        raise ArgumentTypeError(f"{text} {what}; name a file in a folder that is there")
    return path


def method(text: str) -> str:
    """A method of HTTP (RFC 9110 section 9.1), in capitals. Raises ArgumentTypeError."""
    from patient_usher.core.model.text_types import METHOD

    if not METHOD.fullmatch(text):
        raise ArgumentTypeError(f"'{text}' is no method; write one, as in GET")
    return text.upper()


def whole(text: str) -> int:
    """A whole number. Raises ArgumentTypeError."""
    try:
        return int(text[:40])
    except ValueError:
        raise ArgumentTypeError(f"'{text}' is no whole number; write one, as in 0 or 7") from None


def percent(text: str) -> int:
    """0 to 100. Raises ArgumentTypeError."""
    found = whole(text)
    if not 0 <= found <= 100:
        raise ArgumentTypeError(f"'{text}' is no percentage; write 0 to 100")
    return found


def count(text: str) -> int:
    """A whole number, 1 or more. Raises ArgumentTypeError."""
    if not (text.isascii() and text.isdecimal() and 0 < len(text) < 16 and int(text) > 0):
        raise ArgumentTypeError(f"'{text}' is no count; write a whole number, 1 or more")
    return int(text)


def place(text: str) -> tuple[str, int]:
    """Where to listen: HOST:PORT. Raises ArgumentTypeError."""
    host, colon, port = text.rpartition(":")
    if not colon or not port.isdecimal() or int(port) > 65535:
        raise ArgumentTypeError(f"'{text}' is no place to listen; write HOST:PORT, as in 127.0.0.1:8471")
    return host.strip("[]") or "127.0.0.1", int(port)


def share(text: str) -> float:
    """More than 0, and 1 at most. Raises ArgumentTypeError."""
    return _number(text, 1.0, "is no share; write more than 0 and at most 1, as in 0.01")


def factor(text: str) -> float:
    """More than 0. Raises ArgumentTypeError."""
    return _number(text, 1e9, "is no factor; write a number from 0.000001 on, as in 10 or 0.5", least=1e-6)


def duration(text: str) -> int:
    """Microseconds. Raises ArgumentTypeError."""
    from patient_usher.core.model.text_types import parse_duration

    try:
        return parse_duration(text)
    except ValueError as error:
        raise ArgumentTypeError(str(error)) from None


def _number(text: str, most: float, otherwise: str, least: float = 0.0) -> float:
    try:
        found = float(text)
    except ValueError:
        found = 0.0
    if not (0 < found <= most and found >= least):
        raise ArgumentTypeError(f"'{text}' {otherwise}")
    return found
