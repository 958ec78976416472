"""URLs as browsers read them: by the URL standard, and where they stay on the machine."""

from __future__ import annotations

import re

from patient_usher.core.http.urls import Url, parse_url

_PLAIN = re.compile(r"(?!.*/\.)(?:/[A-Za-z0-9_~!$&()*+,;=:@.-]*)+(?:\?[A-Za-z0-9_~!$&()*+,;=:@./?%-]*)?")
"""Targets that the URL standard leaves as they are."""


_PLAIN_HOST = re.compile(r"(?:(?!xn--)[a-z0-9_-]+\.)*(?!xn--|0x)[a-z_-][a-z0-9_-]*", re.ASCII)
"""Hosts that the URL standard leaves as they are; all whose last label could be a number, or IDNA's, aside (3.5)."""


def normalised(url: Url) -> Url | None:
    """A URL as browsers write it (URL Standard 3.5, 4.4): host and path in their one form. None where it is none."""
    if _PLAIN.fullmatch(url.target) and _PLAIN_HOST.fullmatch(url.host):
        return url
    return located(url, url.text)[0]


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
