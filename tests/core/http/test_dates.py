"""Dates on the wire: the three forms, and years of two digits (RFC 9110 5.6.7)."""

from __future__ import annotations

from datetime import datetime

import pytest

from patient_usher.core.http.caching import parse_date
from patient_usher.core.http.dates import LATEST, instant, numeric_date

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
