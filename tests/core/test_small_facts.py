"""Small facts of the core that little else looks at, each a row."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from conftest import Outcome, make_pipeline, replay, text, walk
from patient_usher.core.http.caching import seconds
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
