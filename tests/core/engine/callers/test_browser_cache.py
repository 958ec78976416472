"""What a page's browser keeps and asks again: each as a real one does it (see test_serve_in_a_browser)."""

from __future__ import annotations

from typing import Any

import pytest

import browsers
from conftest import make_pipeline, replay

PAGE, OTHER = "https://page.example", "https://api.example"
TAG, FRESH, STALE = {"ETag": '"t"'}, {"Cache-Control": "max-age=60"}, {"Cache-Control": "max-age=0"}
GRACE = {"Cache-Control": "max-age=0, stale-while-revalidate=60"}
GET, BARE = {"send": "GET /a"}, {"send": "GET /a", "mode": "no-cors"}


def to(status: int, **fields: str) -> dict[str, Any]:
    return {"status": status, "headers": {"Location": "/b", **{k.replace("_", "-"): v for k, v in fields.items()}}}


ASKED: list[tuple[str, dict[str, Any], list[dict[str, Any]], list[str]]] = [
    ("moved for good", to(301), [GET, GET], ["GET /a", "GET /b", "GET /b"]),
    ("moved for good, method kept", to(308), [GET, GET], ["GET /a", "GET /b", "GET /b"]),
    ("moved for good, for a while", to(301, Cache_Control="max-age=0"), [GET, GET], ["GET /a", "GET /b"] * 2),
    ("moved for good, unkept", to(301, Cache_Control="no-store"), [GET, GET], ["GET /a", "GET /b"] * 2),
    ("moved for now", to(302), [GET, GET], ["GET /a", "GET /b"] * 2),
    ("moved for now, for a while", to(302, Cache_Control="max-age=60"), [GET, GET], ["GET /a", "GET /b", "GET /b"]),
    ("gone", {"status": 410}, [GET, GET], ["GET /a"]),
    ("not there, with a tag", {"status": 404, "headers": TAG}, [GET, GET], ["GET /a"] * 2),
    ("a tag", {"headers": TAG}, [GET, GET], ["GET /a", 'GET /a "t"']),
    ("made, fresh", {"status": 201, "headers": FRESH}, [GET, GET], ["GET /a"]),
    ("no lifetime, any copy", {"status": 500}, [GET, {**GET, "cache": "force-cache"}], ["GET /a"]),
    ("no copy wanted", {"headers": {**TAG, **FRESH}}, [GET, {**GET, "cache": "no-store"}, GET], ["GET /a"] * 2),
    ("an old way of no-cache", {"headers": {**TAG, **FRESH, "Pragma": "no-cache"}}, [GET, GET], ["GET /a", 'GET /a "t"']),
    ("seen by HEAD", {"headers": {**TAG, **STALE}}, [GET, {"send": "HEAD /a"}, GET], ["GET /a", 'HEAD /a "t"', "GET /a"]),
    ("seen by HEAD, anew", {"headers": FRESH}, [GET, {"send": "HEAD /a", "cache": "reload"}, GET], ["GET /a", "HEAD /a"]),
    ("seen by HEAD, fresh", {"headers": FRESH}, [GET, {"send": "HEAD /a"}, GET], ["GET /a"]),
    ("a condition of the page's own", {"headers": FRESH}, [{**GET, "headers": {"If-None-Match": '"u"'}}, GET, GET], ['GET /a "u"', "GET /a"]),
    ("blocked", {"headers": FRESH}, [BARE, {**GET, "cache": "reload"}, BARE], ["GET /a"] * 3),
    ("blocked, unkept", {"headers": FRESH}, [BARE, {**GET, "cache": "no-store"}, BARE], ["GET /a"] * 2),
    ("a blocked POST", {"status": 404, "headers": FRESH}, [BARE, {"send": "POST /a", "text": "x"}, BARE], ["GET /a", "POST /a"]),
    ("a POST", {"headers": FRESH}, [BARE, {"send": "POST /a", "text": "x", "mode": "no-cors"}, BARE], ["GET /a", "POST /a", "GET /a"]),
    ("a POST with a condition of the page's own", {"headers": FRESH}, [GET, {"send": "POST /a", "text": "x", "headers": {"If-None-Match": '"u"'}}, GET], ["GET /a", 'POST /a "u"', "GET /a"]),
    ("moved, blocked", to(302, Cache_Control="max-age=60"), [GET, GET], ["GET /a"]),
    ("stale for a while", {"headers": GRACE}, [GET, GET], ["GET /a", "GET /a"]),
    ("stale for a while, blocked", {"headers": GRACE}, [BARE, GET], ["GET /a"]),
    ("moved, stale for a while", to(302, **GRACE), [GET, GET], ["GET /a", "GET /b", "GET /b", "GET /a"]),
    ("led to what is stale for a while", {"headers": GRACE}, [GET, {"send": "GET /to-a"}], ["GET /a", "GET /to-a"]),
    ("led there from a POST", {"headers": GRACE}, [GET, {"send": "POST /to-a", "text": "x"}], ["GET /a", "POST /to-a", "GET /a"]),
]  # fmt: skip


@pytest.mark.parametrize(("name", "answer", "calls", "asked"), ASKED, ids=[row[0] for row in ASKED])
def test_what_is_asked_again(name: str, answer: dict[str, Any], calls: list[dict[str, Any]], asked: list[str]) -> None:
    """A page asks a second apart; those that are blocked ask another origin, which allows nobody."""
    routes = [
        {"id": f"{method}-{path}", "at": f"{method} /{path}", "access": "everyone", "handler": {"answer": made}}
        for path, made in (
            ("a", answer),
            ("b", {"text": "b"}),
            ("to-a", {"status": 303, "headers": {"Location": "/a"}}),
        )
        for method in ("GET", "HEAD", "POST")
    ]
    requests = [{"id": f"r{at}", "at": f"{at}s", "caller": "page", **call} for at, call in enumerate(calls)]
    callers = {"page": {"kind": "browser", "origin": PAGE}}
    base = OTHER if "blocked" in name or {"mode": "no-cors"}.items() <= calls[0].items() else PAGE
    sent = [
        " ".join([r["method"], r["url"].removeprefix(base), *_condition(r)])
        for r in browsers.sent(replay(make_pipeline([], routes=routes), *requests, base=base, callers=callers))
    ]
    assert sent == asked


def _condition(request: dict[str, Any]) -> list[str]:
    return [value for name, value in request["headers"] if name.lower() == "if-none-match"]


def test_a_loop_names_who_led_into_it_and_later_the_copy() -> None:
    route = {"id": "r", "at": "GET /a", "access": "everyone", "handler": {"answer": to(308, Location="/a")}}
    page = {"page": {"kind": "browser", "origin": PAGE}}
    calls = [{"id": f"r{at}", "send": "GET /a", "caller": "page"} for at in range(2)]
    records = replay(make_pipeline([], routes=[route]), *calls, base=PAGE, callers=page)
    told = [record["browser"]["reason"] for record in records if record["outcome"] == "redirect-loop"]
    by = ("handler", "a copy that the browser has kept")
    assert told == [f"the answers redirect without end: {one} redirects {PAGE}/a again; let it answer" for one in by]
