"""Pipelines put together at random, of stages and routes that know of each other."""

from __future__ import annotations

import os
from random import Random
from typing import Any

MANY = int(os.environ.get("USHER_LAWS", "0")) >= 200
"""Whether there is time for many of them, as ``make fuzz`` has."""
STAGES: list[Any] = [
    "access-log",
    "request-id",
    "read-body",
    "read-cookies",
    {"id": "net", "kind": "error-handler"},
    {"id": "open-net", "kind": "error-handler", "reveal": "everything", "log": "nothing"},
    {"id": "pages", "kind": "cors", "allow-origins": ["https://boaters.example"]},
    {
        "id": "pages-2",
        "kind": "cors",
        "allow-origins": ["https://boaters.example"],
        "allow-credentials": True,
        "allow-headers": ["x-api-key", "content-type"],
        "allow-methods": ["GET", "POST", "PUT"],
    },
    {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}]},
    {"id": "who-basic", "kind": "authenticate", "schemes": [{"scheme": "basic"}], "without-credential": "refuse"},
    {"id": "may", "kind": "authorize"},
    {"id": "throttle", "kind": "rate-limit", "quota": 3, "window": "1m"},
    {"id": "fair", "kind": "rate-limit", "quota": 4, "window": "1m", "per": ["identity"]},
    {"id": "guard", "kind": "rate-limit", "quota": 2, "window": "1m", "counts": "failures"},
    {"id": "shelf", "kind": "cache"},
    {"id": "squeeze", "kind": "compress", "from-size": 1},
    {"id": "tags", "kind": "conditional"},
    {"id": "secure", "kind": "https-only"},
    {"id": "closed", "kind": "maintenance", "enabled": False},
    {"id": "form", "kind": "validate"},
    {"id": "late", "kind": "timeout", "after": "1s"},
    {"id": "gate", "kind": "decide", "cases": [{"when": {"header": {"x-gull": "present"}}, "then": "nothing"}]},
    {
        "id": "gate2",
        "kind": "decide",
        "cases": [{"when": {"query": {"fuel": "present"}}, "then": {"answer-and-continue": {"status": 402}}}],
    },
    {"id": "marks", "kind": "decide", "cases": [{"set": {"desk": "quay"}}]},
    {
        "id": "uses",
        "kind": "decide",
        "cases": [{"when": {"context": {"desk": "quay"}}, "then": {"answer": {"status": 409}}}],
    },
]
ROUTES: list[dict[str, Any]] = [
    {
        "id": "tides",
        "at": "GET /tides",
        "access": "everyone",
        "cache": "60s",
        "handler": {"answer": {"json": {"s": "${query.station}"}}},
    },
    {
        "id": "berth",
        "at": "GET /berths/{b}",
        "access": "signed-in",
        "handler": {"answer": {"json": {"for": "${identity.name}"}}},
    },
    {
        "id": "ledger",
        "at": "GET /ledger",
        "access": {"role": "master"},
        "cache": {"shared": "1m", "same-for": "everyone"},
        "handler": {"answer": {"json": {"owed": 1}}},
    },
    {
        "id": "book",
        "at": "POST /book",
        "access": "signed-in",
        "clears": ["tides"],
        "input": {"json": {"type": "object", "required": ["n"], "properties": {"n": {"type": "integer"}}}},
        "handler": {"answer": {"json": {"n": "${body.n}"}}},
    },
    {
        "id": "fails",
        "at": "GET /fails",
        "access": "everyone",
        "handler": {"raise": {"type": "GaugeOffline", "message": "private part"}},
    },
    {"id": "ctx", "at": "GET /ctx", "access": "everyone", "handler": {"answer": {"json": {"d": "${context.desk}"}}}},
]
ACCOUNTS = {
    "maren": {"password": "${env:X|not-a-real-one}", "api-keys": ["a-made-up-key"], "roles": ["skipper"]},
    "odile": {"password": "${env:X|not-a-real-one-either}", "api-keys": ["another-made-up-key"], "roles": ["master"]},
}


def put_together(seed: int) -> dict[str, Any]:
    """A pipeline of some stages in any order, and some routes."""
    random = Random(seed)
    stages, routes = random.sample(STAGES, random.randint(1, 6)), random.sample(ROUTES, random.randint(1, 4))
    if "tides" not in {route["id"] for route in routes}:
        routes = [{**route, "clears": []} for route in routes]
    doc: dict[str, Any] = {
        "patient-usher": "pipeline/1",
        "refuse": random.choice(["answer", "raise"]),
        "accounts": ACCOUNTS,
        "stages": stages,
    }
    if random.random() < 0.3:
        doc["flow"] = "sequential"
        stages.insert(random.randint(0, len(stages)), "routes")
    if random.random() < 0.3:
        doc["groups"] = [{"id": "g", "prefix": "/v1", "routes": routes}]
    else:
        doc["routes"] = routes
    return {**doc, "deployment": {"instances": random.choice([1, 1, 1, 2])}}
