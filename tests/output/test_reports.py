"""Reports for others: each whole or not at all, with nothing in them that a secret is or a mark does."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from html.parser import HTMLParser
from pathlib import Path
from xml.etree import ElementTree

import pytest
from junitparser import JUnitXml

from conftest import DEMO, Outcome

Usher = Callable[..., Outcome]
ALL = ("junit", "md", "html", "json", "svg")
STORY = [str(DEMO / "mistaken.yaml"), str(DEMO / "story.yaml")]
FAILED = ["key-absent", "key-wrong", "token-forged", "token-expired", "token-early", "lost-stranger"]
STATEMENTS = "always: [one-content-type, no-slips, copies-stay-private]\n"


@pytest.fixture
def written(usher: Usher, tmp_path: Path) -> Callable[..., dict[str, str]]:
    """The reports of a replay, by format."""

    def write(*arguments: str, status: int = 1, **files: str) -> dict[str, str]:
        done = usher("replay", *arguments, *(f"--report={form}=out.{form}" for form in ALL), **files)
        assert done.status == status, done.err
        return {form: (tmp_path / f"out.{form}").read_text() for form in ALL}

    return write


def test_junit_is_what_readers_of_junit_read(written: Callable[..., dict[str, str]], tmp_path: Path) -> None:
    written(*STORY, "--always", "a.yaml", a__yaml=STATEMENTS)
    requests, always = JUnitXml.fromfile(str(tmp_path / "out.junit"))
    failed = [case.name for case in requests if case.result]
    assert (requests.name, requests.tests, requests.failures) == ("the harbour story", 42, len(failed))
    assert set(FAILED) < set(failed), "and what breaks a statement"
    first = next(case for case in requests if case.name == "key-absent").result[0]
    assert first.message.startswith("status: expected 401, got 500; header WWW-Authenticate")
    assert "raised Unauthenticated" in first.text
    assert [(case.name, type(case.result[0]).__name__ if case.result else "") for case in always] == [
        ("one-content-type", ""), ("no-slips", "Failure"), ("copies-stay-private", "Skipped"),
    ]  # fmt: skip


def test_markdown_and_json_say_the_same(written: Callable[..., dict[str, str]]) -> None:
    found = written(*STORY)
    result = json.loads(found["json"])
    assert result["summary"]["failed"] == 6
    assert found["md"].startswith("### ✗ 6 of 42 requests not as expected\n")
    rows = re.findall(r"^\| ✗ \| (\S+) \| (?:GET|POST)", found["md"], re.MULTILINE)
    assert rows == FAILED
    assert found["md"].count("<details>") == found["md"].count("</details>") == 6


def test_the_picture_has_a_row_for_each_request(written: Callable[..., dict[str, str]]) -> None:
    root = ElementTree.fromstring(written(*STORY)["svg"])
    texts = [element.text for element in root.iter("{http://www.w3.org/2000/svg}text")]
    assert [text for text in texts if text in FAILED] == FAILED
    assert (texts.count("✗"), texts.count("✓")) == (6, 36)


class Page(HTMLParser):
    """What a page fetches, its headings, and whether every field has a label."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.fetched: list[str] = []
        self.tags: list[str] = []
        self.ids: list[str] = []
        self.labelled: set[str] = set()
        self.fields: set[str] = set()
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        given = dict(attrs)
        self.tags.append(tag)
        self.fetched += [
            value or ""
            for name, value in attrs
            if name in ("src", "srcset", "action") or (name == "href" and tag != "a")
        ]
        if tag == "label":
            self.labelled.add(given.get("for") or "")
        if tag in ("input", "select"):
            self.fields.add(given.get("id") or "")
        if tag == "details":
            self.ids.append(given.get("id") or "")


def test_the_page_needs_nothing_else(written: Callable[..., dict[str, str]]) -> None:
    text = written(*STORY)["html"]
    page = Page(text)
    assert (page.fetched, "url(" in text) == ([], False)
    assert [tag for tag in page.tags if tag in ("h1", "h2", "main", "form")] == ["h1", "main", "h2", "h2", "form"]
    assert page.fields == page.labelled != set()
    assert (len(page.ids), page.ids[0], "buoys ×20" in page.ids) == (23, "key-absent", True)
    (journeys,) = re.findall(r'<script type="application/json" id="journeys">(.*?)</script>', text, re.DOTALL)
    assert "raised Unauthenticated" in json.loads(journeys)[0]


def test_a_long_page_opens_with_its_first_rows(written: Callable[..., dict[str, str]]) -> None:
    rows = [{"id": f"r{number}", "send": "GET /health"} for number in range(1, 451)]
    trace = json.dumps({"patient-usher": "trace/1", "requests": rows})
    text = written(STORY[0], "t.yaml", status=0, t__yaml=trace)["html"]
    (later,) = re.findall(r'<script type="application/json" id="later">(.*?)</script>', text, re.DOTALL)
    assert (len(Page(text).ids), len(json.loads(later))) == (200, 250)
    assert Page(json.loads(later)[-1]).ids == ["r450"]


MARKS = "</script><b onload=x>`|*_\x1b[31m\x07"


def test_nothing_that_was_sent_is_taken_for_a_mark(written: Callable[..., dict[str, str]]) -> None:
    pipeline = json.dumps({"patient-usher": "pipeline/1", "name": MARKS, "routes": [
        {"id": "r", "at": "POST /", "access": "everyone", "handler": {"answer": {"text": MARKS}}}]})  # fmt: skip
    trace = json.dumps({"patient-usher": "trace/1", "requests": [
        {"id": "a", "send": "POST /?q=%3Cb%3E", "text": MARKS, "expect": {"body": "<i>"}}]})  # fmt: skip
    found = written("p.json", "t.json", p__json=pipeline, t__json=trace)
    for form in ("junit", "svg"):
        ElementTree.fromstring(found[form])
    assert "<b onload" not in found["html"].replace("\\u003c", "\\u003c")
    assert "</script><b" not in found["html"]
    assert not re.search(r"(?<!`)<b onload", found["md"].split("```")[0])
    assert all("\x1b" not in text and "\x07" not in text for text in found.values())


SECRETS = {"token": "a-made-up-token-nobody-has", "password": "a-made-up-password", "cookie": "a-made-up-session-id"}


def test_no_report_and_no_output_holds_a_credential(usher: Usher, written: Callable[..., dict[str, str]]) -> None:
    answer = {"json": {"token": SECRETS["token"]}, "headers": {"Set-Cookie": f"s={SECRETS['cookie']}; Path=/"}}
    pipeline = json.dumps(
        {
            "patient-usher": "pipeline/1",
            "routes": [{"id": "r", "at": "POST /", "access": "everyone", "handler": {"answer": answer}}],
        }
    )
    headers = {
        "Authorization": f"Bearer {SECRETS['token']}",
        "Cookie": f"s={SECRETS['cookie']}",
        "X-Api-Key": SECRETS["token"],
    }
    request = {
        "id": "a",
        "send": f"POST /?api_key={SECRETS['token']}",
        "headers": headers,
        "json": {"password": SECRETS["password"]},
        "expect": {"status": 404},
    }
    trace = json.dumps({"patient-usher": "trace/1", "requests": [request]})
    outputs = list(written("p.json", "t.json", p__json=pipeline, t__json=trace).values())
    outputs += [
        usher("replay", "p.json", "t.json", *more).out
        for more in ([], ["--details"], ["--format", "json"], ["--format", "jsonl"])
    ]
    told = [(number, name) for number, text in enumerate(outputs) for name, secret in SECRETS.items() if secret in text]
    assert told == []
    assert all("a-ma…(26)" in text for text in outputs[2:4])


REFUSED: list[tuple[list[str], str]] = [
    (["--report", "pdf=x"], "there is no report of the form 'pdf'"),
    (["--report", "html"], "write FORMAT=FILE, as in html=report.html"),
    (["--report", "md=a", "--report", "html=a"], "two reports go to a"),
    (["--report", "html=none/x.html"], "there is no folder none"),
]


@pytest.mark.parametrize(("arguments", "said"), REFUSED)
def test_reports_that_cannot_be(usher: Usher, tmp_path: Path, arguments: list[str], said: str) -> None:
    done = usher("replay", *STORY, "-q", *arguments)
    assert (done.status, said in done.err) == (2, True), done.err
    assert list(tmp_path.iterdir()) == []


def test_several_traces_stand_in_one_report(usher: Usher, tmp_path: Path) -> None:
    trace = "patient-usher: trace/1\nname: more\nrequests: [{id: health, send: GET /health}]\n"
    usher("replay", *STORY, "more.yaml", "-q", "--report", "json=out.json", more__yaml=trace)
    ids = [row["id"] for row in json.loads((tmp_path / "out.json").read_text())["exchanges"]]
    assert (ids[0], ids[-1]) == ("the harbour story: health", "more: health")
