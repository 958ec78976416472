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
    assert parse_set_cookie(field, parse_url("https://app.site.example/"), NOW, lambda host: host) is None


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
    assert (cookie and (cookie.domain, cookie.host_only)) == kept
