"""Point by point: what the standards ask, and what people stumble over. One row each."""

from __future__ import annotations

import base64
import gzip
import hmac
import json
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import Outcome, header, make_pipeline, replay, text, walk

Usher = Callable[..., Outcome]
ROUTE = {"id": "r", "at": "GET /", "access": "everyone"}
POST = {"id": "p", "at": "POST /", "access": "everyone", "handler": {"echo": True}}
NET = {"id": "net", "kind": "error-handler"}
WHO = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}]}


# Guards and paths.

GUARDED: list[tuple[str, str, bool]] = [
    ("/v1/**", "GET /v1/a", True), ("/v1/**", "GET /v1", True), ("/v1/**", "GET /v1%2Fa", False), ("/v1/*", "GET /v1/a%2Fb", True),
    ("/a%2Fb", "GET /a%2Fb", True), ("/a%2Fb", "GET /a/b", False), ("get /x", "GET /x", True), ("GET /x", "HEAD /x", True),
    ("/**/z/**", "GET /a/z/b/z", True), ("/" + "**/" * 10 + "z", "GET /" + "a/" * 200, False),
]  # fmt: skip


@pytest.mark.parametrize(("pattern", "line", "fits"), GUARDED)
def test_a_guard_and_the_router_see_the_same_segments(pattern: str, line: str, fits: bool) -> None:
    guard = {"id": "guard", "kind": "maintenance", "only": [pattern]}
    routes = [{"id": "all", "at": "GET /{+rest}", "access": "everyone", "handler": text()}]
    assert (walk([guard], line, routes=routes)["answered_by"] == "guard") is fits


FRONTS: list[tuple[str, dict[str, Any], str]] = [
    ("forwarded", {"X-Forwarded-Proto": "https", "X-Forwarded-For": "198.51.100.9"}, "192.0.2.1"),
    ("forwarded", {"Forwarded": "for=198.51.100.9;proto=https"}, "192.0.2.1"),
    ("x-forwarded", {"Forwarded": "for=198.51.100.9"}, "192.0.2.1"),
    ("x-forwarded", {"X-Forwarded-For": "198.51.100.9"}, "192.0.2.1"),
    ("forwarded", {"Forwarded": ['for="', "for=198.51.100.9"]}, "192.0.2.1"),
]


@pytest.mark.parametrize(("sends", "headers", "address"), FRONTS)
def test_only_what_the_front_itself_wrote_is_believed(sends: str, headers: dict[str, Any], address: str) -> None:
    limit = {"id": "limit", "kind": "rate-limit", "quota": 9, "window": "1m"}
    front = {"in-front": {"ends-tls": True, "sends": sends}, "trusts-forwarded": ["192.0.2.10"]}
    record = walk([limit], {"send": "GET /", "headers": headers}, deployment=front)
    assert record["rates"][0]["for"] == address


@pytest.mark.parametrize(
    ("url", "seen"),
    [("https://a.example/", "http://a.example/"), ("https://a.example:8443/", "http://a.example:8443/")],
)
def test_behind_a_front_that_ends_tls_the_service_is_asked_in_clear(url: str, seen: str) -> None:
    front = {"in-front": {"ends-tls": True, "sends": "x-forwarded"}}
    record = walk([], {"send": f"GET {url}"}, deployment=front, routes=[{**ROUTE, "handler": {"echo": True}}])
    assert json.loads(record["response"]["body"])["url"] == seen


# Fields that no message can carry.

UNSENDABLE: list[tuple[dict[str, Any], str]] = [
    ({"headers": {"Bad Name": "x"}}, "is no header field name"), ({"headers": {"X": "a\r\nY: b"}}, "which no message can carry"),
    ({"headers": {"Transfer-Encoding": "chunked"}}, "the server itself writes"), ({"headers": {"Content-Length": "9"}}, "the server itself writes"),
]  # fmt: skip


@pytest.mark.parametrize(("answer", "said"), UNSENDABLE)
def test_constant_fields_that_cannot_be_sent_are_load_errors(answer: dict[str, Any], said: str) -> None:
    with pytest.raises(Exception, match=said):
        make_pipeline([], routes=[{**ROUTE, "handler": {"answer": answer}}])


def test_fields_made_of_data_are_raised_errors_and_locations_are_encoded() -> None:
    echoed = {"answer": {"headers": {"X-Echo": "${query.q}"}}}
    record = walk([NET], "GET /?q=a%0d%0aSet-Cookie:%20x=y", routes=[{**ROUTE, "handler": echoed}])
    assert (record["response"]["status"], record["errors"][0]["type"]) == (500, "IllegalField")
    assert "X-Echo" in record["errors"][0]["message"]
    away = {"answer": {"status": 302, "headers": {"Location": "/x/${query.q}"}}}
    record = walk([], "GET /?q=a%0d%0ab%20c", routes=[{**ROUTE, "handler": away}])
    assert header(record, "location") == "/x/a%0D%0Ab%20c"


# Bodies.


def coded(octets: bytes, coding: str, **more: Any) -> dict[str, Any]:
    headers = {"Content-Type": "application/json", "Content-Encoding": coding}
    return {"send": "POST /", "headers": headers, "base64": base64.b64encode(octets).decode(), **more}


BODY = b'{"a": 1}'
CODED: list[tuple[dict[str, Any], dict[str, Any], int, str | None]] = [
    ({}, coded(gzip.compress(BODY), "gzip"), 415, "media-type"),
    ({"codings": ["gzip"]}, coded(gzip.compress(BODY), "gzip"), 200, None),
    ({"codings": ["gzip"]}, coded(gzip.compress(BODY), "x-gzip"), 200, None),
    ({"codings": ["deflate"]}, coded(zlib.compress(BODY), "deflate"), 200, None),
    ({"codings": ["gzip"]}, coded(BODY, "gzip"), 400, "malformed-body"),
    ({"codings": ["gzip"]}, coded(BODY, "identity"), 200, None),
    ({"codings": ["gzip"], "max-size": 512}, coded(gzip.compress(b'"' + b"a" * 5_000_000 + b'"'), "gzip"), 413, "too-large"),
    ({"codings": ["zstd", "br"]}, coded(gzip.compress(BODY), "gzip"), 415, "media-type"),
]  # fmt: skip


@pytest.mark.parametrize(("options", "request_", "status", "why"), CODED)
def test_coded_bodies(options: dict[str, Any], request_: dict[str, Any], status: int, why: str | None) -> None:
    record = walk([{"id": "read", "kind": "read-body", **options}], request_, routes=[POST])
    assert (record["response"]["status"], record["why"]) == (status, why)
    if why == "media-type":
        assert header(record, "accept-encoding") == (", ".join(options.get("codings", [])) or "identity")


@pytest.mark.parametrize(
    ("content_type", "body", "why"),
    [
        ("text/plain; charset=punycode", "x", "charset"), ("text/plain; charset=undefined", "x", "charset"),
        ("multipart/form-data; boundary=" + "x" * 300, "x", "malformed-body"), ("application/json", '{"a": NaN}', "malformed-body"),
        ("application/json", '{"a": 1e400}', "malformed-body"), ("application/json", "[" * 300 + "]" * 300, "malformed-body"),
        ("application/json; charset=latin-1", '{"a": 1}', None),
    ],
)  # fmt: skip
def test_what_bodies_may_be(content_type: str, body: str, why: str | None) -> None:
    request = {"send": "POST /", "headers": {"Content-Type": content_type}, "text": body}
    assert walk(["read-body"], request, routes=[POST])["why"] == why


INPUTS: list[tuple[dict[str, Any], str, int]] = [
    ({"properties": {"n": {"type": "number"}}}, "n=nan", 422), ({"properties": {"n": {"type": "integer"}}}, "n=1_000", 422),
    ({"properties": {"n": {"type": "integer"}}}, "n=%D9%A3", 422), ({"properties": {"n": {"type": ["integer", "null"]}}}, "n=3", 200),
    ({"properties": {"n": {"$ref": "#/$defs/i"}}, "$defs": {"i": {"type": "integer"}}}, "n=3", 200),
    ({"properties": {"n": {"anyOf": [{"type": "integer"}, {"type": "boolean"}]}}}, "n=true", 200),
    ({"patternProperties": {"^x-": {"type": "integer"}}}, "x-a=3", 200), ({"patternProperties": {"^x-": {"type": "integer"}}}, "x-a=z", 422),
    ({"properties": {"d": {"type": "string", "format": "ipv4"}}}, "d=192.0.2.999", 422),
    ({"properties": {"s": {"type": "string", "pattern": "^(a+)+$"}}}, "s=" + "a" * 5000 + "b", 422),
]  # fmt: skip


@pytest.mark.parametrize(("schema", "query", "status"), INPUTS)
def test_input(schema: dict[str, Any], query: str, status: int) -> None:
    routes = [{**ROUTE, "handler": text(), "input": {"query": schema}}]
    assert walk(["validate"], f"GET /?{query}", routes=routes)["response"]["status"] == status


@pytest.mark.parametrize(("part", "request_"), [("json", {"form": {"a": "1"}}), ("form", {"json": {"a": 1}})])
def test_a_form_is_no_json_and_json_no_form(part: str, request_: dict[str, Any]) -> None:
    routes = [{**POST, "input": {part: {"type": "object"}}}]
    record = walk(["read-body", "validate"], {"send": "POST /", **request_}, routes=routes)
    assert record["errors"] == []
    assert record["why"] == "invalid-input"


# Limits.

LIMITS: list[tuple[dict[str, Any], list[dict[str, Any]], list[int]]] = [
    ({"quota": 1, "counts": "failures"}, [{"send": "GET /bad"}] * 2 + [{"send": "GET /"}], [400, 400, 200]),
    ({"quota": 1, "counts": "failures"}, [{"send": "GET /no"}, {"send": "GET /"}], [403, 429]),
    ({"quota": 1, "per": ["identity-or-address"]}, [{"send": "GET /", "sign": {"api-key": "a"}}, {"send": "GET /"}], [200, 200]),
    ({"quota": 1, "per": ["query.boat"]}, [{"send": "GET /?boat=1"}, {"send": "GET /?boat=2"}, {"send": "GET /?boat=1"}], [200, 200, 429]),
    ({"quota": 1, "preflights": "free"}, [{"send": "OPTIONS /", "headers": {"Origin": "https://a.example", "Access-Control-Request-Method": "GET"}}, {"send": "GET /"}], [401, 200]),
]  # fmt: skip


@pytest.mark.parametrize(("options", "requests", "expected"), LIMITS)
def test_limits(options: dict[str, Any], requests: list[dict[str, Any]], expected: list[int]) -> None:
    limit = {"id": "limit", "kind": "rate-limit", "window": "1m", **options}
    routes = [
        {**ROUTE, "handler": text()},
        {**ROUTE, "id": "bad", "at": "GET /bad", "handler": {"answer": {"status": 400}}},
        {**ROUTE, "id": "no", "at": "GET /no", "handler": {"answer": {"status": 403}}},
    ]
    pipeline = make_pipeline([WHO, limit], routes=routes, accounts={"a": {"api-keys": ["key-of-a"]}})
    assert [record["response"]["status"] for record in replay(pipeline, *requests)] == expected


# The engine.


def test_a_groups_own_root_and_a_near_miss() -> None:
    group = {
        "id": "g",
        "prefix": "/huts/caf%C3%A9",
        "routes": [{"id": "root", "at": "get", "access": "everyone", "handler": text()}],
    }
    assert walk([], "GET /huts/caf%C3%A9", groups=[group], routes=[])["route"] == "root"
    lost = walk([], "GET /huts/caf%C3%A9/", groups=[group], routes=[])
    assert "a slash at the end makes another path" in lost["journey"][-1]["note"]["near"]


def test_options_is_answered_where_that_is_wanted() -> None:
    assert walk([], "OPTIONS /", routes=[{**ROUTE, "handler": text()}])["response"]["status"] == 405
    record = walk([], "OPTIONS /", routes=[{**ROUTE, "handler": text()}], options="answered")
    assert (record["response"]["status"], header(record, "allow")) == (204, "GET, HEAD, OPTIONS")


RAISED: list[tuple[dict[str, Any], dict[str, Any], int, str, str, str | None]] = [
    ({"refuse": "answer"}, {"raise": "NotFound"}, 404, "errored", "handler", None),
    ({"refuse": "answer"}, {"raise": "Oops"}, 500, "crashed", "server", None),
    ({"refuse": "raise"}, {"raise": "NotFound"}, 500, "crashed", "server", None),
    (
        {"uncaught": {"reveal": "message"}},
        {"raise": {"type": "Oops", "message": "the pier"}},
        500,
        "crashed",
        "server",
        "the pier",
    ),
]


@pytest.mark.parametrize(("more", "handler", "status", "outcome", "by", "told"), RAISED)
def test_nobody_catches(
    more: dict[str, Any], handler: dict[str, Any], status: int, outcome: str, by: str, told: str | None
) -> None:
    record = walk([], routes=[{**ROUTE, "handler": handler}], **more)
    assert (record["response"]["status"], record["outcome"], record["answered_by"]) == (status, outcome, by)
    assert not record["handler_finished"]
    assert told is None or told in record["response"]["body"]
    assert bool(record["log"]) is (by == "server")


def test_a_refusal_keeps_its_author() -> None:
    own = {"id": "own", "kind": "decide", "cases": [{"then": {"raise": "TooWindy"}}]}
    record = walk([NET, own])
    assert (record["refused_by"], record["why"], record["errors"][0]["raised_by"]) == ("own", "decided", "own")


PICKS: list[tuple[dict[str, Any], dict[str, str], str]] = [
    ({}, {}, "Conflict here"),
    ({"picks": "first"}, {}, "Anything"),
    ({"write-as": "accept"}, {"Accept": "text/plain"}, "Conflict here"),
]


@pytest.mark.parametrize(("options", "headers", "message"), PICKS)
def test_which_entry_answers(options: dict[str, Any], headers: dict[str, str], message: str) -> None:
    answers = [
        {"raised": "Conflict", "message": "Anything", "log-level": "debug"},
        {"raised": "Taken", "message": "Conflict here", "log-level": "info"},
    ]
    net = {**NET, "answers": answers, **options}
    record = walk([net], {"send": "GET /", "headers": headers}, errors={"Taken": {"is-a": "Conflict"}}, routes=[{**ROUTE, "handler": {"raise": "Taken"}}])  # fmt: skip
    assert message in record["response"]["body"]
    assert record["log"][0]["level"] == ("debug" if "picks" in options else "info")
    if headers:
        assert record["response"]["body"] == message


def test_a_departure_in_order_is_lost_when_an_error_passes() -> None:
    def lines(departs: str) -> list[str]:
        log = {"id": "log", "kind": "access-log", "departs": departs}
        record = walk([NET, log], routes=[{**ROUTE, "handler": {"raise": "NotFound"}}])
        return [line["message"] for line in record["log"] if line["stage"] == "log"]

    assert (lines("always"), lines("in-order")) == (["GET /", "GET / 404"], ["GET /"])


def test_sessions_that_are_over_may_sign_in_anew() -> None:
    who = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "session-cookie"}]}
    routes = [{**ROUTE, "handler": text()}, {"id": "in", "at": "GET /in", "handler": text()}]
    dead = {"headers": {"Cookie": "session=dead"}}
    found = [walk(["read-cookies", who], {"send": line, **dead}, routes=routes)["why"] for line in ("GET /", "GET /in")]
    assert found == [None, "wrong"]


def test_records_may_be_each_instances_own() -> None:
    handlers = [("POST", "create"), ("GET", "list")]
    routes = [
        {"id": do, "at": f"{method} /", "access": "everyone", "handler": {"records": "notes", "do": do}}
        for method, do in handlers
    ]

    def seen(deployment: dict[str, Any]) -> str:
        pipeline = make_pipeline(
            ["read-body"], routes=routes, records={"notes": {}}, deployment={"instances": 2, **deployment}
        )
        found = replay(pipeline, {"send": "POST /", "json": {"a": 1}}, {"send": "GET /"})
        return str(found[-1]["response"]["body"])

    assert (seen({}) != "[]", seen({"own-state": ["notes"]})) == (True, "[]")


# What people read.


TICKS: list[tuple[str, str, int, tuple[str, ...]]] = [
    ("- {id: a, send: GET /}", "• 1 request; nothing is expected of it", 0, ()),
    (
        "- {id: a, send: GET /, expect: {status: 200}}\n  - {id: b, send: GET /}",
        "✓ 1 of 2 requests expect something",
        0,
        (),
    ),
    ("- {id: a, send: GET /boom}", "1 crashed, which nobody expected", 0, ()),
    ("- {id: a, send: GET /boom}", "1 crashed, which nobody expected", 1, ("--strict",)),
]


@pytest.mark.parametrize(("requests", "said", "status", "options"), TICKS)
def test_a_tick_means_that_something_was_expected(
    usher: Usher, requests: str, said: str, status: int, options: tuple[str, ...]
) -> None:
    pipeline = {"patient-usher": "pipeline/1", "routes": [{**ROUTE, "handler": text()}, {**ROUTE, "id": "boom", "at": "GET /boom", "handler": {"raise": "Boom"}}]}  # fmt: skip
    trace = f"patient-usher: trace/1\nrequests:\n  {requests}\n"
    done = usher("replay", "p.json", "t.yaml", *options, p__json=json.dumps(pipeline), t__yaml=trace)
    assert done.status == status
    assert said in done.out


IMPOSSIBLE: list[tuple[str, str]] = [
    ("{outcome: handeled}", "'handeled' is no outcome that there is; did you mean 'handled'?"),
    ("{why: absnt}", "'absnt' is no why that there is"), ("{cache: hitt}", "'hitt' is no cache that there is"),
    ("{log: {stage: nett}}", "the pipeline has no stage 'nett'"), ("{log: {level: loud}}", "'loud' is no level"),
]  # fmt: skip


@pytest.mark.parametrize(("expect", "said"), IMPOSSIBLE)
def test_what_can_never_be_is_no_expectation(usher: Usher, expect: str, said: str) -> None:
    pipeline = {"patient-usher": "pipeline/1", "stages": [NET], "routes": [{**ROUTE, "handler": text()}]}
    trace = f"patient-usher: trace/1\nrequests: [{{id: a, send: GET /, expect: {expect}}}]\n"
    done = usher("replay", "p.json", "t.yaml", p__json=json.dumps(pipeline), t__yaml=trace)
    assert done.status == 2
    assert said in done.err


def test_terminal_escapes_are_shown_and_never_sent(usher: Usher) -> None:
    pipeline = '{"patient-usher": "pipeline/1", "name": "a\\u001b[31mb\\u009b", "routes": []}'
    done = usher("send", "p.json", "GET", "/", p__json=pipeline)
    assert "\x1b" not in done.out + done.err
    assert "a\\x1b[31mb\\x9b" in done.out
    as_json = usher("send", "p.json", "GET", "/", "--format", "json").out
    assert "\x9b" not in as_json
    assert json.loads(as_json)["pipeline"] == "a\x1b[31mb\x9b"


def test_a_trace_reads_only_what_the_command_line_allows_of_the_environment(usher: Usher) -> None:
    pipeline = json.dumps({"patient-usher": "pipeline/1", "routes": [{**ROUTE, "handler": {"echo": True}}]})
    trace = 'patient-usher: trace/1\nrequests: [{id: a, send: GET /, headers: {X-A: "${env:SECRET|none}"}}]\n'
    env = {"SECRET": "from-outside"}
    hidden = usher("replay", "p.json", "t.yaml", "--format", "json", env=env, p__json=pipeline, t__yaml=trace)
    allowed = usher("replay", "p.json", "t.yaml", "--format", "json", "--trust", "env:SECRET", env=env)
    assert ["${env:SECRET}" in done.out for done in (hidden, allowed)] == [False, True], "it is sent, and not told"
    asked = usher("replay", "p.json", "t.yaml", env=env, t__yaml=trace.replace("|none", ""))
    assert (asked.status, "give --trust env:SECRET" in asked.err) == (2, True)


@pytest.mark.parametrize(("text_", "ends"), [("json", "\n"), ("yaml", "\r\n")])
def test_an_appended_request_keeps_the_form_of_the_file(usher: Usher, tmp_path: Path, text_: str, ends: str) -> None:
    pipeline = json.dumps({"patient-usher": "pipeline/1", "routes": [{**ROUTE, "handler": text()}]})
    old = (
        '{\n "patient-usher": "trace/1",\n "requests": []\n}\n'
        if text_ == "json"
        else "\ufeffpatient-usher: trace/1\r\n# mine\r\nrequests:\r\n  - {id: a, send: GET /}\r\n"
    )
    name = f"t.{text_}"
    (tmp_path / name).write_bytes(old.encode())
    assert usher("send", "p.json", "GET", "/", "--append", name, p__json=pipeline).status == 0
    new = (tmp_path / name).read_bytes().decode()
    assert new.startswith(old[:20])
    assert new.count(ends) == new.count("\n")
    assert usher("replay", "p.json", name).status == 0
    (tmp_path / "p2.json").write_text(pipeline)
    refused = usher("send", "p.json", "GET", "/", "--append", "p2.json")
    assert (refused.status, (tmp_path / "p2.json").read_text()) == (2, pipeline)


# Parts of an answer.

ALPHABET = {"text": "abcdefghij", "headers": {"ETag": '"v1"'}}
PARTS: list[tuple[str, str, int, str | None, str]] = [
    ("bytes=2-4", "", 206, "bytes 2-4/10", "cde"), ("bytes=7-", "", 206, "bytes 7-9/10", "hij"), ("bytes=-2", "", 206, "bytes 8-9/10", "ij"),
    ("bytes=0-99", "", 206, "bytes 0-9/10", "abcdefghij"), ("Bytes=0-0", "", 206, "bytes 0-0/10", "a"), ("bytes=-99", "", 206, "bytes 0-9/10", "abcdefghij"),
    ("bytes=10-", "", 416, "bytes */10", "There are 10 octets"), ("bytes=-0", "", 416, "bytes */10", "There are 10 octets"),
    ("bytes=4-2", "", 200, None, "abcdefghij"), ("bytes=0-1,4-5", "", 200, None, "abcdefghij"), ("lines=0-1", "", 200, None, "abcdefghij"),
    ("bytes=0-1", '"v1"', 206, "bytes 0-1/10", "ab"), ("bytes=0-1", '"v2"', 200, None, "abcdefghij"), ("bytes=0-1", 'W/"v1"', 200, None, "abcdefghij"),
]  # fmt: skip


@pytest.mark.parametrize(("range_", "condition", "status", "content_range", "body"), PARTS)
def test_parts_of_an_answer(range_: str, condition: str, status: int, content_range: str | None, body: str) -> None:
    asked = {"Range": range_, **({"If-Range": condition} if condition else {})}
    handler = {"answer": ALPHABET, "ranges": True}
    record = walk([], {"send": "GET /", "headers": asked}, routes=[{**ROUTE, "handler": handler}])
    seen = (record["response"]["status"], header(record, "content-range"), record["response"]["body"])
    assert seen == (status, content_range, body)


@pytest.mark.parametrize(
    ("etag", "condition", "status"), [("strong", "own", 206), ("strong", '"x"', 200), ("weak", "own", 200)]
)
def test_a_part_has_the_tag_of_the_whole_and_if_range_is_held_against_it(
    etag: str, condition: str, status: int
) -> None:
    cond = {"id": "cond", "kind": "conditional", "etag": etag}
    pipeline = make_pipeline([cond], routes=[{**ROUTE, "handler": {"answer": {"text": "abcdefghij"}, "ranges": True}}])
    first = {"send": "GET /", "keep": {"tag": {"header": "ETag"}}}
    own = "${kept.tag}" if condition == "own" else condition
    whole, part = replay(pipeline, first, {"send": "GET /", "headers": {"Range": "bytes=1-2", "If-Range": own}})
    assert (part["response"]["status"], header(part, "etag")) == (status, header(whole, "etag"))


def test_caches_pass_ranges_on_and_store_nothing_partial() -> None:
    shelf = {"id": "shelf", "kind": "cache", "stores": "any-cacheable"}
    answer = {"text": "abcdefghij", "headers": {"Cache-Control": "max-age=60"}}
    pipeline = make_pipeline([shelf], routes=[{**ROUTE, "handler": {"answer": answer, "ranges": True}}])
    part = {"send": "GET /", "headers": {"Range": "bytes=0-1"}}
    records = replay(pipeline, part, {"send": "GET /"}, part, {"send": "GET /"})
    assert [one["response"]["status"] for one in records] == [206, 200, 206, 200]
    assert [one["caches"][0]["state"] for one in records] == ["bypass", "miss", "bypass", "hit"]


@pytest.mark.parametrize("handler", [{"echo": True, "ranges": True}, {"raise": "Oops", "ranges": True}])
def test_ranges_are_of_what_can_be_read(handler: dict[str, Any]) -> None:
    with pytest.raises(Exception, match="ranges are of what can be read"):
        make_pipeline([], routes=[{**ROUTE, "handler": handler}])


# A caller that leaves.

LEAVES = [("runs-on", True, 1), ("cancels", False, 0)]


@pytest.mark.parametrize(("leaves", "finished", "rows"), LEAVES)
def test_a_caller_that_leaves(leaves: str, finished: bool, rows: int) -> None:
    one = {"id": "one", "kind": "rate-limit", "algorithm": "at-once", "quota": 1, "per": ["route"]}
    store = {"records": "boats", "do": "create", "busy-for": "10s"}
    routes = [{"id": "p", "at": "POST /", "access": "everyone", "handler": store},
              {"id": "l", "at": "GET /", "access": "everyone", "handler": {"records": "boats", "do": "list"}}]  # fmt: skip
    pipeline = make_pipeline([one], routes=routes, records={"boats": {}}, deployment={"caller-leaves": leaves})
    callers = {"hasty": {"patience": "2s"}}
    left, at_once, listed = replay(
        pipeline,
        {"send": "POST /", "caller": "hasty"},
        {"send": "POST /", "at": "3s", "caller": "hasty"},
        {"send": "GET /", "at": "30s"},
        callers=callers,
    )
    assert (left["outcome"], left["handler_reached"], left["handler_finished"]) == ("abandoned", True, finished)
    assert at_once["why"] == ("too-many-at-once" if finished else None), "a slot is free again when the work is over"
    assert len(json.loads(listed["response"]["body"])) == rows


# TLS that ends in front.

FRONTED: list[tuple[dict[str, Any], dict[str, Any], str | None]] = [
    ({"sends": "nothing"}, {}, "set in-front.sends"),
    ({"sends": "forwarded"}, {}, "list it in trusts-forwarded"),
    ({"sends": "forwarded"}, {"trusts-forwarded": ["192.0.2.10"]}, None),
]


@pytest.mark.parametrize(("front", "more", "cause"), FRONTED)
def test_a_redirect_loop_names_its_cause(front: dict[str, Any], more: dict[str, Any], cause: str | None) -> None:
    deployment = {"in-front": {"ends-tls": True, **front}, **more}
    pipeline = make_pipeline([{"id": "tls", "kind": "https-only"}], deployment=deployment)
    page = {"kind": "browser", "origin": "https://api.example"}
    last = replay(pipeline, {"send": "GET /", "caller": "page"}, callers={"page": page})[-1]
    assert last["outcome"] == ("redirect-loop" if cause else "handled")
    assert (cause or "") in (last["browser"]["reason"] or "")
    refused = walk([{"id": "tls", "kind": "https-only", "reads": "refuse"}], "GET http://api.example/")
    assert (refused["response"]["status"], refused["why"]) == (403, "plain-http")


# Tags that two codings share nothing of but the content.

TAGS = [("strong", "gzip", 200), ("strong", "identity", 200), ("weak", "gzip", 412)]


@pytest.mark.parametrize(("etag", "accepts", "status"), TAGS)
def test_a_tag_just_received_matches_where_tags_can(etag: str, accepts: str, status: int) -> None:
    stages = [
        {"id": "cond", "kind": "conditional", "etag": etag},
        {"id": "small", "kind": "compress", "from-size": 10},
        "read-body",
    ]
    routes = [{"id": "g", "at": "GET /{id}", "access": "everyone", "handler": {"records": "b", "do": "read"}},
              {"id": "p", "at": "PUT /{id}", "access": "everyone", "handler": {"records": "b", "do": "replace"}}]  # fmt: skip
    pipeline = make_pipeline(stages, routes=routes, records={"b": {"rows": [{"id": "1", "t": "x" * 3000}]}})
    get = {"send": "GET /1", "headers": {"Accept-Encoding": accepts}, "keep": {"tag": {"header": "ETag"}}}
    put = {"send": "PUT /1", "json": {"t": "y"}, "headers": {"If-Match": "${kept.tag}"}}
    _, first, second = replay(pipeline, get, put, put)
    assert first["response"]["status"] == status
    assert second["response"]["status"] == 412, "and once it was changed, it doesn't match any more"
    weak = [error["message"] for error in first["errors"]] if status == 412 else []
    assert all("etag: strong" in message for message in weak)


# A sequential flow's stored answers.


def test_a_stored_answer_holds_only_what_stood_behind_the_cache() -> None:
    stages = [
        {"id": "ids", "kind": "request-id"},
        {"id": "limit", "kind": "rate-limit", "quota": 9, "window": "1m", "fields": ["x-ratelimit"]},
        {"id": "browsers", "kind": "cors", "allow-origins": ["https://a.example", "https://b.example"]},
        {"id": "shelf", "kind": "cache"},
        "routes",
    ]
    answer = {"text": "ok", "headers": {"Vary": "Accept-Language", "X-Own": "1"}}
    pipeline = make_pipeline(
        stages, flow="sequential", routes=[{**ROUTE, "cache": "60s", "handler": {"answer": answer}}]
    )
    asked = [{"send": "GET /", "headers": {"Origin": f"https://{who}.example"}} for who in "ab"]
    first, second = replay(pipeline, *asked)
    assert [one["caches"][0]["state"] for one in (first, second)] == ["miss", "hit"]
    assert header(first, "x-request-id") != header(second, "x-request-id")
    assert [header(one, "x-ratelimit-remaining") for one in (first, second)] == ["8", "7"]
    assert header(second, "access-control-allow-origin") == "https://b.example"
    assert (header(second, "vary"), header(second, "x-own")) == ("Origin, Accept-Language", "1")


# What can be used, but will hardly be meant.

DOUBTFUL: list[tuple[dict[str, Any], str | None]] = [
    ({"stages": [{"id": "s", "kind": "maintenance", "only": ["/v2/x/**"]}]}, "no route fits /v2/x/**"),
    ({"stages": [{"id": "s", "kind": "maintenance", "only": ["/*/b"]}]}, None),
    ({"stages": [{"id": "s", "kind": "maintenance", "except": ["POST /v1/x"]}]}, "no route of /v1/x takes POST"),
    ({"stages": [{"id": "s", "kind": "maintenance", "only": ["HEAD,OPTIONS /v1/x"]}]}, None),
    ({"stages": [{"id": "s", "kind": "maintenance", "only": ["HEAD /v1/x"]}]}, None), ({"stages": [{"id": "s", "kind": "maintenance", "only": ["HEAD /v1/posted"]}]}, "no route of /v1/posted takes HEAD"),
    ({"stages": [{"id": "s", "kind": "maintenance", "only": ["GTE /v1/x"]}]}, "no standard has the method 'GTE'"),
    ({"stages": [{"id": "s", "kind": "decide", "cases": [{"when": {"route": "al"}, "then": "nothing"}]}]}, "there is no route 'al'"),
    ({"stages": [{"id": "s", "kind": "decide", "cases": [{"when": {"any": [{"path": "/w/x/**"}]}, "then": "nothing"}]}]}, "no route fits /w/x/**"),
    ({"stages": [{"id": "s", "kind": "error-handler", "answers": [{"raised": "Gone", "status": 410}]}]}, "nothing declares or raises the error type 'Gone'"),
    ({"stages": [{"id": "s", "kind": "error-handler", "answers": [{"raised": "Boom", "status": 410}]}]}, None),
    ({"stages": [{"id": "s", "kind": "error-handler", "answers": [{"raised": "NotFound", "message": "no"}]}]}, None),
    ({"errors": {"Booom": {"status": 410}}}, "nothing knows the error type 'Boom'"),
]  # fmt: skip


@pytest.mark.parametrize(("more", "said"), DOUBTFUL)
def test_warnings(more: dict[str, Any], said: str | None) -> None:
    more = dict(more)
    routes = [{"id": "all", "at": "GET /v1/x", "access": "everyone", "handler": {"raise": "Boom"}},
              {"id": "some", "at": "GET /{a}/b", "access": "everyone", "handler": text()},
              {"id": "posted", "at": "POST /v1/posted", "access": "everyone", "handler": text()}]  # fmt: skip
    pipeline = make_pipeline(more.pop("stages", []), routes=routes, **more)
    warnings = [warning.what.removeprefix("warning: ") for warning in pipeline.warnings]
    assert (said in warnings) if said else not warnings, warnings


ENVIRONMENTS: list[tuple[dict[str, Any], str]] = [
    ({"stages": {"net": {"reveals": "all"}}}, "reveals"), ({"routes": {"rr": {}}}, "there is no route 'rr'"),
    ({"routes": {"r": {"access": "anybody"}}}, "anybody"), ({"routes": {"r": {"clears": ["x"]}}}, "no route 'x' to clear"),
    ({"deployment": {"shared-state": ["net"]}}, "keeps no state"),
]  # fmt: skip


@pytest.mark.parametrize(("overlay", "said"), ENVIRONMENTS)
def test_environments_that_are_not_laid_on_are_checked_too(overlay: dict[str, Any], said: str) -> None:
    with pytest.raises(Exception, match=said):
        make_pipeline([NET], environments={"staging": overlay})


def test_one_route_may_differ_in_an_environment() -> None:
    overlay = {"staging": {"routes": {"r": {"access": "nobody"}}}}
    guard = {"id": "may", "kind": "authorize"}
    plain, staged = (
        walk([guard], environments=overlay, **({"environments-on": [name]} if name else {})) for name in ("", "staging")
    )
    assert [one["response"]["status"] for one in (plain, staged)] == [200, 403]


# What editors show.


def test_every_key_of_a_file_has_a_sentence(usher: Usher) -> None:
    for name in ("pipeline", "trace"):
        schema = usher("schema", name).json
        for title, node in [(name, schema), *schema["$defs"].items()]:
            silent = [
                key
                for key, spec in node.get("properties", {}).items()
                for one in ([spec] if "description" in spec else spec.get("anyOf", [spec]))
                if not one.get("description", "").strip()
            ]
            assert silent == [], title


# Words for what can't be read.

UNREADABLE = [
    ("hello\n", "1:1: the file holds 'hello' and nothing else"), ("a: 1\n  b: 2\n", "2:4: a colon stands where none can"),
    ("routes:\n  - id: a\n   at: GET /\n", "this line stands further in"), ("name: [a, b\nx: 1\n", "a list that begins with [ has no end"),
    ('name: "abc\n', "a quoted text has no end"), ("name: @x\n", "no text starts with this character"), ("a: {b: 1\n", "a mapping that begins with {"),
    ("patient-usher: pipeline/1\nabc\n", "a key has no colon"), ("stages: [{knd: cors}]\n", "unknown key 'knd'; did you mean 'kind'?"),
    ("routes: [{id: a, at: GET /, access: {roles: x}, handler: {echo: true}}]\n", "access knows no 'roles'; did you mean 'role'?"),
    ("stages: [{id: d, kind: decide, cases: [{then: pass}]}]\n", "a case can't do 'pass'; write continue, nothing"),
]  # fmt: skip


@pytest.mark.parametrize(("text_", "said"), UNREADABLE)
def test_unreadable_files_are_told_in_plain_words(usher: Usher, text_: str, said: str) -> None:
    done = usher("show", "p.yaml", p__yaml=text_)
    assert done.status == 2
    assert done.err.startswith("p.yaml:")
    assert said in done.err


PIPE = "patient-usher: pipeline/1\nstages: [{id: late, kind: timeout, after: 1s}]\nroutes: [{id: r, at: GET /r, access: everyone, handler: {echo: true}}]\n"
TRACE = "patient-usher: trace/1\nrequests: [{id: a, send: GET /r}]\n"
REFUSED: list[tuple[list[str], str]] = [
    (["show", "p.yaml", "--set", "late.aftr=3"], "--set: unknown key 'aftr'; did you mean 'after'?"),
    (["replay", "p.yaml", "t.yaml", "--host", "x.example"], "--host is for recordings"),
    (["replay", "p.yaml", "t.yaml", "--expect-recorded"], "--expect-recorded is for recordings"),
    (["replay", "p.yaml", "t.yaml", "--format", "json", "--details"], "--details belongs to --format text"),
    (["replay", "p.yaml", "t.yaml", "--onyl", "a"], "no option or argument '--onyl' here; did you mean '--only'?"),
]


@pytest.mark.parametrize(("arguments", "said"), REFUSED)
def test_options_that_mean_nothing_here(usher: Usher, arguments: list[str], said: str) -> None:
    done = usher(*arguments, p__yaml=PIPE, t__yaml=TRACE)
    assert (done.status, done.out) == (2, "")
    assert said in done.err


def test_send_takes_a_path_without_its_slash(usher: Usher) -> None:
    done = usher("send", "p.yaml", "GET", "r", "--format", "json", p__yaml=PIPE)
    assert done.json["exchanges"][0]["route"] == "r"


# What comes from the environment stays there.


@pytest.mark.parametrize("arguments", [[], ["--format", "json"], ["--format", "jsonl"], ["--details"]])
def test_values_of_the_environment_are_in_no_output(usher: Usher, arguments: list[str]) -> None:
    answer = '{answer: {headers: {X-Key: "${env:KEY}"}, json: {key: "${env:KEY}", asked: "${query.k}"}}}'
    pipeline = f"patient-usher: pipeline/1\nroutes: [{{id: r, at: GET /r, access: everyone, handler: {answer}}}]\n"
    trace = (
        'patient-usher: trace/1\nrequests: [{id: a, send: "GET /r?k=${env:OWN}", expect: {headers: {X-Key: other}}}]\n'
    )
    env = {"KEY": "made up, for this", "OWN": "another/made-up"}
    trace = trace.replace("${env:OWN}", "another%2Fmade-up&o=${env:OWN}")
    done = usher(
        "replay", "p.yaml", "t.yaml", "--trust", "env:OWN", *arguments, env=env, p__yaml=pipeline, t__yaml=trace
    )
    assert done.status == 1
    assert "env:KEY" in done.out
    assert not [secret for secret in ("made up", "made-up") if secret in done.out]


# What journeys and show explain.

EXPLAINED: list[tuple[str, list[str], list[str]]] = [
    ("stages: [{id: gate, kind: decide, cases: [{when: {body: {a: b}}, then: nothing}]}]", ["POST", "/", "--body", 'json:{"a": "b"}'],
     ["sees no body, since no stage in front has read it"]),
    ("stages: [{id: who, kind: authenticate, schemes: [{scheme: session-cookie}]}]", ["GET", "/in", "--header", "Cookie: session=x"],
     ["sees no cookies, since no stage in front has read them"]),
    ("stages: []", ["GET", "/boom"], ["nobody caught Oops: no error handler stands on its way"]),
    ("flow: sequential\nstages: [{id: net, kind: error-handler}, routes]", ["GET", "/boom"], ["net stands in front of handler", "errors skip forward"]),
    ("stages: [{id: net, kind: error-handler, only: [/in]}]", ["GET", "/boom"], ["net passes this request over (only, except)"]),
    ("stages: [{id: who, kind: decide, cases: [{then: {raise: Early}}]}, {id: net, kind: error-handler}]", ["GET", "/in"], ["net doesn't stand around who"]),
    ("stages: []\ndeployment: {trusts-forwarded: [198.51.100.1]}", ["GET", "/in", "--header", "X-Forwarded-For: 203.0.113.9"],
     ["X-Forwarded-For not believed: 192.0.2.1 isn't listed in trusts-forwarded"]),
    ("stages: []\ndeployment: {trusts-forwarded: [192.0.2.1]}", ["GET", "/in", "--header", "X-Forwarded-For: 203.0.113.9"],
     ["X-Forwarded-For believed, from 192.0.2.1: the caller is 203.0.113.9"]),
    ("stages: [{id: gate, kind: decide, cases: [{then: nothing}]}]", ["GET", "/in"], ["gate neither passed it on nor answered; the caller gave up after 30s"]),
    ("stages: []", ["GET", "/slow"], ["the caller gave up after 30s; the work went on for nobody until 60s"]),
    ("stages: []\ndeployment: {caller-leaves: cancels}", ["GET", "/slow"], ["the caller gave up after 30s; the work ended there"]),
]  # fmt: skip


@pytest.mark.parametrize(("top", "request_", "said"), EXPLAINED)
def test_journeys_explain(usher: Usher, top: str, request_: list[str], said: list[str]) -> None:
    routes = """
routes:
  - {id: p, at: POST /, access: everyone, handler: {answer: {text: ok}}}
  - {id: in, at: GET /in, handler: {answer: {text: ok}}}
  - {id: boom, at: GET /boom, access: everyone, handler: {raise: Oops}}
  - {id: slow, at: GET /slow, access: everyone, handler: {answer: {text: ok}, busy-for: 1m}}
"""
    done = usher("send", "p.yaml", *request_, p__yaml=f"patient-usher: pipeline/1\n{top}\n{routes}")
    flat = " ".join(done.out.split())
    assert [words for words in said if words not in flat] == [], done.out


def test_details_show_everything_to_its_end(usher: Usher) -> None:
    long = "x" * 300 + "END"
    pipeline = f"patient-usher: pipeline/1\nroutes: [{{id: r, at: GET /r, access: everyone, handler: {{answer: {{text: {long}, headers: {{X-Long: {long}}}}}}}}}]\n"
    shown = usher("replay", "p.yaml", "t.yaml", "--only", "a", p__yaml=pipeline, t__yaml=TRACE).out
    assert shown.count("END") == 2


SHOWN: list[tuple[str, list[str], list[str]]] = [
    ("stages: [{id: who, kind: authenticate, schemes: [{scheme: api-key}]}]", [], ["role boss: nothing checks it", "signed-in\n"]),
    ("stages: [{id: who, kind: authenticate, schemes: [{scheme: api-key}]}, {id: may, kind: authorize}]", [], ["role boss\n"]),
    ("stages: [{id: g, kind: decide, cases: [{when: {not: {role: boss}}, then: {raise: Forbidden}}]}]", [], ["role boss\n"]),
    ("listed: innermost-first\nstages: [access-log]", [], ["listed innermost first"]),
    ("flow: sequential\nstages: [{id: early, kind: error-handler}, access-log, routes, {id: net, kind: error-handler}]", [], ["◇ for errors only"]),
    ("flow: sequential\nstages: [{id: early, kind: error-handler}, access-log, routes, {id: net, kind: error-handler}]", ["GET", "/s"],
     ["no error ever comes here", "for errors only: those of access-log, handler"]),
    ("flow: sequential\nrefuse: raise\nstages: [routes, {id: net, kind: error-handler}]", ["GET", "/none"], ["for errors only: those of router"]),
]  # fmt: skip


@pytest.mark.parametrize(("top", "request_", "said"), SHOWN)
def test_show_tells_what_holds(usher: Usher, top: str, request_: list[str], said: list[str]) -> None:
    routes = "routes: [{id: b, at: GET /b, access: {role: boss}, handler: {echo: true}}, {id: s, at: GET /s, access: signed-in, handler: {echo: true}}]"
    accounts = "accounts: {ann: {roles: [boss]}}"
    done = usher("show", "p.yaml", *request_, p__yaml=f"patient-usher: pipeline/1\n{top}\n{routes}\n{accounts}\n")
    assert [words for words in said if words not in done.out] == [], done.out


def test_rows_show_the_host_where_it_differs_and_what_was_written(usher: Usher) -> None:
    sends = ["GET /r", "GET https://other.example/r", '"GET /r?x=${kept.none}"']
    requests = "".join(f"\n  - {{id: q{number}, send: {send}}}" for number, send in enumerate(sends))
    done = usher("replay", "p.yaml", "t.yaml", p__yaml=PIPE, t__yaml=f"patient-usher: trace/1\nrequests: {requests}\n")
    rows = [" ".join(line.split()) for line in done.out.splitlines() if line[2:4] in ("q0", "q1", "q2")]
    assert [row.split(" ", 2)[2].rpartition(" ●")[0] or row for row in rows][:2] == [
        "GET /r",
        "GET https://other.example/r",
    ]
    assert "GET /r?x=${kept.none}" in rows[2]


# What a run of changes at random found that nothing noticed.

PARENT = "4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7"


@pytest.mark.parametrize("flags", ["00", "01"])
def test_a_trace_that_is_believed_keeps_its_id_and_flags(flags: str) -> None:
    """W3C Trace Context 3.4: the parent alone becomes another."""
    ids = {"id": "ids", "kind": "request-id", "trusts-incoming": True}
    sent = {"send": "GET /", "headers": {"traceparent": f"00-{PARENT}-{flags}"}}
    record = walk([ids], sent, routes=[{**ROUTE, "handler": {"echo": True}}])
    version, trace, span, kept = json.loads(record["response"]["body"])["headers"]["traceparent"].split("-")
    assert (version, trace, kept) == ("00", PARENT[:32], flags)
    assert span != PARENT[33:]


def test_tokens_are_signed_by_the_first_key_that_is_asked_for() -> None:
    secrets = {name: f"made-up-secret-for-these-tests-only-{name}" for name in ("one", "two")}
    keys = {name: {"algorithm": "HS256", "secret": secret} for name, secret in secrets.items()}
    who = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "bearer", "keys": ["one", "two"]}]}
    known = {"accounts": {"maren": {}}, "signing-keys": keys}
    service = make_pipeline([who], routes=[{**ROUTE, "handler": text()}], **known)
    (record,) = replay(service, {"send": "GET /", "sign": {"bearer": "maren"}})
    token = next(value for name, value in record["request"]["headers"] if name == "Authorization").split()[1]
    signed, _, signature = token.rpartition(".")
    made = hmac.digest(secrets["one"].encode(), signed.encode(), "sha256")
    assert base64.urlsafe_b64encode(made).rstrip(b"=").decode() == signature


@pytest.mark.parametrize(("quality", "coding"), [("0.123", "gzip"), ("0.1234", None), ("0", None), ("1.000", "gzip")])
def test_qualities_have_three_digits(quality: str, coding: str | None) -> None:
    """RFC 9110 12.4.2."""
    record = walk([{"id": "c", "kind": "compress", "from-size": 1}], {"send": "GET /", "headers": {"Accept-Encoding": f"gzip;q={quality}, identity;q=0.01"}}, routes=[{**ROUTE, "handler": {"answer": {"text": "tide " * 200}}}])  # fmt: skip
    assert record["response"]["encoding"] == coding
