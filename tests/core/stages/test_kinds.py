"""What the other kinds do: error handlers, bodies, cookies, validation, TLS, ids, switches, the user's own code."""

from __future__ import annotations

import gzip
import json
import re
from typing import Any

import pytest

from conftest import header, make_pipeline, replay, steps, text, walk
from patient_usher import Unusable, load
from patient_usher.core.http.urls import parse_url, target_uri
from patient_usher.core.stages import called, kind, kinds
from patient_usher.core.stages.read_body import DECODERS, BadCoding
from patient_usher.core.stages.validate import _as

ECHO = {
    "routes": [
        {"id": "r", "at": "POST /", "handler": {"echo": True}},
        {"id": "g", "at": "GET /", "handler": {"echo": True}},
    ]
}


def body_of(record: dict[str, Any]) -> Any:
    return json.loads(record["response"]["body"])


# Error handlers.

INSIDE = {"type": "GaugeOffline", "message": "secret-<b>-message", "where": "secret.py:41", "cause": "secret-cause"}
WRITERS = {
    "problem-json": ("application/problem+json", '"status": 500'),
    "json": ("application/json", '"status": 500'),
    "html": ("text/html; charset=utf-8", "<h1>Internal Server Error</h1>"),
    "text": ("text/plain; charset=utf-8", "Something went wrong"),
}


def net(**options: Any) -> dict[str, Any]:
    return {"id": "net", "kind": "error-handler", **options}


@pytest.mark.parametrize("write_as", list(WRITERS))
@pytest.mark.parametrize("reveal", ["nothing", "message", "everything"])
def test_what_an_error_answer_reveals(write_as: str, reveal: str) -> None:
    routes = [{"id": "r", "at": "GET /", "handler": {"raise": INSIDE}}]
    record = walk([net(**{"write-as": write_as, "reveal": reveal})], routes=routes)
    media, part = WRITERS[write_as]
    whole = json.dumps(record["response"])
    assert header(record, "content-type") == media
    assert part in record["response"]["body"]
    assert ("GaugeOffline" in whole) is (reveal != "nothing")
    assert ("secret.py" in whole) is (reveal == "everything")
    assert ("secret" in whole) is (reveal != "nothing")
    if write_as == "html":
        assert "<b>" not in record["response"]["body"]
    logged = json.dumps(record["log"])
    assert all(secret in logged for secret in ("GaugeOffline", "secret.py:41", "secret-cause", "secret-<b>-message"))


@pytest.mark.parametrize(("log", "lines", "detail"), [("full", 1, True), ("message", 1, False), ("nothing", 0, False)])
def test_what_an_error_handler_logs(log: str, lines: int, detail: bool) -> None:
    record = walk([net(log=log)], routes=[{"id": "r", "at": "GET /", "handler": {"raise": INSIDE}}])
    assert len(record["log"]) == lines
    assert ("secret.py:41" in json.dumps(record["log"])) is detail


ERRORS = {
    "BerthTaken": {"is-a": "Conflict"},
    "Storm": {"is-a": "BerthTaken"},
    "Own": {"status": 418, "message": "own words"},
}
MAPPED = [
    ("BerthTaken", [], 409, "This conflicts with what is here"),
    ("Storm", [{"raised": "BerthTaken", "message": "taken"}], 409, "taken"),
    ("Storm", [{"raised": "Conflict", "status": 400}, {"raised": "BerthTaken", "status": 423}], 423, "This conflicts with what is here"),
    ("Own", [], 418, "own words"),
    ("Unknown", [], 500, "otherwise"),
    ("Unknown", [{"raised": ["Else", "Unknown"], "status": 502}], 502, "otherwise"),
    ("NotFound", [{"raised": "NotFound", "message": "no such berth", "headers": {"X-Why": "lost"}}], 404, "no such berth"),
]  # fmt: skip


@pytest.mark.parametrize(("type_", "answers", "status", "message"), MAPPED)
def test_error_types_map_to_answers(type_: str, answers: list[Any], status: int, message: str) -> None:
    handler = net(answers=answers, otherwise={"message": "otherwise"}, **{"write-as": "json"})
    record = walk([handler], routes=[{"id": "r", "at": "GET /", "handler": {"raise": type_}}], errors=ERRORS)
    assert (record["response"]["status"], body_of(record)) == (status, {"status": status, "message": message})
    assert (header(record, "x-why") == "lost") is any("headers" in answer for answer in answers)


def test_refusals_keep_the_fields_that_the_standards_demand() -> None:
    who = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "bearer", "keys": "k"}], "only": ["/in"]}
    common: dict[str, Any] = {"refuse": "raise", "signing-keys": {"k": {"algorithm": "HS256", "secret": "x" * 32}}}
    closed = {"id": "closed", "kind": "maintenance", "retry-after": "90s", "only": ["/closed"]}
    service = make_pipeline([net(), who, closed], **common)
    records = replay(service, {"send": "GET /in"}, {"send": "POST /"}, {"send": "GET /closed"})
    assert [(r["response"]["status"], r["outcome"]) for r in records] == [
        (401, "short-circuited"), (405, "unrouted"), (503, "short-circuited"),
    ]  # fmt: skip
    assert [header(records[0], "www-authenticate"), header(records[1], "allow"), header(records[2], "retry-after")] == [
        'Bearer realm="pipeline"',
        "GET, HEAD",
        "90",
    ]


def test_a_shape_of_ones_own() -> None:
    shape = {
        "error": {"code": "${error.status}", "text": "${error.title}: ${error.message}", "where": "${error.fields}"}
    }
    record = walk([net(shape=shape)], "GET /lost", refuse="raise")
    assert body_of(record) == {"error": {"code": 404, "text": "Not Found: Nothing is here", "where": []}}
    assert header(record, "content-type") == "application/json"


# Bodies.

BODIES: list[tuple[str, dict[str, Any], int, str | None, Any]] = [
    ("json", {"json": {"a": [1, None]}}, 200, None, {"a": [1, None]}),
    ("json suffix", {"text": '{"a": 1}', "headers": {"Content-Type": "application/problem+json; charset=UTF-8"}}, 200, None, {"a": 1}),
    ("form", {"form": {"a": "1", "b": ["2", "3"]}}, 200, None, {"a": "1", "b": ["2", "3"]}),
    ("form with nothing in a field", {"text": "a=&b=1&c", "headers": {"Content-Type": "application/x-www-form-urlencoded"}}, 200, None, {"a": "", "b": "1", "c": ""}),
    ("text", {"text": "ahoy"}, 200, None, "ahoy"),
    ("latin text", {"text": "ahoy", "headers": {"Content-Type": "text/plain; charset=latin-1"}}, 200, None, "ahoy"),
    ("nothing", {}, 200, None, None),
    ("malformed", {"text": "{", "headers": {"Content-Type": "application/json"}}, 400, "malformed-body", None),
    ("half a character", {"text": '"\\ud800"', "headers": {"Content-Type": "application/json"}}, 400, "malformed-body", None),
    ("both halves", {"text": '"\\ud83d\\ude80"', "headers": {"Content-Type": "application/json"}}, 200, None, "\U0001f680"),
    ("NaN is no JSON", {"text": "NaN", "headers": {"Content-Type": "application/json"}}, 400, "malformed-body", None),
    ("nested without end", {"text": "[" * 100_000, "headers": {"Content-Type": "application/json"}}, 400, "malformed-body", None),
    ("nested deep, and closed again", {"text": "[" * 5000 + "]" * 5000, "headers": {"Content-Type": "application/json"}}, 400, "malformed-body", None),
    ("brackets in a text", {"json": "[" * 50}, 200, None, "[" * 50),
    ("another type", {"text": "<a/>", "headers": {"Content-Type": "application/xml"}}, 415, "media-type", None),
    ("type that is none", {"text": "x", "headers": {"Content-Type": "json"}}, 415, "media-type", None),
    ("charset unknown", {"text": "x", "headers": {"Content-Type": "text/plain; charset=klingon"}}, 415, "charset", None),
    ("JSON in latin-1", {"text": "{}", "headers": {"Content-Type": "application/json; charset=latin-1"}}, 200, None, {}),
    ("not the charset", {"text": "é", "headers": {"Content-Type": "text/plain; charset=us-ascii"}}, 400, "malformed-body", None),
    ("too large", {"text": "x" * 200_001}, 413, "too-large", None),
    ("at the limit", {"text": "x" * 200_000}, 200, None, "x" * 200_000),
]  # fmt: skip


@pytest.mark.parametrize(("name", "request_", "status", "why", "read"), BODIES, ids=[row[0] for row in BODIES])
def test_bodies(name: str, request_: dict[str, Any], status: int, why: str | None, read: Any) -> None:
    stage = {"id": "read", "kind": "read-body", "max-size": 200_000}
    record = walk([stage], {"send": "POST /", **request_}, **ECHO)
    assert (record["response"]["status"], record["why"]) == (status, why)
    if status == 200:
        assert body_of(record)["body"] == read


def multipart(*parts: str, end: str = "--x--\r\n") -> dict[str, Any]:
    return {
        "send": "POST /",
        "text": "".join(f"--x\r\n{part}\r\n" for part in parts) + end,
        "headers": {"Content-Type": "multipart/form-data; boundary=x"},
    }


FIELD = 'Content-Disposition: form-data; name="boat"\r\n\r\nKittiwake'
FILE = 'Content-Disposition: form-data; name="log"; filename="log.txt"\r\nContent-Type: text/x-log\r\n\r\nall well'
MULTIPART = [
    (
        multipart(FIELD, FILE),
        200,
        {"boat": "Kittiwake", "log": {"filename": "log.txt", "content-type": "text/x-log", "size": 8}},
    ),
    (multipart(FIELD, FIELD), 200, {"boat": ["Kittiwake", "Kittiwake"]}),
    (multipart(FIELD, end=""), 400, None),
    (multipart("Content-Disposition: form-data\r\n\r\nx"), 400, None),
    ({**multipart(FIELD), "headers": {"Content-Type": "multipart/form-data"}}, 400, None),
    ({**multipart(FIELD), "text": "no boundary at all"}, 400, None),
]


@pytest.mark.parametrize(("request_", "status", "read"), MULTIPART)
def test_multipart(request_: dict[str, Any], status: int, read: Any) -> None:
    record = walk(["read-body"], request_, **ECHO)
    assert record["response"]["status"] == status
    if read is not None:
        assert body_of(record)["body"] == read


@pytest.mark.parametrize(
    ("request_", "status", "read"),
    [
        ({"json": {"a": 1}}, 200, {"a": 1}),
        ({"form": {"a": "1"}}, 200, {"a": "1"}),
        ({"text": "x", "headers": {"Content-Type": "text/csv"}}, 415, None),
        ({"json": {"a": "x" * 60}}, 413, None),
        ({"form": {"a": "x" * 60}}, 200, {"a": "x" * 60}),
    ],
)
def test_two_readers_in_a_row(request_: dict[str, Any], status: int, read: Any) -> None:
    """What is read already passes on, and each has limits of its own."""
    json_ = {"id": "json", "kind": "read-body", "media": ["json"], "other-media": "passed-on", "max-size": 60}
    form = {"id": "form", "kind": "read-body", "media": ["form"]}
    record = walk([json_, form], {"send": "POST /", **request_}, **ECHO)
    assert record["response"]["status"] == status
    assert status != 200 or body_of(record)["body"] == read


def test_without_read_body_the_handler_sees_none() -> None:
    assert body_of(walk([], {"send": "POST /", "json": {"a": 1}}, **ECHO))["body"] is None


def test_a_route_has_a_limit_of_its_own() -> None:
    routes = [
        {"id": "r", "at": "POST /", "body-limit": 3, "handler": text()},
        {"id": "s", "at": "POST /s", "handler": text()},
    ]
    service = make_pipeline(["read-body"], routes=routes)
    records = replay(service, {"send": "POST /", "text": "four"}, {"send": "POST /s", "text": "four"})
    assert [record["response"]["status"] for record in records] == [413, 200]


# Cookies.


@pytest.mark.parametrize(("front", "cookie", "seen"), [([], "a=1", None), (["read-cookies"], "a=1; b=2; a=3", "1")])
def test_cookies(front: list[Any], cookie: str, seen: str | None) -> None:
    routes = [{"id": "r", "at": "GET /", "handler": {"answer": {"json": {"a": "${cookie.a}"}}}}]
    record = walk(front, {"send": "GET /", "headers": {"Cookie": cookie}}, routes=routes)
    assert body_of(record) == {"a": seen}


def test_signed_cookies_from_sign_in_to_sign_out() -> None:
    reads = {"id": "cookies", "kind": "read-cookies", "signed-with": "k"}
    who = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "session-cookie", "cookie": "s"}]}
    desk = {"at": "/desk", "gives": "cookie", "cookie": "s", "keys": "k", "lasts": "1h"}
    more = {
        "groups": [{"id": "v", "desk": desk, "routes": [{"id": "me", "at": "GET /me", "handler": {"answer": {"text": "${identity.name}"}}}]}],
        "accounts": {"maren": {"password": "p"}},
        "signing-keys": {"k": {"algorithm": "HS256", "secret": "x" * 32}},
        "routes": [],
    }  # fmt: skip
    service = make_pipeline(["read-body", reads, who], **more)
    records = replay(
        service,
        {
            "send": "POST /desk",
            "json": {"name": "maren", "password": "p"},
            "caller": "c",
            "keep": {"s": {"cookie": "s"}},
        },
        {"send": "GET /me", "caller": "c"},
        {"send": "GET /me", "headers": {"Cookie": "s=${kept.s}x"}},
        {"send": "GET /me", "headers": {"Cookie": "s=${kept.s}"}},
        {"send": "DELETE /desk", "caller": "c"},
        {"send": "GET /me", "headers": {"Cookie": "s=${kept.s}"}},
        callers={"c": {"cookies": "keep"}},
    )
    assert [(r["response"]["status"], r["why"]) for r in records] == [
        (200, None), (200, None), (401, "absent"), (200, None), (204, None), (401, "signed-out"),
    ]  # fmt: skip
    assert "; Secure" in (header(records[0], "set-cookie") or "")


# Validation.

INPUT = {
    "query": {"type": "object", "required": ["day"], "properties": {"day": {"type": "integer", "maximum": 31}, "tags": {"type": "array", "items": {"type": "integer"}}, "deep": {"type": "boolean"}}},
    "headers": {"required": ["X-Trip"], "properties": {"X-Trip": {"pattern": "^T"}}},
    "json": {"type": "object", "required": ["boat", "nights"], "additionalProperties": False, "properties": {"boat": {"type": "string", "maxLength": 5}, "nights": {"enum": [1, 2]}}},
    "messages": {"/json/boat": "Which boat?"},
}  # fmt: skip
GOOD = {
    "send": "POST /?day=7&tags=1&tags=2&deep=true",
    "headers": {"x-trip": "T1"},
    "json": {"boat": "Tern", "nights": 2},
}
INVALID: list[tuple[dict[str, Any], dict[str, str]]] = [
    ({}, {}),
    ({"send": "POST /?day=x"}, {"/query/day": "must be integer"}),
    ({"send": "POST /?day=32"}, {"/query/day": "must be at most 31"}),
    ({"send": "POST /"}, {"/query/day": "is missing"}),
    ({"send": "POST /?day=1&tags=a"}, {"/query/tags/0": "must be integer"}),
    ({"send": "POST /?day=1&deep=perhaps"}, {"/query/deep": "must be boolean"}),
    ({"headers": {"x-trip": "X"}}, {"/headers/X-Trip": "must match ^T"}),
    ({"headers": {}}, {"/headers/X-Trip": "is missing"}),
    ({"json": {}}, {"/json/boat": "Which boat?", "/json/nights": "is missing"}),
    ({"json": {"boat": "secret-boat", "nights": 3, "x": 1}}, {"/json/boat": "Which boat?", "/json/nights": "must be one of 1, 2", "/json/x": "isn't known here"}),
    ({"json": []}, {"/json": "must be object"}),
]  # fmt: skip


@pytest.mark.parametrize("report", ["every-error", "first-error"])
@pytest.mark.parametrize(("change", "fields"), INVALID)
def test_validation(change: dict[str, Any], fields: dict[str, str], report: str) -> None:
    routes = [{"id": "r", "at": "POST /", "handler": text(), "input": INPUT}]
    stages = [
        net(**{"write-as": "json"}),
        "read-body",
        {"id": "form", "kind": "validate", "report": report, "refuse": "raise"},
    ]
    record = walk(stages, {**GOOD, **change}, routes=routes)
    assert record["response"]["status"] == (422 if fields else 200)
    if fields:
        shown = {item["pointer"]: item["message"] for item in body_of(record)["fields"]}
        assert shown == (fields if report == "every-error" else dict(list(fields.items())[:1]))
        assert "secret" not in record["response"]["body"]
        assert (record["refused_by"], record["why"]) == ("form", "invalid-input")


TYPED: list[tuple[list[str], str, Any]] = [
    (["string", "integer"], "12", "12"), (["integer"], "12", 12), (["number"], "12", 12), (["number"], "1.5", 1.5), (["integer"], "1.5", 1.5),
    (["integer"], "1e3", 1000), (["number"], "9007199254740993", 9007199254740993), (["null", "integer"], "null", None),
    (["integer"], "1" * 401, "1" * 401),
]  # fmt: skip


@pytest.mark.parametrize(("wanted", "text", "value"), TYPED)
def test_what_a_query_says_is_read_as_the_type_that_is_wanted(wanted: list[str], text: str, value: object) -> None:
    found = _as(text, set(wanted))
    assert (found, type(found)) == (value, type(value))


def test_each_missing_member_is_told_once() -> None:
    asks = {"json": {"type": "object", "required": ["boat", "nights", "berth"]}}
    routes = [{"id": "r", "at": "POST /", "handler": text(), "input": asks}]
    stages = [net(**{"write-as": "json"}), "read-body", {"id": "form", "kind": "validate", "refuse": "raise"}]
    record = walk(stages, {"send": "POST /", "json": {"berth": "T07"}}, routes=routes)
    assert [item["pointer"] for item in body_of(record)["fields"]] == ["/json/boat", "/json/nights"]


def test_validation_sees_no_body_that_nobody_read() -> None:
    routes = [{"id": "r", "at": "POST /", "handler": text(), "input": INPUT}]
    record = walk([{"id": "form", "kind": "validate"}], GOOD, routes=routes)
    step = next(step for step in record["journey"] if step["stage"] == "form")
    assert record["response"]["status"] == 422
    assert "no stage in front" in step["note"]["body"]


def test_a_schema_never_reaches_out() -> None:
    schema = {"$ref": "https://schemas.example/never"}
    routes = [{"id": "r", "at": "POST /", "handler": text(), "input": {"json": schema}}]
    with pytest.raises(Exception, match="never"):
        walk(["read-body", "validate"], {"send": "POST /", "json": {}}, routes=routes)


# HTTPS, fronts, request ids.

TLS: list[tuple[str, dict[str, Any], dict[str, Any], int, str | None, bool]] = [
    ("GET https://h.example/a?b=c", {}, {}, 200, None, True),
    ("GET http://h.example/a?b=c", {}, {}, 308, "https://h.example/a?b=c", False),
    ("HEAD http://h.example:8080/", {"reads": {"status": 301, "to-port": 8443}}, {}, 301, "https://h.example:8443/", False),
    ("POST http://h.example/a", {}, {}, 403, None, False),
    ("POST http://h.example/a", {"others": {"status": 404}}, {}, 404, None, False),
    ("GET https://h.example/", {}, {"in-front": {"ends-tls": True}}, 308, "https://h.example/", False),
    ("GET https://h.example/", {}, {"in-front": {"ends-tls": True, "sends": "forwarded"}}, 308, "https://h.example/", False),
    ("GET https://h.example/", {}, {"in-front": {"ends-tls": True, "sends": "forwarded"}, "trusts-forwarded": ["192.0.2.10"]}, 200, None, True),
    ("GET https://h.example/", {}, {"in-front": {"ends-tls": True, "sends": "x-forwarded"}, "trusts-forwarded": ["192.0.2.0/24"]}, 200, None, True),
    ("GET http://h.example/", {}, {"in-front": {"ends-tls": True, "sends": "x-forwarded"}, "trusts-forwarded": ["192.0.2.0/24"]}, 308, "https://h.example/", False),
]  # fmt: skip


@pytest.mark.parametrize(("line", "options", "deployment", "status", "location", "hsts"), TLS)
def test_https_only(
    line: str, options: dict[str, Any], deployment: dict[str, Any], status: int, location: str | None, hsts: bool
) -> None:
    stage = {"id": "tls", "kind": "https-only", "hsts": {"max-age": "180d", "include-subdomains": True}, **options}
    routes = [{"id": "r", "at": "GET /{+rest}", "handler": text()}, {"id": "t", "at": "GET /", "handler": text()}]
    record = walk([stage], line, routes=routes, deployment=deployment)
    assert (record["response"]["status"], header(record, "location")) == (status, location)
    wanted = "max-age=15552000; includeSubDomains" if hsts else None
    assert header(record, "strict-transport-security") == wanted


FORWARDED = [
    ({"Forwarded": "for=198.51.100.7;proto=https"}, [], "192.0.2.1"),
    ({"Forwarded": "for=203.0.113.1, for=198.51.100.7"}, ["192.0.2.1"], "198.51.100.7"),
    ({"Forwarded": 'for="[2001:db8::1]:80"'}, ["192.0.2.1"], "2001:db8::1"),
    ({"X-Forwarded-For": "203.0.113.1, 198.51.100.8"}, ["192.0.2.1"], "198.51.100.8"),
    ({"X-Forwarded-For": "203.0.113.1"}, ["198.51.100.0/24"], "192.0.2.1"),
]


@pytest.mark.parametrize(("headers", "trusts", "address"), FORWARDED)
def test_forwarding_is_believed_only_from_trusted_peers(
    headers: dict[str, str], trusts: list[str], address: str
) -> None:
    scenario = {
        "id": "g",
        "kind": "decide",
        "cases": [{"when": {"address": address}, "then": {"answer": {"status": 299}}}],
    }
    record = walk([scenario], {"send": "GET /", "headers": headers}, deployment={"trusts-forwarded": trusts})
    assert record["response"]["status"] == 299


def test_a_redirect_loop_is_an_outcome() -> None:
    service = make_pipeline([{"id": "tls", "kind": "https-only"}], deployment={"in-front": {"ends-tls": True}})
    records = replay(service, {"send": "GET http://h.example/", "caller": "c"}, callers={"c": {"redirects": "follow"}})
    assert [(r["id"], r["kind"], r["parent"], r["outcome"]) for r in records] == [
        ("q0", "call", None, "short-circuited"),
        ("q0/redirect[1]", "redirect", "q0", "redirect-loop"),
    ]


REDIRECTS = [
    (301, "POST", "GET"),
    (302, "POST", "GET"),
    (303, "PUT", "GET"),
    (307, "POST", "POST"),
    (308, "POST", "POST"),
    (302, "PUT", "PUT"),
]


@pytest.mark.parametrize(("status", "method", "then"), REDIRECTS)
def test_redirects_are_followed(status: int, method: str, then: str) -> None:
    answer = {"status": status, "headers": {"Location": "https://other.example/to#part"}}
    routes = [
        {"id": "from", "at": f"{method} /", "handler": {"answer": answer}},
        {"id": "to", "at": f"{then} /to", "handler": {"echo": True}},
    ]
    request = {
        "send": f"{method} /",
        "json": {"a": 1},
        "caller": "c",
        "headers": {"Authorization": "x"},
        "expect": {"status": 200},
    }
    records = replay(make_pipeline(["read-body"], routes=routes), request, callers={"c": {"redirects": "follow"}})
    echoed = body_of(records[-1])
    assert (echoed["method"], echoed["body"]) == (then, {"a": 1} if then == method else None)
    assert "Authorization" not in echoed["headers"]  # it doesn't cross origins
    assert records[-1]["checks"][0]["ok"]


IDS = [
    (False, {}, False), (False, {"X-Request-Id": "mine"}, False), (True, {"X-Request-Id": "mine"}, True),
    (True, {"X-Request-Id": "mine\tand more"}, False), (True, {}, False),
]  # fmt: skip


@pytest.mark.parametrize(("trusts", "headers", "kept"), IDS)
def test_request_ids(trusts: bool, headers: dict[str, str], kept: bool) -> None:
    stage = {"id": "tag", "kind": "request-id", "trusts-incoming": trusts}
    service = make_pipeline([stage])
    one, two = replay(service, {"send": "GET /", "headers": headers}, {"send": "GET /", "headers": headers})
    assert (header(one, "x-request-id") == "mine") is kept
    assert (header(one, "x-request-id") == header(two, "x-request-id")) is kept
    assert one["context"]["request-id"] == header(one, "x-request-id")


PARENT = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"


@pytest.mark.parametrize(
    ("trusts", "parent", "keeps"),
    [
        (True, PARENT, True),
        (False, PARENT, False),
        (True, PARENT.replace("0af7651916cd43dd8448eb211c80319c", "0" * 32), False),
        (True, "rubbish", False),
    ],
)
def test_trace_context(trusts: bool, parent: str, keeps: bool) -> None:
    stage = {"id": "tag", "kind": "request-id", "trusts-incoming": trusts}
    routes = [{"id": "r", "at": "GET /", "handler": {"echo": True}}]
    sent = {"traceparent": parent, "tracestate": "quay=1"}
    record = walk([stage], {"send": "GET /", "headers": sent}, routes=routes)
    assert ("tracestate" in {name.lower() for name in body_of(record)["headers"]}) is keeps  # it is the parent's
    version, trace, span, _ = body_of(record)["headers"]["traceparent"].split("-")
    assert version == "00"
    assert (trace in parent) is keeps
    assert span != "b7ad6b7169203331"
    assert record["context"]["trace-id"] == trace


def test_maintenance_has_an_answer_of_its_own() -> None:
    closed = {"id": "c", "kind": "maintenance", "retry-after": "1500ms", "answer": {"json": {"closed": True}}}
    record = walk([closed], refuse="raise")
    assert (record["response"]["status"], body_of(record), header(record, "retry-after")) == (
        503,
        {"closed": True},
        "2",
    )
    assert (record["refused_by"], record["why"]) == ("c", "maintenance")


def test_header_fields_on_both_ways() -> None:
    stage = {
        "id": "h", "kind": "header-fields",
        "on-request": {"put": {"X-Put": "${query.a}!"}, "drop": ["X-Drop"]}, "on-answer": {"put": {"X-Who": "${identity.name}"}, "drop": "content-type"},
    }  # fmt: skip
    record = walk([stage], {"send": "GET /?a=b", "headers": {"X-Drop": "1", "X-Keep": "1"}}, **ECHO)
    seen = body_of(record)["headers"]
    assert (seen["X-Put"], seen["X-Keep"], "X-Drop" in seen) == ("b!", "1", False)
    assert (header(record, "x-who"), header(record, "content-type")) == ("", None)
    assert ["X-Drop", "1"] in record["request"]["headers"]  # the record holds what was sent


# Records.

RECORDS = {
    "notes": {
        "ids": "n-{n}",
        "unique": {"text": "Taken"},
        "rows": [{"id": "n-1", "text": "first"}, {"id": 7, "text": "seventh"}],
    }
}
NOTES = [
    {"id": name, "at": at, "handler": {"records": "notes", "do": do}}
    for name, at, do in (
        ("all", "GET /n", "list"), ("one", "GET /n/{id}", "read"), ("new", "POST /n", "create"),
        ("put", "PUT /n/{id}", "replace"), ("del", "DELETE /n/{id}", "remove"),
    )
]  # fmt: skip
STORY: list[tuple[str, Any, int, Any]] = [
    ("GET /n", None, 200, [{"id": "n-1", "text": "first"}, {"id": 7, "text": "seventh"}]),
    ("GET /n/7", None, 200, {"id": 7, "text": "seventh"}),
    ("GET /n/8", None, 404, None),
    ("POST /n", {"text": "new"}, 201, {"id": "n-2", "text": "new"}),
    ("POST /n", {"text": "new"}, 409, None),
    ("POST /n", {"id": "n-2", "text": "x"}, 409, None),
    ("POST /n", [1], 422, None),
    ("PUT /n/n-2", {"text": "newer"}, 200, {"text": "newer", "id": "n-2"}),
    ("PUT /n/n-2", {"text": "first"}, 409, None),
    ("PUT /n/zero", {"text": "x"}, 404, None),
    ("DELETE /n/n-2", None, 204, None),
    ("DELETE /n/n-2", None, 404, None),
    ("GET /n/n-2", None, 404, None),
]


def test_records() -> None:
    service = make_pipeline(["read-body"], routes=NOTES, records=RECORDS, errors={"Taken": {"is-a": "Conflict"}})
    requests = [{"send": line, **({"json": body} if body is not None else {})} for line, body, _, _ in STORY]
    # Errors that handlers raise have no catcher here, so the status is read off the error's type.
    statuses = {"NotFound": 404, "Conflict": 409, "Taken": 409, "InvalidInput": 422}
    for record, (line, _, status, body) in zip(replay(service, *requests), STORY, strict=True):
        came = statuses[record["errors"][0]["type"]] if record["errors"] else record["response"]["status"]
        assert came == status, line
        if body is not None:
            assert body_of(record) == body, line
        if status == 201:
            assert header(record, "location") == "/n/n-2"


def test_records_keep_path_values() -> None:
    routes = [{"id": "new", "at": "POST /b/{berth}/n", "handler": {"records": "notes", "do": "create"}}]
    record = walk([], {"send": "POST /b/T07/n", "json": {"unread": 1}}, routes=routes, records={"notes": {}})
    assert body_of(record) == {"id": "1", "berth": "T07"}


# Changes.


def test_a_change_holds_for_later_arrivals_and_state_stays() -> None:
    closed = {"id": "closed", "kind": "maintenance", "enabled": False}
    routes = [
        {"id": "new", "at": "POST /n", "handler": {"records": "notes", "do": "create"}},
        {"id": "slow", "at": "GET /", "handler": {**text(), "busy-for": "5s"}},
    ]
    service = make_pipeline([closed], routes=routes, records={"notes": {}})
    records = replay(
        service,
        {"send": "POST /n"},
        {"send": "GET /", "at": "0s"},
        {"change": {"stages": {"closed": {"enabled": True}}}, "at": "1s"},
        {"send": "POST /n"},
        {"change": {"stages": {"closed": {"enabled": False}}}},
        {"send": "POST /n"},
    )
    assert [r["response"]["status"] for r in records] == [201, 200, 503, 201]
    assert body_of(records[3])["id"] == "2"


def test_the_desk_refreshes_expired_tokens_for_a_while() -> None:
    group = {"id": "v", "desk": {"at": "/desk", "keys": "k", "lasts": "1m", "renewable-for": "10m"}}
    more: dict[str, Any] = {
        "groups": [group],
        "accounts": {"maren": {"password": "p"}},
        "signing-keys": {"k": {"algorithm": "HS256", "secret": "x" * 32}},
    }
    refresh = {"send": "POST /desk/refresh", "json": {"token": "${kept.t}"}, "keep": {"t": "/token"}}
    records = replay(
        make_pipeline(["read-body"], **more),
        {"send": "POST /desk", "json": {"name": "maren", "password": "p"}, "keep": {"t": "/token"}},
        {**refresh, "after": "5m"},
        {**refresh, "after": "4m"},
        {**refresh, "after": "1m"},
        {"send": "POST /desk/refresh", "json": {"token": "rubbish"}},
        {"send": "POST /desk/refresh", "json": {}},
        {"send": "POST /desk", "json": {"name": "maren"}},
    )
    assert [r["response"]["status"] for r in records[:3]] == [200, 200, 200]
    assert [r["errors"][0]["type"] for r in records[3:]] == ["Unauthenticated"] * 2 + ["InvalidInput"] * 2


# Values.


def test_placeholders_keep_their_types() -> None:
    answer = {
        "json": {
            "n": "${body.n}",
            "list": "${body.list}",
            "text": "n=${body.n} ${query.q}",
            "role": "${identity.roles}",
            "now": "${clock.now}",
            "deep": "${body.deep.x}",
        }
    }
    routes = [{"id": "r", "at": "POST /", "handler": {"answer": answer}}]
    request = {"send": "POST /?q=a", "json": {"n": 2, "list": [1, True], "deep": {"x": None}}, "at": "90s"}
    record = walk(["read-body"], request, routes=routes)
    assert body_of(record) == {
        "n": 2,
        "list": [1, True],
        "text": "n=2 a",
        "role": [],
        "now": "2031-01-01T00:01:30Z",
        "deep": None,
    }


def test_context_is_handed_on() -> None:
    setter = {"id": "s", "kind": "decide", "cases": [{"set": {"tenant": "${header.x-tenant}", "n": 3}}]}
    reader = {"id": "t", "kind": "header-fields", "on-request": {"put": {"X-Seen": "${context.tenant}"}}}
    record = walk([setter, reader], {"send": "GET /", "headers": {"X-Tenant": "acme"}}, **ECHO)
    assert record["context"] == {"tenant": "acme", "n": 3}
    assert body_of(record)["headers"]["X-Seen"] == "acme"
    assert "in s continued" in steps(record)


def test_what_the_servers_log_has_of_an_error() -> None:
    """Where nobody catches it: all that is known of it, but for the message, which is in the line itself."""
    handler = {"raise": {"type": "Mishap", "message": "m", "where": "berths.py:41", "cause": "c"}}
    record = walk([], routes=[{"id": "all", "at": "GET /", "access": "everyone", "handler": handler}])
    (said,) = record["log"]
    assert (said["message"], said["detail"]["where"], said["detail"]["cause"]) == ("Mishap: m", "berths.py:41", "c")
    assert "message" not in said["detail"]


WHY_UNCAUGHT: list[tuple[list[Any], dict[str, Any], str]] = [
    ([], {}, "no error handler stands on its way"),
    ([net(only=["/else/**"])], {}, "net passes this request over (only, except)"),
    ([net(), "routes"], {"flow": "sequential"}, "net stands in front of handler, and errors skip forward"),
]


@pytest.mark.parametrize(("stages", "more", "why"), WHY_UNCAUGHT)
def test_why_nobody_caught_an_error(stages: list[Any], more: dict[str, Any], why: str) -> None:
    handler = {"raise": {"type": "Mishap", "message": "m"}}
    record = walk(stages, routes=[{"id": "all", "at": "GET /", "access": "everyone", "handler": handler}], **more)
    assert record["errors"][0].get("because") == why


@pytest.mark.parametrize("named", [5, [5], {"quay": 1}])
def test_what_is_no_name_of_an_environment_is_told(named: object) -> None:
    with pytest.raises(Unusable, match=r"must be|environment"):
        load({"patient-usher": "pipeline/1", "environment": named, "environments": {"quay": {}}})


@pytest.mark.parametrize(
    ("authority", "host"),
    [("[2001:DB8::7]:8443", "2001:db8::7"), ("[2001:db8::7]", "2001:db8::7"), ("A.example:8443", "a.example")],
)
def test_a_host_of_which_a_front_speaks_may_be_an_address_with_a_port(authority: str, host: str) -> None:
    assert target_uri(parse_url("http://service.example/"), authority).host == host  # RFC 3986 3.2.2


def test_of_several_errors_the_last_one_ends_an_exchange() -> None:
    """Another handler caught the first."""
    late = {"id": "late", "kind": "decide", "way-out": [{"then": {"raise": "Late"}}]}
    raising = {"id": "r", "at": "GET /", "access": "everyone", "handler": {"raise": {"type": "Mishap", "message": "m"}}}
    record = walk([net(id="outer"), late, net(id="inner")], routes=[raising], errors={"Mishap": {}, "Late": {}})
    assert [error["caught_by"] for error in record["errors"]] == ["inner", "outer"]
    assert (record["outcome"], record["answered_by"]) == ("errored", "outer")


def test_what_fails_in_work_on_the_way_out_is_past_every_error_handler() -> None:
    raises = {"id": "late", "kind": "decide", "way-out": [{"then": {"raise": "Mishap"}}]}
    record = walk([raises, "routes", net()], flow="sequential", errors={"Mishap": {}})
    assert record["errors"][0]["because"] == "what fails in work on the way out is past every error handler"


def test_a_strong_tag_says_in_which_coding_the_content_is() -> None:
    """RFC 9110 8.8.3.3: what differs in its octets differs in its strong tag."""
    stages = [
        {"id": "tags", "kind": "conditional", "etag": "strong"},
        {"id": "small", "kind": "compress", "from-size": 0},
    ]
    plain, coded = (
        header(walk(stages, {"send": "GET /", "headers": {"Accept-Encoding": coding}}), "etag") or ""
        for coding in ("identity", "gzip")
    )
    assert re.fullmatch('"[0-9a-f]{16}"', plain), plain
    assert coded != plain


def test_hsts_lasts_a_year_unless_it_is_said_otherwise() -> None:
    record = walk([{"id": "tls", "kind": "https-only", "hsts": {}}])
    assert header(record, "strict-transport-security") == "max-age=31536000"


def test_an_environment_of_the_file_that_is_none_is_told_whatever_the_command_line_says() -> None:
    doc = {"patient-usher": "pipeline/1", "environment": ["nowhere"], "environments": {"quay": {}}}
    with pytest.raises(Unusable, match="there is no environment 'nowhere'"):
        load(doc, environments=["quay"])
    assert load({**doc, "environment": "quay"}, environments=["quay"]).name


@pytest.mark.parametrize(
    ("limit", "cut", "sound"), [(20, 0, True), (20, 1, False), (19, 0, True), (19, 1, True), (40, 1, False)]
)
def test_a_coded_body_that_is_cut_off_where_its_limit_is(limit: int, cut: int, sound: bool) -> None:
    """Beyond the limit it doesn't matter any more; up to it a body is read to its end."""
    coded = gzip.compress(b"t" * 20)
    body = coded[: len(coded) - cut]
    if sound:
        assert DECODERS["gzip"](body, limit) == b"t" * min(20, limit + 1)
    else:
        with pytest.raises(BadCoding):
            DECODERS["gzip"](body, limit)


def test_a_trade_name_means_one_kind_and_is_none_itself() -> None:
    names = [name for one in kinds() for name in kind(one).options.trade_names]
    assert len(names) == len(set(names))
    assert set(names).isdisjoint(kinds())
    for one in kinds():
        assert [called(name) for name in kind(one).options.trade_names] == [one] * len(kind(one).options.trade_names)
