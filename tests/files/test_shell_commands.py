"""Words of commands, held against bash, and against the rules by which Python quotes for Windows."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path
from random import Random

import pytest
from shell_corpus import quoted, word

from patient_usher.files.shell_commands import Unclosed, commands_of

LETTERS = "ab1 -_.=@:/?+%\"'\\é,!*()[]{}|^#;&<>\t\n$`"
TELL = 'set -f +B\ntell() { { for a in "$@"; do printf "%s\\0" "$a"; done; printf "\\1\\0"; } >> told; }\n'
"""What stands for the commands of a script: each writes its words down. Names of files and braces aren't filled in."""
WRAPS = [
    "{}", "{}", "{}", "X=1 {}", "{} > /dev/null", "{} 2>/dev/null", "{} | cat > /dev/null", '{} # a note "', "# don't\n{}",
    "({})", "if true; then {}; fi", "{} 2>&1 >/dev/null", "{} <<'EOF'\nit's \"a\n# b\nEOF", "{} < /dev/null", "{} &> /dev/null",
    "{} <<< 'x y'", "{} <<-EOF\n\tb\n\tEOF", "{} ;", "true && {}",
]  # fmt: skip


def script(random: Random) -> str:
    lines = []
    for _ in range(random.randrange(1, 6)):
        words = [quoted(random, word(random, LETTERS, 5)) for _ in range(random.randrange(4))]
        words = [f".{one}" if one[:1] == "#" or one in ("{", "}") else one for one in words]
        command = "tell" + "".join(random.choice([" ", "  ", "\t", " \\\n "]) + one for one in words)
        lines.append(random.choice(WRAPS).format(command) if "{" not in command else command)
    return "\n".join(lines) + random.choice(["", "\n", "\r\n"])


def told(command: list[str]) -> list[str] | None:
    """The words of a command that tells them."""
    while command and command[0] in ("X=1", "if", "then", "true"):
        command = command[1:]
    return command[1:] if command[:1] == ["tell"] else None


@pytest.mark.skipif(shutil.which("bash") is None, reason="bash isn't installed here")
def test_words_are_those_that_bash_reads(tmp_path: Path) -> None:
    for seed in range(40):
        random = Random(seed)
        scripts = [script(random) for _ in range(10)]
        for text in scripts:
            (tmp_path / "told").write_text("")
            alone = text.replace("\r\n", "\n")
            environment = {**os.environ, "LC_ALL": "C.UTF-8"}
            subprocess.run(
                ["bash", "-c", TELL + alone], cwd=tmp_path, env=environment, capture_output=True, check=False
            )
            wanted = [one.split("\0")[:-1] for one in (tmp_path / "told").read_text().split("\1\0")[:-1]]
            ours = [words for one in commands_of(text) if (words := told(one.words)) is not None]
            assert ours == wanted, (seed, text)


def careted(text: str) -> str:
    """A word as browsers write it for cmd."""
    return "".join("^" + char if char in '"^&|<>()%!' else char for char in subprocess.list2cmdline([text]))


def test_words_for_cmd_are_those_that_were_quoted() -> None:
    for seed in range(2_000):
        random = Random(seed)
        words = [word(random, LETTERS.replace("\n", "")) for _ in range(random.randrange(6))]
        text = " ^\n".join(['curl "https://api.example/"', *("  " + careted(one) for one in words)]) + "\n"
        (found,) = commands_of(text)
        assert found.words == ["curl", "https://api.example/", *words], text


READ = [
    ('curl "https://a.example/" ^\r\n  -H "A: b" ^\r\n  --data-raw "{\\"a\\": \\"b c\\"}"\r\n', [["curl", "https://a.example/", "-H", "A: b", "--data-raw", '{"a": "b c"}']]),
    ('curl.exe ^"https://a.example/^" --data-raw ^"a^\n\nb^" & curl.exe ^"https://b.example/^"\n', [["curl.exe", "https://a.example/", "--data-raw", "a\nb"], ["curl.exe", "https://b.example/"]]),
    ("curl 'a ^\nb'", [["curl", "a ^\nb"]]),
    ("$ curl a; curl b && curl c | jq . > d", [["$", "curl", "a"], ["curl", "b"], ["curl", "c"], ["jq", "."]]),
    ("a $(b \"c)\" 'd)') e", [["a", "$(b \"c)\" 'd)')", "e"]]),
    ("a \"$(b \"c\")\" `d e`", [["a", '$(b "c")', "`d e`"]]),
]  # fmt: skip


@pytest.mark.parametrize(("text", "wanted"), READ)
def test_what_a_text_says(text: str, wanted: list[list[str]]) -> None:
    assert [one.words for one in commands_of(text)] == wanted


UNFILLED = [
    ("a $B ${C} '$D' \"$E\" \\$F $B", ("$B", "${C}", "$E")), ("a $(b) \"`c`\" 5$ $%", ("$(b)", "`c`")), ("a '${b}' 'c$d'", ()), ("a $1 $@", ("$1", "$@")),
]  # fmt: skip


@pytest.mark.parametrize(("text", "wanted"), UNFILLED)
def test_what_a_shell_would_have_filled_in_is_told(text: str, wanted: tuple[str, ...]) -> None:
    (found,) = commands_of(text)
    assert found.unfilled == wanted


def test_input_that_stands_in_the_text_belongs_to_the_commands_of_its_line() -> None:
    found = list(commands_of("a\ncat <<E | b\none $X\n two\nE\nc <<-'E'\n\tthree\n\tE\nd\n"))
    assert [(one.words, one.text, one.line) for one in found] == [
        (["a"], None, 1), (["cat"], "one $X\n two\n", 2), (["b"], "one $X\n two\n", 2), (["c"], "three\n", 6), (["d"], None, 9),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("text", "line"), [("a\nb 'c\nd", 2), ('a "b', 1), ("a\n\nb $(c 'd)", 3), ("a `b", 1), ("a $'b\\'", 1)]
)
def test_what_is_not_closed_is_told_with_its_line(text: str, line: int) -> None:
    with pytest.raises(Unclosed) as error:
        list(commands_of(text))
    assert error.value.line == line
