"""Which requests a stage is for: ``METHODS /path`` with ``*`` and ``**``."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Annotated
from urllib.parse import unquote

from pydantic import BeforeValidator, WithJsonSchema

from patient_usher.core.model.document import Json
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.text_types import METHOD, method_name, show, wrong

PathTest = Callable[[tuple[str, ...]], bool]
"""Whether a path's segments, percent-decoded one by one (RFC 3986 2.2), fit."""

MANY = "**"


def split_pattern(pattern: str) -> list[str | None]:
    """A path pattern's segments, decoded; ``*`` is None, ``**`` is MANY.

    Raises ValueError for a pattern that doesn't start with a slash or mixes stars into a segment.
    """
    if not pattern.startswith("/"):
        raise ValueError(f"the path pattern {show(pattern)} must start with /")
    parts: list[str | None] = []
    for segment in pattern[1:].split("/"):
        if segment == MANY:
            if parts[-1:] != [MANY]:
                parts.append(MANY)
        elif segment == "*":
            parts.append(None)
        elif "*" in segment:
            raise ValueError(f"in {show(pattern)} a star must be a whole segment: * for any one, ** for any number")
        elif "{" in segment or "}" in segment:
            raise ValueError(f"{show(pattern)} is a pattern, no template: write * for any one segment")
        else:
            parts.append(unquote(segment))
    return parts


def path_pattern(pattern: str) -> PathTest:
    """A test for paths: ``*`` is any one segment that isn't empty, ``**`` none or more. Raises ValueError.

    However many stars there are, a path of n segments takes at most n steps for each part of the pattern.
    """
    parts = split_pattern(pattern)
    if MANY not in parts and None not in parts:
        exact = tuple(parts)
        return lambda segments: segments == exact
    return lambda segments: _fits(parts, segments)


def _fits(parts: list[str | None], segments: tuple[str, ...]) -> bool:
    at = part = 0
    retry_part, retry_at = -1, 0  # the last ** and how far it reaches: only that one ever has to give way
    while at < len(segments):
        wanted = parts[part] if part < len(parts) else ""
        if part < len(parts) and wanted == MANY:
            retry_part, retry_at = part, at
            part += 1
        elif part < len(parts) and (wanted == segments[at] or (wanted is None and segments[at])):
            at += 1
            part += 1
        elif retry_part >= 0:
            retry_at += 1
            at, part = retry_at, retry_part + 1
        else:
            return False
    return all(rest == MANY for rest in parts[part:])


def fits_template(pattern: str, segments: Sequence[tuple[str, str]], *, surely: bool = False) -> bool:
    """Whether a path pattern fits some path of a path template, or ``surely`` every one.

    ``segments`` are the template's: literal, parameter or tail, each with its text.
    """
    reached = {0}  # how many of the segments the parts so far may have taken
    for part in split_pattern(pattern):
        if part == MANY:
            reached = set(range(min(reached), len(segments) + 1)) if reached else set()
            continue
        after = set()
        for at in reached:
            if at == len(segments):
                continue
            what, text = segments[at]
            if what == "tail":
                if not surely:
                    after |= {at, at + 1}  # a tail may go on, or end here
            elif part is None or (what == "literal" and part == text) or (what != "literal" and not surely):
                after.add(at + 1)
        reached = after
    return len(segments) in reached


def request_pattern(pattern: str) -> tuple[frozenset[str], PathTest]:
    """``METHODS /path`` or a bare path: the methods (none for any) and the path test."""
    methods, path = split_request(pattern)
    return frozenset(methods), path_pattern(path)


def fits_request(pattern: tuple[frozenset[str], PathTest], x: Exchange) -> bool:
    """Whether a request pattern fits; what names GET fits a HEAD that runs as GET (RFC 9110 9.3.2)."""
    methods, test = pattern
    method, url = x.request.method, x.request.url
    as_get = method == "HEAD" and x.route is not None and x.route.method == "GET"
    return (not methods or method in methods or (as_get and "GET" in methods)) and test(url.segments)


def split_request(pattern: str) -> tuple[list[str], str]:
    """The methods, as they are compared, and the path of ``METHODS /path``. Raises ValueError."""
    head, space, tail = pattern.partition(" ")
    if not space:
        return [], pattern
    methods = [method_name(method) for method in head.split(",") if method]
    if not methods or not all(METHOD.fullmatch(method) for method in methods):
        raise ValueError(f"{show(pattern)} must be METHODS /path, as in GET,HEAD /tides")
    if "*" in methods:
        raise ValueError(f"{show(pattern)} names no method; for any method write the path alone: {tail.strip()}")
    return methods, tail.strip()


def _check_pattern(value: Json) -> str:
    if not isinstance(value, str):
        raise wrong(f"{show(value)} is no request pattern", "write METHODS /path, or a path")
    try:
        request_pattern(value)
    except ValueError as error:
        raise wrong(str(error)) from None
    return value


RequestPattern = Annotated[str, BeforeValidator(_check_pattern), WithJsonSchema({"type": "string"})]
