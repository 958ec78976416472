"""Range requests for one part (RFC 9110 section 14). Several parts at once are answered whole."""

from __future__ import annotations

import re
from collections.abc import Callable

from patient_usher.core.http.caching import parse_date
from patient_usher.core.http.conditional import strong_match
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import OF_ALL_CONTENT, Answer, text_answer

Judgement = Callable[[Answer], tuple[str | None, bool]]
"""Of a whole answer: the tag that it will have, and whether a precondition decides what becomes of it."""
_ONE = re.compile(r"bytes=\s*(?:([0-9]{1,4000})-([0-9]{0,4000})|-([0-9]{1,4000}))\s*", re.IGNORECASE)


_RANGES = re.compile(
    r"bytes=[ \t]*(?:[0-9]+-[0-9]*|-[0-9]+)(?:[ \t]*,[ \t]*(?:[0-9]+-[0-9]*|-[0-9]+))*[ \t]*"
    r"|(?!bytes=)[!#$%&'*+.^_`|~0-9A-Za-z-]+=.+",
    re.IGNORECASE | re.DOTALL,
)


def is_range(value: str | None) -> bool:
    """Whether a Range field is well formed (14.1.1); one that isn't is to be ignored (14.2)."""
    if value is None or not _RANGES.fullmatch(value.strip(" \t")):
        return False
    pairs = re.findall(r"([0-9]+)-([0-9]+)", value[:8000]) if value[:6].lower() == "bytes=" else ()
    return all(
        (len(first.lstrip("0")), first.lstrip("0")) <= (len(last.lstrip("0")), last.lstrip("0"))
        for first, last in pairs
    )


def part_asked(value: str | None, length: int) -> tuple[int, int] | None:
    """The octets asked for, first and behind the last (14.1.2): None to answer whole.

    That goes for other units, several ranges, and what can't be parsed. Of a range that can't be satisfied
    the first is not in front of the second.
    """
    match = _ONE.fullmatch(value or "")
    if match is None:
        return None
    first, last, suffix = match.groups()
    if suffix is not None:
        size = min(int(suffix), length)
        return length - size, length
    if last and int(last) < int(first):
        return None  # 14.1.1: invalid, so it is as if it were not there
    return int(first), min(int(last) + 1, length) if last else length


def still_holds(condition: str, etag: str | None, modified: str | None) -> bool:
    """Whether If-Range names this very representation (13.1.5): by strong tag, or by its exact date."""
    if condition.startswith(('"', "W/")):
        return etag is not None and strong_match(condition.strip(), etag)
    return modified is not None and parse_date(condition, 0) is not None and condition.strip() == modified


def partial(request: Fields, whole: Answer, *, judged: Judgement | None = None) -> Answer:
    """A 200 to a GET as 206 or 416 where the request asks for a part (14.2, 15.3.7, 15.5.17).

    ``judged`` stands for whoever in front gives answers their validators: preconditions come before Range (13.2.2), so
    where they decide the answer it stays whole, and If-Range is compared with the tag that this answer will get.
    """
    whole.fields.put("Accept-Ranges", "bytes")
    length = len(whole.body)
    part = part_asked(request.get("range"), length)
    if part is None:
        return whole
    condition, fields = request.get("if-range"), whole.fields
    etag, decided = judged(whole) if judged is not None else (fields.get("etag"), False)
    if decided or (condition is not None and not still_holds(condition, etag, fields.get("last-modified"))):
        return whole
    first, behind = part
    if first >= behind:
        answer = text_answer(416, f"There are {length} octets")
        answer.fields.put("Content-Range", f"bytes */{length}")
    else:
        answer = Answer(206, fields.copy(), whole.body[first:behind])
        for name in OF_ALL_CONTENT:
            answer.fields.drop(name)
        answer.fields.put("Content-Range", f"bytes {first}-{behind - 1}/{length}")
    answer.stands_for = whole
    return answer
