"""Tables of the standards, held against other copies of them."""

from __future__ import annotations

from http import HTTPStatus

import pytest

from patient_usher.core.http.caching import HEURISTICALLY_CACHEABLE, UNDERSTOOD
from patient_usher.core.http.cors import Grant, PreflightCache
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.limits import NEVER, AtOnce
from patient_usher.core.http.messages import Answer, finish, phrase

RENAMED = {
    413: "Content Too Large",
    414: "URI Too Long",
    416: "Range Not Satisfiable",
    418: "(Unused)",
    422: "Unprocessable Content",
}
"""Where RFC 9110 15 says otherwise than older registries."""


@pytest.mark.parametrize("status", [status for status in HTTPStatus if status >= 200])
def test_reason_phrases_are_the_registrys(status: HTTPStatus) -> None:
    wanted = RENAMED.get(status.value, status.phrase)
    assert phrase(status.value) in (wanted, f"Status {status.value}")
    if status.value in (200, 201, 204, 301, 304, 400, 401, 403, 404, 405, 409, 412, 429, 500, 501, 502, 503, 504):
        assert phrase(status.value) == wanted


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
    assert not {206, 304} & UNDERSTOOD
    assert HEURISTICALLY_CACHEABLE - {206} <= UNDERSTOOD


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
