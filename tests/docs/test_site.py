"""The site: built without a warning, no dead link, every question within two clicks, everything the code knows."""

from __future__ import annotations

import re
import subprocess
import sys
from functools import cache
from html.parser import HTMLParser
from pathlib import Path
from urllib.parse import unquote, urlsplit

import pytest

from conftest import ROOT
from patient_usher.cli import QUESTIONS
from patient_usher.core.model.enumerations import BLOCKED, OUTCOMES, WHY
from patient_usher.core.questions.check.rules import rules
from patient_usher.core.stages import kind, kinds
from patient_usher.output.replay_view import SIGN_OF
from patient_usher.output.schema import SCHEMAS


class Page(HTMLParser):
    """A page's links, the places that links may lead to, and its text."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.links: list[str] = []
        self.places: set[str] = set()
        self.text: list[str] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        for name, value in attrs:
            if name in ("href", "src") and value is not None:
                self.links.append(value)
            elif name in ("id", "name") and value is not None:
                self.places.add(value)

    def handle_data(self, data: str) -> None:
        self.text.append(data)


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The site, built as ``make docs`` builds it: a warning is an error."""
    made = tmp_path_factory.mktemp("site")
    command = [sys.executable, "-m", "sphinx", "-q", "-W", "-n", "-b", "html", ROOT / "docs", made]
    done = subprocess.run(list(map(str, command)), capture_output=True, text=True, timeout=300)
    assert done.returncode == 0, done.stderr
    return made


@cache
def page(path: Path) -> Page:
    """A page, read once."""
    return Page(path.read_text())


def test_no_link_is_dead(site: Path) -> None:
    dead = []
    for path in site.rglob("*.html"):
        for link in page(path).links:
            parts = urlsplit(link)
            if parts.scheme or parts.netloc:
                assert parts.netloc.endswith(".example") or "github.com/pradyunsg" in link or parts.scheme == "data", (
                    link
                )
                continue
            target = (path.parent / unquote(parts.path)).resolve() if parts.path else path
            if not target.exists() or (parts.fragment and unquote(parts.fragment) not in page(target).places):
                dead.append((path.name, link))
    assert dead == []


# The question, and words that its answer has.
ASKED = [
    ("Which stages ran, and in which order?", "usher send"), ("Who answered, and did the handler run?", "handler: reached"), ("What exactly came back?", "--format json"),
    ("Which stages stand before which routes?", "usher show"), ("What is wrong with my order?", "usher check"), ("What changes if I move this stage?", "--all-pairs"),
    ("What changes between two versions of a pipeline?", "usher compare"), ("What must never happen, and does it?", "--always"), ("Would a browser let the page read it?", "browser: blocked"),
    ("Does my cookie come along from another site?", "SameSite"), ("Why does a browser not ask my service at all?", "from-caller-cache"), ("Whom does a limit refuse, and until when?", "Retry-After"), ("Did the cache spare the handler, or leak a copy?", "copies-stay-private"),
    ("Who would a tighter quota refuse?", "usher sweep"), ("What would this timeout have cut off?", "--busy each"), ("Which lifetime gives which hit ratio?", "cache.shared"),
    ("How many instances before a limit leaks?", "deployment.instances"), ("Does my real service do the same?", "usher drift"), ("How do I try a client against the model?", "usher serve"),
    ("How do I run it in CI?", "--report junit"), ("How do I hand a trace on without secrets?", "usher import"),
]  # fmt: skip


def test_questions_are_answered_within_two_clicks(site: Path) -> None:
    front = (site / "index.html").read_text()
    rows = dict(re.findall(r"<td><p>([^<]*\?)</p></td>\s*<td><p><a[^>]*href=\"([^\"]+)\"", front))
    assert [*rows] == [question for question, _ in ASKED]
    for question, words in ASKED:
        where, _, place = rows[question].partition("#")
        text = (site / where).read_text()
        section = text[text.index(f'id="{unquote(place)}"') :]
        section = section[: section.index("</section>")]
        assert words in "".join(Page(section).text), question


def test_the_reference_has_everything_that_the_code_knows(site: Path) -> None:
    def words(name: str) -> str:
        return "".join(page(site / f"{name}.html").text)

    text = words("made/kinds")
    for name in kinds():
        assert f"kind: {name}" in text or f"- {name}" in text
        for option in kind(name).options.model_json_schema()["properties"]:
            assert option in text, (name, option)
    commands, signs, findings, documents = map(words, ("made/commands", "made/signs", "findings", "made/documents"))
    assert [name for name in QUESTIONS if f"usher {name}" not in commands] == []
    assert [sign for sign, _ in SIGN_OF.values() if sign not in signs] == []
    assert [word for word in (*OUTCOMES, *WHY, *BLOCKED) if word not in signs] == []
    assert [rule.code for rule in rules() if rule.code not in findings] == []
    assert [
        name for name in SCHEMAS if f"usher schema {name}" not in documents and name not in ("pipeline", "trace")
    ] == []
    expected = SCHEMAS["trace"]()["$defs"]["expect"]["properties"]
    assert [key for key in expected if key not in words("made/trace-keys")] == []


def test_the_manual_page_is_made_with_it(tmp_path: Path) -> None:
    command = [sys.executable, "-m", "sphinx", "-q", "-W", "-b", "man", ROOT / "docs", tmp_path]
    subprocess.run(list(map(str, command)), check=True, capture_output=True, timeout=300)
    text = (tmp_path / "usher.1").read_text()
    assert text.count("usher replay") > 3
    assert "--expect\\-recorded" in text.replace("\\-\\-", "--")
