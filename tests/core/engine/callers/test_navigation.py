"""Links and forms, the cookies that go along, and how browsers write URLs and keep copies."""

from __future__ import annotations

from typing import Any

import pytest

from conftest import Record, header, make_pipeline, records, replay, text
from patient_usher import Trace, Unusable

OWN, SISTER, FOREIGN = "https://app.example", "https://www.app.example", "https://other.example"
API = "https://app.example"
PAGE = {"kind": "browser", "origin": OWN}


def cookie_setter(*values: str) -> list[dict[str, Any]]:
    """Routes: one that sets these cookies, one to link to, one to post to, and one that redirects home."""
    back = {"status": 302, "headers": {"Location": f"{API}/"}}
    return [
        {"id": "set", "at": "GET /set", "access": "everyone", "handler": text(headers={"Set-Cookie": list(values)})},
        {"id": "home", "at": "GET /", "access": "everyone", "handler": {"echo": True}},
        {"id": "post", "at": "POST /", "access": "everyone", "handler": {"echo": True}},
        {"id": "back", "at": "GET /back", "access": "everyone", "handler": text(**back)},
    ]


def sent(record: Record, name: str) -> str | None:
    return next((value for key, value in record["request"]["headers"] if key.lower() == name), None)


SESSION = ("s=1; SameSite=Strict; Secure", "l=1; SameSite=Lax; Secure", "d=1; Secure", "n=1; SameSite=None; Secure")

# From which page, how it leads there; the cookies that go along, and how far away the browser says it is.
TRIPS: list[tuple[str, dict[str, Any], str, str]] = [
    (OWN, {"send": "GET /"}, "s=1; l=1; d=1; n=1", "same-origin"),
    (SISTER, {"send": "GET /"}, "s=1; l=1; d=1; n=1", "same-site"),
    (FOREIGN, {"send": "GET /"}, "l=1; d=1; n=1", "cross-site"),
    ("none", {"send": "GET /"}, "s=1; l=1; d=1; n=1", "none"),
    (FOREIGN, {"send": "POST /", "form": {"a": "b"}}, "n=1", "cross-site"),
    (OWN, {"send": "POST /", "form": {"a": "b"}}, "s=1; l=1; d=1; n=1", "same-origin"),
    (FOREIGN, {"send": "GET https://id.other.example/back"}, "l=1; d=1; n=1", "cross-site"),
]


@pytest.mark.parametrize(("origin", "request_", "cookies", "site"), TRIPS)
def test_which_cookies_a_navigation_takes_along(origin: str, request_: dict[str, Any], cookies: str, site: str) -> None:
    pipeline = make_pipeline([], routes=cookie_setter(*SESSION))
    first = {"send": "GET /set", "caller": "page"}
    trip = {**request_, "caller": "page", "mode": "navigate", "origin": origin}
    last = replay(pipeline, first, trip, base=API, callers={"page": PAGE})[-1]
    assert (sent(last, "cookie"), sent(last, "sec-fetch-site")) == (cookies, site)
    assert (sent(last, "sec-fetch-mode"), sent(last, "sec-fetch-dest")) == ("navigate", "document")
    own = origin == OWN and not request_["send"].endswith("back")
    assert last["browser"]["why"] == (None if own else "navigated")


def test_a_foreign_page_may_call_with_its_own_marks_only() -> None:
    """A forged fetch takes no Lax cookie; a forged form names its origin, which is what a guard can go by."""
    pipeline = make_pipeline([], routes=cookie_setter(*SESSION))
    requests = [
        {"send": "GET /set", "caller": "page"},
        {
            "send": "POST /",
            "text": "x",
            "caller": "page",
            "origin": FOREIGN,
            "credentials": "include",
            "mode": "no-cors",
        },
        {"send": "POST /", "form": {"a": "b"}, "caller": "page", "origin": FOREIGN, "mode": "navigate"},
    ]
    _, fetched, form = replay(pipeline, *requests, base=API, callers={"page": PAGE})
    assert [sent(one, "cookie") for one in (fetched, form)] == ["n=1", "n=1"]
    assert [sent(one, "origin") for one in (fetched, form)] == [FOREIGN, FOREIGN]


def test_a_navigation_takes_every_cookie_that_it_is_given() -> None:
    pipeline = make_pipeline([], routes=cookie_setter(*SESSION))
    there = {"send": "GET /set", "caller": "page", "mode": "navigate", "origin": FOREIGN}
    again = {"send": "GET /", "caller": "page"}
    assert sent(replay(pipeline, there, again, base=API, callers={"page": PAGE})[-1], "cookie") == "s=1; l=1; d=1; n=1"


@pytest.mark.parametrize(
    ("request_", "said"),
    [
        ({"json": {"a": 1}}, "can't say json"), ({"headers": {"X-A": "b"}}, "sets no header X-A"),
        ({"bearer": "x"}, "can't say bearer"), ({"credentials": "omit"}, "can't say credentials"),
    ],
)  # fmt: skip
def test_what_a_link_or_form_cannot_say(request_: dict[str, Any], said: str) -> None:
    with pytest.raises(Unusable, match=said):
        lab_run({"send": "POST /", "caller": "page", "mode": "navigate", **request_})


def lab_run(*requests: dict[str, Any], caller: dict[str, Any] | None = None) -> list[Record]:
    pipeline = make_pipeline([], routes=cookie_setter("a=b"))
    trace = Trace.of(*requests, base=API, callers={"page": {**PAGE, **(caller or {})}})
    return records(pipeline, trace)


def test_origin_none_is_what_was_typed() -> None:
    with pytest.raises(Unusable, match="belongs to a navigation"):
        lab_run({"send": "GET /", "caller": "page", "origin": "none"})
    blocked = lab_run({"send": "PUT /", "caller": "page", "mode": "navigate"})[-1]
    assert (blocked["outcome"], blocked["browser"]["why"]) == ("not-sent", "navigate-method")


def test_what_a_page_adds_to_every_call() -> None:
    assert sent(lab_run({"send": "GET /", "caller": "page"}, caller={"headers": {"X-App": "7"}})[0], "x-app") == "7"
    with pytest.raises(Unusable, match="no page may set the header Cookie"):
        lab_run({"send": "GET /", "caller": "page"}, caller={"headers": {"Cookie": "a=b"}})


# URLs, as the URL standard parses them.

WRITTEN = [
    ("/a/../", "/"), ("/./", "/"), ("\\", "/"), ("/?q=ä b", "/?q=%C3%A4%20b"), ("//app.example\\", "/"),
    ("HTTPS://APP.EXAMPLE:443/", "/"), ("/%2e/", "/"), ("./?x", "/?x"), ("/#part", "/"),
]  # fmt: skip


@pytest.mark.parametrize(("location", "target"), WRITTEN)
def test_locations_as_browsers_read_them(location: str, target: str) -> None:
    away = {
        "id": "away",
        "at": "GET /away",
        "access": "everyone",
        "handler": text(status=302, headers={"Location": location}),
    }
    pipeline = make_pipeline([], routes=[away, *cookie_setter("a=b")])
    last = replay(pipeline, {"send": "GET /away", "caller": "page"}, base=API, callers={"page": PAGE})[-1]
    assert last["request"]["url"] == API + target, last["browser"]


def test_requests_of_pages_are_normalised_and_those_of_scripts_are_not() -> None:
    pipeline = make_pipeline([], routes=cookie_setter("a=b"))
    urls = [replay(pipeline, {"send": "GET /x/../", **who}, base=API, callers={"page": PAGE})[0]["request"]["url"]
            for who in ({"caller": "page"}, {})]  # fmt: skip
    assert urls == [f"{API}/", f"{API}/x/../"]


# HSTS and hosts that need none of it.

HOSTS = [("http://app.example", True), ("http://198.51.100.7", False)]


@pytest.mark.parametrize(("host", "upgraded"), HOSTS)
def test_secure_only_is_remembered_of_names_and_never_of_addresses(host: str, upgraded: bool) -> None:
    tls = {"id": "tls", "kind": "header-fields", "on-answer": {"put": {"Strict-Transport-Security": "max-age=600"}}}
    pipeline = make_pipeline([tls])
    secure = host.replace("http:", "https:")
    page = {"kind": "browser", "origin": host}
    requests = [
        {"send": f"GET {secure}/", "caller": "page", "mode": "navigate"},
        {"send": f"GET {host}/", "caller": "page"},
    ]
    last = replay(pipeline, *requests, callers={"page": page})[-1]
    assert last["request"]["url"].startswith("https:") is upgraded


@pytest.mark.parametrize(
    ("host", "why"),
    [
        ("localhost", None),
        ("app.localhost", None),
        ("127.9.9.9", None),
        ("[::1]", None),
        ("plain.example", "mixed-content"),
    ],
)
def test_loopback_may_be_called_in_clear(host: str, why: str | None) -> None:
    allows = {"id": "c", "kind": "cors", "allow-origins": [OWN]}
    request = {"send": f"GET http://{host}/", "caller": "page"}
    record = replay(make_pipeline([allows]), request, callers={"page": PAGE})[-1]
    assert record["browser"]["why"] == why
    assert (sent(record, "sec-fetch-site") is not None) is (why is None)


# The browser's own memory.


def test_a_grant_is_forgotten_after_a_network_error() -> None:
    cors = {"id": "c", "kind": "cors", "allow-origins": [FOREIGN], "allow-methods": ["PUT"], "max-age": "10m"}
    routes = [{"id": "r", "at": "PUT /", "access": "everyone", "handler": text()}]
    calls = [{"send": "PUT /", "caller": "page"} for _ in range(5)]
    off, on = ({"change": {"stages": {"c": {"allow-origins": [origin]}}}} for origin in (OWN, FOREIGN))
    entries = [*calls[:2], off, calls[2], on, *calls[3:]]
    records = replay(
        make_pipeline([cors], routes=routes),
        *entries,
        base="https://api.example",
        callers={"page": {**PAGE, "origin": FOREIGN}},
    )
    kinds = [("preflight" if one["kind"] == "preflight" else one["browser"]["verdict"]) for one in records]
    assert kinds == ["preflight", "readable", "readable", "blocked", "preflight", "readable", "readable"]


def test_a_stale_copy_is_shown_at_once_and_made_fresh_meanwhile() -> None:
    handler = {**text(text="v", headers={"Cache-Control": "max-age=10, stale-while-revalidate=60"}), "busy-for": "2s"}
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "handler": handler}]
    get = {"send": "GET /", "caller": "page"}
    records = replay(
        make_pipeline([], routes=routes),
        get,
        {**get, "at": "20s"},
        get,
        {**get, "at": "25s"},
        base=API,
        callers={"page": PAGE},
    )
    told = [(one["id"], one["outcome"], one["at"]) for one in records]
    assert told[1][1:] == ("from-caller-cache", 20.0)
    assert (told[2][0], told[2][1:]) == (f"{told[1][0]}/revalidation", ("handled", 20.0))
    assert told[3][1:] == ("from-caller-cache", 20.0), "the one after doesn't wait for what the page doesn't wait for"
    assert told[-1][1:] == ("from-caller-cache", 25.0)
    assert header(records[-1], "cache-control") is not None


# A page, where it calls, and what is told of it.
TOLD: list[tuple[str, str, str | None]] = [
    (OWN, f"{API}/", f"{OWN}/"),
    (OWN, "https://other.example/", f"{OWN}/"),
    ("http://app.example", "http://other.example/", "http://app.example/"),
    (OWN, "http://other.example/", None),
    ("none", f"{API}/", None),
]


@pytest.mark.parametrize(("origin", "url", "told"), TOLD)
def test_a_page_is_told_but_not_in_clear(origin: str, url: str, told: str | None) -> None:
    call = {"send": f"GET {url}", "caller": "page", "mode": "navigate", "origin": origin}
    assert sent(replay(make_pipeline([]), call, callers={"page": PAGE})[0], "referer") == told


def test_what_was_once_in_clear_stays_untold() -> None:
    there = {
        "id": "there",
        "at": "GET /there",
        "access": "everyone",
        "handler": text(status=302, headers={"Location": f"{API}/"}),
    }
    call = {"send": "GET http://other.example/there", "caller": "page", "mode": "navigate"}
    records = replay(make_pipeline([], routes=[there, *cookie_setter()]), call, callers={"page": PAGE})
    assert [sent(record, "referer") for record in records] == [None, None]


def test_cookies_that_stay_behind_are_named() -> None:
    pipeline = make_pipeline([], routes=cookie_setter(*SESSION))
    forged = {"send": "POST /", "form": {"a": "b"}, "caller": "page", "origin": FOREIGN, "mode": "navigate"}
    last = replay(pipeline, {"send": "GET /set", "caller": "page"}, forged, base=API, callers={"page": PAGE})[-1]
    assert "s (SameSite=Strict) and l (SameSite=Lax) and d (no SameSite, so Lax) stayed behind" in last["cookies"][0]


# How a call asks for credentials, what the browser does with third-party cookies; what is sent, and what stays behind.
BEHIND: list[tuple[dict[str, str], str, str | None, str | None]] = [
    ({"credentials": "include"}, "sent", "n=1", "the page is of another site, so l (SameSite=Lax) stayed behind"),
    ({"credentials": "include"}, "blocked", None, "third-party cookies are blocked, so n stayed behind"),
    ({}, "sent", None, "credentials are same-origin, so n stayed behind"),
    ({"credentials": "omit"}, "blocked", None, "credentials are omit, so n stayed behind"),
    ({"mode": "navigate"}, "blocked", "n=1; l=1", None),
]  # fmt: skip


SHOP = {"kind": "browser", "origin": "https://shop.example"}


@pytest.mark.parametrize(("call", "third_party", "along", "behind"), BEHIND)
def test_which_cookies_of_another_site_go_along(call: dict[str, str], third_party: str, along: str | None, behind: str | None) -> None:  # fmt: skip
    """They are there: a visit took them."""
    routes = cookie_setter("n=1; Path=/; SameSite=None; Secure", "l=1; Path=/; SameSite=Lax")
    marks = {"id": "marks", "kind": "cors", "allow-origins": [SHOP["origin"]], "allow-credentials": True}
    asked = [{"send": "GET /set", "mode": "navigate"}, {"send": "GET /", **call}]
    page = {"page": {**SHOP, "third-party-cookies": third_party}}
    last = replay(
        make_pipeline([marks], routes=routes), *({**one, "caller": "page"} for one in asked), base=API, callers=page
    )[-1]
    assert sent(last, "cookie") == along
    if "mode" not in call:
        told = last["browser"]["verdict"], last["browser"]["reason"], last["cookies"]
        assert told == ("readable", None, [behind] if behind else [])


# How a call is made, and what the browser says of cookies that it doesn't take.
TAKEN: list[tuple[dict[str, str], str, list[str]]] = [
    ({"credentials": "include", "mode": "no-cors"}, "sent", ["the cookie l wasn't taken: the page is of another site, and it isn't SameSite=None"]),
    ({"mode": "no-cors"}, "sent", ["the cookie n wasn't taken: credentials are same-origin", "the cookie l wasn't taken: credentials are same-origin"]),
    ({"credentials": "include", "mode": "no-cors"}, "blocked", ["the cookie n wasn't taken: third-party cookies are blocked", "the cookie l wasn't taken: third-party cookies are blocked"]),
    ({"credentials": "include"}, "sent", ["the cookie l wasn't taken: the page is of another site, and it isn't SameSite=None"]),
    ({"mode": "navigate"}, "blocked", []),
]  # fmt: skip


@pytest.mark.parametrize(("call", "third_party", "said"), TAKEN)
def test_cookies_that_are_not_taken_are_named(call: dict[str, str], third_party: str, said: list[str]) -> None:
    pipeline = make_pipeline([], routes=cookie_setter("n=1; Path=/; SameSite=None; Secure", "l=1; Path=/"))
    page = {"page": {**SHOP, "third-party-cookies": third_party}}
    [record] = replay(pipeline, {"send": "GET /set", "caller": "page", **call}, base=API, callers=page)
    assert record["cookies"] == said


@pytest.mark.parametrize(("words", "holds"), [("n wasn't taken: third-party", True), ("stayed behind", False)])
def test_what_becomes_of_cookies_can_be_expected_of_a_blocked_call_too(words: str, holds: bool) -> None:
    pipeline = make_pipeline([], routes=cookie_setter("n=1; Path=/; SameSite=None; Secure"))
    expect = {"browser": "blocked", "cookies": words}
    call = {"send": "GET /set", "caller": "page", "credentials": "include", "expect": expect}
    page = {"page": {**SHOP, "third-party-cookies": "blocked"}}
    [record] = replay(pipeline, call, base=API, callers=page)
    assert [(check["what"], check["ok"]) for check in record["checks"]] == [
        ("cookies", holds), ("browser", True),
    ]  # fmt: skip


# What a script that keeps cookies is given over plain HTTP, and what it says of it.
KEPT_BY_SCRIPTS = [
    ("s=1; Secure", ["the cookie s wasn't taken: it is Secure, and came over plain HTTP"]),
    ("s=1; Domain=other.example", ["the cookie s wasn't taken: api.example isn't of its Domain other.example"]),
    ("s=1; Path=/", []),
]


@pytest.mark.parametrize(("field", "said"), KEPT_BY_SCRIPTS)
@pytest.mark.parametrize("cookies", ["keep", "ignore"])
def test_a_script_says_which_cookies_it_does_not_keep(field: str, said: list[str], cookies: str) -> None:
    call = {"send": "GET http://api.example/set", "caller": "buoy"}
    [record] = replay(make_pipeline([], routes=cookie_setter(field)), call, callers={"buoy": {"cookies": cookies}})
    assert record["cookies"] == (said if cookies == "keep" else [])


def test_each_hop_tells_of_its_own_cookies() -> None:
    hop = {"status": 302, "headers": {"Location": "https://api.example/", "Set-Cookie": "n=1; SameSite=None"}}
    there = {"id": "there", "at": "GET /there", "access": "everyone", "handler": {"answer": hop}}
    call = {"send": "GET https://other.example/there", "caller": "page", "mode": "navigate"}
    records = replay(make_pipeline([], routes=[there, *cookie_setter()]), call, callers={"page": PAGE})
    assert [record["cookies"] for record in records] == [
        ["the cookie n wasn't taken: it is SameSite=None without Secure"], [],
    ]  # fmt: skip


def test_a_browser_that_blocks_third_party_cookies_takes_none() -> None:
    calls = [
        {"send": f"GET {path}", "caller": "page", "credentials": "include", "mode": "no-cors"} for path in ("/set", "/")
    ]
    pipeline = make_pipeline([], routes=cookie_setter("n=1; Path=/; SameSite=None; Secure"))
    for third_party, along in (("sent", "n=1"), ("blocked", None)):
        page = {"page": {**SHOP, "third-party-cookies": third_party}}
        assert sent(replay(pipeline, *calls, base=API, callers=page)[-1], "cookie") == along


# How a page of another site asks, what its browser makes of a cookie without SameSite; what is sent, and what is said.
UNMARKED: list[tuple[dict[str, Any], str, str | None, str | None]] = [
    ({"send": "POST /", "mode": "navigate", "form": {"a": "b"}}, "lax", None, "the page is of another site, so s (no SameSite, so Lax) stayed behind"),
    ({"send": "POST /", "mode": "navigate", "form": {"a": "b"}}, "sent", "s=1", None),
    ({"send": "GET /", "mode": "no-cors", "credentials": "include"}, "lax", None, "the page is of another site, so s (no SameSite, so Lax) stayed behind"),
    ({"send": "GET /", "mode": "no-cors", "credentials": "include"}, "sent", "s=1", None),
    ({"send": "GET /", "mode": "navigate"}, "lax", "s=1", None),
    ({"send": "GET /", "mode": "no-cors"}, "sent", None, "credentials are same-origin, so s stayed behind"),
]  # fmt: skip


@pytest.mark.parametrize(("call", "unmarked", "along", "said"), UNMARKED)
@pytest.mark.parametrize("set_to", ["s=1; Path=/", "s=1; Path=/; SameSite=unheard-of"])
def test_what_becomes_of_a_cookie_without_same_site(call: dict[str, Any], unmarked: str, along: str | None, said: str | None, set_to: str) -> None:  # fmt: skip
    page = {"page": {**SHOP, "unmarked-cookies": unmarked}}
    visit = {"send": "GET /set", "mode": "navigate", "caller": "page"}
    pipeline = make_pipeline([], routes=cookie_setter(set_to))
    last = replay(pipeline, visit, {**call, "caller": "page"}, base=API, callers=page)[-1]
    assert sent(last, "cookie") == along
    assert last["cookies"] == ([said] if said else [])


@pytest.mark.parametrize("unmarked", ["lax", "sent"])
def test_a_cookie_without_same_site_is_taken_in_a_call_from_elsewhere_where_it_would_be_sent(unmarked: str) -> None:
    page = {"page": {**SHOP, "unmarked-cookies": unmarked}}
    call = {"send": "GET /set", "mode": "no-cors", "credentials": "include", "caller": "page"}
    [record] = replay(make_pipeline([], routes=cookie_setter("s=1; Path=/")), call, base=API, callers=page)
    assert [text.partition(":")[0] for text in record["cookies"]] == (
        ["the cookie s wasn't taken"] if unmarked == "lax" else []
    )


def test_a_page_gets_the_copy_that_a_304_confirms() -> None:
    """Fetch 4.6: the wire says 304, the page gets 200 with what is kept."""
    stages = [{"id": "tags", "kind": "conditional"}]
    routes = [
        {
            "id": "r",
            "at": "GET /r",
            "access": "everyone",
            "handler": text(text="tides", headers={"Cache-Control": "no-cache"}),
        }
    ]
    callers = {"p": {"kind": "browser", "origin": "https://api.example"}}
    first, again = replay(
        make_pipeline(stages, routes=routes),
        {"send": "GET /r", "caller": "p", "expect": {"browser": {"status": 200, "body": "tides"}}},
        {"send": "GET /r", "caller": "p", "expect": {"status": 304, "browser": {"status": 200, "body": "tides"}}},
        callers=callers,
    )
    assert (first["browser"]["got"], again["response"]["status"], again["response"]["body"]) == (None, 304, None)
    assert (again["browser"]["got"]["status"], again["browser"]["got"]["body"]) == (200, "tides")
    assert [record["mark"] for record in (first, again)] == ["held", "held"]
