"""What stands in front of the service: what it makes of a request, and what the service believes of that."""

from __future__ import annotations

from ipaddress import ip_address, ip_network
from typing import NamedTuple

from patient_usher.core.http.forwarded import Hop, read_forwarded, write_forwarded
from patient_usher.core.http.messages import Request
from patient_usher.core.http.urls import Url, target_uri
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import DeploymentSpec, Hops

FORWARDING = {name.lower(): name for name in ("Forwarded", "X-Forwarded-For", "X-Forwarded-Proto", "X-Forwarded-Host")}


class Received(NamedTuple):
    """A request as it arrives behind the front, with the target URI and the address that the service believes."""

    request: Request
    address: str


class FrontProxy:
    """The front of a deployment, if it has one; ``plain`` where there is none and none is believed."""

    def __init__(self, deployment: DeploymentSpec) -> None:
        self._spec = deployment.in_front
        self._there = self._spec.ends_tls or self._spec.sends != "nothing"
        trusts = deployment.trusts_forwarded
        self._hops = trusts.hops if isinstance(trusts, Hops) else 0
        self._networks = [] if isinstance(trusts, Hops) else [ip_network(text, strict=False) for text in trusts]
        self._trusted: dict[str, bool] = {}
        self.plain = not (self._there or self._networks or self._hops)

    def receive(self, request: Request) -> Received:
        """What becomes of a request that was sent."""
        if self._there:
            request = self._passed_on(request)
        hop = Hop()
        if self._trusts(request.peer):
            # Entries that trusted fronts have added are passed over, up to the first that came from elsewhere.
            hop = read_forwarded(request.fields, self._spec.sends, self._passed)
        authority = hop.host or request.fields.get("host") or ""
        url = target_uri(request.url, authority, hop.scheme or "")
        arrived = Request(request.method, url, request.fields, request.body, request.peer)
        return Received(arrived, hop.address or request.peer)

    def _passed(self, at: int, address: str) -> bool:
        """Whether an entry with ``at`` - 1 entries behind it is of a trusted front."""
        return at < self._hops if self._hops else self._trusts(address)

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
        write_forwarded(fields, self._spec.sends, Hop(request.peer, url.scheme, fields.get("host") or url.authority))
        if self._spec.ends_tls and url.scheme == "https":
            url = Url("http", url.host, 80 if url.port == 443 else url.port, url.path, url.query)
        return Request(request.method, url, fields, request.body, self._spec.address)

    def _trusts(self, peer: str) -> bool:
        if self._hops:
            return True
        known = self._trusted.get(peer)
        if known is None:
            if len(self._trusted) > 4096:
                self._trusted.clear()
            known = self._trusted[peer] = any(ip_address(peer) in network for network in self._networks)
        return known
