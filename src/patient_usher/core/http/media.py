"""Media types (RFC 9110 section 8.3)."""

from __future__ import annotations


def parse_media_type(value: str) -> tuple[str, tuple[tuple[str, str], ...]]:
    """``type/subtype`` in lower case and its parameters, names in lower case (8.3.1).

    Empty type where the value isn't a media type.
    """
    head, *rest = _split_parameters(value)
    essence = head.strip().lower()
    if essence.count("/") != 1 or essence.startswith("/") or essence.endswith("/"):
        return "", ()
    params = []
    for part in rest:
        name, sep, raw = part.partition("=")
        if sep:
            text = raw.strip()
            if len(text) > 1 and text[0] == text[-1] == '"':
                text = text[1:-1].replace('\\"', '"').replace("\\\\", "\\")
            params.append((name.strip().lower(), text))
    return essence, tuple(params)


def _split_parameters(value: str) -> list[str]:
    if '"' not in value:
        return value.split(";")
    parts, start, inside = [], 0, False
    for at, char in enumerate(value):
        if char == '"' and (at == 0 or value[at - 1] != "\\"):
            inside = not inside
        elif char == ";" and not inside:
            parts.append(value[start:at])
            start = at + 1
    parts.append(value[start:])
    return parts


def is_json(essence: str) -> bool:
    """Whether a media type is JSON or has the +json suffix (RFC 6839 3.1)."""
    return essence == "application/json" or essence.endswith("+json")
