"""Which stages stand before which routes, and which of them one request would meet."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import NamedTuple

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Request
from patient_usher.core.http.urls import Url
from patient_usher.core.model.patterns import fits_template, split_request
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.templates import Template


def _pattern_fits(text: str, method: str, template: Template, *, surely: bool) -> bool:
    names, path = split_request(text)
    if names and method not in names and not (method == "GET" and "HEAD" in names and not surely):
        return False
    return fits_template(path, template.segments, surely=surely)


def _meets_route(item: PlacedRoute, options: StageOptions) -> str:
    """Whether a stage meets what comes to a route: by ``only`` and ``except``."""
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


class StageOnWay(NamedTuple):
    """One stage on a way: ``runs``, ``errors`` (for errors only), ``sometimes``, ``passed-over``, ``off``, ``never`` or
    ``elsewhere``; and why it does no more than that.
    """

    id: str
    kind: str
    state: str
    why: str = ""

    @property
    def runs(self) -> bool:
        """Whether it does."""
        return self.state == "runs"


def _on_way(
    compiled: CompiledPipeline, item: PlacedRoute | None, meets: Callable[[StageOptions], str]
) -> list[StageOnWay]:
    """What everything on a way does, in running order: the one place that says what runs.

    ``meets`` says of a stage's ``only`` and ``except``: ``runs``, ``sometimes`` or ``passed-over``.
    """
    order = compiled.order(item)
    plan = compiled.plans[item.route.id if item is not None else None]
    steps = {step.id: step for step in plan.steps}
    places = {id_: at for at, id_ in enumerate(steps)}  # the router refuses where the routes stand, not where it runs
    found: list[StageOnWay] = []
    shut = ""  # what answers everything: nothing behind it runs
    raising: list[str] = []  # what an error may come from, so far
    for id_ in order:
        if id_ in ("router", "handler"):
            found.append(StageOnWay(id_, "", *(("never", f"{shut} answers first") if shut else ("runs", ""))))
            if not shut and id_ == "handler":
                raising.append(id_)
            if id_ == "handler":
                shut = shut or "the handler"
            continue
        options = compiled.options[id_]
        state = meets(options) if options.enabled else "off"
        if not options.enabled:
            found.append(StageOnWay(id_, options.kind, "off", "switched off (enabled: false)"))
        elif state == "passed-over":
            found.append(StageOnWay(id_, options.kind, state))
        elif compiled.sequential and steps[id_].catches:
            refused = item is None and steps["router"].raises and places[id_] >= plan.routes_at
            errors_of = [*raising, *(["router"] if refused else [])]
            if errors_of:
                named = f"for errors only: those of {', '.join(errors_of)}"
                found.append(StageOnWay(id_, options.kind, "errors", named))
                raising.append(id_)
            else:
                found.append(StageOnWay(id_, options.kind, "never", "no error ever comes here"))
        elif shut:
            found.append(StageOnWay(id_, options.kind, "never", f"{shut} answers first"))
        else:
            found.append(StageOnWay(id_, options.kind, state))
            raising.append(id_)
            if state == "runs" and options.answers_all():
                shut = id_
    return found


class RouteRow(NamedTuple):
    """A route against every stage, by ids as ``StageOnWay.state`` has them.

    ``access`` is who may use it, and whether anything on its way holds callers to that.
    """

    item: PlacedRoute
    stages: dict[str, str]
    access: str = ""


def standing(compiled: CompiledPipeline) -> list[RouteRow]:
    """Every route against every stage, in the order of the file."""
    rows = []
    for item in compiled.placed:
        states = {one.id: one.state for one in _on_way(compiled, item, partial(_meets_route, item))}
        stages = {**dict.fromkeys(compiled.options, "elsewhere"), **states}
        rows.append(RouteRow(item, stages, _access(compiled, item, stages)))
    return rows


def _access(compiled: CompiledPipeline, item: PlacedRoute, stages: dict[str, str]) -> str:
    """Who may use a route, in words; what nobody enforces says so."""
    access = item.route.access
    if access is None:
        return "access not said"
    running = (id_ for id_, state in stages.items() if state in ("runs", "sometimes") and id_ in compiled.options)
    if (
        stages.get("handler") == "never"
        or access.who == "everyone"
        or any(access.who in compiled.options[id_].guards() for id_ in running)
    ):
        return str(access)
    return f"{access}: nothing checks it"


class Way(NamedTuple):
    """What one request would meet: stages in running order, then those that aren't on its way."""

    item: PlacedRoute | None
    access: str
    allowed: tuple[str, ...]
    on_way: list[StageOnWay]
    elsewhere: list[StageOnWay]


def way(compiled: CompiledPipeline, method: str, url: Url) -> Way:
    """Which stages run for a method and URL, in which order, and why the others don't."""
    x = RunState(compiled).admit("show", Request(method, url, Fields([("Host", url.authority)])), 0)
    item = next((item for item in compiled.placed if x.route is item.route), None)
    over = {step.id: step.passes_over(x) for step in x.plan.steps if step.passes_over is not None}
    on_way = _on_way(compiled, item, lambda options: "passed-over" if over.get(options.id) else "runs")
    on_way = [_explained(compiled, one, item, x.allowed, over.get(one.id)) for one in on_way]
    there, homes = {one.id for one in on_way}, _homes(compiled)
    behind = ", behind the point where the router refuses" if item is None else ""
    elsewhere = [
        StageOnWay(id_, options.kind, "elsewhere", f"stands on {homes.get(id_, '')}{behind}")
        for id_, options in compiled.options.items()
        if id_ not in there
    ]
    access = next((row.access for row in standing(compiled) if row.item is item), "")
    return Way(item, access, x.allowed, on_way, elsewhere)


def _explained(
    compiled: CompiledPipeline, one: StageOnWay, item: PlacedRoute | None, allowed: tuple[str, ...], over: str | None
) -> StageOnWay:
    """The same, with what there is to say of it for one request."""
    if one.id == "router" and one.runs:
        return one._replace(why=f"finds the route {item.route.id}" if item else _refusal(allowed))
    if one.id == "handler" and one.runs:
        return one._replace(why="answers")
    if one.state == "passed-over":
        options = compiled.options[one.id]
        patterns = options.only if over == "only" else options.except_
        fits = "none of its only fits" if over == "only" else "its except fits"
        return one._replace(why=f"{fits}: {', '.join(patterns or ())}")
    return one


def _refusal(allowed: tuple[str, ...]) -> str:
    return f"refuses with 405, Allow: {', '.join(allowed)}" if allowed else "refuses with 404: no route has this path"


def _homes(compiled: CompiledPipeline) -> dict[str, str]:
    """Where stages stand that aren't server-wide."""
    homes: dict[str, str] = {}
    for item in compiled.placed:
        for group in item.groups:
            homes.update({entry["id"]: f"group {group.id}" for entry in group.stages})
        homes.update({entry["id"]: f"route {item.route.id}" for entry in item.spec.stages})
    pending = list(compiled.spec.groups)
    while pending:
        group = pending.pop()
        homes.update({entry["id"]: f"group {group.id}" for entry in group.stages})
        pending += group.groups
    return homes


def enforced_limits(compiled: CompiledPipeline) -> list[str]:
    """Where the limit that is really enforced differs from the one that is written, in a sentence each."""
    deployment = compiled.spec.deployment
    notes = []
    for id_, options in compiled.options.items():
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
