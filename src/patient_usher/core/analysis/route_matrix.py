"""Which stages stand before which routes, and which of them one request would meet."""

from __future__ import annotations

from typing import NamedTuple

from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.engine.run.world import World
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Request
from patient_usher.core.http.urls import Url
from patient_usher.core.model.patterns import fits_template, split_request
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.templates import Template


class RouteRow(NamedTuple):
    """A route against every stage: ``runs``, ``errors``, ``sometimes``, ``passed-over``, ``off`` or ``elsewhere``.

    ``access`` is who may use it, and whether anything on its way holds callers to that.
    """

    item: PlacedRoute
    stages: dict[str, str]
    access: str = ""


def _pattern_fits(text: str, method: str, template: Template, *, surely: bool) -> bool:
    names, path = split_request(text)
    if names and method not in names and not (method == "GET" and "HEAD" in names and not surely):
        return False
    return fits_template(path, template.segments, surely=surely)


def _state(options: StageOptions, item: PlacedRoute) -> str:
    """What a stage on the route's way does: by ``enabled``, ``only`` and ``except``."""
    if not options.enabled:
        return "off"
    route = item.route

    def fits(patterns: list[str], surely: bool) -> bool:
        return any(_pattern_fits(text, route.method, route.template, surely=surely) for text in patterns)

    if options.only is not None and not fits(options.only, False):
        return "passed-over"
    if options.except_ and fits(options.except_, True):
        return "passed-over"
    if (options.only is not None and not fits(options.only, True)) or (
        options.except_ and fits(options.except_, False)
    ):
        return "sometimes"
    return "runs"


def standing(blueprint: Blueprint) -> list[RouteRow]:
    """Every route against every stage, in the order of the file."""
    rows = []
    for item in blueprint.placed:
        on_way = set(blueprint.order(item))
        stages = {
            id_: _state(options, item) if id_ in on_way else "elsewhere" for id_, options in blueprint.options.items()
        }
        for id_ in (step.id for step in blueprint.plans[item.route.id].steps if step.catches):
            if blueprint.sequential and stages[id_] == "runs":
                stages[id_] = "errors"
        rows.append(RouteRow(item, stages, _access(blueprint, item, stages)))
    return rows


def _access(blueprint: Blueprint, item: PlacedRoute, stages: dict[str, str]) -> str:
    """Who may use a route, in words; what nobody enforces says so."""
    access = item.route.access
    if access is None:
        return "access not said"
    running = (id_ for id_, state in stages.items() if state in ("runs", "sometimes"))
    if access.who == "everyone" or any(access.who in blueprint.options[id_].guards() for id_ in running):
        return str(access)
    return f"{access}: nothing checks it"


class StageOnWay(NamedTuple):
    """One stage for one request: whether it runs, or why not."""

    id: str
    kind: str
    runs: bool
    why: str


class Way(NamedTuple):
    """What one request would meet: stages in running order, then those that aren't on its way."""

    item: PlacedRoute | None
    access: str
    allowed: tuple[str, ...]
    on_way: list[StageOnWay]
    elsewhere: list[StageOnWay]


def way(blueprint: Blueprint, method: str, url: Url) -> Way:
    """Which stages run for a method and URL, in which order, and why the others don't."""
    x = World(blueprint).admit("show", Request(method, url, Fields([("Host", url.authority)])), 0)
    item = next((item for item in blueprint.placed if x.route is item.route), None)
    steps = {step.id: step for step in x.plan.steps}
    order = blueprint.order(item)
    on_way: list[StageOnWay] = []
    for at, id_ in enumerate(order):
        if id_ == "router":
            on_way.append(
                StageOnWay(id_, "", True, f"finds the route {item.route.id}" if item else _refusal(x.allowed))
            )
        elif id_ == "handler":
            on_way.append(StageOnWay(id_, "", True, "answers"))
        else:
            options = blueprint.options[id_]
            behind = item is not None and "handler" in order and at > order.index("handler")
            step = steps.get(id_)
            reason = step.passes_over(x) if step is not None and step.passes_over is not None else None
            only_errors = blueprint.sequential and step is not None and step.catches
            if not options.enabled:
                on_way.append(StageOnWay(id_, options.kind, False, "switched off (enabled: false)"))
            elif reason:
                patterns = options.only if reason == "only" else options.except_
                fits = "none of its only fits" if reason == "only" else "its except fits"
                on_way.append(StageOnWay(id_, options.kind, False, f"{fits}: {', '.join(patterns or ())}"))
            elif only_errors:
                before = [one for one in order[:at] if one in steps and one != "router" and not steps[one].catches]
                if item is None and steps["router"].raises and at >= x.plan.routes_at:
                    before.append("router")
                told = f"for errors only: those of {', '.join(before)}" if before else "no error ever comes here"
                on_way.append(StageOnWay(id_, options.kind, False, told))
            elif behind:
                on_way.append(StageOnWay(id_, options.kind, False, "behind the handler: only errors get here"))
            else:
                on_way.append(StageOnWay(id_, options.kind, True, ""))
    homes = _homes(blueprint)
    elsewhere = []
    for id_, options in blueprint.options.items():
        if id_ not in order:
            home = homes.get(id_, "")
            why = f"stands on {home}"
            if item is None:
                why += ", behind the point where the router refuses"
            elsewhere.append(StageOnWay(id_, options.kind, False, why))
    access = next((row.access for row in standing(blueprint) if row.item is item), "")
    return Way(item, access, x.allowed, on_way, elsewhere)


def _refusal(allowed: tuple[str, ...]) -> str:
    return f"refuses with 405, Allow: {', '.join(allowed)}" if allowed else "refuses with 404: no route has this path"


def _homes(blueprint: Blueprint) -> dict[str, str]:
    """Where stages stand that aren't server-wide."""
    homes: dict[str, str] = {}
    for item in blueprint.placed:
        for group in item.groups:
            homes.update({entry["id"]: f"group {group.id}" for entry in group.stages})
        homes.update({entry["id"]: f"route {item.route.id}" for entry in item.spec.stages})
    pending = list(blueprint.spec.groups)
    while pending:
        group = pending.pop()
        homes.update({entry["id"]: f"group {group.id}" for entry in group.stages})
        pending += group.groups
    return homes


def enforced_limits(blueprint: Blueprint) -> list[str]:
    """Where the limit that is really enforced differs from the one that is written, in a sentence each."""
    deployment = blueprint.spec.deployment
    notes = []
    for id_, options in blueprint.options.items():
        limit = options.limit()
        if deployment.instances == 1 or limit is None or not options.enabled or id_ in deployment.shared_state:
            continue
        if deployment.spread == "by-address" and "address" in limit.per:
            continue  # an address always meets the same instance
        count = deployment.instances
        notes.append(
            f"{id_}: a quota of {limit.quota} on each of {count} instances really lets {limit.quota * count} through; "
            f"name it in shared-state for {limit.quota}"
        )
    return notes
