"""Cookies, held against what a browser did with the same Set-Cookie fields (RFC 6265bis)."""

from __future__ import annotations

import json
from datetime import datetime
from pathlib import Path

import pytest

from patient_usher.core.engine.callers.public_suffix import registrable
from patient_usher.core.http.cookies import Jar, parse_set_cookie
from patient_usher.core.http.dates import cookie_instant, http_date, instant
from patient_usher.core.http.urls import parse_url

VECTOR = Path(__file__).parents[2] / "vectors" / "set-cookie-of-chromium.json"
NOW = instant(datetime(2026, 11, 27, 12, 35, 16))  # when the browser was asked


def test_what_a_browser_keeps_and_sends() -> None:
    fields, sent = json.loads(VECTOR.read_text())
    jar = Jar(lambda host: None)
    for at, (_, field) in enumerate(fields):
        jar.store((field,), parse_url("http://localhost/c/set"), NOW + at)
    assert jar.header(parse_url("http://localhost/c/get"), NOW + len(fields)) == sent


@pytest.mark.parametrize(
    ("text", "date"),
    [
        ("Wed, 19 Aug 2026 12:05:16 GMT", "Wed, 19 Aug 2026 12:05:16 GMT"),
        ("Wed, 19-Aug-69 12:05:16 GMT", "Mon, 19 Aug 2069 12:05:16 GMT"),
        ("Wed, 19-Aug-70 12:05:16 GMT", "Wed, 19 Aug 1970 12:05:16 GMT"),
        ("Wed, 19-Aug-99 12:05:16 GMT", "Thu, 19 Aug 1999 12:05:16 GMT"),
        ("2026 Aug 19 00:00:00", "Wed, 19 Aug 2026 00:00:00 GMT"),
        ("Fri, 27 Nov 2026 11:35:16 EST", "Fri, 27 Nov 2026 11:35:16 GMT"),  # 5.1.1: a zone counts for nothing
        ("Tue, 31 Feb 2020 00:00:00 GMT", None),
        ("Wed, 19 Aug 1600 12:05:16 GMT", None),
        ("Wed, 19 Aug 2026 24:05:16 GMT", None),
        ("2026-08-19T00:00:00Z", None),
        ("", None),
    ],
)
def test_dates_of_cookies(text: str, date: str | None) -> None:
    moment = cookie_instant(text)
    assert (None if moment is None else http_date(moment)) == date


def test_a_cookie_for_the_host_alone_is_another_than_one_for_the_domain() -> None:
    jar, url = Jar(lambda host: "site.example"), parse_url("https://app.site.example/")
    jar.store(("sid=one; Path=/", "sid=two; Path=/; Domain=app.site.example"), url, NOW)
    assert jar.header(url, NOW) == "sid=one; sid=two"
    jar.store(("sid=; Path=/; Domain=app.site.example; Max-Age=0",), url, NOW)  # why signing out "doesn't work"
    assert jar.header(url, NOW) == "sid=one"


DAY = 86_400 * 1_000_000
# What a cookie says of its end, and when it is there for the last time and gone for the first, from now on.
ENDS: list[tuple[str, int, int]] = [
    ("Max-Age=60", 59_999_999, 60_000_000), ("Max-Age=34560000", 400 * DAY - 1, 400 * DAY), ("Max-Age=34560001", 400 * DAY - 1, 400 * DAY), ("Max-Age=99999999999999999999", 400 * DAY - 1, 400 * DAY),
    ("Expires=Wed, 19 Aug 2199 12:05:16 GMT", 400 * DAY - 1, 400 * DAY), ("Max-Age=0", -1, 0), ("Max-Age=-99999999999999999999", -2_000_000, 0),
]  # fmt: skip


@pytest.mark.parametrize(("attribute", "last", "gone"), ENDS)
def test_when_a_cookie_ends(attribute: str, last: int, gone: int) -> None:
    jar, url = Jar(lambda host: "site.example"), parse_url("https://app.site.example/")
    jar.store((f"sid=one; Path=/; {attribute}",), url, NOW)
    assert jar.header(url, NOW + gone) is None
    if last > 0:
        jar.store((f"sid=one; Path=/; {attribute}",), url, NOW)
        assert jar.header(url, NOW + last) == "sid=one"


@pytest.mark.parametrize("field", ["__Secure-x", "__host-x; Path=/", "=__Secure-x=1", ""])
def test_a_nameless_cookie_pretends_nothing(field: str) -> None:
    why = parse_set_cookie(field, parse_url("https://app.site.example/"), NOW, lambda host: host)
    assert isinstance(why, str)


@pytest.mark.parametrize(
    ("host", "domain", "kept"),
    [
        ("co.uk", "co.uk", ("co.uk", True)),
        ("harbour.co.uk", "co.uk", None),
        ("api.harbour.co.uk", "harbour.co.uk", ("harbour.co.uk", False)),
        ("harbour.co.uk", "", ("harbour.co.uk", True)),
    ],
)
def test_cookies_of_public_suffixes(host: str, domain: str, kept: tuple[str, bool] | None) -> None:
    """Nobody sets one for a public suffix; a host that is one itself has it for itself alone."""
    cookie = parse_set_cookie(f"a=1; Domain={domain}", parse_url(f"https://{host}/"), NOW, registrable)
    assert (None if isinstance(cookie, str) else (cookie.domain, cookie.host_only)) == kept


# What the text of a cookie says, where it is set, and where it goes then: (field, set at, asked for, sent).
KEPT: list[tuple[str, str, str, str | None]] = [
    ("=x=y", "https://app.site.example/", "https://app.site.example/", None),  # it would come back as another's
    ("=x", "https://app.site.example/", "https://app.site.example/", "x"),
    ("__Host-h=1; Secure; Path=/", "https://app.site.example/", "https://app.site.example/a", "__Host-h=1"),
    ('__Host-h=1; Secure; Path="/"', "https://app.site.example/", "https://app.site.example/", None),
    ("__Host-h=1; Secure; Path=/; Domain=localhost", "https://localhost/", "https://localhost/", None),
    ("a=1; Secure", "http://localhost:8000/", "http://localhost:9000/", "a=1"),
    ("a=1; Secure", "http://127.0.0.1/", "http://127.0.0.1/", "a=1"),
    ("a=1; Secure", "http://app.site.example/", "https://app.site.example/", None),
    ("a=1; Secure", "https://app.site.example/", "http://app.site.example/", None),
]  # fmt: skip


@pytest.mark.parametrize(("field", "set_at", "asked", "sent"), KEPT)
def test_what_is_kept_and_where_it_goes(field: str, set_at: str, asked: str, sent: str | None) -> None:
    jar = Jar(registrable)
    jar.store((field,), parse_url(set_at), NOW)
    assert jar.header(parse_url(asked), NOW) == sent


def test_a_new_value_stays_where_the_old_one_was() -> None:
    """RFC 6265 5.3 step 11.3; an hour later too, and at the same instant. What is over leaves no place behind."""
    jar, url = Jar(registrable), parse_url("https://app.site.example/")
    jar.store(("a=1; Max-Age=60", "b=1", "a=2; Max-Age=60"), url, NOW)
    assert jar.header(url, NOW) == "a=2; b=1"
    jar.store(("a=3",), url, NOW + 3_600_000_000)
    assert jar.header(url, NOW + 3_600_000_000) == "b=1; a=3"


# What isn't taken from an answer to a call, and the words for it.
REFUSED: list[tuple[str, str, str]] = [
    ("", "https://app.site.example/", "it is empty"),
    ("a=" + "1" * 4096, "https://app.site.example/", "it is longer than 4096 octets"),
    ("=x=y", "https://app.site.example/", "it has no name"),
    ("a=1\t2", "https://app.site.example/", "it has a control character"),
    ("a=1; Domain=other.example", "https://app.site.example/", "app.site.example isn't of its Domain other.example"),
    ("a=1; Domain=co.uk", "https://x.co.uk/", "nobody sets cookies for all of co.uk"),
    ("a=1; Secure", "http://app.site.example/", "it is Secure, and came over plain HTTP"),
    ("a=1; SameSite=None", "https://app.site.example/", "it is SameSite=None without Secure"),
    ("__Secure-a=1", "https://app.site.example/", "__Secure- needs Secure"),
    ("__Host-a=1; Secure", "https://app.site.example/", "__Host- needs Secure, Path=/ and no Domain"),
    ("there=2", "http://app.site.example/", "it came over plain HTTP, and a Secure one of this name is there"),
]  # fmt: skip


@pytest.mark.parametrize(("field", "url", "why"), REFUSED)
def test_what_is_not_taken_says_why(field: str, url: str, why: str) -> None:
    jar = Jar(registrable)
    jar.store(("there=1; Secure",), parse_url("https://app.site.example/"), NOW)
    [told] = jar.store((field,), parse_url(url), NOW)
    assert told.partition(" wasn't taken: ")[2] == why
