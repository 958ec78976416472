"""Hosts and URLs as browsers see them: sites by the public suffix list, URLs as the URL standard parses them."""

from __future__ import annotations

import re
from functools import cache
from ipaddress import ip_address
from typing import Any, overload

from patient_usher.core.http.urls import Url, parse_url


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


def is_address(host: str) -> bool:
    """Whether a host is an IP address."""
    try:
        ip_address(host)
    except ValueError:
        return False
    return True


def loopback(host: str) -> bool:
    """Whether what is sent to a host stays on the machine, and may be trusted (Secure Contexts 3.1)."""
    if host == "localhost" or host.endswith(".localhost"):
        return True
    return is_address(host) and ip_address(host).is_loopback


_PLAIN = re.compile(r"(?!.*/\.)(?:/[A-Za-z0-9_~!$&()*+,;=:@.-]*)+(?:\?[A-Za-z0-9_~!$&()*+,;=:@./?%-]*)?")
"""Targets that the URL standard leaves as they are."""


@overload
def normalised(url: Url) -> Url: ...
@overload
def normalised(url: Url, location: str | None) -> Url | None: ...
def normalised(url: Url, location: str | None = "") -> Url | None:
    """A URL, or where a Location leads from it, as browsers write it (URL Standard 4.4). None for nowhere.

    Dots in paths are resolved, backslashes are slashes, what isn't ASCII is percent-encoded.
    """
    if location == "" and _PLAIN.fullmatch(url.target):
        return url
    if location is None:
        return None
    from ada_url import URL  # most traces need none of it

    try:
        return parse_url(URL(location or url.target, url.text).href.partition("#")[0])
    except ValueError:
        return None


def site(host: str) -> str:
    """What makes two hosts the same site: the registrable domain, or the host itself where there is none."""
    return registrable(host) or host
