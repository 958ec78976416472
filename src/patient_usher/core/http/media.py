"""Media types (RFC 9110 section 8.3)."""

from __future__ import annotations

from patient_usher.core.http.fields import split_outside_quotes, unquoted


def parse_media_type(value: str) -> tuple[str, tuple[tuple[str, str], ...]]:
    """``type/subtype`` in lower case and its parameters, names in lower case (8.3.1).

    Empty type where the value isn't a media type.
    """
    head, *rest = split_outside_quotes(value, ";")
    essence = head.strip().lower()
    if essence.count("/") != 1 or essence.startswith("/") or essence.endswith("/"):
        return "", ()
    params = []
    for part in rest:
        name, sep, raw = part.partition("=")
        if sep:
            params.append((name.strip().lower(), unquoted(raw.strip())))
    return essence, tuple(params)


def is_json(essence: str) -> bool:
    """Whether a media type is JSON or has the +json suffix (RFC 6839 3.1)."""
    return essence == "application/json" or essence.endswith("+json")
