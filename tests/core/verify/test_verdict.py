"""One verdict: every output, Python and the exit status say the same of every request."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest
from junitparser import JUnitXml

from conftest import DEMO, Outcome, described
from patient_usher import Trace, explore, load, replay
from patient_usher.core.questions.explore import trace_of
from patient_usher.core.verify.verdict import MARKS, fails
from patient_usher.output.yaml_snippet import yaml_of
from pipelines import put_together
from test_pytest_plugin import project

Usher = Callable[..., Outcome]
SIGNS = {"held": "✓", "none": "•", "slipped": "!", "failed": "✗"}
FORMS = ("junit", "md", "html", "json", "svg")
STORIES = {"harbour": "story", "sequential": "story", "front": "front-story", "quay": "quay-story", "limits": "limits-story",
           "boaters": "boaters-story", "shelf": "shelf-story", "leaking": "leaking-story", "return": "return-story"}  # fmt: skip


def of_python(pipeline: Path, trace: Path) -> dict[str, str]:
    return {sent.id: sent.mark for sent in replay(load(pipeline), Trace.read(trace))}


def marks_of(
    usher: Usher, folder: Path, pipeline: str, trace: str, *options: str
) -> tuple[Outcome, dict[str, dict[str, str]]]:
    """What each output says of each request, as signs; a burst is one row on the terminal, so details are asked for."""
    reports = [part for form in FORMS for part in ("--report", f"{form}=out.{form}")]
    done = usher("replay", pipeline, trace, "--details", *reports, *options)
    whole = {form: (folder / f"out.{form}").read_text() for form in FORMS}
    found: dict[str, dict[str, str]] = {}
    found["json"] = {row["id"].partition("/")[0]: SIGNS[row["mark"]] for row in json.loads(whole["json"])["exchanges"]}
    ids = list(found["json"])
    found["html"] = dict(
        re.findall(r'class="send \w+" id="([^"]+)".*?<span class="mark"[^>]*>(.)</span>', whole["html"], re.DOTALL)
    )
    (later,) = re.findall(r'id="later">(.*?)</script>', whole["html"], re.DOTALL)
    for row in json.loads(later):
        found["html"].update(re.findall(r'id="([^"]+)".*?<span class="mark"[^>]*>(.)</span>', row, re.DOTALL))
    texts = [
        element.text or "" for element in ElementTree.fromstring(whole["svg"]).iter("{http://www.w3.org/2000/svg}text")
    ]
    found["svg"] = {id_: texts[texts.index(id_) - 1] for id_ in ids}
    found["md"] = {
        id_.replace("\\", ""): sign for sign, id_ in re.findall(r"^\| ([✗!]) \| (\S+) \|", whole["md"], re.MULTILINE)
    }
    cases = {case.name: case for case in next(iter(JUnitXml.fromfile(str(folder / "out.junit"))))}
    found["junit"] = {id_: "✗" if cases[id_].result else "" for id_ in ids}
    rows = {match[2]: match[1] for match in re.finditer(r"^([✓•!✗]) (\S+)", done.out, re.MULTILINE)}
    found["terminal"] = {id_: rows[id_] for id_ in ids if id_ in rows}
    return done, found


def folded(signs: dict[str, str]) -> dict[str, str]:
    """As a page has it: repetitions of a request in one row, with the gravest sign."""
    bursts: dict[str, list[str]] = {}
    for id_, sign in signs.items():
        bursts.setdefault(id_.partition("[")[0], []).append(sign)
    return {
        f"{id_} ×{len(each)}" if len(each) > 1 else id_: min(each, key="✗!✓•".index) for id_, each in bursts.items()
    }


def hold_together(
    done: Outcome, found: dict[str, dict[str, str]], python: dict[str, str], *, strict: bool = False
) -> None:
    signs = {id_: SIGNS[mark] for id_, mark in python.items()}
    for name in ("json", "svg"):
        assert found[name] == signs, name
    assert found["html"] == folded(signs)
    assert found["md"] == {id_: sign for id_, sign in signs.items() if sign in "✗!"}
    failing = {id_ for id_, mark in python.items() if fails(mark, strict=strict)}
    assert {id_ for id_, sign in found["junit"].items() if sign} == failing
    assert all(signs[id_] == sign for id_, sign in found["terminal"].items())
    assert {id_ for id_ in signs if len(id_) <= 12} <= {*found["terminal"]}, "ids that fit their column stand there"
    assert done.status == (1 if failing else 0)


@pytest.mark.parametrize("strict", [False, True], ids=["", "strict"])
@pytest.mark.parametrize("name", STORIES)
def test_every_demo_is_told_alike(usher: Usher, tmp_path: Path, name: str, strict: bool) -> None:
    pipeline, trace = DEMO / f"{name}.yaml", DEMO / f"{STORIES[name]}.yaml"
    options = ("--strict",) if strict else ()
    done, found = marks_of(usher, tmp_path, str(pipeline), str(trace), *options)
    hold_together(done, found, of_python(pipeline, trace), strict=strict)


@pytest.mark.parametrize("seed", range(200, 212))
def test_pipelines_at_random_are_told_alike(usher: Usher, tmp_path: Path, seed: int) -> None:
    """Half of the requests expect what comes, some expect the opposite, and statements are held too."""
    doc = {**put_together(seed), "always": "everyday" if seed % 2 else ["no-slips"] if seed % 3 else []}
    explored = trace_of(explore(described(json.dumps(doc), "p.json"), budget=250))
    requests: list[dict[str, Any]] = []
    for number, entry in enumerate(explored["requests"]):
        entry = {key: value for key, value in entry.items() if key != "expect" or number % 3}
        if "send" in entry and number % 7 == 0:
            entry["expect"] = {"status": 299}
        requests.append(entry)
    (tmp_path / "p.json").write_text(json.dumps(doc))
    (tmp_path / "t.yaml").write_text(yaml_of({**explored, "requests": requests}))
    strict = seed % 4 == 0
    done, found = marks_of(usher, tmp_path, "p.json", "t.yaml", *(("--strict",) if strict else ()))
    hold_together(done, found, of_python(tmp_path / "p.json", tmp_path / "t.yaml"), strict=strict)


@pytest.mark.parametrize("strict", [False, True], ids=["", "strict"])
def test_pytest_says_the_same(tmp_path: Path, strict: bool) -> None:
    folder = tmp_path / "project"
    folder.mkdir()
    files = {name: (DEMO / f"{name}.yaml").read_text() for name in ("harbour", "story")}
    lines = "    harbour.yaml story.yaml\n" + ("usher_strict = true\n" if strict else "")
    status, said = project(folder, lines, "-rA", **files)
    python = of_python(DEMO / "harbour.yaml", DEMO / "story.yaml")
    failing = {id_.partition("[")[0] for id_, mark in python.items() if fails(mark, strict=strict)}
    assert set(re.findall(r"FAILED \S+::(\S+)", said)) == failing
    assert status == (1 if failing else 0)


SLIPS: list[tuple[str, str, str]] = [
    ("{status: 500}", "crash", "slipped"), ("{outcome: crashed}", "crash", "held"), ("{answered-by: server}", "crash", "held"),
    ("{outcome: handled}", "crash", "failed"), ("{outcome: stalled}", "hang", "held"), ("{handler: not-reached}", "hang", "slipped"),
    ("{answered-by: both}", "both", "slipped"), ("{outcome: answered-twice}", "both", "held"), ("{status: 200}", "fine", "held"),
]  # fmt: skip
SERVICE = """
patient-usher: pipeline/1
stages:
  - {id: hang, kind: decide, only: [/hang], cases: [{then: nothing}]}
  - {id: both, kind: decide, only: [/both], cases: [{then: {answer-and-continue: {status: 402}}}]}
routes:
  - {id: crash, at: GET /crash, access: everyone, handler: {raise: Oops}}
  - {id: fine, at: "GET /{rest}", access: everyone, handler: {answer: {text: ok}}}
"""


@pytest.mark.parametrize(("expect", "path", "mark"), SLIPS)
def test_a_slip_is_expected_only_in_so_many_words(expect: str, path: str, mark: str) -> None:
    from ruamel.yaml import YAML

    request = {"send": f"GET /{path}", "expect": YAML(typ="safe").load(expect)}
    (sent,) = replay(described(SERVICE), Trace.of(request, base="https://api.example"))
    assert (sent.mark, sent.failed) == (mark, mark == "failed")


def test_a_statement_fails_the_request_that_breaks_it() -> None:
    pipeline = described(SERVICE + "always: [no-slips]\n")
    hang, fine = replay(pipeline, Trace.of({"send": "GET /hang", "expect": {"outcome": "stalled"}}, {"send": "GET /x"}))
    assert (hang.mark, hang.broken, hang.failed) == ("failed", ("no-slips",), True)
    assert (fine.mark, fine.broken) == ("none", ())


def test_every_mark_has_words() -> None:
    assert [*MARKS] == ["held", "none", "slipped", "failed"]
