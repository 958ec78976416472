"""Pipelines as teams write them: quiet where nothing is wrong, and each mistake found, mended, and mended safely."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any, NamedTuple

import pytest
from ruamel.yaml import YAML

from conftest import DEMO, described
from patient_usher import Pipeline, Trace, Unusable, check, load, replay
from patient_usher.core.questions.check.search import mend_all, variant_of
from pipelines import MANY, put_together

HERE = Path(__file__).parent
WELL_FORMED: dict[str, dict[str, Any]] = {
    doc["name"]: doc for doc in YAML(typ="safe").load_all((HERE / "well_formed.yaml").read_text())
}
MISTAKEN: list[dict[str, Any]] = YAML(typ="safe").load((HERE / "mistaken.yaml").read_text())


@pytest.mark.parametrize("name", WELL_FORMED)
def test_nothing_is_found_where_nothing_is_wrong(name: str) -> None:
    found = check(described(json.dumps(WELL_FORMED[name]))).findings
    assert [one.where for one in found if one.rule.level != "advice"] == []


def test_the_corpus_is_as_large_as_it_should_be() -> None:
    assert (len(WELL_FORMED) >= 30, len(MISTAKEN) >= 60) == (True, True)


def mistaken(row: dict[str, Any]) -> Pipeline:
    changes = {key: value for key, value in row.items() if key not in ("of", "mistake", "found")}
    return described(json.dumps(WELL_FORMED[row["of"]])).variant(**changes)


@pytest.mark.parametrize("row", MISTAKEN, ids=[f"{row['of']}: {row['mistake']}" for row in MISTAKEN])
def test_the_mistake_is_found_and_its_mend_does_no_harm(row: dict[str, Any]) -> None:
    """Exactly these; with what can be mended mended, nothing of it is left, twice changes nothing, nobody is harmed."""
    pipeline = mistaken(row)
    checked = check(pipeline)
    told = [one.where for one in checked.findings if one.rule.level != "advice" or one.where in row["found"]]
    assert sorted(told) == sorted(row["found"])
    mended, done, _ = mend_all(checked)
    again = check(Pipeline(mended))
    open_ = {one.where for one in checked.findings if one.withheld is not None}
    assert {one.where for one in again.findings if one.withheld is None} == set()
    assert {one.where for one in again.findings} <= open_
    assert variant_of(mended, mend_all(again)[0]) == {}
    assert bool(variant_of(pipeline.compiled, mended)) == bool(done)
    if row["found"] != ["answers-twice@signature"]:  # there the refused came through: that is the mistake
        assert harmed(pipeline.compiled.source.doc, mended.source.doc) == []


@pytest.mark.parametrize("seed", range(200, 215 if MANY else 207))
def test_no_mend_of_a_pipeline_at_random_does_harm(seed: int) -> None:
    pipeline = described(json.dumps(put_together(seed)), "p.json")
    for one in check(pipeline).findings:
        if one.withheld is None:
            assert harmed(pipeline.compiled.source.doc, one.cure.source.doc) == [], one.where


STORIES = {
    "mistaken": "story", "sequential-mistaken": "story", "leaking": "story", "boaters-blocked-1": "boaters-story", "boaters-blocked-3": "boaters-story",
    "boaters-blocked-5": "boaters-story", "limits-instances": "limits-story", "limits-misplaced": "limits-story", "shelf-leaking": "shelf-story",
    "return-none": "return-story", "front": "front-story",
}  # fmt: skip


@pytest.mark.parametrize("name", STORIES)
def test_a_mended_demo_holds_the_story_that_it_broke(name: str) -> None:
    pipeline, story = load(DEMO / f"{name}.yaml"), Trace.read(DEMO / f"{STORIES[name]}.yaml")
    assert [sent.id for sent in replay(pipeline, story) if sent.failed]
    mended, done, _ = mend_all(check(pipeline))
    assert done
    assert [sent.id for sent in replay(Pipeline(mended), story) if sent.failed] == []


@pytest.mark.parametrize("seed", range(8 if MANY else 4))
def test_mending_twice_changes_nothing_more(seed: int) -> None:
    mended, *_ = mend_all(check(described(json.dumps(put_together(seed)), "p.json")))
    assert variant_of(mended, mend_all(check(Pipeline(mended)))[0]) == {}


# Who may come, and who comes: by the file's own words, without anything that a check does.


class Person(NamedTuple):
    """Somebody who calls: an account, and by what it shows who it is; nothing for a stranger."""

    name: str
    sign: dict[str, str]


def harmed(before: dict[str, Any], after: dict[str, Any]) -> list[str]:
    """Requests after which somebody came in who may not, or was kept out who may."""
    asked = [*accesses(before).values(), *accesses(after).values()]
    peopled = [people_in(json.loads(json.dumps(doc)), asked) for doc in (before, after)]
    was, is_ = (reached(doc) for doc in peopled)
    accounts, access = peopled[0]["accounts"], accesses(peopled[1])
    wrong = []
    for (name, route), came in was.items():
        may = is_for(access[route], accounts.get(name))
        comes = is_.get((name, route), False)
        if comes and not came and not may:
            wrong.append(f"{name} in at {route}")
        if came and not comes and may:
            wrong.append(f"{name} out of {route}")
    return wrong


def accesses(doc: dict[str, Any]) -> dict[str, Any]:
    found: dict[str, Any] = {}

    def walk(part: dict[str, Any], access: Any) -> None:
        for route in part.get("routes", []):
            found[route["id"]] = route.get("access", access)
        for group in part.get("groups", []):
            walk(group, group.get("access", access))

    walk(doc, None)
    return found


def people_in(doc: dict[str, Any], asked: list[Any]) -> dict[str, Any]:
    """With an account for each role and scope that is asked for, and one that has none."""
    doc.setdefault("accounts", {})
    for rights in asked:
        for sort in ("role", "scope"):
            if isinstance(rights, dict) and sort in rights:
                names = rights[sort] if isinstance(rights[sort], list) else [rights[sort]]
                for name in names:
                    doc["accounts"][f"has-{name.replace(':', '-')}"] = {f"{sort}s": [name]}
    doc["accounts"]["has-none"] = {}
    for name, account in doc["accounts"].items():
        account["password"] = f"a-made-up-password-of-{name}"
        account["api-keys"] = [f"a-made-up-key-of-{name}"]
    return doc


def is_for(access: Any, account: Any) -> bool:
    if access == "everyone":
        return True
    if account is None or access == "nobody":
        return False
    if not isinstance(access, dict):
        return True
    ((sort, names),) = access.items()
    return bool({*account.get(f"{sort}s", [])} & {*([names] if isinstance(names, str) else names)})


def reached(doc: dict[str, Any]) -> dict[tuple[str, str], bool]:
    """Who reached which handler, by any sort of credential."""
    pipeline = described(json.dumps(doc))
    people = [Person("a stranger", {})]
    for sort in ("basic", "api-key", "bearer"):
        people += [Person(name, {sort: name}) for name in doc["accounts"]]
    found: dict[tuple[str, str], bool] = {}
    for person in people:
        for item in pipeline.compiled.placed:
            if item.desk is not None:
                continue
            path = "/".join("1" if sort != "literal" else text for sort, text in item.route.template.segments)
            body = {"json": {"n": 1}} if item.route.method in ("POST", "PUT") else {}
            sign = {"sign": person.sign} if person.sign else {}
            send = {"id": "one", "send": f"{item.route.method} /{path}", **body, **sign}
            try:
                came = any(sent.final.handler_reached for sent in replay(pipeline, Trace.of(send)))
            except Unusable:
                continue
            key = (person.name, item.route.id)
            found[key] = found.get(key, False) or came
    return found
