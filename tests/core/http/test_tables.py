"""Tables of the standards, held against other copies of them."""

from __future__ import annotations

from http import HTTPStatus
from types import SimpleNamespace
from typing import cast

import pytest

from patient_usher.core.http.cache_store import CacheStore, octets
from patient_usher.core.http.caching import (
    COVERED,
    HEURISTICALLY_CACHEABLE,
    UNDERSTOOD,
    Stored,
    bars_storing,
    freshness_lifetime,
    invalidates,
    may_use,
)
from patient_usher.core.http.cors import Grant, PreflightCache
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.forwarded import Hop, write_forwarded
from patient_usher.core.http.limits import NEVER, AtOnce, FixedWindow, SlidingCounter, SlidingLog
from patient_usher.core.http.media import parse_media_type
from patient_usher.core.http.messages import Answer, finish, nests_too_deep, phrase, read_json
from patient_usher.core.http.negotiation import choose_media_type
from patient_usher.core.http.redirects import target
from patient_usher.core.http.urls import parse_url

RENAMED = {
    413: "Content Too Large",
    414: "URI Too Long",
    416: "Range Not Satisfiable",
    418: "(Unused)",
    422: "Unprocessable Content",
}
"""Where RFC 9110 15 says otherwise than older registries."""


UNUSUAL = {207, 208, 226, 305, 506, 510}
"""Those that no stage, handler or service of a pipeline answers with."""


@pytest.mark.parametrize("status", [status for status in HTTPStatus if status >= 200])
def test_reason_phrases_are_the_registrys(status: HTTPStatus) -> None:
    wanted = RENAMED.get(status.value, status.phrase)
    assert phrase(status.value) == (f"Status {status.value}" if status.value in UNUSUAL else wanted)


def test_what_may_be_stored_by_its_status() -> None:
    assert sorted(HEURISTICALLY_CACHEABLE) == [
        200,
        203,
        204,
        206,
        300,
        301,
        308,
        404,
        405,
        410,
        414,
        501,
    ]  # RFC 9110 15.1
    assert sorted(UNDERSTOOD) == [
        200, 203, 204, 300, 301, 302, 303, 307, 308, 404, 405, 410, 414, 421, 451, 500, 501, 502, 503, 504,
    ]  # fmt: skip
    assert HEURISTICALLY_CACHEABLE - {206} <= UNDERSTOOD
    assert sorted(COVERED) == [500, 502, 503, 504]  # RFC 5861 4


FRAMED: list[tuple[int, bytes, str | None]] = [
    (200, b"x", "1"),
    (204, b"", None),
    (205, b"", "0"),
    (304, b"", None),
    (206, b"x", "1"),
    (404, b"x", "1"),
]


@pytest.mark.parametrize(("status", "body", "length"), FRAMED)
def test_which_answers_have_content(status: int, body: bytes, length: str | None) -> None:
    answer = finish("GET", Answer(status, Fields([("Content-Type", "text/plain")]), b"x"), "now")
    assert (answer.body, answer.fields.get("content-length")) == (body, length)


def test_a_look_takes_no_place() -> None:
    limiter = AtOnce(2, 0)
    assert [limiter.peek("a", 0, cost) for cost in (1, 2, 3)] == [0, 0, NEVER]
    assert [
        limiter.take("a", 0),
        limiter.peek("a", 0),
        limiter.take("a", 0),
        limiter.peek("a", 0),
        limiter.take("a", 0),
    ] == [0, 0, 0, NEVER, NEVER]


ASKED: list[tuple[str, bool]] = [("x-a", True), ("authorization", False)]


@pytest.mark.parametrize(("name", "covered"), ASKED)
def test_a_star_covers_every_field_but_authorization(name: str, covered: bool) -> None:
    cache = PreflightCache()
    cache.remember("https://a.example", "https://b.example/", Grant(("PUT",), ("*",), 60), 0, credentials=False)
    assert cache.allows("https://a.example", "https://b.example/", "PUT", [name], 1, credentials=False) is covered


MEDIA: list[tuple[str, str, tuple[tuple[str, str], ...]]] = [
    ('text/plain; a="x\\";y"; b=z', "text/plain", (("a", 'x";y'), ("b", "z"))),
    ('text/plain;a="x;y";b=z', "text/plain", (("a", "x;y"), ("b", "z"))),
    ('text/plain; a="', "text/plain", (("a", '"'),)),
    (r'text/plain; a="\\"; b=z', "text/plain", (("a", "\\"), ("b", "z"))),
    (r'text/plain; a="\n\\"', "text/plain", (("a", "n\\"),)),
    ("text/plain; charset=utf-8", "text/plain", (("charset", "utf-8"),)),
    ('"text/plain"', '"text/plain"', ()),
    ("text", "", ()),
]


@pytest.mark.parametrize(("value", "essence", "parameters"), MEDIA)
def test_a_quoted_parameter_may_hold_what_parts_parameters(
    value: str, essence: str, parameters: tuple[tuple[str, str], ...]
) -> None:
    assert parse_media_type(value) == (essence, parameters)  # RFC 9110 5.6.4, 5.6.6


ACCEPTED: list[tuple[str | None, str | None]] = [
    (None, "text/html"),
    ("*/*", "text/html"),
    ("application/json", "application/json"),
    ("text/html;q=0.5, application/json", "application/json"),
    ("text/html;level=1, text/html;q=0.4, application/json;q=0.7", "application/json"),
    ('text/html;a="x;q=0.1,y", application/json;q=0.5', "text/html"),
    ("application/json;charset=utf-8", "application/json"),
    ("text/*;q=0.5, text/html;q=0", None),
    ("image/png", None),
]


@pytest.mark.parametrize(("accept", "wanted"), ACCEPTED)
def test_the_type_that_a_request_prefers(accept: str | None, wanted: str | None) -> None:
    assert choose_media_type(accept, ("text/html", "application/json")) == wanted


REDIRECTS: list[tuple[int, str | None, str | None]] = [
    (302, "/b", "https://h.example/b"), (302, None, None), (200, "/b", None), (304, "/b", None), (308, " /b#x ", "https://h.example/b"),
    (301, "https://[", None),
]  # fmt: skip


@pytest.mark.parametrize(("status", "location", "url"), REDIRECTS)
def test_where_an_answer_redirects_to(status: int, location: str | None, url: str | None) -> None:
    fields = Fields([("Location", location)] if location is not None else [])
    found = target(parse_url("https://h.example/a"), Answer(status, fields))
    assert (found.text if found is not None else None) == url


def test_a_sliding_counter_shows_what_it_counts() -> None:
    """Window 10: what is seen of it before anything came, in the first window, in the next, and after that."""
    limiter = SlidingCounter(4, 10)
    assert limiter.view("a", 3) == (4, 0)
    limiter.charge("a", 3, 2)
    assert [limiter.view("a", now) for now in (3, 9, 10, 15, 20)] == [(2, 17), (2, 11), (2, 10), (3, 5), (4, 0)]


def test_a_copy_takes_its_content_and_fields() -> None:
    """With what stands between name and value, and at the end of each line."""
    answer = Answer(200, Fields([("Age", "1"), ("Vary", "Accept")]), b"12345")
    stored = SimpleNamespace(answer=answer)
    assert octets(stored) == 5 + len("Age: 1\r\n") + len("Vary: Accept\r\n")  # type: ignore[arg-type]


def test_a_store_holds_what_fits_and_lets_go_of_what_was_not_used() -> None:
    def copy(text: bytes) -> Stored:
        return cast(Stored, SimpleNamespace(answer=Answer(200, Fields(), text), vary=()))

    store = CacheStore(10)
    assert [store.put(("a",), copy(b"x" * 11)), store.put(("a",), copy(b"x" * 10)), store.size] == [False, True, 10]
    assert store.put(("b",), copy(b"x"))
    assert [store.knows(("a",)), store.knows(("b",)), store.size] == [False, True, 1]


@pytest.mark.parametrize(("status", "goes"), [(199, False), (200, True), (204, True), (399, True), (400, False)])
def test_which_answers_invalidate_what_is_stored(status: int, goes: bool) -> None:
    """RFC 9111 4.4: those of unsafe methods that are no errors."""
    assert [invalidates(method, status) for method in ("POST", "PATCH", "LOCK")] == [goes] * 3
    assert not any(invalidates(method, status) for method in ("GET", "HEAD", "OPTIONS", "TRACE"))


@pytest.mark.parametrize(("depth", "too_deep"), [(60, False), (61, True)])
def test_how_deep_json_may_nest(depth: int, too_deep: bool) -> None:
    assert nests_too_deep("[" * depth + "]" * depth) is too_deep
    assert nests_too_deep('{"a":' * depth + "1" + "}" * depth) is too_deep
    assert not nests_too_deep("[]" * depth)
    within = "[" * depth
    assert not nests_too_deep(f'{{"a": "{within}", "b\\"{within}\\\\": "{within}')
    assert nests_too_deep(f'"\\\\"{within}') is too_deep


def test_how_long_a_number_may_be() -> None:
    assert read_json("9" * 400) == 10**400 - 1
    with pytest.raises(ValueError, match="over 400 digits"):
        read_json("9" * 401)


def test_what_limits_show_of_whom_they_have_not_counted() -> None:
    """All is free, and nothing has to come back; of a fixed window the time until it ends."""
    assert [limiter.view("a", 3) for limiter in (FixedWindow(4, 10), SlidingLog(4, 10), AtOnce(4, 0))] == [
        (4, 7),
        (4, 0),
        (4, 0),
    ]


STORED: list[tuple[int, str, bool, str]] = [
    (302, "private", False, ""), (302, "private", True, "private"), (302, 'private="x-a"', True, "nothing-permits"), (302, "max-age=0", True, ""),
    (302, "", False, "nothing-permits"), (404, "", True, ""), (504, "max-age=9", True, ""), (505, "max-age=9", True, ""),
    (201, "max-age=9", True, ""), (201, "", True, "nothing-permits"), (505, "max-age=9, must-understand", True, "status"), (404, "max-age=9, must-understand", True, ""),
    (206, "max-age=9", True, "status"), (304, "max-age=9", False, "status"),
]  # fmt: skip


@pytest.mark.parametrize(("status", "control", "shared", "bar"), STORED)
def test_what_bars_an_answer_from_being_stored(status: int, control: str, shared: bool, bar: str) -> None:
    answer = Fields([("Cache-Control", control)] if control else [])
    assert bars_storing("GET", status, Fields(), answer, shared=shared) == bar


@pytest.mark.parametrize(("control", "lifetime"), [("max-age=0", 0), ("max-age=x", 0), ("max-age=2", 2_000_000)])
def test_how_long_an_answer_is_fresh(control: str, lifetime: int) -> None:
    answer = Fields([("Cache-Control", control)])
    assert freshness_lifetime(200, answer, 0, shared=True, heuristic=False) == lifetime


def test_a_copy_is_fresh_until_the_very_end_of_its_lifetime() -> None:
    answer = Answer(200, Fields([("Cache-Control", "max-age=1"), ("Date", "Thu, 01 Jan 1970 00:00:00 GMT")]))
    copy = Stored(answer, 0, 0)
    found = [may_use(copy, Fields(), now, shared=True, heuristic=False).how for now in (999_999, 1_000_000)]
    assert found == ["fresh", "validate"]


def test_a_front_says_for_which_host_it_passes_a_request_on() -> None:
    fields = Fields()
    write_forwarded(fields, "forwarded", Hop("192.0.2.1", "https", "api.example"))
    assert fields.get("forwarded") == 'for=192.0.2.1;proto=https;host="api.example"'
