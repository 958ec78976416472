"""A real browser calls the served pipeline: its verdicts, what its pages read, and what it sends are the model's."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import product
from random import Random
from typing import Any

import pytest

import browsers
from conftest import make_pipeline, replay
from patient_usher.use_cases.serve import Ended, served

PAGE, OTHER = "localhost", "127.0.0.1"
"""Two hosts of this machine: a page from one is another site than one from the other."""


def cors(id_: str, path: str, **options: Any) -> dict[str, Any]:
    return {"id": id_, "kind": "cors", "only": [path], **options}


def stages(page: str) -> list[dict[str, Any]]:
    """The open part for everybody, the listed one for one page with credentials, and one without CORS."""
    return [
        cors("open", "/open/**", **{"allow-origins": "*", "allow-headers": ["x-own"], "expose-headers": ["x-seen"], "max-age": "60s"}),
        cors(
            "listed", "/listed/**",
            **{"allow-origins": [page], "allow-credentials": True, "allow-methods": ["GET", "HEAD", "POST", "PUT"], "allow-headers": ["content-type", "authorization"]},
        ),
        {"id": "tags", "kind": "conditional", "only": ["/listed/tagged/**"]},
        {"id": "marks", "kind": "header-fields", "on-answer": {"put": {"X-Seen": "1", "X-Kept": "2"}}},
    ]  # fmt: skip


def routes(base: str) -> list[dict[str, Any]]:
    made: list[dict[str, Any]] = []
    for part in ("open", "listed", "none"):
        for method in ("GET", "POST", "PUT", "DELETE", "PATCH"):
            answer = {"json": {"method": method, "cookie": "${cookie.crumb}"}}
            made.append({"id": f"{part}-{method}", "at": f"{method} /{part}/x", "handler": {"answer": answer}})
        for name, attributes in (
            ("lax", "SameSite=Lax"),
            ("strict", "SameSite=Strict"),
            ("plain", ""),
            ("none", "SameSite=None"),
        ):
            fields = {"Set-Cookie": f"crumb={name}; Path=/{part}; {attributes}".rstrip("; ")}
            made.append(
                {
                    "id": f"{part}-set-{name}",
                    "at": f"GET /{part}/set/{name}",
                    "handler": {"answer": {"headers": fields, "text": name}},
                }
            )
        fresh = {"headers": {"Cache-Control": "max-age=60"}, "text": "fresh"}
        made.append({"id": f"{part}-fresh", "at": f"GET /{part}/fresh/{{n}}", "handler": {"answer": fresh}})
        tagged = {"headers": {"Cache-Control": "max-age=60", "ETag": '"t"'}, "text": "tagged"}
        made.append({"id": f"{part}-tagged", "at": f"GET /{part}/tagged/{{n}}", "handler": {"answer": tagged}})
        for to in ("open", "listed", "none"):
            hop = {"status": 307, "headers": {"Location": f"{base}/{to}/x"}}
            made.append({"id": f"{part}-to-{to}", "at": f"GET /{part}/to/{to}", "handler": {"answer": hop}})
    return [{**one, "access": "everyone"} for one in made]


def calls() -> list[dict[str, Any]]:
    """What a page asks: ``send``, and the rest of the call as traces have it."""
    made: list[dict[str, Any]] = []
    for part, method, with_ in product(
        ("open", "listed", "none"), ("GET", "POST", "PUT", "DELETE", "PATCH"), ("omit", "include")
    ):
        body = {"text": "a", "headers": {"Content-Type": "text/plain"}} if method == "POST" else {}
        made.append({"send": f"{method} /{part}/x", "credentials": with_, **body})
    for part, name in product(
        ("open", "listed"), ("X-Own", "X-Else", "Authorization", "Accept-Language", "Content-Type")
    ):
        value = "application/json" if name == "Content-Type" else "en"
        made.append(
            {"send": f"POST /{part}/x", "headers": {name: value}, "text": "{}"}
            if name == "Content-Type"
            else {"send": f"GET /{part}/x", "headers": {name: value}}
        )
    for part, to in product(("open", "listed", "none"), ("open", "listed", "none")):
        made.append({"send": f"GET /{part}/to/{to}"})
    made += [
        {"send": f"GET /open/to/{to}", "redirect": how} for to, how in product(("open", "none"), ("error", "manual"))
    ]
    made += [
        {"send": f"GET /{part}/x", "mode": mode} for part, mode in product(("open", "none"), ("no-cors", "same-origin"))
    ]
    for name, part in product(("lax", "strict", "plain", "none"), ("listed",)):
        made += [
            {"send": f"GET /{part}/set/{name}", "credentials": "include"},
            {"send": f"GET /{part}/x", "credentials": "include"},
        ]
        made.append({"send": f"GET /{part}/x", "credentials": "same-origin"})
    for part, at in product(("open", "listed"), range(2)):
        made.append({"send": f"GET /{part}/fresh/1"})
        made += [
            {"send": f"GET /{part}/fresh/{at}", "cache": how}
            for how in ("no-store", "reload", "no-cache", "force-cache")
        ]
    for part, path in product(("none", "listed"), ("fresh/3", "fresh/4", "tagged/3", "tagged/4")):
        modes = ("no-cors", "cors", "cors", "no-cors", "cors") if path.endswith("3") else ("cors", "no-cors", "cors")
        made += [{"send": f"GET /{part}/{path}", "mode": mode} for mode in modes]
    return made


def as_fetch(call: dict[str, Any], base: str) -> dict[str, Any]:
    method, _, path = call["send"].partition(" ")
    init = {
        "method": method,
        **{key: call[key] for key in ("credentials", "headers", "redirect", "mode", "cache") if key in call},
    }
    return {"url": base + path, "init": init | ({"body": call["text"]} if "text" in call else {})}


SAID = (
    "if-none-match",
    "cache-control",
    "pragma",
    "cookie",
    "access-control-request-method",
    "access-control-request-headers",
    "content-type",
)


def on_the_wire(method: str, url: str, fields: Any) -> str:
    said = [name for name in SAID if method != "OPTIONS" or name not in ("cache-control", "pragma")]
    return " ".join([method, url, *sorted(f"{name.lower()}={value}" for name, value in fields if name.lower() in said)])


def as_page(record: dict[str, Any]) -> dict[str, Any]:
    """What the page gets, by the model."""
    browser = record["browser"]
    answer = browser.get("got") or record["response"]
    if browser["verdict"] == "blocked":
        return {"error": True}
    if browser["verdict"] == "opaque":
        return {
            "type": "opaqueredirect" if answer["status"] in (301, 302, 303, 307, 308) else "opaque",
            "status": 0,
            "fields": [],
            "body": "",
        }
    return {
        "type": "cors",
        "status": answer["status"],
        "fields": sorted(n.lower() for n in browser["readable_headers"]),
        "body": answer["body"] or "",
    }


@browsers.needs_chromium
@pytest.mark.parametrize("site", [PAGE, OTHER])
def test_what_pages_get_and_browsers_send_is_the_models(site: str) -> None:
    """Over a hundred calls each of a page that is listed and of one that isn't; the service is of one's site."""
    port = browsers.free_port()
    pipeline = make_pipeline(stages(f"http://{PAGE}:{port}"), routes=routes("http://api.invalid"))
    ended: list[Ended] = []
    with served(pipeline, on_ended=ended.append) as found:
        base = found.url.replace("127.0.0.1", site)
        pipeline = make_pipeline(stages(f"http://{PAGE}:{port}"), routes=routes(base))
        found.go_on_as(pipeline)
        asked = calls()
        got = browsers.outcomes({host: [as_fetch(call, base) for call in asked] for host in (PAGE, OTHER)}, port, PAGE)
    pages = {host: {"kind": "browser", "origin": f"http://{host}:{port}"} for host in (PAGE, OTHER)}
    callers = {"first": pages[PAGE], "second": pages[OTHER]}
    sent: list[str] = []
    for name, host in (("first", PAGE), ("second", OTHER)):
        requests = [{"id": f"r{at}", "caller": name, **call} for at, call in enumerate(asked)]
        records = replay(pipeline, *requests, base=base, callers=callers)
        final = {record["request_id"]: record for record in records}
        ours = [as_page(final[f"r{at}"]) for at in range(len(asked))]
        differing = [
            (host, call, mine, theirs)
            for call, mine, theirs in zip(asked, ours, got[host], strict=True)
            if mine != theirs
        ]
        assert differing == []
        sent += [on_the_wire(r["method"], r["url"], r["headers"]) for r in browsers.sent(records)]
    came = [one.x.sent for one in ended]
    assert [on_the_wire(one.method, one.url.text, one.fields.pairs()) for one in came] == sent
    assert len(asked) > 100


# The same at random. Left out is what this browser does otherwise than the standards say: it takes the * of
# Allow-Headers for Authorization too, reads no lifetime in quotes, remembers grants otherwise, sends the fields of a cache
# mode along with preflights too, and fetches what is stale behind a redirect when it likes.

LIFETIMES = (None, "max-age=60", "no-store", "no-cache", "private, max-age=60", "max-age=0", "max-age=0, must-revalidate", "s-maxage=60", "public", "immutable, max-age=100", "Max-Age=60", "max-age=60, max-age=0")  # fmt: skip
STATUSES = (200, 200, 200, 201, 203, 204, 206, 404, 410, 500)
OWN = (
    ("Accept", "text/plain"), ("Accept", 'text/*;q="1"'), ("Accept", "a" * 130), ("Accept-Language", "en"), ("Accept-Language", "en_US"), ("Content-Language", "d{e"),
    ("Content-Type", "TEXT/PLAIN"), ("Content-Type", "application/json"), ("Content-Type", 'application/x-www-form-urlencoded; x="y"'),
    ("X-Own", "1"), ("X-Other", "2"), ("If-None-Match", '"t"'),
)  # fmt: skip


def stages_at_random(random: Random, page: str) -> list[dict[str, Any]]:
    found = []
    for part in PARTS[:-1]:
        origins: Any = random.choice(("*", [page], [page, "https://else.example"], ["https://else.example"]))
        more: dict[str, Any] = {"allow-credentials": origins != "*" and random.random() < 0.7, "max-age": "0s"}
        more["allow-headers"] = random.choice((["x-own"], ["x-own", "content-type"], ["*"], []))
        more["expose-headers"] = random.choice((["x-seen"], ["*"], ["x-seen", "etag"], []))
        more["allow-methods"] = random.choice((["GET", "PUT"], ["POST"], ["*"], ["DELETE", "PATCH"]))
        found.append(cors(part, f"/{part}/**", **{"allow-origins": origins}, **more))
    return found


PARTS = ("first", "second", "third", "fourth", "none")
METHODS = ("GET", "HEAD", "POST", "PUT", "DELETE", "PATCH")


def routes_at_random(seed: int, base: str, hops: Sequence[int]) -> list[dict[str, Any]]:
    """The same for the same seed, but for where the service is."""
    random, made = Random(seed), []
    for part, at in product(PARTS, range(6)):
        fields = {"X-Seen": str(at)}
        for name, share, values in (
            ("Cache-Control", 0.8, LIFETIMES), ("ETag", 0.3, ('"t"', 'W/"t"', "bad")), ("Age", 0.1, ("10", "100", "x")), ("Pragma", 0.1, ("no-cache",)),
            ("Last-Modified", 0.25, ("Mon, 01 Jan 2024 00:00:00 GMT", "soon")), ("Expires", 0.15, ("0", "Thu, 01 Jan 2054 00:00:00 GMT")), ("Vary", 0.2, ("Origin", "Accept-Language", "*", "Cookie")),
            ("Set-Cookie", 0.15, ("a=1; Path=/", "a=2; Path=/; SameSite=Strict", "a=3; Path=/; Max-Age=0", "a=4; Path=/; SameSite=Lax")),
        ):  # fmt: skip
            if random.random() < share and (value := random.choice(values)) is not None:
                fields[name] = value
        answer: dict[str, Any] = {"status": random.choice(STATUSES), "headers": fields}
        if random.random() < 0.3:
            answer["status"] = random.choice(hops)
            there = f"/{random.choice(PARTS)}/{random.randrange(6)}"
            fields["Location"] = random.choice((there, base + there))
        elif answer["status"] != 204:
            answer["text"] = f"{part} {at} ${{cookie.a}}"
        path = f"/{part}/{at}"
        made += [
            {"id": f"{part}-{at}-{m}", "at": f"{m} {path}", "access": "everyone", "handler": {"answer": answer}}
            for m in METHODS
        ]
    return made


def call_at_random(random: Random) -> dict[str, Any]:
    mode = random.choices(("cors", "no-cors", "same-origin"), (16, 2, 1))[0]
    method = random.choice(("GET", "GET", *METHODS) if mode == "cors" else ("GET", "GET", "HEAD", "POST"))
    call: dict[str, Any] = {"send": f"{method} /{random.choice(PARTS)}/{random.randrange(3)}"}
    headers = dict(random.sample(OWN, random.randrange(3))) if mode == "cors" and random.random() < 0.5 else {}
    if method not in ("GET", "HEAD") and random.random() < 0.8:
        call["text"] = "a"
        headers.setdefault("Content-Type", "text/plain")
    for key, share, values in (
        ("credentials", 0.5, ("omit", "include", "same-origin")),
        ("redirect", 0.3 if mode != "no-cors" else 0, ("error", "manual")),
        ("cache", 0.4 if method in ("GET", "HEAD") and not headers else 0, ("no-store", "reload", "no-cache", "force-cache")),
    ):  # fmt: skip
        if random.random() < share:
            call[key] = random.choice(values)
    return {**call, "mode": mode, **({"headers": headers} if headers else {})}


@pytest.mark.parametrize("browser", browsers.EACH)
@pytest.mark.parametrize("seed", browsers.seeds(2))
def test_calls_at_random_end_and_are_sent_as_in_a_browser(seed: int, browser: str) -> None:
    """Firefox without its cache, which keeps other answers than Chromium's, and without redirects that make a GET of
    something else: it leaves Content-Type on them, and sends a preflight once more.
    """
    random, port = Random(seed), browsers.free_port()
    given = stages_at_random(random, f"http://{PAGE}:{port}")
    asked = [call_at_random(random) for _ in range(150)]
    site = random.choice((PAGE, OTHER))
    pages, how, hops = (PAGE, OTHER), {}, (301, 302, 303, 307, 308)
    if browser == "firefox":
        asked = [{**call, "cache": "no-store"} for call in asked]
        # One page: the cookies that it takes are there for pages of other sites too.
        pages, how, hops = (PAGE,), {"unmarked-cookies": "sent"}, (307, 308)
    ended: list[Ended] = []
    with served(make_pipeline(given, routes=routes_at_random(seed, "", hops)), on_ended=ended.append) as found:
        base = found.url.replace("127.0.0.1", site)
        pipeline = make_pipeline(given, routes=routes_at_random(seed, base, hops))
        found.go_on_as(pipeline)
        calls = [as_fetch(call, base) for call in asked]
        got = browsers.outcomes(dict.fromkeys(pages, calls), port, PAGE, browser)
    sent: list[str] = []
    for host in pages:
        requests = [{"id": f"r{at}", "caller": "page", **call} for at, call in enumerate(asked)]
        page = {"page": {"kind": "browser", "origin": f"http://{host}:{port}", **how}}
        records = replay(pipeline, *requests, base=base, callers=page)
        final = {record["request_id"]: record for record in records}
        ours = [as_page(final[f"r{at}"]) for at in range(len(asked))]
        assert [row for row in zip(asked, ours, got[host], strict=True) if row[1] != row[2]] == []
        sent += [on_the_wire(r["method"], r["url"], r["headers"]) for r in browsers.sent(records)]
    came = [one.x.sent for one in ended]
    assert [on_the_wire(one.method, one.url.text, one.fields.pairs()) for one in came] == sent
    assert len(sent) > 50 * len(pages)
