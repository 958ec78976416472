"""What a terminal or a page would obey is seen as an escape, whatever it comes from and wherever it goes."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from xml.etree import ElementTree

import pytest

from conftest import Outcome

Usher = Callable[..., Outcome]
OBEYED = re.compile(
    r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069\ufeff\ufffe\uffff]"
)
"""Controls, and the marks that turn the order of text about."""
MARKS = "\\e[31m\\u202E\\u2066\\u009b\\u200f\\x07"
PIPELINE = f"""\
patient-usher: pipeline/1
name: "p{MARKS}"
stages:
  - {{id: gate, kind: decide, cases: [{{when: {{query: {{a: b}}}}, set: {{v: "v{MARKS}"}}, log: "l{MARKS}", then: {{raise: {{type: "E{MARKS}", message: "m{MARKS}", where: "w{MARKS}"}}}}}}]}}
routes:
  - {{id: a, at: GET /a, access: everyone, handler: {{answer: {{text: "t{MARKS}"}}}}}}
always: [{{id: s, when: {{path: /a}}, expect: {{body: {{contains: "c{MARKS}"}}}}}}]
"""
TRACE = f"""\
patient-usher: trace/1
name: "n{MARKS}"
requests:
  - {{id: a, send: GET /a, expect: {{body: {{contains: "x{MARKS}"}}, status: 404}}}}
  - {{id: b, send: GET /a?a=b, expect: {{raised: "E{MARKS}", context: {{v: "z{MARKS}"}}}}}}
"""
ODD = "o\x1b[31m\u202e.yaml"
COMMANDS: list[tuple[str, ...]] = [
    ("replay", "p.yaml", "t.yaml"), ("replay", "p.yaml", ODD), ("replay", "p.yaml", "t.yaml", "--format", "json"),
    ("replay", "p.yaml", "t.yaml", "--details", "--coverage"), ("show", "p.yaml"), ("show", "p.yaml", "GET", "/a"),
    ("send", "p.yaml", "GET", "/a?a=b"), ("check", "p.yaml"), ("check", "p.yaml", "--format", "sarif"), ("check", "p.yaml", "--format", "json"),
    ("compare", "p.yaml", "q.yaml", "t.yaml"), ("compare", "p.yaml", "q.yaml", "t.yaml", "--format", "md"), ("explore", "p.yaml"),
    ("compare", "p.yaml", "q.yaml", "t.yaml", "--format", "html"), ("compare", "p.yaml", "q.yaml", "t.yaml", "--format", "json"),
    ("reorder", "p.yaml", "t.yaml"), ("sweep", "p.yaml", "t.yaml", "--try", "gate.enabled=true,false", "--cores", "1"),
    ("chart", "p.yaml", "t.yaml", "--format", "csv"), ("import", ODD, "--into", f"i{ODD}"), ("accept", "p.yaml", ODD),
    ("replay", "p.yaml", "t.yaml", "--only", "\x1b[31m"), ("check", "p.yaml", "--mend", "\x1b\u202e"), ("schema", "\x1b\u202e"), ("\x1b\u202e",),
]  # fmt: skip
FILES = {"p__yaml": PIPELINE, "q__yaml": PIPELINE.replace('text: "t', 'text: "other'), "t__yaml": TRACE}


@pytest.mark.parametrize(
    "words", COMMANDS, ids=lambda words: " ".join(words).encode("ascii", "backslashreplace").decode()
)
def test_no_command_prints_what_is_obeyed(usher: Usher, tmp_path: Path, words: tuple[str, ...]) -> None:
    (tmp_path / ODD).write_text(TRACE)
    done = usher(*words, **FILES)
    assert done.status in (0, 1, 2)
    assert (OBEYED.findall(done.out.replace("\r\n", "\n")), OBEYED.findall(done.err)) == ([], [])


@pytest.mark.parametrize("form", ["junit", "md", "html", "json", "svg"])
def test_no_report_holds_what_is_obeyed(usher: Usher, tmp_path: Path, form: str) -> None:
    (tmp_path / ODD).write_text(TRACE)
    for words in (("replay", "p.yaml", ODD), ("compare", "p.yaml", "q.yaml", "t.yaml")):
        done = usher(*words, "--report", f"{form}=out", **FILES)
        assert done.status in (0, 1), done.err
        written = (tmp_path / "out").read_text()
        assert OBEYED.findall(written) == []
        if form in ("junit", "svg"):
            ElementTree.fromstring(written)


def test_no_table_holds_what_is_obeyed(usher: Usher, tmp_path: Path) -> None:
    usher("replay", "p.yaml", "t.yaml", "--into", "rows.csv", **FILES)
    assert OBEYED.findall((tmp_path / "rows.csv").read_text().replace("\r\n", "\n")) == []
