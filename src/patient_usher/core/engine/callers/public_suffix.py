"""Sites, as browsers tell them apart: by the public suffix list."""

from __future__ import annotations

import re
from functools import cache
from typing import Any

from patient_usher.core.http.urls import is_address

_FEW = 8
_rules: dict[str, Any] = {}
"""What the list says of hosts under a top-level domain, by that: the whole takes ten times as long to read."""


@cache
def _all() -> Any:
    """The whole list; it never changes."""
    from publicsuffixlist import PublicSuffixList

    return PublicSuffixList()


def _list(top: str) -> Any:
    """What the list says of hosts under a top-level domain, read when it is first asked for."""
    from publicsuffixlist import PSLFILE, PublicSuffixList

    if top not in _rules:
        if len(_rules) == _FEW or not top.isascii() or top.startswith("xn--"):  # which the list spells otherwise
            return _all()
        rule = rf"^(?:\S*\.)?{re.escape(top)}(?=\s|$)".encode()
        with open(PSLFILE, "rb") as every:
            _rules[top] = PublicSuffixList(re.findall(rule, every.read(), re.MULTILINE | re.IGNORECASE))
    return _rules[top]


def registrable(host: str) -> str | None:
    """The registrable domain of a host; None for an address, a bare name, or a public suffix."""
    if "." not in host or host.endswith(".") or is_address(host):
        return None
    found: str | None = _list(host.rpartition(".")[2].lower()).privatesuffix(host)
    return found


def site(host: str) -> str:
    """What makes two hosts the same site: the registrable domain, or the host itself where there is none."""
    return registrable(host) or host
