"""Every option that a command accepts changes something, and means the same in every command."""

from __future__ import annotations

import re
from argparse import ArgumentParser
from collections.abc import Callable
from importlib import import_module
from pathlib import Path

import pytest

from conftest import DEMO, Outcome
from patient_usher.cli import COMMANDS, MODULES, QUESTIONS

Usher = Callable[..., Outcome]
ROUTES = """
routes:
  - {id: r, at: GET /, access: everyone, cache: 60s, handler: {answer: {text: ok}}}
  - {id: flaky, at: GET /flaky, access: everyone, handler: {fails-every: 2, answer: {text: ok}}}
"""
PIPELINE = f"""
patient-usher: pipeline/1
stages:
  - access-log
  - {{id: net, kind: error-handler}}
  - {{id: limit, kind: rate-limit, quota: 2, window: 10s}}
{ROUTES}
deployment: {{instances: 3, spread: random}}
environments: {{strict: {{stages: {{limit: {{quota: 1}}}}}}}}
"""
TRACE = """
patient-usher: trace/1
requests:
  - {id: a, send: GET /, times: 9, every: 1s, expect: {tally: {429: 4}}}
  - {id: hang, after: 30s, send: "GET /${env:PLACE|nowhere}", expect: {status: 200}}
"""
STATEMENT = "- {id: never, expect: {handler: not-reached}}\n"
HANG = """
patient-usher: pipeline/1
stages: [{id: gate, kind: decide, cases: [{then: nothing}]}]
routes: [{id: r, at: GET /, access: everyone, handler: {answer: {text: ok}}}]
"""
CODE = """
patient-usher: pipeline/1
stages: [{id: own, kind: python, call: "harmless:Stage"}]
routes: [{id: r, at: GET /, access: everyone, handler: {answer: {text: ok}}}]
"""
P, T, H = "p.yaml", "t.yaml", str(DEMO / "harbour.yaml")
STORY, MISTAKEN = str(DEMO / "story.yaml"), str(DEMO / "mistaken.yaml")
RECORDED = ("replay", str(DEMO / "recorded.yaml"), str(DEMO / "harbour.har"))
# A command line, and what an option adds to it: with it, something else comes out.
CHANGES: list[tuple[tuple[str, ...], tuple[str, ...]]] = [
    *(((command, P, *more), option) for command, more in (
        ("show", ()), ("send", ("GET", "/")), ("replay", (T,)), ("check", ()), ("reorder", (T,)), ("explore", ()), ("accept", (T, "--dry-run", "--replace")),
        ("chart", (T, "--format", "csv")), ("sweep", (T, "--try", "deployment.instances=1,2")),
    ) for option in (("--set", "limit.quota=1"), ("--environment", "strict")) if (command, option[0]) not in {("show", "--set"), ("explore", "--set"), ("check", "--set"), ("reorder", "--set"), ("explore", "--environment"), ("check", "--environment"), ("reorder", "--environment"), ("show", "--environment")}),
    (("show", P), ("--set", "limit.enabled=false")), (("show", P), ("--environment", "strict")), (("explore", P), ("--set", "limit.enabled=false")),
    (("check", P), ("--set", "net.reveal=everything")), (("reorder", P, T), ("--set", "limit.enabled=false")),
    (("replay", P, T), ("--seed", "7")), (("send", P, "GET", "/", "--format", "json"), ("--seed", "7")), (("chart", P, T, "--format", "csv"), ("--seed", "1")),
    (("compare", P, P, T, "--b-set", "limit.quota=1", "--format", "json"), ("--seed", "5")), (("explore", P, "--format", "json"), ("--seed", "5")),
    (("sweep", P, T, "--try", "limit.quota=1,2", "--format", "csv"), ("--seed", "5")), (("reorder", P, T, "--format", "json"), ("--seed", "5")),
    (("accept", P, T, "--dry-run", "--replace"), ("--seed", "5")),
    *(((command, P, *more), ("--always", "always.yaml")) for command, more in (("send", ("GET", "/")), ("replay", (T,)), ("explore", ("--budget", "50")), ("reorder", (T,)), ("sweep", (T, "--try", "limit.quota=1,2")))),
    (("replay", P, T), ("--trust", "env:PLACE")), (("accept", P, T, "--dry-run"), ("--trust", "env:PLACE")), (("chart", P, T, "--format", "csv"), ("--trust", "env:PLACE")),
    (("compare", P, P, T, "--b-set", "limit.enabled=false", "--format", "json"), ("--trust", "env:PLACE")), (("sweep", P, T, "--try", "limit.quota=1,2", "--format", "csv"), ("--trust", "env:PLACE")),
    *(((command, "code.yaml", *more), ("--trust", "python")) for command, more in (("show", ()), ("replay", ("s.yaml",)), ("send", ("GET", "/")), ("check", ()), ("explore", ("--budget", "20")))),
    (("replay", "hang.yaml", "s.yaml"), ("--strict",)), (("send", "hang.yaml", "GET", "/"), ("--strict",)),
    (("replay", P, T), ("--quiet",)), (("replay", P, T), ("--details",)), (("replay", P, T), ("--only", "hang")), (("replay", P, T, T), ("--keep-state",)), (("replay", P, T), ("--coverage",)), (("replay", P, T), ("--unnoticed",)),
    (("replay", P, "s.yaml", "--coverage"), ("--coverage-at-least", "100")), (("accept", P, T), ("--only", "a")), (("accept", P, T, "--dry-run"), ("--replace",)), (("accept", "hang.yaml", "s.yaml"), ("--with-slips",)),
    (("send", "hang.yaml", "GET", "/", "--append", "n.yaml"), ("--with-slips",)), (("check", MISTAKEN), ("--level", "error", "--format", "json")), (("check", MISTAKEN), ("--budget", "3")), (("explore", H), ("--budget", "30")),
    (("reorder", P, T), ("--all-pairs",)), (("reorder", H, "--tell-apart"), ("--budget", "2")), (("reorder", P, "s.yaml"), ("--wish", "limit<net")), (("compare", P, P, T, "--b-set", "limit.quota=1"), ("--expect-same",)),
    (("compare", P, P, T, "--b-set", "limit.quota=1"), ("--details",)), (("compare", P, P, T), ("--a-environment", "strict")), (("sweep", P, T, "--try", "limit.quota=1,2"), ("--goal", "refused == 0")),
    (RECORDED, ("--expect-recorded",)), ((*RECORDED, "--expect-recorded"), ("--sign", "same:maren")), (RECORDED, ("--host", "boaters.example")),
]  # fmt: skip


@pytest.mark.parametrize(("command", "option"), CHANGES, ids=[f"{' '.join(c)} + {' '.join(o)}" for c, o in CHANGES])
def test_an_option_changes_something(
    usher: Usher, tmp_path: Path, command: tuple[str, ...], option: tuple[str, ...]
) -> None:
    (tmp_path / "harmless.py").write_text("class Stage:\n    def way_in(self, x):\n        return None\n")
    files = {"p.yaml": PIPELINE, "t.yaml": TRACE, "always.yaml": STATEMENT, "hang.yaml": HANG, "code.yaml": CODE, "s.yaml": "patient-usher: trace/1\nrequests: [{id: s, send: GET /}]\n"}  # fmt: skip
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    without = usher(*command, env={"PLACE": ""})
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    with_it = usher(*command, *option, env={"PLACE": ""})
    assert "there is no option" not in with_it.err
    assert (with_it.status, with_it.out, with_it.err) != (without.status, without.out, without.err)


def parsers() -> dict[str, ArgumentParser]:
    found = {}
    for name in QUESTIONS:
        found[name] = ArgumentParser(prog=f"usher {name}")
        import_module(f"patient_usher.cli.{MODULES.get(name, name)}").add_arguments(found[name])
    return found


def test_an_option_means_the_same_everywhere() -> None:
    """The same name is stored alike, and described alike but for what the command does with it."""
    shared = {
        "--environment",
        "--set",
        "--seed",
        "--always",
        "--trust",
        "--report",
        "--only",
        "--budget",
        "--strict",
        "--picture",
        "--sign",
    }
    seen: dict[str, set[str | tuple[str, ...] | None]] = {}
    for name, parser in parsers().items():
        for action in parser._actions:
            for option in shared & {*action.option_strings}:
                metavar = action.metavar if name != "import" or option != "--sign" else "SCHEME:ACCOUNT"
                seen.setdefault(option, set()).add(metavar)
    assert {option: len(metavars) for option, metavars in seen.items() if len(metavars) > 1} == {}


def test_no_old_name_is_left() -> None:
    old = {"--allow-env", "--allow-files", "--allow-python", "--write", "--write-missing", "--chart", "--trace", "-t"}
    for name, parser in parsers().items():
        options = {option for action in parser._actions for option in action.option_strings}
        assert not options & old, name
        if name in ("accept", "check", "chart", "compare", "replay", "reorder", "sweep"):
            assert [
                action.dest
                for action in parser._actions
                if not action.option_strings and action.dest.startswith("trace")
            ]


def test_each_command_has_help_with_two_examples(usher: Usher) -> None:
    for name in QUESTIONS:
        module = import_module(f"patient_usher.cli.{MODULES.get(name, name)}")
        assert len(module.EXAMPLES) == 2, name
        text = usher("help", name, env={"COLUMNS": "120"}).out
        assert text == usher(name, "--help", env={"COLUMNS": "120"}).out
        assert [example for example in module.EXAMPLES if example not in text] == []


def test_help_lists_every_command_in_its_group(usher: Usher) -> None:
    text = usher("--help").out
    assert text == usher("help").out == usher().out
    assert [match for match in re.findall(r"^(\S.*):$", text, re.MULTILINE) if match in COMMANDS] == [*COMMANDS]
    assert list(re.findall(r"^  (\w+) ", text, re.MULTILINE)) == [*QUESTIONS]
    assert usher("-V").out == usher("--version").out


PLAIN = "patient-usher: pipeline/1\nroutes: [{id: a, at: GET /a, access: everyone, handler: {answer: {text: low}}}]\n"
ASKING = "patient-usher: trace/1\nrequests: [{id: a, send: GET /a, expect: {status: 200}}]\n"


@pytest.mark.parametrize(
    ("written", "same"),
    [
        ("replay -f json", "replay pipeline.yaml trace.yaml --format json"),
        ("replay --json", "replay pipeline.yaml trace.yaml --format json"),
        ("replay", "replay pipeline.yaml trace.yaml"),
        ("show", "show pipeline.yaml"),
        ("--plain show", "show pipeline.yaml --plain"),
        ("--color always show pipeline.yaml", "show pipeline.yaml --colour always"),
        ("--colour=always --plain show", "show pipeline.yaml --plain --colour always"),
        ("explore --json", "explore pipeline.yaml --format json"),
        ("replay pipeline.yaml -q", "replay pipeline.yaml trace.yaml --quiet"),
    ],
)
def test_short_ways_say_the_same(usher: Usher, written: str, same: str) -> None:
    files = {"pipeline__yaml": PLAIN, "trace__yaml": ASKING}
    assert usher(*written.split(), **files) == usher(*same.split(), **files)


def test_traces_in_a_folder_are_meant_where_none_is_named(usher: Usher, tmp_path: Path) -> None:
    (tmp_path / "traces").mkdir()
    for name in ("b.yaml", "a.yaml"):
        (tmp_path / "traces" / name).write_text(ASKING)
    told = usher("replay", "-o", "rows.csv", pipeline__yaml=PLAIN)
    assert (told.status, told.out.index("a.yaml") < told.out.index("b.yaml")) == (0, True)
    assert (tmp_path / "rows.csv").is_file()


@pytest.mark.parametrize(("files", "missing"), [({}, "pipeline.yaml"), ({"pipeline__yaml": PLAIN}, "trace.yaml")])
def test_what_is_meant_and_is_not_there(usher: Usher, files: dict[str, str], missing: str) -> None:
    told = usher("replay", **files)
    assert (told.status, told.err.startswith(f"{missing}:1:1: no ")) == (2, True)
