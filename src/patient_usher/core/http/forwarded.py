"""What a front says of the request that it passes on (RFC 7239; X-Forwarded-*)."""

from __future__ import annotations

from typing import NamedTuple

from patient_usher.core.http.fields import Fields, list_items, quoted


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


def read_forwarded(fields: Fields) -> Hop:
    """The last hop, which the trusted front itself has written (RFC 7239 4: each appends).

    Forwarded goes before the older fields.
    """
    value = fields.get("forwarded")
    if value is not None and (elements := list_items(value)):
        pairs = {}
        for part in _split(elements[-1]):
            name, _, text = part.partition("=")
            pairs[name.strip().lower()] = text.strip().strip('"')
        node = pairs.get("for", "")
        address = node.partition("]")[0].lstrip("[") if node.startswith("[") else node.partition(":")[0]
        return Hop(address or None, pairs.get("proto"), pairs.get("host"))
    chain = fields.get("x-forwarded-for")
    return Hop(
        list_items(chain)[-1] if chain and list_items(chain) else None,
        fields.get("x-forwarded-proto"),
        fields.get("x-forwarded-host"),
    )


def _split(element: str) -> list[str]:
    parts, start, inside = [], 0, False
    for at, char in enumerate(element):
        if char == '"':
            inside = not inside
        elif char == ";" and not inside:
            parts.append(element[start:at])
            start = at + 1
    return [*parts, element[start:]]
