"""Journeys for people: what is shown of many that are alike."""

from __future__ import annotations

import html
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


COOKIES = """patient-usher: pipeline/1
stages: [{id: browsers, kind: cors, allow-origins: ["https://shop.example"], allow-credentials: true}]
routes:
  - id: both
    at: GET /both
    access: everyone
    handler: {answer: {headers: {Set-Cookie: [sid=1; Secure; SameSite=None, pref=2]}, text: both}}
"""
PAGE = """patient-usher: trace/1
base: https://api.harbour.example
callers: {shop: {kind: browser, origin: "https://shop.example"}}
requests:
  - {id: first, caller: shop, send: GET /both, credentials: include}
  - {id: then, caller: shop, send: GET /both}
"""


@pytest.mark.parametrize("form", ["text", "html"])
def test_a_page_that_reads_the_answer_is_told_of_its_cookies(
    usher: Callable[..., Outcome], tmp_path: Path, form: str
) -> None:
    how = ["--details"] if form == "text" else ["--report", f"{form}=out"]
    done = usher("replay", "p.yaml", "t.yaml", *how, p__yaml=COOKIES, t__yaml=PAGE, env={"COLUMNS": "120"})
    shown = done.out if form == "text" else html.unescape((tmp_path / "out").read_text())
    assert done.status == 0
    shown = " ".join(shown.split())
    assert "cookies: the cookie pref wasn't taken: the page is of another site, and it isn't SameSite=None" in shown
    assert (
        "cookies: credentials are same-origin, so sid stayed behind; the cookie sid wasn't taken: credentials" in shown
    )
