"""Stages, routes and requests at random that meet each other, and what callers can see of the answers."""

from __future__ import annotations

import os
from random import Random
from typing import Any

from conftest import Record, header
from patient_usher.core.http.conditional import evaluate
from patient_usher.core.http.fields import Fields

SEEDS = range(int(os.environ.get("USHER_LAWS", "40")))
"""Each law is tried with as many pipelines."""
A, B = "https://a.example", "https://b.example"
TEXT = "the harbour bell rings twice at low water, and once at high"
OLD, NEW = "Thu, 01 May 2031 08:00:00 GMT", "Thu, 01 May 2031 09:00:00 GMT"

STAGES: list[dict[str, Any]] = [
    {"id": "pages", "kind": "cors", "allow-origins": [A], "expose-headers": ["x-told"]},
    {"id": "anyone", "kind": "cors", "allow-origins": ["*"]},
    {"id": "squeeze", "kind": "compress", "from-size": 1},
    {"id": "squeeze-br", "kind": "compress", "from-size": 30, "codings": ["br"]},
    {"id": "tags", "kind": "conditional"},
    {"id": "strong-tags", "kind": "conditional", "etag": "strong"},
    {"id": "drops", "kind": "header-fields", "on-request": {"drop": ["Accept-Encoding"]}},
    {"id": "homeless", "kind": "header-fields", "on-request": {"drop": ["Origin"]}},
    {"id": "told", "kind": "header-fields", "on-answer": {"put": {"X-Told": "yes"}}},
    {"id": "net", "kind": "error-handler"},
    {"id": "late", "kind": "timeout", "after": "9s"},
]
CACHES = [
    {"id": "shelf", "kind": "cache"},
    {"id": "shelf", "kind": "cache", "stores": "any-cacheable"},
    {"id": "shelf", "kind": "cache", "status-field": True},
]


def answer(**more: Any) -> dict[str, Any]:
    return {"answer": {"text": TEXT, **more}}


ROUTES: list[dict[str, Any]] = [
    {"id": "plain", "at": "GET /plain", "cache": {"shared": "60s"}, "handler": answer()},
    {"id": "lang", "at": "GET /lang", "cache": {"shared": "60s"}, "handler": answer(text="said in ${header.x-lang}", headers={"Vary": "X-Lang"})},
    {"id": "said", "at": "GET /said", "handler": answer(headers={"Cache-Control": "max-age=60", "ETag": '"v1"', "Last-Modified": OLD})},
    {"id": "short", "at": "GET /short", "cache": {"shared": "1s"}, "handler": answer(headers={"ETag": '"v2"', "Last-Modified": OLD, "Vary": "X-Lang"})},
    {"id": "parts", "at": "GET /parts", "cache": {"shared": "60s"}, "handler": {**answer(headers={"Last-Modified": OLD}), "ranges": True}},
    {"id": "empty", "at": "GET /empty", "cache": {"shared": "60s"}, "handler": {"answer": {"status": 204}}},
    {"id": "gone", "at": "GET /gone", "cache": {"shared": "60s"}, "handler": answer(status=404)},
    {"id": "write", "at": "POST /plain", "handler": answer(status=201)},
]  # fmt: skip
FIELDS: dict[str, list[str | None]] = {
    "Origin": [None, None, A, B],
    "Accept-Encoding": [None, "gzip", "br", "gzip, br", "identity", "gzip;q=0, *"],
    "If-None-Match": [None, None, None, '"v1"', 'W/"v2"', "*", '"none"'],
    "If-Modified-Since": [None, None, None, NEW],
    "Range": [None, None, None, "bytes=0-9", "bytes=50-", "bytes=900-"],
    "X-Lang": [None, "en", "de"],
    "Cache-Control": [None, None, None, "no-cache", "max-age=0"],
}


def one_of_a_kind(random: Random, count: int) -> list[dict[str, Any]]:
    """Some stages: of two that mark answers the last word has another one in each flow, as it is meant."""
    found: dict[str, dict[str, Any]] = {}
    for stage in random.sample(STAGES, count):
        found.setdefault(
            "header-fields"
            if stage["id"] == "told"
            else stage["kind"]
            if stage["kind"] != "header-fields"
            else stage["id"],
            stage,
        )
    return list(found.values())


def requests(random: Random) -> list[dict[str, Any]]:
    found = []
    paths = random.sample([route["at"].split()[1] for route in ROUTES], 3)
    for _ in range(14):
        method = random.choice(["GET"] * 6 + ["HEAD"] * 2 + ["POST"])
        path = "/plain" if method == "POST" else random.choice(paths)
        fields = {name: value for name, values in FIELDS.items() if (value := random.choice(values)) is not None}
        if method == "POST":
            fields = {name: value for name, value in fields.items() if name in ("Origin", "Accept-Encoding")}
        found.append({"send": f"{method} {path}", "headers": fields, "after": random.choice(["0s", "300ms", "2s"])})
    return found


SEEN = ("vary", "etag", "content-encoding", "content-range", "access-control-allow-origin", "access-control-expose-headers", "x-told", "last-modified", "content-type", "accept-ranges")  # fmt: skip


def seen(record: Record) -> dict[str, Any]:
    """What the caller can see: status, content, tags, Vary, marks."""
    response = record["response"]
    assert response is not None
    fields: dict[str, Any] = {name: header(record, name) for name in SEEN}
    fields["vary"] = sorted({part.strip().lower() for part in (fields["vary"] or "").split(",")} - {""})
    return {"status": response["status"], "body": response["body"], **fields}


def conditional(request: dict[str, Any], answer: dict[str, Any]) -> bool:
    """Whether a 304 is right for a request, where the plain answer is this one (RFC 9110 13.2.2)."""
    fields = Fields([(name, value) for name, value in request["headers"].items()])
    modified = answer["last-modified"] or "Wed, 01 Jan 2031 00:00:00 GMT"  # or when the copy was made (RFC 9111 4.3.2)
    return answer["status"] in (200, 203) and evaluate("GET", fields, answer["etag"], modified, now=0) == 304


def differing(one: list[Record], other: list[Record], sent: list[dict[str, Any]], where: object) -> None:
    """Nothing that a caller sees differs; but whoever holds a copy may answer 304 where that is right (RFC 9111 4.3.2)."""
    assert len(one) == len(other)
    for number, (a, b) in enumerate(zip(one, other, strict=True)):
        ours, theirs = seen(a), seen(b)
        names = set(ours)
        if {ours["status"], theirs["status"]} in ({200, 304}, {203, 304}):
            whole = ours if ours["status"] != 304 else theirs
            assert conditional(sent[number], whole), (where, number, sent[: number + 1])
            names -= {"status", "body", "content-encoding", "content-type", "last-modified", "accept-ranges"}
        apart = {name: (ours[name], theirs[name]) for name in sorted(names) if ours[name] != theirs[name]}
        assert not apart, (apart, number, where, sent[: number + 1])
