"""The same requests, as octets to a served pipeline and as a trace to a replayed one, get the same answers."""

from __future__ import annotations

import json
import os
import socket
from random import Random
from typing import Any

import pytest

from conftest import Record, make_pipeline, replay
from patient_usher.core.http.urls import parse_url
from patient_usher.use_cases.serve import served

SEEDS = range(int(os.environ.get("USHER_SERVED", "6")))
HOSTS = [
    "api.example",
    "API.example",
    "api.example:8080",
    "api.example:80",
    "[2001:db8::7]",
    "192.0.2.7:99",
    "b.example.",
]
STAGES: list[dict[str, Any]] = [
    {"id": "rid", "kind": "request-id", "trusts-incoming": True},
    {"id": "own", "kind": "cors", "allow-origins": ["https://p.example"], "reject-unlisted": True},
    {"id": "tags", "kind": "conditional"},
    {"id": "small", "kind": "compress", "from-size": 1},
    {"id": "read", "kind": "read-cookies"},
    {"id": "odd", "kind": "decide", "cases": [{"when": {"host": "b.example."}, "then": {"answer": {"status": 421}}}]},
]
ROUTES: list[dict[str, Any]] = [
    {"id": "echo", "at": "GET /echo", "access": "everyone", "handler": {"echo": True}},
    {"id": "sent", "at": "POST /echo", "access": "everyone", "handler": {"echo": True}},
    {"id": "part", "at": "GET /part", "access": "everyone", "handler": {"answer": {"text": "low water"}, "ranges": True}},
    {"id": "crumbs", "at": "GET /crumbs", "access": "everyone", "handler": {"answer": {"text": "${cookie.a} ${cookie.b}"}}},
    {"id": "one", "at": "GET /{one}/x", "access": "everyone", "handler": {"answer": {"json": {"one": "${path.one}"}}}},
]  # fmt: skip
FIELDS: dict[str, list[list[str]]] = {
    "Accept-Encoding": [["gzip"], ["identity"], ["gzip;q=0", "br"], ["*"]],
    "Origin": [["https://p.example"], ["http://api.example"], ["https://q.example"], ["null"]],
    "Cookie": [["a=1"], ["a=1", "b=2"], ["a=1; b=2"], ["b=2", "a=1; c=3"]],
    "Range": [["bytes=0-2"], ["bytes=90-"], ["bytes=x"]],
    "If-Range": [['"x"']],
    "If-None-Match": [["*"], ['"x"', 'W/"y"']],
    "X-More": [["1", "2"], [" spaced "], ["a,b", "c"]],
    "traceparent": [["00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"], ["00-0-0-0"]],
}
SEEN = ("content-type", "content-encoding", "content-range", "vary", "allow", "location", "access-control-allow-origin")


def drawn(random: Random) -> tuple[str, str, dict[str, list[str]], str]:
    """A method, a target, header fields with their lines, and a body."""
    method = random.choice(["GET", "GET", "GET", "HEAD", "POST", "OPTIONS", "DELETE"])
    target = random.choice(
        ["/echo", "/echo?a=1&a=2", "/part", "/crumbs", "/a%2Fb/x", "/none", "/echo/", "//echo", "/%65cho"]
    )
    if method == "OPTIONS" and random.random() < 0.4:
        target = "*"
    fields = {"Host": [random.choice(HOSTS)]}
    for name in random.sample(sorted(FIELDS), random.randint(0, 4)):
        fields[name] = random.choice(FIELDS[name])
    return method, target, fields, "tide=low" if method == "POST" else ""


def octets(random: Random, method: str, target: str, fields: dict[str, list[str]], body: str) -> bytes:
    """The request as somebody may write it: names in any case, white space around values, the target absolute."""
    if target.startswith("/") and random.random() < 0.2:
        target = f"http://{fields['Host'][0]}{target}"
    lines = [f"{method} {target} HTTP/1.1"]
    for name, values in fields.items():
        for value in values:
            shown = random.choice([name, name.lower(), name.upper()])
            lines.append(f"{shown}:{random.choice(['', ' ', '  '])}{value}{random.choice(['', ' '])}")
    if body:
        lines.append(f"Content-Length: {len(body)}")
    return "\r\n".join([*lines, "Connection: close", "", body]).encode()


def answered(at: str, request: bytes) -> tuple[int, dict[str, str], bytes]:
    """Status, fields and content that come back."""
    url = parse_url(at)
    with socket.create_connection((url.host, url.port), timeout=60) as connection:
        connection.sendall(request)
        found = b""
        while part := connection.recv(65536):
            found += part
    head, _, content = found.partition(b"\r\n\r\n")
    first, *lines = head.decode("latin-1").split("\r\n")
    fields = {name.lower(): value.strip() for name, _, value in (line.partition(":") for line in lines)}
    return int(first.split()[1]), fields, content


def seen(record: Record) -> tuple[int, dict[str, str]]:
    """What the replayed request got."""
    assert record["response"] is not None
    fields = {name.lower(): value for name, value in record["response"]["headers"]}
    return record["response"]["status"], {name: fields[name] for name in SEEN if name in fields}


def said(text: str) -> Any:
    """What an echo says, but for what every request has of its own, or a connection."""
    told = json.loads(text)
    own = ("x-request-id", "traceparent", "content-length", "content-type")
    told["headers"] = {name.lower(): value for name, value in told["headers"].items() if name.lower() not in own}
    return {**told, "context": None}


@pytest.mark.parametrize("seed", SEEDS)
def test_octets_and_traces_get_the_same_answers(seed: int) -> None:
    random = Random(seed)
    stages = random.sample(STAGES, random.randint(2, len(STAGES)))
    pipeline = make_pipeline(stages, routes=ROUTES, options=random.choice(["refused", "answered"]))
    with served(pipeline) as found:
        for _ in range(40):
            method, target, fields, body = drawn(random)
            request = octets(random, method, target, fields, body)
            status, came, content = answered(found.url, request)
            sent = {"send": f"{method} {target}", "headers": fields, **({"text": body} if body else {})}
            if body:
                sent["headers"] = {**fields, "Content-Type": []}
            record = replay(pipeline, sent, base="http://api.example")[-1]
            replayed, theirs = seen(record)
            ours = {name: came[name] for name in SEEN if name in came}
            assert (status, ours) == (replayed, theirs), (request, came)
            if "content-encoding" not in came and method != "HEAD" and record["response"]["body"]:
                text, expected = content.decode(), record["response"]["body"]
                if '"headers"' in text:
                    assert said(text) == said(expected), request
                else:
                    assert text == expected, request
