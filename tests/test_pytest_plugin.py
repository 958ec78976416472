"""Traces as tests of a project of its own: pytest, run in another folder."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import DEMO

OPEN = """patient-usher: trace/1
requests:
  - {id: well, send: GET /health, expect: {status: 200}}
  - {id: ill, send: GET /health, expect: {status: 404}}
  - {id: many, times: 5, send: GET /health, expect: {tally: {200: 5}}}
"""


def project(folder: Path, lines: str, *arguments: str, finds: bool = False, **files: str) -> tuple[int, str]:
    """A project with these traces, and what its tests say. ``finds``: pytest finds the plugin by itself, and all others,
    which takes thrice as long.
    """
    (folder / "pytest.ini").write_text(f"[pytest]\naddopts = -p no:cacheprovider\nusher_traces =\n{lines}")
    for name, text in files.items():
        (folder / f"{name}.yaml").write_text(text)
    plugins = [] if finds else ["-p", "patient_usher.pytest_plugin", *(["-p", "xdist"] if "-n" in arguments else [])]
    command = [sys.executable, "-m", "pytest", "-q", *plugins, *arguments]
    env = os.environ if finds else {**os.environ, "PYTEST_DISABLE_PLUGIN_AUTOLOAD": "1"}
    done = subprocess.run(command, cwd=folder, env=env, capture_output=True, text=True, timeout=120, check=False)
    return done.returncode, done.stdout + done.stderr


HARBOUR = f"    {DEMO / 'harbour.yaml'} t.yaml\n"


def test_one_test_a_request_failing_with_its_journey(tmp_path: Path) -> None:
    status, out = project(tmp_path, HARBOUR, finds=True, t=OPEN)
    assert (status, "1 failed, 2 passed" in out) == (1, True), out
    assert "FAILED t.yaml::ill - status: expected 404, got 200" in out
    assert "log info: GET /health" in out
    assert "Traceback" not in out


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (["-k", "many"], "1 passed, 2 deselected"),
        (["-n", "2", "-k", "not ill"], "2 passed"),
        (["t.yaml::well"], "1 passed"),
    ],
)
def test_chosen_by_id_and_in_parallel(tmp_path: Path, arguments: list[str], said: str) -> None:
    status, out = project(tmp_path, HARBOUR, *arguments, t=OPEN)
    assert (status, said in out) == (0, True), out


def test_environments_and_statements_are_tests_too(tmp_path: Path) -> None:
    pipeline = "patient-usher: pipeline/1\nalways: [no-slips, one-content-type]\nroutes: [{id: h, at: GET /health, access: everyone, handler: {answer: {text: ok}, fails-every: 1}}]\n"
    pipeline += "environments: {calm: {routes: {h: {handler: {fails-every: 1000}}}}}\n"
    trace = "patient-usher: trace/1\nrequests: [{id: a, send: GET /health}]\n"
    status, out = project(tmp_path, "    p.yaml t.yaml\n    p.yaml t.yaml calm\n", "-rA", p=pipeline, t=trace)
    assert status == 1, out
    assert "FAILED t.yaml::invariant no-slips[p] - " in out
    assert "PASSED t.yaml::invariant no-slips[p calm]" in out


@pytest.mark.parametrize(
    ("lines", "trace", "said"),
    [
        ("    p.yaml\n", OPEN, "usher_traces: 'p.yaml' names no trace; write PIPELINE TRACE"),
        (
            HARBOUR,
            "patient-usher: trace/1\nrequest: []\n",
            "t.yaml:2:1: unknown key 'request'; did you mean 'requests'?",
        ),
        ("    none.yaml t.yaml\n", OPEN, "there is no such file"),
    ],
)
def test_what_is_wrong_is_told_in_a_line(tmp_path: Path, lines: str, trace: str, said: str) -> None:
    status, out = project(tmp_path, lines, t=trace)
    assert (status != 0, said in out) == (True, True), out
    assert "Traceback" not in out


@pytest.mark.parametrize(("app", "failed"), [("agreeing", 0), ("drifted", 4)])
def test_a_service_is_held_against_its_model(tmp_path: Path, app: str, failed: int) -> None:
    """One more test a request; writes are sent where that is said."""
    lines = f"    {DEMO / 'landing.yaml'} t.yaml\nusher_service = landing_service:{app}\n"
    story = (DEMO / "landing-story.yaml").read_text().split("  - {id: hurry")[0]
    status, out = project(tmp_path, lines, "-k", "service", t=story)
    assert (status, f"{failed} failed" in out) == (int(bool(failed)), bool(failed)), out
    assert ("service ledger-skipper - status: model 403, service 200" in out) is bool(failed)
