"""URLs as browsers read them: by the URL standard, and where they stay on the machine."""

from __future__ import annotations

import re

from patient_usher.core.http.urls import Url, parse_url

_PLAIN = re.compile(r"(?!.*/\.)(?:/[A-Za-z0-9_~!$&()*+,;=:@.-]*)+(?:\?[A-Za-z0-9_~!$&()*+,;=:@./?%-]*)?")
"""Targets that the URL standard leaves as they are."""


def normalised(url: Url) -> Url:
    """A URL as browsers write it (URL Standard 4.4): paths without dots or backslashes, all of it ASCII."""
    if _PLAIN.fullmatch(url.target):
        return url
    return located(url, url.target)[0] or url


def located(url: Url, location: str) -> tuple[Url | None, bool]:
    """Where a Location leads from a URL, as browsers read it, and whether it holds credentials. None for nowhere."""
    from ada_url import URL  # most traces need none of it

    try:
        parsed = URL(location or url.target, url.text)
        holds = bool(parsed.username or parsed.password)
        parsed.username = parsed.password = ""
        return parse_url(parsed.href.partition("#")[0]), holds
    except ValueError:
        return None, False
