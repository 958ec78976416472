"""Which requests a stage is for: ``METHODS /path`` with ``*`` and ``**``."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Annotated, Any
from urllib.parse import unquote

from pydantic import BeforeValidator, WithJsonSchema

from patient_usher.core.model.scalars import METHOD, show, wrong


def path_pattern(pattern: str) -> Callable[[str], bool]:
    """A test for percent-decoded paths: ``*`` is any one segment, ``**`` none or more.

    Raises ValueError for a pattern that doesn't start with a slash or mixes stars into a segment.
    """
    if not pattern.startswith("/"):
        raise ValueError(f"the path pattern {show(pattern)} must start with /")
    parts = []
    for segment in unquote(pattern)[1:].split("/"):
        if segment == "**":
            parts.append("(?:/[^/]*)*")
        elif segment == "*":
            parts.append("/[^/]+")
        elif "*" in segment:
            raise ValueError(f"in {show(pattern)} a star must be a whole segment: * for any one, ** for any number")
        else:
            parts.append("/" + re.escape(segment))
    text = "".join(parts)
    if "*" not in pattern:
        exact = unquote(pattern)
        return lambda path: path == exact
    fullmatch = re.compile(text).fullmatch
    return lambda path: fullmatch(path) is not None


def request_pattern(pattern: str) -> tuple[frozenset[str], Callable[[str], bool]]:
    """``METHODS /path`` or a bare path: the methods (none for any) and the path test."""
    head, space, tail = pattern.partition(" ")
    if not space:
        return frozenset(), path_pattern(pattern)
    methods = [method for method in head.split(",") if method]
    if not methods or not all(METHOD.fullmatch(method) for method in methods):
        raise ValueError(f"{show(pattern)} must be METHODS /path, as in GET,HEAD /tides")
    return frozenset(methods), path_pattern(tail.strip())


def _check_pattern(value: Any) -> str:
    if not isinstance(value, str):
        raise wrong(f"{show(value)} is no request pattern", "write METHODS /path, or a path")
    try:
        request_pattern(value)
    except ValueError as error:
        raise wrong(str(error)) from None
    return value


RequestPattern = Annotated[str, BeforeValidator(_check_pattern), WithJsonSchema({"type": "string"})]
