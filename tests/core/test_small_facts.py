"""Small facts of the core that little else looks at, each a row."""

from __future__ import annotations

from base64 import b64encode
from collections.abc import Callable
from hashlib import sha256
from typing import Any

import pytest
import zstandard

from conftest import Outcome, header, make_pipeline, records, replay, text, walk
from patient_usher import Trace
from patient_usher.core.http.caching import seconds
from patient_usher.core.http.cookies import parse_cookies
from patient_usher.core.http.dates import instant, moment, two_digit_year
from patient_usher.core.http.fields import Fields, merged, unquoted
from patient_usher.core.http.urls import Url
from patient_usher.core.stages.cors import _as_sent as as_sent

Usher = Callable[..., Outcome]

DEFAULTS: dict[str, tuple[Any, set[str]]] = {
    "nothing": ([], set()),
    "access-log": (["access-log"], set()),
    "authenticate": ([{"kind": "authenticate", "schemes": [{"scheme": "basic"}]}], set()),
    "authorize": (["authorize"], set()),
    "cache": (["cache"], {"cache-control", "age"}),
    "compress": (["compress"], set()),
    "conditional": (["conditional"], {"etag"}),
    "cors": ([{"kind": "cors", "allow-origins": ["https://a.example"]}], {"vary"}),
    "error-handler": (["error-handler"], set()),
    "https-only": (["https-only"], set()),
    "rate-limit": ([{"kind": "rate-limit", "quota": 3, "window": "60s"}], {"ratelimit-policy", "ratelimit"}),
    "read-body": (["read-body"], set()),
    "read-cookies": (["read-cookies"], set()),
    "request-id": (["request-id"], {"x-request-id"}),
    "timeout": ([{"kind": "timeout", "after": "1s"}], set()),
    "validate": (["validate"], set()),
}  # fmt: skip


@pytest.mark.parametrize(("stages", "names"), DEFAULTS.values(), ids=DEFAULTS.keys())
def test_which_header_fields_a_kind_adds_where_no_option_is_given(stages: Any, names: set[str]) -> None:
    cached = {"cache": "60s"} if names & {"age"} else {}
    route = {"id": "r", "at": "GET /", "access": "everyone", "handler": text(), **cached}
    _, second = replay(make_pipeline(stages, routes=[route]), {"send": "GET /"}, {"send": "GET /", "after": "1s"})
    found = {name.lower() for name, _ in second["response"]["headers"]}
    assert found - {"content-type", "content-length", "date"} == names


@pytest.mark.parametrize(
    ("value", "says"), [('"a"', "a"), ('"a', '"a'), ('a"', 'a"'), ('"', '"'), (r'"a\"b"', 'a"b'), ('""', "")]
)
def test_what_a_quoted_string_says(value: str, says: str) -> None:
    assert unquoted(value) == says


def test_lists_of_a_draft_and_of_an_answer_both_count() -> None:
    draft = Fields([("Set-Cookie", "a=1"), ("Link", "</a>"), ("Vary", "Origin"), ("X-A", "draft")])
    whole = merged(draft, Fields([("set-cookie", "b=2"), ("link", "</b>"), ("vary", "Accept"), ("x-a", "answer")]))
    assert [[*whole.values(name)] for name in ("set-cookie", "link", "x-a")] == [
        ["a=1", "b=2"],
        ["</a>", "</b>"],
        ["answer"],
    ]
    assert whole.get("vary") == "Origin, Accept"


def test_an_empty_parameter_is_there() -> None:
    assert (
        Url("https", "a.example", 443, "/", "a=&b=1").params["a"] == ("",)
        or Url("https", "a.example", 443, "/", "a=&b=1").params["a"] == ""
    )


@pytest.mark.parametrize(
    ("written", "sent"),
    [
        ("https://*.Bücher.example", "https://*.xn--bcher-kva.example"),
        ("https://BOATERS.example", "https://boaters.example"),
        ("null", "null"),
        ("*", "*"),
    ],
)
def test_an_origin_as_browsers_send_it(written: str, sent: str) -> None:
    assert as_sent(written) == sent


@pytest.mark.parametrize(
    ("argument", "found"),
    [
        ("2147483648", 2**31),
        ("99999999999", 2**31),
        ("9999999999", 2**31),
        ("7", 7),
        ("x", None),
        ("", None),
        (None, None),
    ],
)
def test_delta_seconds(argument: str | None, found: int | None) -> None:
    assert seconds(argument) == (None if found is None else found * 1_000_000)


def test_a_leap_day_with_two_digits_is_of_a_year_that_has_one() -> None:
    """Of 2100 there is none: 29 February 00 is of 2000, though 2100 would be tried first."""
    found = two_digit_year(
        instant(moment(0).replace(year=2000, month=2, day=29)), instant(moment(0).replace(year=2031))
    )
    assert found is not None
    assert moment(found).year == 2000


def test_min_fresh_that_is_none_asks_for_nothing() -> None:
    route = {"id": "r", "at": "GET /", "access": "everyone", "cache": "10s", "handler": text()}
    asked = {"headers": {"Cache-Control": "min-fresh=x"}}
    records = replay(
        make_pipeline(["cache"], routes=[route]), {"send": "GET /"}, {"send": "GET /", "after": "9999ms", **asked}
    )
    assert records[1]["caches"][0]["state"] == "hit"


def test_a_short_secret_is_warned_of(usher: Usher) -> None:
    pipeline = "patient-usher: pipeline/1\nsigning-keys: {main: {algorithm: HS256, secret: short-made-up}}\nroutes: [{id: r, at: GET /, access: everyone, handler: {answer: {text: ok}}}]\n"
    done = usher("show", "p.yaml", p__yaml=pipeline)
    assert "HS256 asks for 32" in done.err


def test_a_head_of_another_length_lets_the_copy_go() -> None:
    """RFC 9111 4.3.5; one that says the same leaves it."""
    cases = [{"when": {"method": "HEAD", "query": {"v": "2"}}, "answer": {"text": "longer than it was"}}]
    route = {
        "id": "r",
        "at": "GET /",
        "access": "everyone",
        "cache": {"shared": "60s", "per": ["no-query"]},
        "handler": {"cases": cases, **text(headers={"ETag": '"1"'})},
    }
    pipeline = make_pipeline(["cache"], routes=[route])
    same = replay(
        pipeline, {"send": "GET /"}, {"send": "HEAD /", "headers": {"Cache-Control": "no-cache"}}, {"send": "GET /"}
    )
    assert same[2]["caches"][0]["state"] == "hit"


def test_a_handler_that_fails_behind_an_answer_is_no_second_answer() -> None:
    stage = {"id": "both", "kind": "decide", "cases": [{"then": {"answer-and-continue": {"status": 202}}}]}
    record = walk([stage], routes=[{"id": "r", "at": "GET /", "access": "everyone", "handler": {"raise": "Oops"}}])
    assert (record["outcome"], record["second_answer"]) == ("answered-twice", None)


def test_a_cookie_has_a_name_and_an_equals_sign() -> None:
    assert parse_cookies("a; =b; c=1; d=") == {"c": "1", "d": ""}


@pytest.mark.parametrize(("status", "tagged"), [(200, True), (201, False), (202, False), (203, True), (404, False)])
def test_which_answers_get_a_tag(status: int, tagged: bool) -> None:
    """Of what a GET gets, those that represent the resource (RFC 9110 15.3.1, 15.3.4)."""
    route = {"id": "r", "at": "GET /", "access": "everyone", "handler": text(status=status)}
    assert (header(walk(["conditional"], routes=[route]), "ETag") is not None) == tagged


@pytest.mark.parametrize(("mode", "value"), [("navigate", "1"), ("cors", None)])
def test_a_navigation_asks_for_a_secure_page(mode: str, value: str | None) -> None:
    """Fetch 4.1, step 14: Upgrade-Insecure-Requests."""
    callers = {"page": {"kind": "browser", "origin": "https://service.example"}}
    request = {"send": "GET /", "caller": "page", "mode": mode}
    record = records(make_pipeline([]), Trace.of(request, callers=callers, base="https://service.example"))[0]
    asked = dict(record["request"]["headers"])
    assert asked.get("Upgrade-Insecure-Requests") == value


def test_a_counter_that_slides_has_nothing_left_when_its_quota_is_used() -> None:
    limit = {"kind": "rate-limit", "algorithm": "sliding-counter", "quota": 2, "window": "60s"}
    sends = [{"send": "GET /"}] * 3
    assert [record["rates"][0]["remaining"] for record in replay(make_pipeline([limit]), *sends)] == [1, 0, 0]


def test_two_frames_of_zstd_are_one_body() -> None:
    """RFC 8878 3.1: frames stand one behind the other."""
    body = b"".join(zstandard.ZstdCompressor().compress(part) for part in (b"high at ", b"six"))
    headers = {"Content-Encoding": "zstd", "Content-Type": "text/plain"}
    stage = {"kind": "read-body", "media": ["text"], "codings": ["zstd"]}
    route = {"id": "r", "at": "POST /", "access": "everyone", "handler": {"answer": {"text": "${body}"}}}
    request = {"send": "POST /", "headers": headers, "base64": b64encode(body).decode()}
    assert walk([stage], request, routes=[route])["response"]["body"] == "high at six"


def test_json_is_written_in_utf_8() -> None:
    route = {"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": {"json": {"at": "Ærø"}}}}
    assert walk([], routes=[route])["response"]["body_size"] == len('{"at": "Ærø"}'.encode())


def test_a_path_that_ends_early_falls_back_to_a_parameter_with_a_tail() -> None:
    """A literal that goes on elsewhere doesn't hide what fits the whole path."""
    routes = [
        {"id": "one", "at": "GET /a/b/c", "access": "everyone", "handler": text()},
        {"id": "two", "at": "GET /{x}/b/d", "access": "everyone", "handler": text()},
        {"id": "all", "at": "GET /{+rest}", "access": "everyone", "handler": text()},
    ]
    pipeline = make_pipeline([], routes=routes)
    paths = ["/a/b/c", "/a/b/d", "/a/b/e", "/z/b/d", "/z/b"]
    found = [record["route"] for record in replay(pipeline, *({"send": f"GET {path}"} for path in paths))]
    assert found == ["one", "two", "all", "two", "all"]


BODY = b'{"hello": "world"}\n'
DIGESTS: list[tuple[str, dict[str, Any], int, set[str]]] = [
    ("B.1: a whole representation", {"send": "GET /"}, 200, {"content-digest", "repr-digest"}),
    ("B.2: no content", {"send": "HEAD /"}, 200, {"repr-digest"}),
    ("B.3: a part", {"send": "GET /", "headers": {"Range": "bytes=1-7"}}, 206, {"repr-digest"}),
    ("not modified", {"send": "GET /", "headers": {"If-None-Match": '"made-up"'}}, 304, {"repr-digest"}),
    ("coded", {"send": "GET /", "headers": {"Accept-Encoding": "gzip"}}, 200, set()),
]


@pytest.mark.parametrize(("request_", "status", "names"), [row[1:] for row in DIGESTS], ids=[row[0] for row in DIGESTS])
def test_digests_of_content_and_of_representations(request_: dict[str, Any], status: int, names: set[str]) -> None:
    """RFC 9530, appendix B: the examples in which a server answers; who sends a body with a digest checks it itself."""
    digest = f"sha-256=:{b64encode(sha256(BODY).digest()).decode()}:"
    headers = {"Content-Digest": digest, "Repr-Digest": digest, "Content-Type": "application/json", "ETag": '"made-up"'}
    handler = {"answer": {"text": BODY.decode(), "headers": headers}, "ranges": True}
    route = {"id": "r", "at": "GET /", "access": "everyone", "handler": handler}
    pipeline = make_pipeline([{"kind": "compress", "from-size": 1}, "conditional"], routes=[route])
    response = replay(pipeline, request_)[-1]["response"]
    found = {name.lower() for name, _ in response["headers"] if "igest" in name}
    assert (response["status"], found) == (status, names)
