"""What stands in front of the service: what it makes of a request, and what the service believes of that."""

from __future__ import annotations

from ipaddress import ip_address, ip_network
from typing import NamedTuple

from patient_usher.core.http.forwarded import Hop, read_forwarded, write_forwarded
from patient_usher.core.http.messages import Request
from patient_usher.core.http.urls import Url
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import DeploymentSpec

FORWARDING = {name.lower(): name for name in ("Forwarded", "X-Forwarded-For", "X-Forwarded-Proto", "X-Forwarded-Host")}


class Received(NamedTuple):
    """A request as it arrives behind the front, and the scheme, host and address that the service believes."""

    request: Request
    scheme: str
    host: str
    address: str


class FrontProxy:
    """The front of a deployment, if it has one; ``plain`` where there is none and none is believed."""

    def __init__(self, deployment: DeploymentSpec) -> None:
        self._spec = deployment.in_front
        self._there = self._spec.ends_tls or self._spec.sends != "nothing"
        self._networks = [ip_network(text, strict=False) for text in deployment.trusts_forwarded]
        self._trusted: dict[str, bool] = {}
        self.plain = not (self._there or self._networks)

    def receive(self, request: Request) -> Received:
        """What becomes of a request that was sent."""
        if self._there:
            request = self._passed_on(request)
        url = request.url
        hop = read_forwarded(request.fields, self._spec.sends) if self._trusts(request.peer) else Hop()
        host = _without_port(hop.host) if hop.host else url.host
        return Received(request, hop.scheme or url.scheme, host, hop.address or request.peer)

    def told(self, x: Exchange) -> str | None:
        """Whether what the forwarding fields say of the caller was believed, in words; None without any."""
        fields = x.request.fields
        if fields.has_none(FORWARDING.keys()):
            return None
        names = [name for lower, name in FORWARDING.items() if lower in fields]
        peer, said = x.request.peer, " and ".join(names)
        if not self._trusts(peer):
            return f"{said} not believed: {peer} isn't listed in trusts-forwarded"
        return f"{said} believed, from {peer}: the caller is {x.address}, over {x.scheme}"

    def _passed_on(self, request: Request) -> Request:
        fields, url = request.fields.copy(), request.url
        write_forwarded(fields, self._spec.sends, Hop(request.peer, url.scheme, url.authority))
        if self._spec.ends_tls and url.scheme == "https":
            url = Url("http", url.host, 80 if url.port == 443 else url.port, url.path, url.query)
        return Request(request.method, url, fields, request.body, self._spec.address)

    def _trusts(self, peer: str) -> bool:
        known = self._trusted.get(peer)
        if known is None:
            if len(self._trusted) > 4096:
                self._trusted.clear()
            known = self._trusted[peer] = any(ip_address(peer) in network for network in self._networks)
        return known


def _without_port(authority: str) -> str:
    """The host of what a front passes on (RFC 3986 3.2.2): no port, no brackets, in lower case."""
    if authority.startswith("["):
        return authority.partition("]")[0][1:].lower()
    return authority.partition(":")[0].lower()
