"""Hosts and URLs as browsers see them: sites by the public suffix list, URLs as the URL standard parses them."""

from __future__ import annotations

import re
from functools import cache
from ipaddress import ip_address
from typing import Any

from patient_usher.core.http.urls import Url, is_address, parse_url


@cache
def _list() -> Any:
    """The list, read when a site is first asked for; it never changes."""
    from publicsuffixlist import PublicSuffixList

    return PublicSuffixList()


def registrable(host: str) -> str | None:
    """The registrable domain of a host; None for an address, a bare name, or a public suffix."""
    if "." not in host or host.endswith(".") or is_address(host):
        return None
    found: str | None = _list().privatesuffix(host)
    return found


def loopback(host: str) -> bool:
    """Whether what is sent to a host stays on the machine, and may be trusted (Secure Contexts 3.1)."""
    if host == "localhost" or host.endswith(".localhost"):
        return True
    return is_address(host) and ip_address(host).is_loopback


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


def site(host: str) -> str:
    """What makes two hosts the same site: the registrable domain, or the host itself where there is none."""
    return registrable(host) or host
