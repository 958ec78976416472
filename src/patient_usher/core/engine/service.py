"""A service that exchanges can be walked through: routes, plans, instances, and what stands in front."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import lru_cache
from ipaddress import ip_address, ip_network
from random import Random
from typing import Any, NamedTuple

from patient_usher.core.engine.desk import desk_routes
from patient_usher.core.engine.router import Route, Router
from patient_usher.core.engine.run import Plan, PlanStep
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.forwarded import Hop, read_forwarded, write_forwarded
from patient_usher.core.http.messages import Request
from patient_usher.core.http.urls import Url
from patient_usher.core.model.document import Problem
from patient_usher.core.model.errors import refusal
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import Access, GroupSpec, PipelineSpec, RouteSpec, StageOptions, Template
from patient_usher.core.model.scalars import request_pattern
from patient_usher.core.stages import base

MARKER = "routes"
"""In a sequential pipeline: where group stages, route stages and the handler stand."""


class PlacedRoute(NamedTuple):
    """A route with everything that its place gives it: groups, outermost first.

    ``desk`` is what a desk's route does, None for a route of the file's own.
    """

    route: Route
    spec: RouteSpec
    groups: tuple[GroupSpec, ...]
    desk: str | None = None


class Bearer(NamedTuple):
    """What a token must say to count: for minting some that do."""

    keys: tuple[str, ...] = ()
    issuer: str | None = None
    audience: str | None = None


class Wallet(NamedTuple):
    """How the pipeline's callers show who they are, as its stages ask for it."""

    bearer: Bearer
    key_place: tuple[str, str] | None


class _RouterStage(base.Stage):
    """The routing position. The route was looked up on arrival; here it is acted on."""

    def way_in(self, x: Exchange) -> base.Effect:
        """Pass on, or refuse with 404 or 405."""
        if x.route is not None:
            x.note = {"route": x.route.id}
            return None
        path = x.request.url.path
        if not x.allowed:
            return refusal("NotFound", "no-route", f"no route has the path {path}")
        # RFC 9110 15.5.6: 405 says what is allowed.
        names = ", ".join(x.allowed)
        message = f"{path} has no route for {x.request.method}, only for {names}"
        return refusal("MethodNotAllowed", "method-not-allowed", message, fields=Fields([("Allow", names)]))


class Service:
    """A pipeline ready to run."""

    def __init__(
        self,
        spec: PipelineSpec,
        options: Mapping[str, StageOptions],
        setup: base.Setup,
        placed: list[PlacedRoute],
        stages: Sequence[Mapping[str, base.Stage]],
        handlers: Mapping[str, base.Stage],
        change: Callable[[Service, Any, bool], Service],
    ) -> None:
        """``stages``: each instance's, by id; ``change`` makes the service that an overlay turns this one into."""
        self.spec = spec
        self.options = options
        self.setup = setup
        self.placed = placed
        self.stages = stages
        self.handlers = handlers
        self.name = spec.name
        self.environment = setup.environment
        self.sequential = spec.flow == "sequential"
        self.router = Router(item.route for item in placed)
        self.wallet = self._wallet()
        self.sets = {name: id_ for id_, o in options.items() if o.enabled for name in o.sets()}
        self._change = change
        self.warnings: list[Problem] = []
        raises = spec.refuse == "raise" and not self.sequential
        self._router_step = PlanStep("router", _RouterStage(), raises=raises, sequential=self.sequential, framed=False)
        self._plans: list[dict[str | None, Plan]] = []
        for own in stages:
            steps = {id_: self._step(o, own[id_]) for id_, o in options.items() if o.enabled}
            plans: dict[str | None, Plan] = {item.route.id: self._plan(item, steps) for item in placed}
            plans[None] = self._plan(None, steps)
            self._plans.append(plans)
        self._front = spec.deployment.in_front
        self._has_front = self._front.ends_tls or self._front.sends != "nothing"
        trusted = [ip_network(text, strict=False) for text in spec.deployment.trusts_forwarded]
        self._trusts = lru_cache(maxsize=4096)(lambda peer: any(ip_address(peer) in network for network in trusted))
        self._plain = not (self._has_front or trusted)
        self._arrivals = 0
        self._random = Random(setup.seed)

    # Plans.

    def _step(self, options: StageOptions, stage: base.Stage) -> PlanStep:
        refuse = options.refuse or ("raise" if stage.always_raises else self.spec.refuse)
        return PlanStep(
            options.id, stage, raises=refuse == "raise", sequential=self.sequential, passes_over=passes_over(options)
        )

    def _listed(self, entries: Iterable[Any]) -> list[str]:
        """Stage ids of one list, outermost first."""
        ids = [entry if entry == MARKER else entry["id"] for entry in entries]
        return ids[::-1] if self.spec.listed == "innermost-first" and not self.sequential else ids

    def order(self, item: PlacedRoute | None) -> list[str]:
        """The ids of everything on a route's way, in running order, switched-off stages included."""
        before, after = self._listed(self.spec.stages), []
        if self.sequential:
            at = before.index(MARKER)
            before, after = before[:at], before[at + 1 :]
        if item is None:
            return [*before, *after, "router"] if self.sequential else [*before, "router"]
        inside = [id_ for group in item.groups for id_ in self._listed(group.stages)]
        return [*before, "router", *inside, *self._listed(item.spec.stages), "handler", *after]

    def _plan(self, item: PlacedRoute | None, steps: Mapping[str, PlanStep]) -> Plan:
        found = []
        for id_ in self.order(item):
            if id_ == "router":
                found.append(self._router_step)
            elif id_ == "handler" and item is not None:
                handler = self.handlers[item.route.id]
                found.append(PlanStep("handler", handler, raises=True, sequential=self.sequential, framed=False))
            elif id_ in steps:
                found.append(steps[id_])
        return Plan(tuple(found), self.sequential)

    def columns(self, *, switched_off: bool = False) -> list[str]:
        """Every stage, the router and the handler, in an order that fits all routes.

        ``switched_off``: those too that are switched off.
        """
        ids: dict[str, None] = {}
        tail: dict[str, None] = {}
        for item in [*self.placed, None]:
            order = self.order(item)
            cut = order.index("handler") if "handler" in order else len(order)
            for part, target in ((order[:cut], ids), (order[cut:], tail)):
                for id_ in part:
                    if id_ in ("router", "handler") or switched_off or self.options[id_].enabled:
                        target[id_] = None
        return [*(id_ for id_ in ids if id_ not in tail), *tail]

    # Callers.

    def _wallet(self) -> Wallet:
        signing = [id_ for id_, key in self.setup.keys.items() if key.sign is not None]
        bearer, key_place = Bearer(tuple(signing)), None
        for options in reversed(list(self.options.values())):
            for scheme in getattr(options, "schemes", ()):
                if scheme.scheme == "bearer":
                    keys = tuple(name for name in scheme.keys if name in signing)
                    bearer = Bearer(keys or bearer.keys, scheme.issuer, scheme.audience)
                elif scheme.scheme == "api-key":
                    key_place = (scheme.in_, scheme.name)
        return Wallet(bearer, key_place)

    # Arrivals.

    def changed(self, overlay: Any) -> Service:
        """The service after a change: later exchanges walk new plans, stage state stays. Raises Unusable."""
        return self._change(self, overlay, True)

    def tried(self, overlay: Any) -> Service:
        """The service after a change, with no state in common. Raises Unusable where the change can't be made."""
        return self._change(self, overlay, False)

    def exchange(self, number: int, id_: str, request: Request, at: int) -> Exchange:
        """A new exchange at its place in front of the first stage."""
        x = Exchange(number, id_, request, at)
        if self._plain:
            url = request.url
            x.scheme, x.host, x.address = url.scheme, url.host, request.peer
        else:
            self._through_front(x)
        route, values, allowed = self.router.find(request.method, request.url)
        x.environment = self.environment
        plans = self._plans[0]
        if len(self._plans) > 1:
            x.instance = self._instance(x.address)
            plans = self._plans[x.instance]
        if route is not None:
            x.route = route
            x.path_values = values
            x.plan = plans[route.id]
        else:
            x.plan = plans[None]
            x.allowed = allowed
        return x

    def _instance(self, address: str) -> int:
        count, spread = len(self._plans), self.spec.deployment.spread
        if spread == "by-address":
            import hashlib

            return int.from_bytes(hashlib.sha256(address.encode()).digest()[:4], "big") % count
        if spread == "random":
            return self._random.randrange(count)
        self._arrivals += 1
        return (self._arrivals - 1) % count

    def _through_front(self, x: Exchange) -> None:
        """What the front makes of the request, and what the service believes of that."""
        request = x.request
        if self._has_front:
            fields, url = request.fields.copy(), request.url
            write_forwarded(fields, self._front.sends, Hop(request.peer, url.scheme, url.authority))
            if self._front.ends_tls and url.scheme == "https":
                url = Url("http", url.host, 80 if url.port == 443 else url.port, url.path, url.query)
            x.request = Request(request.method, url, fields, request.body, self._front.address)
        url = x.request.url
        hop = read_forwarded(x.request.fields) if self._trusts(x.request.peer) else Hop()
        x.scheme = hop.scheme or url.scheme
        x.host = hop.host or url.host
        x.address = hop.address or x.request.peer

    def missing(self, name: str, x: Exchange) -> str:
        """Words for a value that was never set: who should have set it."""
        text = f"{name} was never set"
        root, _, value = name.partition(".")
        if root != "context":
            return text
        setter = self.sets.get(value)
        if setter is None:
            return f"{text}, and no stage of the pipeline sets it"
        if any(step.id == setter for step in x.plan.steps):
            return f"{text}; {setter} sets it, but had not run, or its case did not fit"
        return f"{text}; {setter} sets it, but doesn't stand on the way of this route"


def passes_over(options: StageOptions) -> Callable[[Exchange], str | None] | None:
    """Why the stage does not meet an exchange: ``only``, ``except``, or None where it does."""
    only = [request_pattern(text) for text in options.only] if options.only is not None else None
    excepted = [request_pattern(text) for text in options.except_ or ()]
    if only is None and not excepted:
        return None

    def fits(patterns: list[Any], x: Exchange) -> bool:
        method, path = x.request.method, x.request.url.decoded_path
        return any((not methods or method in methods) and test(path) for methods, test in patterns)

    def reason(x: Exchange) -> str | None:
        if only is not None and not fits(only, x):
            return "only"
        return "except" if excepted and fits(excepted, x) else None

    return reason


def place_routes(spec: PipelineSpec) -> list[PlacedRoute]:
    """Every route with its groups and inherited access, in the order of the file; a desk's come first."""
    found: list[PlacedRoute] = []

    def place(
        route: RouteSpec,
        groups: tuple[GroupSpec, ...],
        prefix: Template,
        access: Access | None,
        desk: str | None = None,
    ) -> None:
        own: Template = route.at.template
        segments = own.segments if not prefix.segments or own.text != "/" else (("literal", ""),)
        template = Template(prefix.text + own.text, prefix.segments + segments)
        ids = tuple(group.id for group in groups)
        ready = Route(route.id, route.at.method, template, route.access or access, route, ids)
        found.append(PlacedRoute(ready, route, groups, desk))

    def walk(groups: list[GroupSpec], around: tuple[GroupSpec, ...], prefix: Template, access: Access | None) -> None:
        for group in groups:
            inner = (*around, group)
            longer = Template(prefix.text + group.prefix.text, prefix.segments + group.prefix.segments)
            held = group.access or access
            for action, route in desk_routes(group):
                signed_in = held if held is not None and held.who != "everyone" else Access("signed-in")
                place(route, inner, longer, signed_in, action)
            for route in group.routes:
                place(route, inner, longer, held)
            walk(group.groups, inner, longer, held)

    for route in spec.routes:
        place(route, (), Template("", ()), None)
    walk(spec.groups, (), Template("", ()), None)
    return found
