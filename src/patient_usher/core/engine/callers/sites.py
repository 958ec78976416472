"""Which hosts belong to one site: the public suffix list, as a package ships it."""

from __future__ import annotations

from functools import cache
from ipaddress import ip_address
from typing import Any


@cache
def _list() -> Any:
    """The list, read when a site is first asked for; it never changes."""
    from publicsuffixlist import PublicSuffixList

    return PublicSuffixList()


def registrable(host: str) -> str | None:
    """The registrable domain of a host; None for an address, a bare name, or a public suffix."""
    if "." not in host or host.endswith("."):
        return None
    try:
        ip_address(host)
    except ValueError:
        found: str | None = _list().privatesuffix(host)
        return found
    return None


def site(host: str) -> str:
    """What makes two hosts the same site: the registrable domain, or the host itself where there is none."""
    return registrable(host) or host
