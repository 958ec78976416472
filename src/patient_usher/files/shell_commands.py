"""Lines of a shell as the words of its commands: sh (POSIX.1-2024, Shell Command Language) and cmd of Windows.

Nothing is filled in and nothing is run: what a shell would put in the place of ``$NAME`` or ``$(command)`` stays as it
is written, and is told.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple


class Simple(NamedTuple):
    """One command (2.9.1): the line that it begins on, its words, its here-document, and what isn't filled in."""

    line: int
    words: list[str]
    text: str | None = None
    unfilled: tuple[str, ...] = ()


class Unclosed(ValueError):
    """A quote that isn't closed, of the command that begins on ``line``."""

    def __init__(self, line: int) -> None:
        super().__init__("a quote isn't closed")
        self.line = line


def commands_of(text: str) -> Iterator[Simple]:
    """Every command of a text, whichever shell it is for. Raises Unclosed."""
    text = text.replace("\r\n", "\n")
    return _of_cmd(text) if _FOR_CMD.search(text) else _ShellReader(text).commands()


# sh.

_FILLED_IN = r"(?P<variable>\$(?:[A-Za-z_]\w*|\{[^}\n]*\}|[0-9@*#?!]))|(?P<opens>\$\(|`)"
_PIECE = re.compile(
    r"""(?P<joined>\\(?:\n|\Z))|(?P<newline>\n)|(?P<blank>[ \t]+)"""
    r"""|(?P<redirect>(?:(?<![^\s;&|()])\d+)?(?:<<-?(?!<)|<<<|<&|>&|>>|<>|>\||<|>)|&>>?)|(?P<operator>&&|\|\||;;|\|&|[;&|()])"""
    r"""|\$'(?P<ansi>(?:[^'\\]|\\.)*+)'|'(?P<single>[^']*)'|(?P<double>")"""
    rf"""|\\(?P<escaped>.)|{_FILLED_IN}"""
    r"""|(?P<plain>[^\s'"\\$`;&|()<>]+|\$(?!'))""",
    re.DOTALL,
)
_IN_DOUBLE = re.compile(
    r"""(?P<plain>[^"\\$`]+)|\\(?P<escaped>[$`"\\\n])|(?P<close>")"""
    rf"""|{_FILLED_IN}|(?P<other>[\\$])""",
    re.DOTALL,
)
_IN_BACKTICKS = re.compile(r"[^`\\]+|\\.|`", re.DOTALL)
_IN_PARENTHESES = re.compile(r"""[^()'"\\]+|\\.|'[^']*'|"(?:[^"\\]|\\.)*+"|[()]""", re.DOTALL)
_CODE = re.compile(r"\\(x[0-9A-Fa-f]{1,2}|u[0-9A-Fa-f]{1,4}|U[0-9A-Fa-f]{1,8}|[0-7]{1,3}|c.|.)", re.DOTALL)
_LETTERS = {"n": "\n", "t": "\t", "r": "\r", "a": "\a", "b": "\b", "f": "\f", "v": "\v", "e": "\x1b", "E": "\x1b"}


class _ShellReader:
    """sh's own reading of a text, in one pass."""

    def __init__(self, text: str) -> None:
        self.text, self.at, self.line, self.counted = text, 0, 1, 0
        self.begin = 1

    def commands(self) -> Iterator[Simple]:
        """Each simple command; what stands in a here-document is the input of all on the line that asks for it."""
        words: list[str] = []
        parts: list[str] | None = None
        unfilled: list[str] = []
        row: list[Simple] = []
        ends: list[tuple[str, bool]] = []
        aside = ""  # the redirection whose word comes next

        def word_ends() -> None:
            nonlocal parts, aside
            if parts is not None:
                word = "".join(parts)
                if aside in ("<<", "<<-"):
                    ends.append((word, aside == "<<-"))
                elif not aside:
                    words.append(word)
                parts, aside = None, ""

        def command_ends() -> None:
            nonlocal words, unfilled, aside
            word_ends()
            if words:
                row.append(Simple(self.begin, words, None, tuple(dict.fromkeys(unfilled))))
            words, unfilled, aside = [], [], ""

        while self.at < len(self.text):
            if parts is None and self.text[self.at] == "#":
                self.at = self._end_of_line()
                continue
            found = _PIECE.match(self.text, self.at)
            if found is None:
                raise Unclosed(self.begin)
            sort = str(found.lastgroup)
            if parts is None and not words and sort not in ("blank", "newline", "joined"):
                self.begin = self._line_of(found.start())
            self.at = found.end()
            if sort == "joined":
                continue
            if sort == "blank":
                word_ends()
            elif sort == "redirect":
                word_ends()
                aside = found[0].lstrip("0123456789")
            elif sort in ("operator", "newline"):
                command_ends()
                if sort == "newline":
                    text = [self._here(end, tabs=tabs) for end, tabs in ends][-1:]
                    yield from (one._replace(text=text[0]) for one in row) if text else row
                    row, ends = [], []
            else:
                parts = parts if parts is not None else []
                parts.append(self._part(found, sort, unfilled))
        command_ends()
        yield from row

    def _part(self, found: re.Match[str], sort: str, unfilled: list[str]) -> str:
        """What a piece adds to its word."""
        if sort == "double":
            return self._double(unfilled)
        if sort == "opens":
            return self._substitution(found[0], unfilled)
        if sort == "ansi":
            return _CODE.sub(_decoded, found["ansi"])
        if sort == "variable":
            unfilled.append(found[0])
        return found[sort]

    def _line_of(self, at: int) -> int:
        """The number of the line on which an offset lies, which only grows."""
        self.line += self.text.count("\n", self.counted, at)
        self.counted = at
        return self.line

    def _end_of_line(self) -> int:
        end = self.text.find("\n", self.at)
        return end if end >= 0 else len(self.text)

    def _double(self, unfilled: list[str]) -> str:
        """What stands in double quotes (2.2.3), to the closing one."""
        parts: list[str] = []
        while (found := _IN_DOUBLE.match(self.text, self.at)) is not None:
            self.at, sort = found.end(), str(found.lastgroup)
            if sort == "close":
                return "".join(parts)
            if sort == "opens":
                parts.append(self._substitution(found[0], unfilled))
                continue
            if sort == "variable":
                unfilled.append(found[0])
            parts.append("" if found[sort] == "\n" and sort == "escaped" else found[sort])
        raise Unclosed(self.begin)

    def _substitution(self, opens: str, unfilled: list[str]) -> str:
        """A command whose output would stand here (2.6.3), as it is written."""
        begin = self.at - len(opens)
        depth = 1
        inside = _IN_BACKTICKS if opens == "`" else _IN_PARENTHESES
        while depth:
            found = inside.match(self.text, self.at)
            if found is None:
                raise Unclosed(self.begin)
            self.at = found.end()
            depth += (found[0] == "(") - (found[0] in (")", "`"))
        written = self.text[begin : self.at]
        unfilled.append(written if len(written) <= 40 else written[:39] + "…")
        return written

    def _here(self, end: str, *, tabs: bool) -> str:
        """A here-document (2.7.4), to the line that is its word."""
        lines: list[str] = []
        while self.at < len(self.text):
            stop = self._end_of_line()
            line = self.text[self.at : stop]
            self.at = stop + 1
            line = line.lstrip("\t") if tabs else line
            if line == end:
                break
            lines.append(line + "\n")
        return "".join(lines)


def _decoded(match: re.Match[str]) -> str:
    """What stands for a character in ``$'...'`` (2.2.4)."""
    code = match[1]
    if code[0] in "xuU" and len(code) > 1:
        number = int(code[1:], 16)
        return chr(number) if number < 0x110000 and not 0xD800 <= number < 0xE000 else "\ufffd"
    if code[0] == "c" and len(code) > 1:
        return chr(ord(code[1]) & 0x1F)
    return (
        chr(int(code, 8) & 0xFF)
        if code[0] in "01234567"
        else _LETTERS.get(code, code if code in "\\'\"?" else match[0])
    )


# cmd.

_FOR_CMD = re.compile(r"""^[ \t]*curl(?:\.exe)? [^'\n]*?(?<=[ \t])\^["\n]""", re.MULTILINE)
_COPIED = re.compile(r'[ \t]*curl(?:\.exe)? (?:--url )?\^"')
"""How what browsers copy begins."""
_BACKSLASHES = re.compile(r'(\\*)("?)')


def _of_cmd(text: str) -> Iterator[Simple]:
    """Commands for cmd: a caret keeps the next character from it, an end of a line too.

    What browsers copy has its quotes behind carets, and every backslash twice, also where the C runtime takes one for
    itself: there they stand for one, as what was sent had it.
    """
    line = begin = 1
    chars: list[str] = []
    quoted = False
    at = begun = 0
    while at <= len(text):
        char = text[at : at + 1]
        at += 1
        if char == "^" and not quoted:
            following = text[at : at + 1]
            at += 1
            line += following == "\n"
            if following == "\n":  # the end of a line is taken away, and what comes next is kept as it is
                following = text[at : at + 1]
                at += 1
                line += following == "\n"
            chars.append(following)
            continue
        if char in ("", "\n") or (char in "&|" and not quoted):
            words = _arguments("".join(chars), doubled=_COPIED.match(text, begun) is not None)
            if words:
                yield Simple(begin, words)
            line += char == "\n"
            chars, quoted, begin, begun = [], False, line, at
            continue
        quoted ^= char == '"'
        chars.append(char)


def _arguments(line: str, *, doubled: bool) -> list[str]:
    """The words of a command line by the rules of Microsoft's C runtime (Parsing C command-line arguments).

    ``doubled``: two backslashes are one wherever they stand.
    """
    words: list[str] = []
    word: list[str] | None = None
    quoted = False
    at = 0
    while at < len(line):
        char = line[at]
        if char in " \t" and not quoted:
            if word is not None:
                words.append("".join(word))
            word = None
            at += 1
            continue
        word = word if word is not None else []
        if char not in '\\"':
            word.append(char)
            at += 1
            continue
        found = _BACKSLASHES.match(line, at)
        assert found is not None
        count, at = len(found[1]), found.end()
        if not found[2]:
            word.append("\\" * ((count + 1) // 2 if doubled else count))
            continue
        word.append("\\" * (count // 2))
        if count % 2:
            word.append('"')
        elif quoted and line[at : at + 1] == '"':
            word.append('"')
            at += 1
        else:
            quoted = not quoted
    return words if word is None else [*words, "".join(word)]
