"""Settings in every combination: what comes of each, and goals."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from itertools import product
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import DEMO, Outcome, make_pipeline
from patient_usher import RunState, Trace
from patient_usher.core.questions.goals import goal
from patient_usher.core.questions.metrics import Figures
from patient_usher.core.questions.sweep import combinations_of, values_of
from patient_usher.core.verify.run import run

Usher = Callable[..., Outcome]
PIPELINE = """patient-usher: pipeline/1
stages: [{id: throttle, kind: rate-limit, quota: 5, window: 1m}]
routes: [{id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high}, busy-for: 20ms}}]
"""
TRACE = """patient-usher: trace/1
callers: {scraper: {address: 203.0.113.9}, boat: {address: 198.51.100.4}}
requests:
  - {id: scraping, caller: scraper, times: 40, every: 10ms, send: GET /tides}
  - {id: sailing, caller: boat, times: 4, every: 1s, send: GET /tides, expect: {status: 200}}
"""
FILES = {"p__yaml": PIPELINE, "t__yaml": TRACE}


def test_every_combination_is_what_a_replay_of_it_is(usher: Usher) -> None:
    document = usher(
        "sweep",
        "p.yaml",
        "t.yaml",
        "--try",
        "throttle.quota=2,10",
        "--try",
        "deployment.instances=1..2",
        "--format",
        "json",
        **FILES,
    ).json
    assert [list(trial["settings"].values()) for trial in document["trials"]] == [[2, 1], [2, 2], [10, 1], [10, 2]]
    for trial in document["trials"]:
        quota, instances = trial["settings"].values()
        variant = f"patient-usher: pipeline/1\nlike: p.yaml\nstages: {{throttle: {{quota: {quota}}}}}\ndeployment: {{instances: {instances}}}\n"
        result = usher("replay", "v.yaml", "t.yaml", "--format", "json", v__yaml=variant).json
        refused = [record for record in result["exchanges"] if record["refused_by"]]
        assert trial["requests"] == 44
        assert trial["refused"] == pytest.approx(len(refused) / 44)
        assert (trial["handler"], trial["broken"]) == (44 - len(refused), result["summary"]["failed"])


@pytest.mark.parametrize("named", [True, False])
def test_who_was_refused_is_told_by_name_or_else_by_address(usher: Usher, named: bool) -> None:
    trace = TRACE
    if not named:  # everybody a script, told apart by address alone
        trace = trace.replace("caller: scraper,", "address: 203.0.113.9,").replace(
            "caller: boat,", "address: 198.51.100.4,"
        )
    arguments = ("sweep", "p.yaml", "t.yaml", "--try", "throttle.quota=3,10")
    text = usher(*arguments, p__yaml=PIPELINE, t__yaml=trace)
    head = text.out.splitlines()[1].split()
    assert head[:4] == ["quota", "refused", *(["scraper", "boat"] if named else ["203.0.113.9", "198.51.100.4"])]
    trials = usher(*arguments, "--format", "json").json["trials"]
    assert trials[0]["refused_by_address"] == {"203.0.113.9": 37 / 40, "198.51.100.4": 1 / 4}
    assert trials[0]["refused_by_caller"] == ({"scraper": 37 / 40, "boat": 1 / 4} if named else {"script": 38 / 44})


def test_one_core_or_two_the_same(usher: Usher) -> None:
    runs = [
        usher(
            "sweep", "p.yaml", "t.yaml", "--try", "throttle.quota=1..6", "--cores", cores, "--format", "json", **FILES
        ).out
        for cores in ("1", "2")
    ]
    assert runs[0] == runs[1]


GOALS = [
    ("refused(address=203.0.113.9) > 0.5 and refused(others) == 0", 0, 5), ("refused(caller=scraper) > 0.9 and refused(others) == 0", 1, 4),
    ("refused(caller=scraper) > 0.8 and refused(caller=boat) == 0", 0, 5), ("refused < 0.5", 0, 30), ("handler >= 44", 0, 40), ("not refused == 0 or broken > 0", 0, 5), ("(latency < 0.1) and requests == 44", 0, 5),
]  # fmt: skip


@pytest.mark.parametrize(("text", "status", "quota"), GOALS)
def test_the_least_change_that_meets_a_goal(usher: Usher, text: str, status: int, quota: int) -> None:
    outcome = usher(
        "sweep",
        "p.yaml",
        "t.yaml",
        "--try",
        "throttle.quota=2,4,5,10,30,40",
        "--goal",
        text,
        "--format",
        "json",
        **FILES,
    )
    assert (outcome.status, outcome.json["found"]["met"]) == (status, status == 0)
    assert outcome.json["found"]["settings"] == {"throttle.quota": quota}


def test_tables_for_people_and_programs(usher: Usher, tmp_path: Path) -> None:
    told = usher(
        "sweep",
        "p.yaml",
        "t.yaml",
        "--try",
        "throttle.quota=2,10",
        "--goal",
        "refused == 0",
        "--picture",
        "c.png",
        **FILES,
    )
    assert told.status == 1
    for words in (
        "1 of 2 combinations",
        "44 requests each",
        "scraper",
        "●",
        "✗ none meets refused == 0",
        "comes nearest",
    ):
        assert words in told.out
    assert (tmp_path / "c.png").read_bytes()[:4] == b"\x89PNG"
    rows = list(
        csv.DictReader(
            io.StringIO(usher("sweep", "p.yaml", "t.yaml", "--try", "throttle.quota=2,10", "--format", "csv").out)
        )
    )
    assert [row["throttle.quota"] for row in rows] == ["2", "10"]
    assert float(rows[0]["refused"]) > float(rows[1]["refused"])


def test_shares_and_statuses_are_what_a_replay_counts(usher: Usher) -> None:
    """Each figure against the records of a replay of the same combination; ``refused`` is the sum of all."""
    story, limits = str(DEMO / "limits-story.yaml"), str(DEMO / "limits.yaml")
    trials = usher("sweep", limits, story, "--try", "throttle.quota=5,30", "--format", "json").json["trials"]
    for trial in trials:
        quota = trial["settings"]["throttle.quota"]
        replayed = usher("replay", limits, story, "--set", f"throttle.quota={quota}", "--format", "json").json[
            "exchanges"
        ]
        count = len(replayed)
        assert trial["refused"] == pytest.approx(sum(x["refused_by"] is not None for x in replayed) / count)
        over = sum(x["why"] in ("over-quota", "too-many-at-once") for x in replayed)
        assert trial["over_quota"] == pytest.approx(over / count)
        assert trial["timed_out"] == pytest.approx(sum(x["why"] == "too-slow" for x in replayed) / count)
        for status, times in trial["statuses"].items():
            assert times == sum(x["response"] is not None and x["response"]["status"] == int(status) for x in replayed)


@pytest.mark.parametrize(
    ("text", "met"),
    [
        ("status(429) > 0.2 and status(200) > 0", True),
        ("timed-out > 0 and over-quota > 0 and refused > over-quota(others)", None),
        ("over-quota(address=192.0.2.1) == 0", True),
        ("status(418) > 0", False),
    ],
)
def test_goals_name_them(usher: Usher, text: str, met: bool | None) -> None:
    story, limits = str(DEMO / "limits-story.yaml"), str(DEMO / "limits.yaml")
    outcome = usher("sweep", limits, story, "--try", "throttle.quota=30", "--goal", text, "--format", "json")
    if met is None:  # figures are compared with numbers only
        assert (outcome.status, "compared with no number" in outcome.err) == (2, True)
    else:
        assert (outcome.status, outcome.json["found"]["met"]) == (0 if met else 1, met)


@pytest.mark.parametrize("setting", ["deployment.instances=2", "routes.survey.cost=3", "throttle.quota=7"])
def test_what_can_be_tried_can_be_set(usher: Usher, setting: str) -> None:
    name, _, value = setting.partition("=")
    limits = str(DEMO / "limits.yaml")
    story = str(DEMO / "limits-story.yaml")
    trial = usher("sweep", limits, story, "--try", f"{name}={value}", "--format", "json").json["trials"][0]
    replayed = usher("replay", limits, story, "--set", setting, "--format", "json").json["exchanges"]
    assert trial["handler"] == sum(x["handler_reached"] for x in replayed)


WRONG = [
    (["--try", "throttle.quota=1", "--goal", "status > 1"], "write status(401)"), (["--try", "throttle.quota=1", "--set", "deployment=1"], "sets nothing"),
    (["--try", "throttle.quota"], "STAGE.OPTION=A,B,C"), (["--try", "throtle.quota=1"], "did you mean 'throttle'?"), (["--try", "throttle.quota=0"], "quota"),
    (["--try", "throttle.quota=1..20000"], "10,000"), (["--try", "throttle.quota=1", "--goal", "refused > "], "no number"), (["--try", "throttle.quota=1", "--goal", "refuse > 1"], "there are requests, refused"),
    (["--try", "throttle.quota=1", "--goal", "hits(caller=a) > 1"], "leave the parentheses out"), (["--try", "throttle.quota=1", "--goal", "(refused > 1"], "write )"), (["--try", "throttle.quota=1", "--goal", "refused > 1 )"], "left over"),
    (["--try", "throttle.quota=1", "--goal", "refused(nobody) > 1"], "or others"), (["--try", "throttle.quota=1", "--picture", "c.gif"], "FILE.png or FILE.svg"),
]  # fmt: skip


@pytest.mark.parametrize(("arguments", "words"), WRONG)
def test_what_is_wrong_is_told_before_anything_runs(usher: Usher, arguments: list[str], words: str) -> None:
    outcome = usher("sweep", "p.yaml", "t.yaml", *arguments, **FILES)
    assert (outcome.status, words in outcome.err) == (2, True), outcome.err


@given(
    st.dictionaries(st.sampled_from(["a.x", "b.y", "c.z"]), st.lists(st.integers(), min_size=1, max_size=4), min_size=1)
)
def test_combinations_are_all_there_once(tries: dict[str, list[int]]) -> None:
    found = combinations_of(tries)
    count = 1
    for values in tries.values():
        count *= len(values)
    assert len(found) == count
    assert all([name for name, _ in one] == list(tries) for one in found)


@pytest.mark.parametrize(
    ("text", "values"),
    [("1..3", ["1", "2", "3"]), ("3..1", ["3", "2", "1"]), ("a, b", ["a", "b"]), ("5", ["5"]), ("", [])],
)
def test_values(text: str, values: list[str]) -> None:
    assert values_of(text) == values


@given(st.lists(st.sampled_from(["192.0.2.1", "192.0.2.2", "192.0.2.3"]), min_size=1, max_size=20), st.integers(1, 5))
def test_what_is_forgotten_changes_no_figure(senders: list[str], quota: int) -> None:
    """With the names that will be asked for, and without: the same."""
    pipeline = make_pipeline([{"id": "l", "kind": "rate-limit", "quota": quota, "window": "1m"}])
    trace = Trace.of(*({"send": "GET /", "address": sender} for sender in senders), base="https://api.example")
    selects: list[Any] = [None, ("address", "192.0.2.1"), ("others", "")]
    kept, settled = Figures(), Figures()
    for figures in (kept, settled):
        for send, *_ in run(RunState(pipeline), trace.bound(pipeline.compiled)):
            figures.add(send, failed=False)
    kept.end()
    settled.end(selects[1:2])
    for name, select in product(("refused", "requests", "over-quota", "latency"), selects):
        assert kept.value(name, select, selects[1:2]) == settled.value(name, select, selects[1:2])
    assert kept.most_refused("address") == settled.most_refused("address")
    assert kept.told_by == settled.told_by


@given(st.lists(st.sampled_from(["192.0.2.1", "192.0.2.2", "192.0.2.3"]), min_size=1, max_size=20), st.integers(1, 5))
def test_shares_are_those_of_the_records(senders: list[str], quota: int) -> None:
    """Counted while streaming or afterwards: the same shares; and others are those that nothing names."""
    pipeline = make_pipeline([{"id": "l", "kind": "rate-limit", "quota": quota, "window": "1m"}])
    trace = Trace.of(*({"send": "GET /", "address": sender} for sender in senders), base="https://api.example")
    figures = Figures()
    seen: list[tuple[str, bool]] = []
    for send, *_ in run(RunState(pipeline), trace.bound(pipeline.compiled)):
        figures.add(send, failed=False)
        seen += [(x.address, x.refused_by is not None) for x in send.exchanges]

    def share(chosen: list[bool]) -> float:
        return sum(chosen) / len(chosen) if chosen else 0.0

    assert figures.share(None) == share([refused for _, refused in seen])
    first = [refused for sender, refused in seen if sender == "192.0.2.1"]
    others = [refused for sender, refused in seen if sender != "192.0.2.1"]
    named: Any = ("address", "192.0.2.1")
    assert figures.share(named) == share(first)
    assert figures.share(("others", ""), [named]) == pytest.approx(share(others))
    both = goal(
        f"refused(address=192.0.2.1) <= {share(first) + 1e-6:.9f} and refused(others) <= {share(others) + 1e-6:.9f}"
    )
    assert both.short(figures) == 0
