"""Sites, as browsers tell them apart: by the public suffix list."""

from __future__ import annotations

from functools import cache
from typing import Any

from patient_usher.core.http.urls import is_address


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


def site(host: str) -> str:
    """What makes two hosts the same site: the registrable domain, or the host itself where there is none."""
    return registrable(host) or host
