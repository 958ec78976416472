"""Times on the wire and in files. Instants are integer microseconds since the Unix epoch."""

from __future__ import annotations

import re
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache

MICROSECONDS = 1_000_000
_DAY = 86_400
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")


def instant(moment: datetime) -> int:
    """A datetime as microseconds since the epoch; without a zone it counts as UTC."""
    if moment.tzinfo is None:
        moment = moment.replace(tzinfo=UTC)
    return (moment - _EPOCH) // timedelta(microseconds=1)


_FIRST, _LAST = instant(datetime.min), instant(datetime.max)


def moment(at: int) -> datetime:
    """The reverse of ``instant``; what is beyond the calendar is its first or its last moment."""
    return _EPOCH + timedelta(microseconds=min(max(at, _FIRST), _LAST))


@lru_cache(maxsize=64)
def _http_day(days: int) -> str:
    when = _EPOCH + timedelta(days=days)
    return f"{_DAYS[when.weekday()]}, {when.day:02} {_MONTHS[when.month - 1]} {when.year:04}"


def http_date(at: int) -> str:
    """An instant as IMF-fixdate (RFC 9110 5.6.7)."""
    days, second = divmod(min(max(at, _FIRST), _LAST) // MICROSECONDS, _DAY)
    return f"{_http_day(days)} {second // 3600:02}:{second // 60 % 60:02}:{second % 60:02} GMT"


_FIXDATE = re.compile(
    r"[A-Z][a-z]{2}, ([0-9]{2}) ([A-Z][a-z]{2}) ([1-9][0-9]{3}) ([01][0-9]|2[0-3]):([0-5][0-9]):([0-5][0-9]) GMT"
)


_LEAP = re.compile(r"(?<=[ 0-9])([012][0-9]:[0-5][0-9]):60(?= )")


def http_instant(text: str) -> int | None:
    """A date as mail and HTTP write it, in any of its old forms; None for what is none, or beyond the calendar."""
    if (leap := _LEAP.sub(r"\1:59", text)) != text:  # RFC 9110 5.6.7 allows one: it is the second behind 59
        before = http_instant(leap)
        return None if before is None else before + MICROSECONDS
    if (match := _FIXDATE.fullmatch(text)) is not None:  # the form of today, which is nearly all there is
        day, month, year, hour, minute, second = match.groups()
        try:
            days = date(int(year), _MONTHS.index(month) + 1, int(day)).toordinal() - _EPOCH.toordinal()
        except ValueError:
            return None
        return (days * _DAY + int(hour) * 3600 + int(minute) * 60 + int(second)) * MICROSECONDS
    from email.utils import parsedate_to_datetime  # slow to import, and rarely needed

    try:
        return instant(parsedate_to_datetime(text))
    except (ValueError, TypeError, IndexError, OverflowError):
        return None


def two_digit_year(at: int, now: int) -> int | None:
    """An instant whose year was written with two digits, in the century that RFC 9110 5.6.7 gives it."""
    written, present = moment(at), moment(now)
    year = present.year // 100 * 100 + written.year % 100
    for candidate in (year + 100, year, year - 100):
        try:
            found = instant(written.replace(year=candidate))
            latest = instant(present.replace(year=present.year + 50))
        except ValueError:  # 29 February, or a year beyond the calendar
            continue
        if found <= latest:
            return found
    return None


_COOKIE_TIME = re.compile(r"(\d{1,2}):(\d{1,2}):(\d{1,2})(?!\d)")
_COOKIE_DAY = re.compile(r"(\d{1,2})(?!\d)")
_COOKIE_YEAR = re.compile(r"(\d{2,4})(?!\d)")
_BETWEEN = re.compile(r"[\t\x20-\x2f\x3b-\x40\x5b-\x60\x7b-\x7e]+")


def cookie_instant(text: str) -> int | None:
    """A cookie's Expires (RFC 6265bis 5.1.1): its parts in any order, and a zone counts for nothing."""
    time = day = month = year = None
    for token in _BETWEEN.split(text):
        if time is None and (match := _COOKIE_TIME.match(token)):
            time = int(match[1]), int(match[2]), int(match[3])
        elif day is None and (match := _COOKIE_DAY.match(token)):
            day = int(match[1])
        elif month is None and token[:3].title() in _MONTHS:
            month = _MONTHS.index(token[:3].title()) + 1
        elif year is None and (match := _COOKIE_YEAR.match(token)):
            year = int(match[1])
            year += 1900 if 70 <= year <= 99 else 2000 if year < 70 else 0
    if time is None or day is None or month is None or year is None or year < 1601:
        return None
    try:
        return instant(datetime(year, month, day, *time))
    except ValueError:
        return None


def in_seconds(micros: int) -> int | float:
    """Microseconds as seconds, whole where they are."""
    return micros // MICROSECONDS if micros % MICROSECONDS == 0 else micros / MICROSECONDS


LATEST = 253_402_300_799
"""The last second of the year 9999: no calendar here goes further."""


def numeric_date(seconds: object) -> int | None:
    """A NumericDate (RFC 7519 2) in microseconds; None for what is no number, or beyond the calendar."""
    if isinstance(seconds, bool) or not isinstance(seconds, int | float) or not -LATEST <= seconds <= LATEST:
        return None
    return seconds * MICROSECONDS if isinstance(seconds, int) else round(seconds * MICROSECONDS)


def timestamp(at: int) -> str:
    """An instant as RFC 3339, with as many decimals as it has."""
    text = moment(at).strftime("%Y-%m-%dT%H:%M:%S")
    rest = at % MICROSECONDS
    return text + (f".{rest:06}".rstrip("0") if rest else "") + "Z"
