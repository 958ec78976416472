"""Dates on the wire: the three forms, years of two digits (RFC 9110 5.6.7), and what the standard library makes of them."""

from __future__ import annotations

from datetime import UTC, datetime
from email.utils import format_datetime, parsedate_to_datetime

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from patient_usher.core.http.caching import parse_date
from patient_usher.core.http.dates import LATEST, http_date, http_instant, instant, moment, numeric_date

SIXTH = datetime(1994, 11, 6, 8, 49, 37)
FORMS: list[tuple[str, int, datetime | None]] = [
    ("Sun, 06 Nov 1994 08:49:37 GMT", 2031, SIXTH),
    ("Sunday, 06-Nov-94 08:49:37 GMT", 2031, SIXTH),
    ("Sun Nov  6 08:49:37 1994", 2031, SIXTH),
    ("Sunday, 06-Nov-80 08:49:37 GMT", 2031, SIXTH.replace(year=2080)),  # within fifty years ahead
    ("Sunday, 06-Nov-82 08:49:37 GMT", 2031, SIXTH.replace(year=1982)),
    ("Sunday, 06-Nov-80 08:49:37 GMT", 2026, SIXTH.replace(year=1980)),
    ("Sunday, 06-Nov-05 08:49:37 GMT", 2095, SIXTH.replace(year=2105)),
    ("Thursday, 29-Feb-96 08:49:37 GMT", 2031, datetime(1996, 2, 29, 8, 49, 37)),
    ("Sun, 06 Nov 1994 08:49:37 CET", 2031, None),
    ("06-Nov-94", 2031, None),
]


@pytest.mark.parametrize(("text", "present", "date"), FORMS)
def test_a_date_on_the_wire(text: str, present: int, date: datetime | None) -> None:
    found = parse_date(text, instant(datetime(present, 12, 31)))
    assert found == (instant(date) if date is not None else None)


@pytest.mark.parametrize(
    ("seconds", "within"), [(LATEST, True), (-LATEST, True), (LATEST + 1, False), (-LATEST - 1, False)]
)
def test_how_far_a_numeric_date_goes(seconds: int, within: bool) -> None:
    assert numeric_date(seconds) == (seconds * 1_000_000 if within else None)


INSTANTS = st.datetimes(timezones=st.just(UTC)).map(instant)


@given(INSTANTS)
def test_a_date_is_written_as_the_library_writes_it(at: int) -> None:
    written = http_date(at)
    *day, year, time, zone = format_datetime(moment(at).replace(microsecond=0), usegmt=True).split()
    assert written.split() == [*day, year.zfill(4), time, zone]
    if moment(at).year >= 1000:  # shorter ones count as years of a century
        assert http_instant(written) == at // 1_000_000 * 1_000_000


def test_what_is_beyond_the_calendar_is_its_last_second() -> None:
    assert http_date(10**18) == "Fri, 31 Dec 9999 23:59:59 GMT"
    assert http_date(-(10**18)) == "Mon, 01 Jan 0001 00:00:00 GMT"


def by_the_library(text: str) -> int | None:
    try:
        return instant(parsedate_to_datetime(text))
    except (ValueError, TypeError, IndexError, OverflowError):
        return None


@given(INSTANTS.map(http_date), st.integers(0, 28), st.sampled_from([*"0123456789 :,GMTabzJF", "٣", ""]))
@example("Thu, 01 May 2031 08:00:00 GMT", 4, ",")
@example("Sat, 29 Feb 2031 08:00:00 GMT", 4, ",")
@example("Thu, 01 May 2031 24:00:00 GMT", 4, ",")
@example("Thu, 01 Mai 2031 08:00:60 GMT", 4, ",")
def test_a_spoilt_date_is_read_as_the_library_reads_it(written: str, at: int, char: str) -> None:
    text = written[:at] + char + written[at + 1 :]
    assert http_instant(text) == by_the_library(text)


def test_the_first_second_is_the_epoch() -> None:
    assert (http_date(0), http_instant("Thu, 01 Jan 1970 00:00:00 GMT")) == ("Thu, 01 Jan 1970 00:00:00 GMT", 0)
    assert instant(datetime(1970, 1, 1, tzinfo=UTC)) == 0
