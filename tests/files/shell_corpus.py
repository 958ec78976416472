"""Words as people quote them for a shell, at random."""

from __future__ import annotations

from random import Random

_PLAIN = "-_./:=,@+%"
_CODES = {"\n": "\\n", "\t": "\\t", "'": "\\'", "\\": "\\\\"}


def word(random: Random, letters: str, longest: int = 8) -> str:
    """A word of these letters, perhaps an empty one."""
    return "".join(random.choice(letters) for _ in range(random.randrange(longest + 1)))


def quoted(random: Random, text: str) -> str:
    """A word as sh would read it back, each piece of it in quotes of a sort of its own."""
    if not text:
        return random.choice(["''", '""', "$''"])
    out, at = "", 0
    while at < len(text):
        size = random.choice([len(text), len(text), 1, 2, 3, 5])
        piece = text[at : at + size]
        at += size
        sort = random.choice(["single", "double", "codes", "plain", "escaped"])
        if sort == "single" and "'" not in piece:
            out += f"'{piece}'"
        elif sort == "double":
            out += '"' + "".join("\\" + char if char in '"\\$`' else char for char in piece) + '"'
        elif sort == "codes":
            out += "$'" + "".join(_coded(random, char) for char in piece) + "'"
        elif sort == "plain" and all(char.isalnum() or char in _PLAIN for char in piece):
            out += piece
        else:
            out += "".join(_escaped(char) for char in piece)
        out += "\\\n" if random.random() < 0.03 else ""
    return out


def _coded(random: Random, char: str) -> str:
    return _CODES.get(char, char) if random.random() < 0.8 else f"\\u{ord(char):04x}"


def _escaped(char: str) -> str:
    if char == "\n":
        return "$'\\n'"
    return char if char.isalnum() or char in _PLAIN else f"\\{char}"
