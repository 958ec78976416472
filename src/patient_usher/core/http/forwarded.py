"""What a front says of the request that it passes on (RFC 7239; X-Forwarded-*)."""

from __future__ import annotations

from collections.abc import Callable
from ipaddress import ip_address
from typing import NamedTuple

from patient_usher.core.http.fields import Fields, list_items, quoted, split_outside_quotes, unquoted


class Hop(NamedTuple):
    """The far end of the connection to the front, as far as it says."""

    address: str | None = None
    scheme: str | None = None
    host: str | None = None


def write_forwarded(fields: Fields, style: str, hop: Hop) -> None:
    """Add the forwarding fields of a front; ``style``: nothing, forwarded or x-forwarded."""
    if style == "forwarded":
        address = hop.address or "unknown"
        node = quoted(f"[{address}]") if ":" in address else address
        fields.add("Forwarded", f"for={node};proto={hop.scheme};host={quoted(hop.host or '')}")
    elif style == "x-forwarded":
        present = fields.get("x-forwarded-for")
        fields.put("X-Forwarded-For", f"{present}, {hop.address}" if present else str(hop.address))
        fields.put("X-Forwarded-Proto", str(hop.scheme))
        fields.put("X-Forwarded-Host", str(hop.host))


Passed = Callable[[int, str], bool]
"""Whether an entry is a trusted front's, so that the one before it counts: its place from the end, and its address."""


def read_forwarded(fields: Fields, style: str, passed: Passed = lambda at, address: False) -> Hop:
    """What trusted fronts have written: of their own field the entry that the first of them added.

    ``style`` is what the last one writes; of a front of which nothing is known, Forwarded goes before the older
    fields. Where there is one front only, each line of a field is read by itself (RFC 7239 4, 8.1): one that a client
    has broken spoils no other. An address that can't be read ends the way back, and leaves the entry behind it.
    """
    if style == "forwarded" or (style == "nothing" and "forwarded" in fields):
        hops = [_element(element) for element in _entries(fields, "forwarded")]
        return hops[_first(hops, passed)] if hops else Hop()
    hops = [Hop(_address(entry)) for entry in _entries(fields, "x-forwarded-for")]
    at = _first(hops, passed) if hops else -1
    schemes, hosts = _entries(fields, "x-forwarded-proto"), _entries(fields, "x-forwarded-host")
    return Hop(
        hops[at].address if hops else None,
        _scheme(schemes[max(at, -len(schemes))]) if schemes else None,
        hosts[max(at, -len(hosts))] if hosts else None,
    )


def _entries(fields: Fields, name: str) -> list[str]:
    """The entries of a forwarding field, those of each line by themselves, oldest first."""
    return [entry for line in fields.values(name) for entry in list_items(line)]


def _first(hops: list[Hop], passed: Passed) -> int:
    """The place of the entry that counts, from the end: -1 for the last."""
    at = -1
    while -at < len(hops) and hops[at].address is not None and passed(-at, hops[at].address or ""):
        if hops[at - 1].address is None:
            break
        at -= 1
    return at


def _element(element: str) -> Hop:
    """One element of Forwarded (RFC 7239 4)."""
    pairs = {}
    for part in split_outside_quotes(element, ";"):
        name, _, text = part.partition("=")
        pairs[name.strip().lower()] = unquoted(text.strip())
    return Hop(_address(pairs.get("for", "")), _scheme(pairs.get("proto")), pairs.get("host"))


def _address(node: str) -> str | None:
    """The IP address of a node, which may have a port (RFC 7239 6); anything else (obfuscated, a name) is none."""
    if node.startswith("["):
        node = node.partition("]")[0][1:]
    elif node.count(":") == 1:
        node = node.partition(":")[0]
    try:
        return str(ip_address(node))
    except ValueError:
        return None


def _scheme(text: str | None) -> str | None:
    return text.lower() if text is not None and text.lower() in ("http", "https") else None
