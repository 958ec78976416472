"""What a front says of the request that it passes on (RFC 7239; X-Forwarded-*)."""

from __future__ import annotations

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


def read_forwarded(fields: Fields, style: str) -> Hop:
    """What the trusted front itself has written: its own field, and of that only what it added last.

    ``style`` is what it writes; of a front of which nothing is known, Forwarded goes before the older
    fields. Each line of a field is read by itself (RFC 7239 4, 8.1): one that a client has broken
    spoils no other.
    """
    if style == "forwarded" or (style == "nothing" and "forwarded" in fields):
        lines = fields.values("forwarded")
        elements = list_items(lines[-1]) if lines else []
        if not elements:
            return Hop()
        pairs = {}
        for part in split_outside_quotes(elements[-1], ";"):
            name, _, text = part.partition("=")
            pairs[name.strip().lower()] = unquoted(text.strip())
        node = pairs.get("for", "")
        address = node.partition("]")[0].lstrip("[") if node.startswith("[") else node.partition(":")[0]
        return Hop(_address(address), _scheme(pairs.get("proto")), pairs.get("host"))
    chain = fields.values("x-forwarded-for")
    last = list_items(chain[-1]) if chain else []
    schemes, hosts = fields.values("x-forwarded-proto"), fields.values("x-forwarded-host")
    return Hop(
        _address(last[-1]) if last else None,
        _scheme(schemes[-1]) if schemes else None,
        hosts[-1] if hosts else None,
    )


def _address(text: str) -> str | None:
    """An IP address; anything else (an obfuscated node, a name) is none."""
    try:
        return str(ip_address(text))
    except ValueError:
        return None


def _scheme(text: str | None) -> str | None:
    return text.lower() if text is not None and text.lower() in ("http", "https") else None
