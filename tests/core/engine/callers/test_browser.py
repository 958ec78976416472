"""The browser's side: facts of a real browser, the edge cases of the standard, and who is to blame."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import VECTORS, header, make_pipeline, replay, text
from patient_usher.core.http import cors
from patient_usher.core.http.fields import Fields
from patient_usher.core.model.enumerations import BLOCKED

FACTS = [json.loads(line) for line in (VECTORS / "browser-cors.jsonl").read_text().splitlines()]


def modelled(fact: dict[str, Any]) -> list[dict[str, Any]]:
    """The fact's call, sent by our browser to a service that answers as the real one did."""

    def then(answer: dict[str, Any], body: dict[str, Any]) -> dict[str, Any]:
        return {"answer": {"status": answer["status"], "headers": answer["headers"], **body}}

    asked = {"method": "OPTIONS", "header": {"access-control-request-method": "present"}}
    cases = [
        {"when": asked, "then": then(fact["preflight"], {})},
        {"then": then(fact["actual"], {"text": "" if fact["request"]["method"] == "HEAD" else "ok"})},
    ]
    plain = {"id": "plain", "kind": "header-fields", "on-answer": {"drop": ["content-type", "date"]}}
    request = fact["request"]
    entry = {
        "id": "call", "caller": "page", "send": f"{request['method']} /", "headers": request["headers"],
        "credentials": request["credentials"], "mode": request["mode"], **({"text": request["body"]} if request["body"] else {}),
    }  # fmt: skip
    callers = {"page": {"kind": "browser", "origin": fact["page_origin"]}}
    service = make_pipeline([plain, {"id": "origin-server", "kind": "decide", "cases": cases}])
    return replay(service, entry, base="http://127.0.0.1:18481", callers=callers)


def sent_field(record: dict[str, Any], name: str) -> str | None:
    return next((value for key, value in record["request"]["headers"] if key.lower() == name), None)


@pytest.mark.parametrize("fact", FACTS, ids=[f"{n}-{fact['name'][:60]}" for n, fact in enumerate(FACTS)])
def test_what_a_real_browser_did(fact: dict[str, Any]) -> None:
    records = modelled(fact)
    seen = [
        {
            "kind": "preflight" if record["kind"] == "preflight" else "actual",
            "method": record["request"]["method"],
            "origin": sent_field(record, "origin"),
            "request_headers": sent_field(record, "access-control-request-headers"),
            "request_method": sent_field(record, "access-control-request-method"),
        }
        for record in records
        if record["outcome"] != "not-sent"
    ]
    assert seen == fact["seen"]
    browser, outcome = records[-1]["browser"], fact["outcome"]
    assert browser["verdict"] == outcome["verdict"]
    if outcome["verdict"] == "readable":
        response = records[-1]["response"]
        given = {name.lower(): value for name, value in response["headers"]}
        transport = {"date", "server", "connection", "content-type"}
        readable = {name: given[name] for name in browser["readable_headers"] if name not in transport}
        assert (response["status"], readable) == (
            outcome["status"],
            {n: v for n, v in outcome["headers"].items() if n not in transport},
        )
    if outcome["verdict"] == "blocked":
        assert browser["why"] in BLOCKED
        assert browser["reason"]


# The standard's rules, one by one.

SAFE = [
    ("accept", "a" * 128, True), ("accept", "a" * 129, False), ("accept", "a(b", False), ("accept", "a\tb", True),
    ("accept-language", "en;q=0.5, *", True), ("accept-language", "en_GB", False), ("content-language", "cy", True),
    ("content-type", "text/plain;charset=utf-8", True), ("content-type", "application/json", False), ("content-type", "TEXT/plain", True),
    ("content-type", "text/plain; x=(", False), ("content-type", "", False), ("range", "bytes=0-", True), ("range", "bytes=-1", False),
    ("range", "bytes=5-4", False), ("range", "bytes=0-1,2-3", False), ("x-berth", "1", False), ("authorization", "x", False),
]  # fmt: skip


@pytest.mark.parametrize(("name", "value", "safe"), SAFE)
def test_safelisted_request_fields(name: str, value: str, safe: bool) -> None:
    assert cors.is_safelisted(name, value) is safe


def test_safelisted_fields_count_together() -> None:
    eight = Fields([("Accept", "a" * 128), *((name, "b" * 128) for name in ("Accept-Language", "Content-Language"))])
    assert cors.unsafe_names(eight) == []
    many = Fields([("Accept", "a" * 128), ("Range", "bytes=0-"), ("X-One", "1")])
    assert cors.unsafe_names(many) == ["x-one"]


@given(st.sampled_from(["get", "Post", "pAtch", "patch", "delete", "QUERY", "options", "head", "put"]))
def test_six_methods_have_no_case(method: str) -> None:
    normal = cors.normalise_method(method)
    assert normal == (
        method.upper() if method.upper() in ("GET", "POST", "DELETE", "OPTIONS", "HEAD", "PUT") else method
    )


@pytest.mark.parametrize(
    ("name", "value", "forbidden"),
    [
        ("cookie", "a", True),
        ("sec-x", "a", True),
        ("proxy-y", "", True),
        ("x-method-override", "get, TRACE", True),
        ("x-method-override", "PUT", False),
        ("user-agent", "x", False),
        ("host", "x", True),
    ],
)
def test_forbidden_request_fields(name: str, value: str, forbidden: bool) -> None:
    assert cors.is_forbidden_request_field(name, value) is forbidden


@pytest.mark.parametrize(
    ("pattern", "origin", "fits"),
    [
        ("https://a.example", "https://a.example", True), ("https://a.example", "https://a.example:444", False), ("https://*.a.example", "https://b.a.example", True),
        ("https://*.a.example", "https://c.b.a.example", True), ("https://*.a.example", "https://a.example", False), ("https://*.a.example", "http://b.a.example", False),
        ("https://*.a.example", "https://bada.example", False), ("*", "null", True),
    ],
)  # fmt: skip
def test_origin_patterns(pattern: str, origin: str, fits: bool) -> None:
    assert cors.matches_origin(pattern, origin) is fits


# Calls of a page, through pipelines.

PAGE = "https://boaters.example"
CORS: dict[str, Any] = {
    "id": "browsers", "kind": "cors", "allow-origins": [PAGE], "allow-methods": ["GET", "HEAD", "POST", "PUT"],
    "allow-headers": ["content-type", "authorization"], "max-age": "10m",
}  # fmt: skip
NET = {"id": "net", "kind": "error-handler"}
WHO = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "bearer", "keys": "k"}]}
MORE: dict[str, Any] = {
    "refuse": "raise",
    "accounts": {"maren": {}},
    "signing-keys": {"k": {"algorithm": "HS256", "secret": "x" * 32}},
    "groups": [
        {
            "id": "v1", "prefix": "/v1", "routes": [
                {"id": "tides", "at": "GET /tides", "access": "everyone", "handler": text()},
                {"id": "book", "at": "PUT /book", "handler": {"answer": {"status": 201, "headers": {"X-Id": "7"}}}},
                {"id": "broken", "at": "GET /broken", "access": "everyone", "handler": {"raise": "Oops"}},
                {"id": "patchy", "at": "PATCH /book", "handler": text()},
                {"id": "stuck", "at": "GET /stuck", "access": "everyone", "stages": [{"id": "sleepy", "kind": "decide", "cases": [{"then": "nothing"}]}], "handler": text()},
            ],
        }
    ],
    "routes": [],
}  # fmt: skip
CALLERS = {
    "page": {"kind": "browser", "origin": PAGE},
    "stranger": {"kind": "browser", "origin": "https://gulls.example"},
}
TIDES = {"send": "GET /v1/tides"}
BOOK = {"send": "PUT /v1/book", "json": {}, "sign": {"bearer": "maren"}}


def call(stages: list[Any], *requests: dict[str, Any], caller: str = "page", **more: Any) -> list[dict[str, Any]]:
    service = make_pipeline(stages, **{**MORE, **more})
    return replay(service, *({"caller": caller, **request} for request in requests), callers=CALLERS)


def grouped(stage: dict[str, Any]) -> dict[str, Any]:
    return {"groups": [{**MORE["groups"][0], "stages": [stage]}]}


GATE_429 = {
    "id": "throttle",
    "kind": "decide",
    "cases": [{"when": {"header": {"access-control-request-method": "missing"}}, "then": {"answer": {"status": 429}}}],
}
# name, stages, more, request, why, words of the sentence
BLAMED: list[tuple[str, list[Any], dict[str, Any], dict[str, Any], str, list[str]]] = [
    ("preflight refused", [NET, WHO, CORS], {}, BOOK, "preflight-refused", ["401", "who", "before browsers", "move browsers in front of who"]),
    ("preflight unrouted", [NET], grouped(CORS), BOOK, "preflight-unrouted", ["405", "group v1", "OPTIONS never reaches", "server-wide"]),
    ("error caught outside", [NET, CORS], {}, {"send": "GET /v1/broken"}, "error-outside-cors", ["500", "net stands outside browsers"]),
    ("refusal raised outside", [NET, WHO, CORS], {}, {**TIDES, "send": "GET /v1/nowhere"}, "stage-before-cors", ["401", "who stands outside browsers"]),
    ("answered outside", [GATE_429, CORS], {}, TIDES, "stage-before-cors", ["429", "throttle stands outside browsers"]),
    ("nobody catches", [CORS], {}, {"send": "GET /v1/broken"}, "crashed", ["Oops", "error-handler inside browsers"]),
    ("nobody catches, outside", [WHO, CORS], {}, {**TIDES, "send": "GET /v1/nowhere"}, "crashed", ["Unauthenticated", "who"]),
    ("origin not listed", [{**CORS, "allow-origins": "https://other.example"}], {}, TIDES, "origin-not-listed", [PAGE, "allow-origins"]),
    ("origin not listed, preflight", [{**CORS, "allow-origins": "https://other.example"}], {}, BOOK, "origin-not-listed", ["browsers"]),
    ("origin rejected", [NET, {**CORS, "allow-origins": "https://other.example", "reject-unlisted": True}], {}, TIDES, "origin-not-listed", ["browsers"]),
    ("wildcard with credentials", [{**CORS, "allow-origins": "*"}], {}, {**TIDES, "credentials": "include"}, "wildcard-with-credentials", ['"*"', "credentials"]),
    ("credentials not allowed", [CORS], {}, {**TIDES, "credentials": "include"}, "credentials-not-allowed", ["allow-credentials on browsers"]),
    ("method not allowed", [CORS], {}, {"send": "PATCH /v1/book"}, "method-not-allowed", ["PATCH", "allow-methods of browsers"]),
    ("patch is not PATCH", [{**CORS, "allow-methods": ["PATCH"]}], {}, {"send": "patch /v1/book"}, "method-not-allowed", ["patch", "methods have case"]),
    ("header not allowed", [CORS], {}, {**TIDES, "headers": {"X-Berth": "1"}}, "header-not-allowed", ["x-berth", "allow-headers of browsers"]),
    ("header rejected", [NET, {**CORS, "reject-unlisted": True}], {}, {**TIDES, "headers": {"X-Berth": "1"}}, "preflight-refused", ["browsers refused", "header-not-listed"]),
    ("wildcard without Authorization", [{**CORS, "allow-headers": "*"}], {}, BOOK, "authorization-not-listed", ["Authorization", "allow-headers of browsers"]),
    ("no cors stage", [NET], {}, TIDES, "no-cors-stage", ["no cors stage"]),
    ("switched off", [{**CORS, "enabled": False}], {}, TIDES, "cors-not-reached", ["switched off"]),
    ("passed over", [{**CORS, "except": ["/v1/**"]}], {}, TIDES, "cors-not-reached", ["only, except"]),
    ("another path unrouted", [NET], grouped(CORS), {"send": "GET /v1/nowhere"}, "cors-not-reached", ["404", "GET never reaches"]),
    ("stalled", [CORS], {}, {"send": "GET /v1/stuck"}, "no-answer", ["sleepy neither passed it on nor answered"]),
    ("mode same-origin", [CORS], {}, {**TIDES, "mode": "same-origin"}, "mode-same-origin", ["own origin"]),
    ("mixed content", [CORS], {}, {"send": "GET http://api.example/v1/tides"}, "mixed-content", ["plain http"]),
    ("no-cors method", [CORS], {}, {"send": "PUT /v1/book", "mode": "no-cors"}, "no-cors-method", ["GET, HEAD and POST"]),
    ("forbidden method", [CORS], {}, {"send": "TRACE /v1/book"}, "forbidden-method", []),
    ("body on GET", [CORS], {}, {**TIDES, "text": "x"}, "body-not-allowed", []),
]  # fmt: skip


@pytest.mark.parametrize(("name", "stages", "more", "request_", "why", "words"), BLAMED, ids=[row[0] for row in BLAMED])
def test_every_blocked_call_names_the_stage_and_the_mend(
    name: str, stages: list[Any], more: dict[str, Any], request_: dict[str, Any], why: str, words: list[str]
) -> None:
    record = call(stages, request_, **more)[-1]
    assert (record["browser"]["verdict"], record["browser"]["why"]) == ("blocked", why), record["browser"]
    for word in words:
        assert word in record["browser"]["reason"]


def test_a_blocked_get_has_run_all_the_same() -> None:
    record = call([{**CORS, "allow-origins": "https://other.example"}], TIDES)[-1]
    assert (record["browser"]["verdict"], record["handler_reached"], record["response"]["status"]) == (
        "blocked",
        True,
        200,
    )


def test_a_preflight_is_an_exchange_of_its_own() -> None:
    expect = {
        "status": 201,
        "browser": "readable",
        "preflight": {"status": 204, "answered-by": "browsers", "handler": "not-reached"},
    }
    preflight, booked = call([CORS, NET, WHO], {**BOOK, "expect": expect})
    assert (preflight["id"], preflight["kind"], preflight["parent"]) == ("q0/preflight", "preflight", "q0")
    assert header(preflight, "access-control-max-age") == "600"
    assert booked["browser"]["readable_headers"] == ["content-length"]
    assert all(check["ok"] for check in booked["checks"])
    assert len(booked["checks"]) == 5


def test_exposed_headers_are_readable() -> None:
    record = call([{**CORS, "expose-headers": ["X-Id"]}], BOOK)[-1]
    assert record["browser"]["readable_headers"] == ["content-length", "x-id"]


@pytest.mark.parametrize(("after", "asked"), [("599s", False), ("600s", True)])
def test_a_preflight_is_remembered_for_its_time(after: str, asked: bool) -> None:
    records = call([CORS], BOOK, {**BOOK, "after": after}, {**BOOK, "credentials": "include"})
    kinds = [record["kind"] for record in records]
    assert kinds[:2] == ["preflight", "call"]
    assert (kinds[2] == "preflight") is asked
    assert kinds[-2:] != ["call", "call"]  # what was granted without credentials doesn't count with them


def test_without_max_age_a_preflight_is_remembered_for_five_seconds() -> None:
    short = {key: value for key, value in CORS.items() if key != "max-age"}
    kinds = [record["kind"] for record in call([short], BOOK, {**BOOK, "after": "4s"}, {**BOOK, "after": "1s"})]
    assert kinds == ["preflight", "call", "call", "preflight", "call"]


STAGE: list[tuple[str, dict[str, Any], dict[str, str], str, int, dict[str, str | None]]] = [
    ("no origin: still Vary", {}, {}, "GET", 200, {"vary": "Origin", "access-control-allow-origin": None}),
    ("listed", {}, {"Origin": PAGE}, "GET", 200, {"vary": "Origin", "access-control-allow-origin": PAGE}),
    ("unlisted: the handler runs", {}, {"Origin": "https://x.example"}, "GET", 200, {"vary": "Origin", "access-control-allow-origin": None}),
    ("anyone: no Vary", {"allow-origins": "*"}, {"Origin": PAGE}, "GET", 200, {"vary": None, "access-control-allow-origin": "*"}),
    ("credentials", {"allow-credentials": True}, {"Origin": PAGE}, "GET", 200, {"access-control-allow-credentials": "true"}),
    ("OPTIONS without request-method is passed on", {}, {"Origin": PAGE}, "OPTIONS", 405, {"access-control-allow-origin": PAGE}),
    ("preflight", {"preflight-status": 200}, {"Origin": PAGE, "Access-Control-Request-Method": "PUT"}, "OPTIONS", 200, {"access-control-allow-methods": "GET, HEAD, POST, PUT", "access-control-allow-headers": "content-type, authorization"}),
    ("preflight of a stranger", {}, {"Origin": "https://x.example", "Access-Control-Request-Method": "PUT"}, "OPTIONS", 204, {"access-control-allow-methods": None, "vary": "Origin"}),
    ("reflected headers", {"reflect-headers": True}, {"Origin": PAGE, "Access-Control-Request-Method": "PUT", "Access-Control-Request-Headers": "x-a,x-b"}, "OPTIONS", 204, {"access-control-allow-headers": "x-a, x-b", "vary": "Origin, Access-Control-Request-Headers"}),
    ("rejected origin", {"reject-unlisted": True}, {"Origin": "https://x.example"}, "GET", 403, {"vary": "Origin", "access-control-allow-origin": None}),
    ("rejected method", {"reject-unlisted": True}, {"Origin": PAGE, "Access-Control-Request-Method": "DELETE"}, "OPTIONS", 403, {"access-control-allow-origin": PAGE}),
    ("rejected header", {"reject-unlisted": True}, {"Origin": PAGE, "Access-Control-Request-Method": "PUT", "Access-Control-Request-Headers": "x-a"}, "OPTIONS", 403, {}),
]  # fmt: skip


@pytest.mark.parametrize(
    ("name", "options", "headers", "method", "status", "fields"), STAGE, ids=[row[0] for row in STAGE]
)
def test_the_cors_stage(
    name: str, options: dict[str, Any], headers: dict[str, str], method: str, status: int, fields: dict[str, str | None]
) -> None:
    record = replay(
        make_pipeline([{**CORS, **options}], **{**MORE, "refuse": "answer"}),
        {"send": f"{method} /v1/tides", "headers": headers},
    )[0]
    assert record["response"]["status"] == status
    assert {key: header(record, key) for key in fields} == fields


@pytest.mark.parametrize("origin", ["boaters.example", "https://boaters.example/", "https://a.*.example"])
def test_origins_that_are_none(origin: str) -> None:
    with pytest.raises(Exception, match="is no origin"):
        make_pipeline([{**CORS, "allow-origins": origin}])


def test_of_several_unlisted_fields_the_first_is_told() -> None:
    asks = {"Origin": PAGE, "Access-Control-Request-Method": "PUT", "Access-Control-Request-Headers": "x-one, x-two"}
    service = make_pipeline([NET, {**CORS, "reject-unlisted": True}], refuse="raise")
    record = replay(service, {"send": "OPTIONS /", "headers": asks})[0]
    assert record["errors"][0]["message"] == "the header x-one isn't on the list"


def test_everyone_with_credentials_is_a_classic_mistake_that_can_be_shown() -> None:
    pipeline = make_pipeline([{**CORS, "allow-origins": "*", "allow-credentials": True}])
    assert ["browsers take it literally" in warning.what for warning in pipeline.warnings] == [True]
    page = {"page": {"kind": "browser", "origin": "https://page.example"}}
    record = replay(pipeline, {"send": "GET /", "caller": "page", "credentials": "include"}, callers=page)[-1]
    assert (record["browser"]["verdict"], record["browser"]["why"]) == ("blocked", "wildcard-with-credentials")


# Cookies, redirects, HSTS.


def cookie_service(attributes: str) -> Any:
    routes = [
        {"id": "in", "at": "POST /in", "handler": {"answer": {"headers": {"Set-Cookie": f"s=1; {attributes}"}}}},
        {"id": "seen", "at": "GET /seen", "handler": {"echo": True}},
    ]
    return make_pipeline([{**CORS, "allow-credentials": True}], routes=routes)


COOKIES = [
    ("Path=/; Secure; SameSite=None", "https://boaters.example", "include", "include", True),
    ("Path=/; SameSite=Lax", "https://boaters.example", "include", "include", False),
    ("Path=/; SameSite=None", "https://boaters.example", "include", "include", False),
    ("Path=/; Secure; SameSite=None", "https://boaters.example", "same-origin", "include", False),
    ("Path=/; Secure; SameSite=None", "https://boaters.example", "include", "omit", False),
    ("Path=/", "https://web.api.example", "include", "include", True),
    ("Path=/elsewhere", "https://web.api.example", "include", "include", False),
    ("Path=/; Max-Age=0", "https://web.api.example", "include", "include", False),
    ("Path=/; Domain=api.example", "https://web.api.example", "include", "include", True),
    ("Path=/; Domain=other.example", "https://web.api.example", "include", "include", False),
    ("Path=/", "https://api.example", "same-origin", "same-origin", True),
]


@pytest.mark.parametrize(("attributes", "origin", "setting", "sending", "sent"), COOKIES)
def test_cookies_across_sites(attributes: str, origin: str, setting: str, sending: str, sent: bool) -> None:
    callers = {"page": {"kind": "browser", "origin": origin}}
    service = cookie_service(attributes)
    records = replay(
        service,
        {"send": "POST /in", "caller": "page", "credentials": setting},
        {"send": "GET /seen", "caller": "page", "credentials": sending},
        callers=callers,
    )
    assert (sent_field(records[-1], "cookie") == "s=1") is sent


def test_cookies_end_on_the_virtual_clock() -> None:
    callers = {"page": {"kind": "browser", "origin": "https://api.example"}}
    see = {"send": "GET /seen", "caller": "page"}
    records = replay(
        cookie_service("Path=/; Max-Age=60"),
        {"send": "POST /in", "caller": "page"},
        {**see, "after": "59s"},
        {**see, "after": "1s"},
        callers=callers,
    )
    assert [sent_field(record, "cookie") for record in records[1:]] == ["s=1", None]


def redirecting(location: str) -> Any:
    routes = [
        {"id": "from", "at": "GET /from", "handler": {"answer": {"status": 302, "headers": {"Location": location}}}},
        {"id": "to", "at": "GET /to", "handler": {"echo": True}},
    ]
    return make_pipeline([{**CORS, "allow-origins": ["https://boaters.example", "null"]}], routes=routes)


FROM = {"send": "GET /from", "caller": "page", "headers": {"Authorization": "x"}}


def test_a_redirect_to_a_third_origin_taints_and_drops_authorization() -> None:
    records = replay(redirecting("https://third.example/to"), FROM, callers=CALLERS)
    assert [record["kind"] for record in records] == ["preflight", "call", "redirect"]
    echoed = json.loads(records[-1]["response"]["body"])["headers"]
    assert (echoed["Origin"], "Authorization" in echoed) == ("null", False)
    assert (records[-1]["id"], records[-1]["parent"], records[-1]["browser"]["verdict"]) == (
        "q0/redirect[1]",
        "q0",
        "readable",
    )


@pytest.mark.parametrize(
    ("redirect", "verdict", "why"),
    [
        ("error", "blocked", "redirect-refused"),
        ("manual", "opaque", "redirect-not-followed"),
        ("follow", "readable", None),
    ],
)
def test_redirect_modes(redirect: str, verdict: str, why: str | None) -> None:
    record = replay(redirecting("/to"), {**FROM, "redirect": redirect}, callers=CALLERS)[-1]
    assert (record["browser"]["verdict"], record["browser"]["why"]) == (verdict, why)


def test_redirects_without_end() -> None:
    records = replay(redirecting("/from"), FROM, callers=CALLERS)
    assert (records[-1]["outcome"], records[-1]["browser"]["why"]) == ("redirect-loop", "redirect-limit")
    assert sum(record["kind"] == "redirect" for record in records) == 20


def test_hsts_turns_plain_calls_into_secure_ones() -> None:
    tls = {"id": "tls", "kind": "https-only", "hsts": {"max-age": "60s"}}
    callers = {"page": {"kind": "browser", "origin": "http://api.example"}}
    service = make_pipeline([CORS | {"allow-origins": ["http://api.example"]}, tls])
    plain = {"send": "GET http://api.example/", "caller": "page"}
    records = replay(service, plain, plain, {**plain, "after": "60s"}, callers=callers)
    secure = "https://api.example/"
    assert [record["request"]["url"] for record in records] == [
        plain["send"][4:],
        secure,
        secure,
        plain["send"][4:],
        secure,
    ]
    other = {"send": "GET http://api.example:8080/", "caller": "page"}  # RFC 6797 8.3: another port stays
    assert replay(service, plain, other, callers=callers)[-1]["request"]["url"] == "https://api.example:8080/"
    known = {"send": "GET https://api.example:80/", "caller": "page"}  # what is secure already stays as it is
    assert replay(service, plain, known, callers=callers)[-1]["request"]["url"] == "https://api.example:80/"


def test_no_cors_is_opaque_and_drops_what_it_may_not_send() -> None:
    record = call([CORS], {**TIDES, "mode": "no-cors", "headers": {"X-Berth": "1", "Accept": "text/plain"}})[-1]
    assert (record["browser"]["verdict"], sent_field(record, "x-berth"), sent_field(record, "accept")) == (
        "opaque",
        None,
        "text/plain",
    )


def test_the_pages_own_origin_reads_everything() -> None:
    callers = {"page": {"kind": "browser", "origin": "https://api.example"}}
    record = replay(make_pipeline([], **MORE), {**BOOK, "caller": "page"}, callers=callers)[-1]
    assert (record["kind"], record["browser"]["verdict"]) == ("call", "readable")
    assert "x-id" in record["browser"]["readable_headers"]
    assert sent_field(record, "origin") == "https://api.example"  # not GET or HEAD


PREFLIGHTS: list[tuple[str, dict[str, str], dict[str, Any], str | None]] = [
    ("GET", {"Content-Type": " text/plain "}, {}, None),
    ("GET", {"Content-Type": "text/plain, application/json"}, {}, "content-type"),
    ("POST", {}, {"json": {}}, "content-type"),
    ("POST", {}, {"text": "x"}, None),
    ("POST", {}, {"form": {"a": "1"}}, None),
    ("GET", {"Range": "bytes= 0-10"}, {}, "range"),
    ("GET", {"Cookie": "a=b", "Host": "x", "Sec-Own": "1", "Origin": "x"}, {}, None),
    ("GET", {"X-B": "1", "X-A": "1", "x-c": "1"}, {}, "x-a,x-b,x-c"),
    ("PUT", {}, {}, ""),
    ("HEAD", {}, {}, None),
]


@pytest.mark.parametrize(("method", "headers", "more", "asked"), PREFLIGHTS)
def test_when_a_preflight_is_needed_and_what_it_asks(
    method: str, headers: dict[str, str], more: dict[str, Any], asked: str | None
) -> None:
    first = call([CORS], {"send": f"{method} /v1/tides", "headers": headers, **more})[0]
    assert (first["kind"] == "preflight") is (asked is not None)
    if asked is not None:
        assert (sent_field(first, "access-control-request-headers") or "") == asked
        assert sent_field(first, "access-control-request-method") == method
        assert sent_field(first, "cookie") is None


MAX_AGES = [(None, 5), ("0", 0), ("60", 60), ("-1", 5), ("soon", 5), ("99999", 7200), ("60, 60", 5)]


@pytest.mark.parametrize(("value", "seconds"), MAX_AGES)
def test_how_long_a_grant_lasts(value: str | None, seconds: int) -> None:
    fields = Fields(
        [("Access-Control-Allow-Origin", "*")] + ([("Access-Control-Max-Age", value)] if value is not None else [])
    )
    granted = cors.preflight_check(204, fields, PAGE, "GET", [], credentials=False)
    assert isinstance(granted, cors.Grant)
    assert granted.max_age == seconds
