"""What a request prefers: codings by Accept-Encoding, media types by Accept (RFC 9110 12.4.2, 12.5)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from patient_usher.core.http.fields import list_items, split_outside_quotes

CODINGS = ("br", "zstd", "gzip", "deflate")
"""The content codings that answers are written in here."""
IDENTITY = "identity"
ALIASES = {"x-gzip": "gzip", "x-compress": "compress"}
"""RFC 9110 8.4.1: recipients should treat these as the same."""
_UNSAID = 0.0001
"""The weight of identity where nothing is said of it: acceptable, but behind all that is asked for."""


def parse_accept_encoding(value: str) -> dict[str, float]:
    """Codings in lower case and their weights; what can't be read weighs nothing. Not to be changed."""
    weights: dict[str, float] = {}
    for coding, weight, _ in _weighed(value):
        weights.setdefault(ALIASES.get(coding, coding), weight)
    return weights


def _weighed(value: str) -> Iterator[tuple[str, float, bool]]:
    """The items of a list in lower case, each with its weight (12.4.2), and whether it has other parameters."""
    for item in list_items(value):
        name, *params = split_outside_quotes(item, ";")
        weight, others = 1.0, False
        for param in params:
            key, _, text = param.partition("=")
            if key.strip().lower() == "q":
                weight = _weight(text.strip())
            elif key.strip():
                others = True
        yield name.strip().lower(), weight, others


def choose_media_type(accept: str | None, offered: Sequence[str]) -> str | None:
    """The type to use of those offered, best first; None where none is acceptable (12.5.1).

    The most specific range that fits a type says its weight; without the field all are equal. What is offered has
    no parameters: a range that asks for some counts only where no other speaks of its type.
    """
    if accept is None:
        return offered[0]
    weights: dict[str, float] = {}
    for name, weight, _ in sorted(_weighed(accept), key=lambda item: item[2]):
        weights.setdefault(name, weight)
    best, top = None, 0.0
    for media in offered:
        ranges = (media, media.partition("/")[0] + "/*", "*/*")
        weight = next((weights[one] for one in ranges if one in weights), 0.0)
        if weight > top:
            best, top = media, weight
    return best


def _weight(text: str) -> float:
    digits = text.replace(".", "", 1)
    if not digits.isdecimal() or not digits.isascii() or len(text) > 5:
        return 0.0
    return min(float(text), 1.0)


def choose_coding(accept_encoding: str | None, offered: Sequence[str]) -> str | None:
    """The coding to use of those offered, best first; identity for none; None where nothing is acceptable.

    Without the field any coding would do (12.5.3), but nothing says that it is understood: identity.
    """
    if accept_encoding is None:
        return IDENTITY
    weights = parse_accept_encoding(accept_encoding)
    others = weights.get("*")
    best, top = None, 0.0
    for coding in offered:
        weight = weights.get(coding, others or 0.0)
        if weight > top:
            best, top = coding, weight
    own = weights.get(IDENTITY)
    if own is None:
        own = 0.0 if others == 0.0 else _UNSAID
    if own > top:
        return IDENTITY
    return best
