"""Strict-Transport-Security as browsers read it (RFC 6797)."""

from __future__ import annotations

import re

from patient_usher.core.http.caching import seconds
from patient_usher.core.http.fields import TOKEN, split_outside_quotes, unquoted

_DIRECTIVE = re.compile(rf"""(?P<name>{TOKEN.pattern})(?:[ \t]*=[ \t]*(?P<value>{TOKEN.pattern}|".*"))?""")


def policy(value: str) -> tuple[int, bool] | None:
    """How long a host is asked over TLS only, in microseconds, and whether those below it are too (6.1, 8.1).

    None where browsers ignore the field: a directive is malformed or stands twice, or there is no max-age.
    """
    given: dict[str, str | None] = {}
    for part in split_outside_quotes(value, ";"):
        directive = _DIRECTIVE.fullmatch(part.strip(" \t"))
        if directive is None:
            if part.strip(" \t"):
                return None
            continue
        name = directive["name"].lower()
        if name in given:  # 6.1 rule 2
            return None
        given[name] = directive["value"] and unquoted(directive["value"])
    age = seconds(given.get("max-age"))
    if age is None or given.get("includesubdomains") is not None:  # 6.1.2: it has no value
        return None
    return age, "includesubdomains" in given
