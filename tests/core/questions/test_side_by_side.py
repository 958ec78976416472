"""Long traces compared side by side: the same counts as when both runs are held whole, and no more memory."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from random import Random
from typing import Any

import pytest

from conftest import DEMO, Outcome, make_pipeline
from patient_usher import Trace
from patient_usher.core.questions import side_by_side
from patient_usher.core.questions.compare import KINDS, change_of, compared, concern, first_of_each
from patient_usher.use_cases.compare import compared_at_length, records_of, session
from use_cases.test_parted import MAREN, ROUTES, STAGES, traffic

Usher = Callable[..., Outcome]
KEPT = [kind for kind in KINDS if kind not in ("order", "log")]  # those two hang on journeys


def some(random: Random) -> Any:
    """A pipeline at random, of stages that limit, refuse, code, catch and cut off."""
    stages = random.sample(STAGES, random.randrange(2, len(STAGES)))
    routes = [{"access": "everyone", **route} for route in ROUTES]
    return make_pipeline(stages, routes=routes, accounts=MAREN)


@pytest.mark.parametrize("seed", range(8))
def test_side_by_side_and_whole_count_the_same(seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(side_by_side, "SHOWN", 3)
    random = Random(seed)
    a, b = some(random), some(random)
    head, *lines = traffic(random).splitlines()
    day = tmp_path / "day.jsonl"
    day.write_text("\n".join([head, *lines]))
    held = Trace.of(*map(json.loads, lines), **{k: v for k, v in json.loads(head).items() if k != "patient-usher"})
    whole = compared(*(records_of(session(one, [held])) for one in (a, b)))
    whole = whole._replace(differs=tuple(one for one in whole.differs if one.kind in KEPT))
    found = compared_at_length(a, b, [[Trace.read(day)] for _ in "ab"]).comparison()
    assert found.requests == whole.requests == 400
    counts = Counter(one.kind for one in first_of_each(whole.differs))
    shown = Counter(one.kind for one in first_of_each(found.differs) if one.kind in KEPT)
    assert {group.kind: group.size for group in found.groups if group.kind in KEPT} == counts
    expected = [(one.id, one.kind) for one in whole.differs if one.id in {other.id for other in found.differs}]
    assert [(one.id, one.kind) for one in found.differs if one.kind in KEPT] == expected
    assert all(count >= shown[kind] for kind, count in counts.items())
    for whom in ("caller", "counts"):
        assert found.concerned()[whom] == whole.concerned()[whom]
    assert concern("counts") == "counts"


def test_a_day_is_compared_and_its_counts_are_told(usher: Usher, tmp_path: Path) -> None:
    limited = """\
patient-usher: pipeline/1
name: limited
stages: [{id: throttle, kind: rate-limit, quota: 30, window: 1h, per: [address]}]
routes: [{id: all, at: "GET /{+rest}", access: everyone, handler: {answer: {text: ok}}}]
"""
    (tmp_path / "limited.yaml").write_text(limited)
    rows = [{"patient-usher": "trace/1", "base": "https://a.example"}]
    rows += [{"id": f"r{n}", "at": f"{n}s", "send": "GET /tides"} for n in range(100)]
    (tmp_path / "day.jsonl").write_text("\n".join(map(json.dumps, rows)))
    same = usher("compare", "limited.yaml", "limited.yaml", "day.jsonl", "--expect-same")
    assert (same.status, same.out.splitlines()[-1]) == (0, "✓ 100 requests, none differs")
    arguments = ("compare", "limited.yaml", "limited.yaml", "day.jsonl", "--b-set", "throttle.quota=70")
    told = usher(*arguments, "--expect-same")
    assert told.status == 1
    assert told.out.splitlines()[-1] == "✗ 40 of 100 requests differ; 60 more only in fields that count"
    assert "what was refused is let through: status 429 → 200: r30, r31" in told.out
    assert "and 28 more" in told.out
    document = json.loads(usher(*arguments, "--format", "json").out)
    assert [(group["kind"], group["count"], len(group["ids"])) for group in document["groups"]] == [
        ("opened", 40, 20), ("counts", 60, 20),
    ]  # fmt: skip
    assert "| 40: r30, r31" in usher(*arguments, "--format", "md").out
    refused = usher(*arguments, "--report", "junit=r.xml")
    assert (refused.status, "this trace streams" in refused.err) == (2, True)
    assert "read once for each side" in usher("compare", "limited.yaml", "limited.yaml", "-").err


def test_a_status_is_never_hidden_behind_what_counts(usher: Usher, tmp_path: Path) -> None:
    done = usher("compare", str(DEMO / "limits.yaml"), str(DEMO / "limits.yaml"), str(DEMO / "limits-story.yaml"), "--b-set", "throttle.quota=31")  # fmt: skip
    heads = [line for line in done.out.splitlines() if line.startswith("── ")]
    assert "fields that only count" in heads[-1]
    assert all("status" not in head for head in heads[-1:])


def test_calls_with_more_exchanges_on_one_side_are_each_counted_for_what_they_are(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One side redirects, by one status here and another there: nothing is taken for what another such call was."""
    monkeypatch.setattr(side_by_side, "SHOWN", 2)
    cors = {"id": "browsers", "kind": "cors", "allow-origins": ["https://a.example"]}
    routes = [{"access": "everyone", **route} for route in ROUTES]
    away: list[dict[str, Any]] = [
        {"id": id_, "at": f"GET /{id_}", "access": "everyone", "handler": {"answer": {"status": status, "headers": {"Location": "/none"}}}}
        for id_, status in (("tides", 302), ("berths", 307))
    ]  # fmt: skip
    a, b = make_pipeline([cors], routes=routes), make_pipeline([cors], routes=away)
    head: dict[str, Any] = {
        "base": "https://b.example",
        "callers": {"page": {"kind": "browser", "origin": "https://a.example"}},
    }
    rows = [
        {
            "id": f"r{n}",
            "at": f"{n}h",
            "send": "GET /berths" if n < 10 else "GET /tides",
            "caller": "page",
        }
        for n in range(20)
    ]
    day = tmp_path / "day.jsonl"
    day.write_text("\n".join(map(json.dumps, [{"patient-usher": "trace/1", **head}, *rows])))
    whole = compared(*(records_of(session(one, [Trace.of(*rows, **head)])) for one in (a, b)))
    found = compared_at_length(a, b, [[Trace.read(day)] for _ in "ab"]).comparison()
    told = Counter(change_of(one) for one in first_of_each(found.differs)) + Counter(found.beyond.exchanges)
    assert told == Counter(change_of(one) for one in first_of_each(whole.differs))
