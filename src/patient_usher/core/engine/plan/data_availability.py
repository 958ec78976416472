"""What can be seen from where: bodies and cookies that nobody in front has read, callers behind a front."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from functools import cached_property

from patient_usher.core.engine.plan.front_proxy import FrontProxy
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.reads import uses

_WORDS = {
    "body": "no body, since no stage in front has read it",
    "cookies": "no cookies, since no stage in front has read them",
}
_DESK_READS = {"sign-in": ("body",), "sign-up": ("body",), "refresh": ("body", "cookies"), "sign-out": ("cookies",)}


class DataAvailability:
    """For one route, worked out when it is first asked for: what each on its way reads, and what it leaves."""

    def __init__(self, options: Mapping[str, StageOptions], item: PlacedRoute | None, front: FrontProxy) -> None:
        self._options, self._item, self._front = options, item, front

    def forwarded(self, x: Exchange) -> str | None:
        """Whether what forwarding fields say of the caller was believed, in words; None where there are none."""
        return self._front.told(x)

    @cached_property
    def _reads(self) -> dict[str, Collection[str]]:
        route = self._item.spec if self._item is not None else None
        found: dict[str, Collection[str]] = {id_: option.needs(route) for id_, option in self._options.items()}
        if self._item is not None:
            found["handler"] = handler_reads(self._item)
        return {id_: wanted for id_, names in found.items() if (wanted := {*names} & _WORDS.keys())}

    def missing(self, x: Exchange) -> dict[str, str]:
        """By stage, what it could not see of what the request brought, in words."""
        brought = {"body": bool(x.request.body), "cookies": "cookie" in x.request.fields}
        if not (brought["body"] or brought["cookies"]) or not self._reads:  # which takes long to find out
            return {}
        there: set[str] = set()
        found: dict[str, str] = {}
        for stage, way, did, _, _ in x.journey or ():
            if way != "in" or did == "skipped":
                continue
            lacking = [name for name in sorted(self._reads.get(stage, ())) if brought[name] and name not in there]
            if lacking:
                found[stage] = " and ".join(_WORDS[name] for name in lacking)
            if stage in self._options:
                there.update(self._options[stage].leaves())
        return found


def handler_reads(item: PlacedRoute) -> Collection[str]:
    """What the handler of a route reads that a stage must have left there (the words of ``uses``)."""
    if item.desk is not None:
        gives = item.groups[-1].desk.gives if item.groups[-1].desk is not None else ()
        return [name for name in _DESK_READS[item.desk] if "cookie" in gives or name == "body"]
    handler = item.spec.handler
    if handler.echo or handler.do in ("create", "replace"):
        return {*uses(handler), "body"}
    return uses(handler)
