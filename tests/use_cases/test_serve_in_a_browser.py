"""A real browser calls the served pipeline: its verdicts, what its pages read, and what it sends are the model's."""

from __future__ import annotations

import socket
from itertools import product
from typing import Any

import pytest

import chromium
from conftest import make_pipeline, replay
from patient_usher.use_cases.serve import Ended, served

PAGE, OTHER = "localhost", "127.0.0.1"
"""Two hosts of this machine: a page from one is another site than one from the other."""


def free_port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        port: int = found.getsockname()[1]
        return port


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
    return " ".join([method, url, *sorted(f"{name.lower()}={value}" for name, value in fields if name.lower() in SAID)])


def as_page(record: dict[str, Any]) -> dict[str, Any]:
    """What the page gets, by the model."""
    browser = record["browser"]
    answer = browser.get("got") or record["response"]
    if browser["verdict"] == "blocked":
        return {"error": True}
    if browser["verdict"] == "opaque":
        return {
            "type": "opaqueredirect" if answer["status"] == 307 else "opaque",
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


@pytest.mark.skipif(chromium.BROWSER is None, reason="no chromium is installed here")
@pytest.mark.parametrize("site", [PAGE, OTHER])
def test_what_pages_get_and_browsers_send_is_the_models(site: str) -> None:
    """Over a hundred calls each of a page that is listed and of one that isn't; the service is of one's site."""
    port = free_port()
    pipeline = make_pipeline(stages(f"http://{PAGE}:{port}"), routes=routes("http://api.invalid"))
    ended: list[Ended] = []
    with served(pipeline, on_ended=ended.append) as found:
        base = found.url.replace("127.0.0.1", site)
        pipeline = make_pipeline(stages(f"http://{PAGE}:{port}"), routes=routes(base))
        found.go_on_as(pipeline)
        asked = calls()
        got = chromium.outcomes({host: [as_fetch(call, base) for call in asked] for host in (PAGE, OTHER)}, port, PAGE)
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
        sent += [
            on_the_wire(r["request"]["method"], r["request"]["url"], r["request"]["headers"])
            for r in records
            if r["outcome"] not in ("from-caller-cache", "not-sent")
        ]
    came = [one.x.sent for one in ended]
    assert [on_the_wire(one.method, one.url.text, one.fields.pairs()) for one in came] == sent
    assert len(asked) > 100
