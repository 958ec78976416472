"""Laws of daily work, over pipelines put together at random: nothing changes by itself, what is accepted holds."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from xml.etree import ElementTree

import pytest
from ruamel.yaml import YAML

from conftest import Outcome, described
from patient_usher import explore
from patient_usher.core.questions.explore import trace_of
from patient_usher.output.yaml_snippet import yaml_of
from pipelines import put_together

Usher = Callable[..., Outcome]
REPORTS = ("html=r.html", "md=r.md", "junit=r.xml", "svg=r.svg", "json=r.json")


@pytest.fixture(params=range(60, 66))
def written(request: pytest.FixtureRequest, tmp_path: Path) -> int:
    """A pipeline, and a trace of what can happen in it, of which nothing is expected; how many requests that has."""
    text = json.dumps({**put_together(request.param), "always": "everyday"})
    (tmp_path / "p.json").write_text(text)
    trace = trace_of(explore(described(text, "p.json"), budget=400))
    requests = [{key: value for key, value in entry.items() if key != "expect"} for entry in trace["requests"]]
    (tmp_path / "t.yaml").write_text(yaml_of({**trace, "requests": requests}))
    return sum("send" in entry for entry in requests)


def test_what_is_accepted_holds_and_is_accepted_once(usher: Usher, tmp_path: Path, written: int) -> None:
    before = (tmp_path / "t.yaml").read_text()
    assert usher("accept", "p.json", "t.yaml", "--with-slips").status == 0
    after = (tmp_path / "t.yaml").read_text()
    entries = YAML(typ="safe", pure=True).load(after)["requests"]
    assert sum("expect" in entry for entry in entries if "send" in entry) == written
    stripped = [{k: v for k, v in entry.items() if k != "expect"} for entry in entries]
    assert stripped == YAML(typ="safe", pure=True).load(before)["requests"], "nothing else is touched"
    rows = usher("replay", "p.json", "t.yaml", "--format", "json").json["exchanges"]
    assert [check for row in rows for check in row["checks"] if not check["ok"]] == []
    assert usher("accept", "p.json", "t.yaml", "--dry-run").out.count("+ ") == 0
    assert usher("accept", "p.json", "t.yaml", "--with-slips").status == 0
    assert (tmp_path / "t.yaml").read_text() == after


def test_nothing_differs_from_itself(usher: Usher, tmp_path: Path, written: int) -> None:
    """Nor a saved result from a replay, nor one replay from the next; and every report of it can be read."""
    reports = [part for report in REPORTS for part in ("--report", report)]
    first = usher("replay", "p.json", "t.yaml", "--format", "json", *reports)
    (tmp_path / "saved.json").write_text(first.out)
    assert usher("replay", "p.json", "t.yaml", "--format", "json").out == first.out
    for a, b in (("p.json", "p.json"), ("saved.json", "p.json"), ("saved.json", "saved.json")):
        more = () if a == b == "saved.json" else ("t.yaml",)
        done = usher("compare", a, b, *more, "--expect-same", "--format", "json")
        assert (done.status, done.json["changed"], done.json["differs"]) == (0, 0, []), done
    cases = ElementTree.fromstring((tmp_path / "r.xml").read_text()).iter("testcase")
    assert len([case for case in cases if case.get("classname", "").find("always") < 0]) >= 1
    ElementTree.fromstring((tmp_path / "r.svg").read_text())
    assert json.loads((tmp_path / "r.json").read_text())["exchanges"] == first.json["exchanges"]
    assert "not-a-real-one" not in "".join((tmp_path / name.partition("=")[2]).read_text() for name in REPORTS)


def test_requests_for_gaps_close_them(usher: Usher, tmp_path: Path, written: int) -> None:
    before = usher("replay", "p.json", "t.yaml", "--coverage", "--append", "t.yaml", "--format", "json").json
    after = usher("replay", "p.json", "t.yaml", "--coverage", "--format", "json").json
    assert (after["of"], after["hit"] >= before["hit"]) == (before["of"], True)
    assert bool(before["missing"]) == (after["hit"] > before["hit"])
    assert len(after["missing"]) <= len(before["missing"])
