"""Journeys for people: what is shown of many that are alike."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Outcome

LOOP = """patient-usher: pipeline/1
stages: [access-log]
routes:
  - id: more
    at: GET /more
    access: everyone
    handler: {answer: {status: 302, headers: {Location: "/more?n=${query.n}1"}}}
"""
TRACE = """patient-usher: trace/1
callers: {script: {redirects: follow}}
requests: [{id: round, send: "GET /more?n=1", expect: {status: 200}}]
"""


@pytest.mark.parametrize("form", ["text", "md", "html", "junit"])
def test_redirects_that_go_round_show_the_first_and_the_last(
    usher: Callable[..., Outcome], tmp_path: Path, form: str
) -> None:
    how = ["--details"] if form == "text" else ["--report", f"{form}=out"]
    done = usher("replay", "p.yaml", "t.yaml", *how, p__yaml=LOOP, t__yaml=TRACE)
    shown = done.out if form == "text" else (tmp_path / "out").read_text()
    assert done.status == 1
    assert shown.count("… 19 redirects more that went the same way") == 1
    assert shown.count("route more, caller script") == 2
