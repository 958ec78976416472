"""What no option says: the model served, with its answers changed in one way, is described as just that."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from conftest import make_pipeline
from patient_usher import Trace, drift
from patient_usher.use_cases.drift import explain
from served import Served

STAGES: list[Any] = [
    {"id": "browsers", "kind": "cors", "allow-origins": ["https://page.example"], "allow-headers": ["x-key"]},
    {"id": "who", "kind": "authenticate", "realm": "quay", "schemes": [{"scheme": "api-key", "name": "X-Key"}]},
    {"id": "fair", "kind": "rate-limit", "quota": 4, "window": "60s", "per": ["address"], "fields": ["x-ratelimit"]},
]
ROUTES = [
    {"id": "tides", "at": "GET /tides", "access": "everyone", "handler": {"answer": {"json": {"high": 6}}}},
    {"id": "berths", "at": "GET /berths", "access": "signed-in", "handler": {"answer": {"json": {"free": 2}}}},
    {
        "id": "rust",
        "at": "GET /rust",
        "access": "everyone",
        "handler": {"raise": {"type": "Rust", "message": "gauge 7"}},
    },
]
MODEL = make_pipeline(STAGES, routes=ROUTES, accounts={"maren": {"api-keys": ["made-up"]}})
STORY = Trace.of(
    {"id": "tides", "send": "GET /tides"}, {"id": "head", "send": "HEAD /tides"}, {"id": "page", "send": "GET /tides", "caller": "page"},
    {"id": "berths", "send": "GET /berths", "sign": {"api-key": "maren"}, "address": "192.0.2.7"}, {"id": "stranger", "send": "GET /berths"},
    {"id": "wrong", "send": "GET /berths", "headers": {"X-Key": "other"}}, {"id": "nowhere", "send": "GET /nowhere", "headers": {"X-Key": "made-up"}},
    {"id": "rust", "send": "GET /rust", "address": "192.0.2.8"}, {"id": "hurry", "send": "GET /tides", "address": "192.0.2.9", "times": 6},
    callers={"page": {"kind": "browser", "origin": "https://page.example"}},
)  # fmt: skip
Fields = dict[str, str]
Change = Callable[[Any, int, Fields], tuple[int, Fields]]


def without(name: str, *, on: Callable[[Any, int], bool] = lambda scope, status: True) -> Change:
    """Answers without a field."""
    return lambda scope, status, fields: (
        status,
        {key: value for key, value in fields.items() if key != name or not on(scope, status)},
    )


def status(other: int, on: Callable[[Any, int], bool]) -> Change:
    """Answers with another status."""
    return lambda scope, status, fields: (other if on(scope, status) else status, fields)


class Otherwise(Served):
    """The model as a service, with its answers changed."""

    def __init__(self, change: Change) -> None:
        super().__init__(MODEL.compiled)
        self.change = change

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        async def sent(message: Any) -> None:
            if message["type"] == "http.response.start":
                fields = {name.decode(): value.decode() for name, value in message["headers"]}
                status_, fields = self.change(
                    scope, message["status"], {key.lower(): one for key, one in fields.items()}
                )
                named = [(name.encode(), value.encode()) for name, value in fields.items()]
                message = {**message, "status": status_, "headers": named}
            await send(message)

        await super().__call__(scope, receive, sent)


def key(scope: Any) -> str:
    return str(dict(scope["headers"]).get(b"x-key", b"").decode())


@pytest.mark.parametrize(("change", "words"), [
    (without("retry-after"), "Retry-After is missing"),
    (status(405, lambda scope, _: scope["method"] == "HEAD"), "405 comes in the place of 200 on HEAD"),
    (status(200, lambda scope, status: status == 401 and key(scope) == "other"), "a wrong credential passes: the signature or the password isn't checked (200 comes in the place of 401) where who says wrong"),
    (status(404, lambda scope, _: scope["path"] == "/berths"), "404 comes in the place of any other status on route berths"),
    (without("vary", on=lambda scope, _: b"origin" not in dict(scope["headers"])), "Vary is missing where no origin is granted"),
    (without("www-authenticate", on=lambda scope, _: not key(scope)), "WWW-Authenticate is missing where who says absent"),
    (lambda scope, status, fields: (status, {**fields, **({"retry-after": "600"} if status == 429 else {})}), "Retry-After is always 600"),
    (status(200, lambda _, status: status >= 400), "200 comes in the place of any other status"),
    (status(302, lambda _, status: status == 401), "302 comes in the place of 401"),
])  # fmt: skip
def test_what_no_option_says_is_described(change: Change, words: str) -> None:
    served = Otherwise(change)
    held = list(drift(MODEL, STORY, app=served, wait=served.wait))
    found = explain(MODEL, [STORY], held)
    assert [one.change.words for one in found.changes] == [words]
    assert set(found.changes[0].explains) == {one.id for one in held if one.differs}
