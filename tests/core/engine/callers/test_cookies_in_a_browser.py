"""Cookies, plain and secure hosts, links, forms and redirects at random: the model sends what real browsers send.

Left out of what is held against Chromium, since here the model keeps to the standards' letter: what becomes of Origin and Sec-Fetch-Site behind a redirect
without CORS or an upgrade by HSTS (to this browser a redirect too), Origin on a way from a page of https to a plain
loopback host (and Referer), the two minutes in which it lets a cookie without SameSite go along with a form of another site, and the
order of cookies of one path (it takes a new value for a new cookie).

Firefox is held against a browser to which cookies without SameSite are none of their site's (``unmarked-cookies: sent``), by
TLS alone, with names, paths and dates as services write them: of SameSite behind a redirect over another site, of Secure
ones that stand in the way of plain ones, and of what can hardly be read, it has views of its own.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from random import Random
from typing import Any, NamedTuple

import pytest

import browsers
from conftest import make_pipeline, replay

OWN = ("app.site.example", "api.site.example", "site.example", "other.example")
HOSTS = (
    *OWN,
    "deep.api.site.example",
    "localhost",
    "a.localhost",
    "127.0.0.1",
    "one.github.io",
    "two.github.io",
    "x.co.uk",
)
LOOPBACK = ("http://localhost", "http://a.localhost", "http://127.")
PAGES = ("app.site.example", "app.site.example", "localhost", "one.github.io")
FOLDERS = ("/", "/p/", "/p/q/", "/pq/", "/P/")
FOLDERS = ("/", "/p/", "/p/q/", "/pq/", "/P/")
DOMAINS = (*OWN, ".site.example", ".api.site.example", "example", "github.io", ".one.github.io", "co.uk", "localhost", "SITE.example")  # fmt: skip
DATES = ("Wed, 19 Aug 2037 12:05:16 GMT", "Wed, 19-Aug-37 12:05:16 GMT", "Wed, 19 Aug 2020 12:05:16 GMT", "Thu, 01-Jan-1970 00:00:00 GMT")  # fmt: skip


class Words(NamedTuple):
    """Of what cookies are made: ``attributes`` with the share of cookies that have one of these."""

    names: Sequence[str]
    values: Sequence[str]
    attributes: Sequence[tuple[float, Sequence[str]]]
    schemes: Sequence[str] = ("https", "https", "http")
    policies: Sequence[str] = ()


WORDS = {
    "chromium": Words(
        ("a", "b", "c", "", "__Host-h", "__Secure-s", "__host-x", "A", "sid"),
        ("1", "2", '"q"', "a b", "x=y", "", "é", "~", "a,b", "v%20"),
        (
            (0.35, [f"Domain={domain}" for domain in (*DOMAINS, "127.0.0.1", "", "site.example.", "..site.example")]),
            (0.5, [f"{name}={path}" for name in ("Path", "PATH ") for path in (*FOLDERS, "/p", "/p/q", "", "x", '"/p"')]),
            (0.4, ("Secure", "secure", "Secure=1", "SECURE ")),
            (0.55, [f"SameSite={value}" for value in ("Lax", "Strict", "None", "none", "lax ", "foo", "", "STRICT")]),
            (0.3, [f"Max-Age={age}" for age in ("0", "-1", "3600", "+3600", "x", "", "3600s", '" 3600"', "00", "3.5", "-0", "-x")]),
            (0.2, [f"Expires={date}" for date in (*DATES, "0", "soon", "19 Aug 2037", "2037 Aug 19 1:2:3", "Wed, 19 Aug 2037 12:05:16 GMT+5")]),
            (0.2, ("HttpOnly", "httponly=x", "Priority=High", "Foo=bar", "")),
        ),
        policies=("max-age=3600", "max-age=0", "max-age=3600; includeSubDomains", 'max-age="3600"', "includesubdomains", "max-age=3600;;preload", " MAX-AGE = 3600 ; includeSubDomains", "max-age=x", "max-age=3600; max-age=0", "max-age=3600; includeSubDomains=1", "max-age=0; includeSubDomains"),
    ),
    "firefox": Words(
        ("a", "b", "c", "A", "sid", "__Secure-s"),
        ("1", "2", "a b", "x=y", "~", "v%20"),
        (
            (0.35, [f"Domain={domain}" for domain in DOMAINS]),
            (0.5, [f"Path={path}" for path in (*FOLDERS, "/p", "/p/q", "")]),
            (0.4, ("Secure", "secure", "SECURE ")),
            (0.55, [f"SameSite={value}" for value in ("None", "none", "foo", "")]),
            (0.3, [f"Max-Age={age}" for age in ("0", "-1", "3600")]),
            (0.2, [f"Expires={date}" for date in DATES]),
            (0.2, ("HttpOnly", "Foo=bar", "")),
        ),
        ("https",),
    ),
}  # fmt: skip


class Hop(NamedTuple):
    """One URL of a step, and what it answers."""

    url: str
    status: int
    fields: list[tuple[str, str]]


def cookie(random: Random, host: str, words: Words) -> str:
    name = random.choice(words.names)
    parts = [name + ("=" if name or random.random() < 0.5 else "") + random.choice(words.values)]
    for share, forms in words.attributes:
        if random.random() < share:
            form = random.choice(forms)
            parts.insert(
                random.randrange(len(parts)) + 1,
                f"Domain={host}" if form == "Domain=" and random.random() < 0.5 else form,
            )
    return random.choice(("; ", ";", " ; ")).join(parts)


def steps_at_random(
    random: Random, page: str, port: int, count: int, words: Words
) -> list[tuple[dict[str, Any], list[Hop]]]:
    made = []
    for number in range(count):
        kind = random.choices(("fetch", "link", "form"), (6, 2, 1))[0]
        step = {
            "kind": kind,
            "method": {"link": "GET", "form": "POST"}.get(kind) or random.choice(("GET", "GET", "POST")),
        }
        if kind == "fetch":
            # By CORS from secure pages alone: what HSTS upgrades is tainted as by a redirect there.
            step["mode"] = random.choice(("cors", "no-cors")) if page.startswith("https") else "no-cors"
            step["credentials"] = random.choice(("include", "include", "include", "same-origin", "omit"))
        # A form to a plain URL from a secure page meets a warning that somebody would have to click away.
        schemes = ("https",) if kind == "form" and page.startswith("https") else words.schemes
        urls = []
        for hop in range(random.choices((1, 2, 3), (7, 3, 1))[0]):
            host = random.choice(random.choice((HOSTS, OWN)))
            urls.append(f"{random.choice(schemes)}://{host}:{port}{random.choice(FOLDERS)}s{number}h{hop}")
        hops = []
        for url, there in zip(urls, [*urls[1:], None], strict=True):
            host = url.split("/")[2].partition(":")[0]
            fields = [("Set-Cookie", cookie(random, host, words)) for _ in range(random.choice((0, 0, 1, 1, 1, 2, 3)))]
            if random.random() < 0.15 and words.policies:
                fields.append(("Strict-Transport-Security", random.choice(words.policies)))
            if random.random() < 0.5:
                fields.append(("Access-Control-Allow-Origin", random.choice((page, page, "*", "null"))))
                fields.append(("Access-Control-Allow-Credentials", random.choice(("true", "true", "false"))))
            if there is not None:
                fields.append(("Location", there))
            hops.append(Hop(url, 200 if there is None else random.choice((301, 302, 303, 307, 308)), fields))
        made.append(({**step, "url": urls[0]}, hops))
    return made


def by_the_model(steps: list[tuple[dict[str, Any], list[Hop]]], page: dict[str, Any]) -> list[browsers.PageRequest]:
    routes, requests = [], []
    for number, (step, hops) in enumerate(steps):
        for at, hop in enumerate(hops):
            names = dict.fromkeys(name for name, _ in hop.fields)
            fields = {name: [value for known, value in hop.fields if known == name] for name in names}
            answer = {"status": hop.status, "headers": {**fields, "Cache-Control": "no-store"}, "text": "x"}
            path = "/" + hop.url.split("/", 3)[3]
            for method in ("GET", "POST"):
                route = {"id": f"r{number}-{at}-{method}", "at": f"{method} {path}", "access": "everyone"}
                routes.append({**route, "handler": {"answer": answer}})
        how = (
            {"mode": "navigate"}
            if step["kind"] != "fetch"
            else {"mode": step["mode"], "credentials": step["credentials"]}
        )
        body = {"text": "x", "headers": {"Content-Type": "text/plain"}} if step["method"] == "POST" else {}
        requests.append(
            {"id": f"q{number}", "caller": "page", "send": f"{step['method']} {step['url']}", **how, **body}
        )
    came = []
    for asked in browsers.sent(replay(make_pipeline([], routes=routes), *requests, callers={"page": page})):
        fields = {name.lower(): value for name, value in asked["headers"]}
        told = (fields.get(name) for name in ("cookie", "origin", "sec-fetch-site", "referer"))
        came.append(browsers.PageRequest(asked["method"], asked["url"], *told))
    return came


def cookies_of(came: browsers.PageRequest) -> list[str]:
    return sorted((came.cookie or "").split("; "))


def comparable(came: browsers.PageRequest, step: dict[str, Any], hops: list[Hop], page: str) -> tuple[Any, ...]:
    """What of a message the model promises to be Chromium's (the rest is told above)."""
    cookies = cookies_of(came)
    if step["kind"] == "form" and came.method == "POST" and came.site in (None, "cross-site"):
        cookies = []
    first = hops[0].url.split(":")[0] + came.url[came.url.index(":") :] == hops[0].url
    upgraded = any(hop.url.replace("http:", "https:", 1) == came.url != hop.url for hop in hops)
    whole = first and not upgraded
    referrer = came.referrer and came.referrer.replace(f"{page}/page", f"{page}/")  # the page of the model stands there
    if page.startswith("https") and any(hop.url.startswith(LOOPBACK) for hop in hops):
        return came.method, came.url, cookies
    return came.method, came.url, cookies, referrer, *((came.origin, came.site) if whole else ())


def held(browser: str, seed: int, third_party: str = "sent") -> Iterator[list[tuple[Any, ...]]]:
    """What came from the browser, and what comes from the model, as far as it can be compared."""
    random = Random(f"{seed} {third_party}")
    port = browsers.free_port()
    schemes = ("https", "https", "http") if browser == "chromium" else ("https",)
    page = f"{random.choice(schemes)}://{random.choice(PAGES)}:{port}"
    steps = steps_at_random(random, page, port, 150, WORDS[browser])
    answers = {"/" + hop.url.split("/", 3)[3]: (hop.status, hop.fields) for _, hops in steps for hop in hops}
    asked = [step for step, _ in steps]
    theirs = browsers.wander(port, page, asked, answers, HOSTS, browser=browser, third_party=third_party)
    caller = {"kind": "browser", "origin": page, "third-party-cookies": third_party}
    ours = by_the_model(steps, caller | ({} if browser == "chromium" else {"unmarked-cookies": "sent"}))
    ways = {f"s{number}h{at}": steps[number] for number in range(len(steps)) for at in range(3)}
    for side in (theirs, ours):
        if browser == "chromium":
            yield [comparable(one, *ways[one.url.rpartition("/")[2]], page) for one in side]
        else:  # of cookies all, those of forms from other sites too
            yield [(one.method, one.url, cookies_of(one)) for one in side]


@browsers.needs_chromium
@pytest.mark.parametrize("third_party", ["sent", "blocked"])
@pytest.mark.parametrize("seed", browsers.seeds(1))
def test_cookies_go_where_a_browser_sends_them(seed: int, third_party: str) -> None:
    theirs, ours = held("chromium", seed, third_party)
    assert theirs == ours
    assert len(theirs) > 100


@browsers.needs_firefox
@pytest.mark.parametrize("seed", browsers.seeds(1))
def test_unmarked_cookies_go_where_a_browser_that_knows_no_default_sends_them(seed: int) -> None:
    theirs, ours = held("firefox", seed)
    assert theirs == ours
    assert len(theirs) > 100
