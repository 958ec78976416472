"""Times as logs write them: in brackets, ISO 8601, since the epoch, and syslog's without a year."""

from __future__ import annotations

import re
from calendar import timegm
from datetime import UTC, datetime
from functools import lru_cache

from patient_usher.core.http.dates import LATEST

SECOND = 1_000_000
_MONTHS = {
    name: at
    for at, name in enumerate(["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"], 1)
}
_CLF = r"\d{1,2}/[A-Z][a-z]{2}/\d{4}[: ]\d\d:\d\d:\d\d(?:[.,]\d{1,9})?(?: ?[+-]\d{4})?"
_ISO = r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(?::\d\d(?:[.,]\d{1,9})?)?(?:Z| ?[+-]\d\d:?\d\d)?"
_EPOCH = r"[1-9]\d{9}(?:\.\d{1,9}|\d{3}|\d{6}|\d{9})?"
_SYSLOG = r"[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d"
_IN_BRACKETS = re.compile(rf"\[({_CLF}|{_ISO})\]")
_LOOSE = re.compile(rf"(?<![\w/:.-])({_CLF}|{_ISO}|{_EPOCH})(?![\w/:-])")
_OF_SYSLOG = re.compile(rf"(?:^|>)({_SYSLOG})")
_PARTS = re.compile(
    r"(\d{1,2})/([A-Z][a-z]{2})/(\d{4})[: ](\d\d):(\d\d):(\d\d)(?:[.,](\d{1,9}))?(?: ?([+-])(\d\d)(\d\d))?"
)
_WHOLE_EPOCH = re.compile(rf"{_EPOCH}|\d{{10}}")


class NoTime(Exception):
    """A text that is no time."""


def time_in(before: str, after: str) -> int | None:
    """The time that a line tells, of what stands in front of its request and behind it: the one in brackets, else the
    last in front, else the first behind; microseconds since the epoch. None where it tells none. Raises NoTime.
    """
    for text in (before, after):
        if (found := _IN_BRACKETS.search(text)) is not None:
            return moment(found[1])
    loose = _LOOSE.findall(before)
    if loose:
        return moment(loose[-1])
    if (found := _LOOSE.search(after)) is not None:
        return moment(found[1])
    if (found := _OF_SYSLOG.search(before)) is not None:
        return _of_syslog(found[1])
    return None


@lru_cache(maxsize=8192)
def moment(text: str) -> int:
    """A time of any of these forms, in microseconds since the epoch. Raises NoTime."""
    text = text.strip()
    if (match := _PARTS.fullmatch(text)) is not None:
        return _of_clf(match)
    if _WHOLE_EPOCH.fullmatch(text):
        return since_epoch(text)
    return _of_iso(text)


def since_epoch(text: str) -> int:
    """Seconds, or, by their size, milli-, micro- or nanoseconds since the epoch. Raises NoTime."""
    whole, _, fraction = text.partition(".")
    try:
        number = int(whole)
    except ValueError:
        raise NoTime(f"{text[:40]!r} is no time") from None
    digits = len(whole.lstrip("-"))
    if number < 0 or digits > 19:
        raise NoTime(f"{text[:40]!r} is no time")
    if digits <= 11:
        return in_calendar(number * SECOND + int((fraction + "000000")[:6] or 0))
    return in_calendar(number * 1000 if digits <= 14 else number if digits <= 17 else number // 1000)


def _of_clf(match: re.Match[str]) -> int:
    day, month, year, hour, minute, second, fraction, sign, hours, minutes = match.groups()
    if month not in _MONTHS or not int(year):
        raise NoTime(f"{match[0]!r} is no time")
    zone = (int(hours) * 3600 + int(minutes) * 60) * (-1 if sign == "-" else 1) if hours else 0
    parts = (int(year), _MONTHS[month], int(day), int(hour), int(minute), int(second))
    if not (1 <= parts[2] <= 31 and parts[3] < 24 and parts[4] < 60 and parts[5] <= 60):
        raise NoTime(f"{match[0]!r} is no time")
    return in_calendar((timegm((*parts, 0, 0, 0)) - zone) * SECOND + int(((fraction or "") + "000000")[:6]))


def _of_iso(text: str) -> int:
    plain = text.replace(",", ".").replace("Z", "+00:00")
    plain = re.sub(r" ([+-]\d\d:?\d\d)$", r"\1", plain)
    plain = re.sub(r"(\.\d{1,6})\d*", r"\1", plain)
    try:
        found = datetime.fromisoformat(plain)
    except ValueError:
        raise NoTime(f"{text[:40]!r} is no time") from None
    try:
        seconds = timegm(found.utctimetuple())
    except OverflowError:
        raise NoTime(f"{text[:40]!r} is beyond the calendar") from None
    return in_calendar(seconds * SECOND + found.microsecond)


def _of_syslog(text: str) -> int:
    """RFC 3164 4.1.2, which has no year: the present one."""
    try:
        found = datetime.strptime(f"{datetime.now(UTC).year} {text}", "%Y %b %d %H:%M:%S")
    except ValueError:
        raise NoTime(f"{text!r} is no time") from None
    return timegm(found.timetuple()) * SECOND


def in_calendar(at: int) -> int:
    """The same. Raises NoTime where no calendar goes so far."""
    if not 0 <= at <= LATEST * SECOND:
        raise NoTime("its time is beyond the calendar")
    return at
