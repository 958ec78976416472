"""Validators and conditional requests (RFC 9110 section 13)."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from patient_usher.core.http.caching import parse_date
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer

_TAG = re.compile(r'(?:W/)?"[^"]*"')
"""8.8.3: an entity tag; a backslash in it is one, and escapes nothing."""

CONFIRMED = frozenset({200, 203, 206})
"""Statuses for whose answers a 304 may stand (RFC 9110 15.4.5): those that represent what was asked for."""
CONDITIONS = ("if-match", "if-none-match", "if-modified-since", "if-unmodified-since", "if-range")


def opaque(tag: str) -> str:
    """An entity tag without its weakness mark."""
    return tag[2:] if tag.startswith("W/") else tag


def strong_match(one: str, other: str) -> bool:
    """8.8.3.2."""
    return one == other and not one.startswith("W/")


def weak_match(one: str, other: str) -> bool:
    """8.8.3.2."""
    return opaque(one) == opaque(other)


def weakened(tag: str) -> str:
    """The tag as a weak one."""
    return tag if tag.startswith("W/") else f"W/{tag}"


def evaluate(
    method: str,
    request: Fields,
    etag: str | None,
    modified: str | None,
    *,
    others: Sequence[str] = (),
    exists: bool = True,
    success: bool = True,
    now: int,
) -> int:
    """What the request's conditions make of the present representation: 0 go on, 304 or 412 (13.2.2).

    ``etag`` and ``modified`` are its validators, ``others`` the tags that it has in other codings, ``exists``
    whether there is one at all, ``success`` whether the plain answer would be one: of any other, conditions say
    nothing (13.2.1). ``now``: the present instant.
    """
    if not success:
        return 0
    reads = method in ("GET", "HEAD")
    tags = (etag, *others) if etag is not None else ()
    if (wanted := request.get("if-match")) is not None:  # step 1
        if not _any(wanted, tags, exists, strong_match):
            return 412
    elif (since := parse_date(request.get("if-unmodified-since"), now)) is not None:  # step 2
        last = parse_date(modified, now)
        if last is not None and last > since:  # 13.1.4: without a date there is nothing to compare
            return 412
    if (wanted := request.get("if-none-match")) is not None:  # step 3
        if _any(wanted, tags, exists, weak_match):
            return 304 if reads else 412
    elif reads and (since := parse_date(request.get("if-modified-since"), now)) is not None:  # step 4
        last = parse_date(modified, now)
        if last is not None and last <= since:
            return 304
    return 0


def _any(wanted: str, tags: Sequence[str], exists: bool, match: Callable[[str, str], bool]) -> bool:
    if wanted.strip() == "*":
        return exists
    return any(match(one, tag) for one in _TAG.findall(wanted) for tag in tags)


def as_not_modified(fields: Fields) -> Fields:
    """A 200's fields as its 304 carries them (15.4.5): no metadata of content that isn't sent."""
    kept = fields.copy()
    for name in ("content-length", "content-type", "content-encoding", "content-language", "content-range"):
        kept.drop(name)
    if "etag" in kept:
        kept.drop("last-modified")
    return kept


def not_modified(answer: Answer) -> Answer:
    """The 304 that stands for a 200."""
    made = Answer(304, as_not_modified(answer.fields))
    made.stands_for = answer
    return made
