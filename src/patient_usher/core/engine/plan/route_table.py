"""Every route at its place: with the groups around it, and the access that it inherits."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any, NamedTuple

from patient_usher.core.engine.plan.router import Route
from patient_usher.core.handlers.desk import desk_routes
from patient_usher.core.model.pipeline import MARKER, PipelineSpec
from patient_usher.core.model.routes import GroupSpec, RouteSpec
from patient_usher.core.model.templates import Access, Template


class PlacedRoute(NamedTuple):
    """A route with everything that its place gives it: groups, outermost first.

    ``desk`` is what a desk's route does, None for a route of the file's own.
    """

    route: Route
    spec: RouteSpec
    groups: tuple[GroupSpec, ...]
    desk: str | None = None


def place_routes(spec: PipelineSpec) -> list[PlacedRoute]:
    """Every route, in the order of the file; a desk's come first in their group."""
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
        if not template.segments:  # a method alone, in no group
            template = Template("/", (("literal", ""),))
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


def all_groups(groups: Iterable[GroupSpec]) -> Iterator[GroupSpec]:
    """Every group, those within others included."""
    for group in groups:
        yield group
        yield from all_groups(group.groups)


def running_order(spec: PipelineSpec, item: PlacedRoute | None) -> list[str]:
    """The ids of everything on a route's way, in running order, switched-off stages included."""
    sequential = spec.flow == "sequential"

    def listed(entries: Iterable[Any]) -> list[str]:
        ids = [entry if entry == MARKER else entry["id"] for entry in entries]
        return ids[::-1] if spec.listed == "innermost-first" and not sequential else ids

    before: list[str] = listed(spec.stages)
    after: list[str] = []
    if sequential:
        at = before.index(MARKER)
        before, after = before[:at], before[at + 1 :]
    if item is None:
        return [*before, *after, "router"] if sequential else [*before, "router"]
    inside = [id_ for group in item.groups for id_ in listed(group.stages)]
    return [*before, "router", *inside, *listed(item.spec.stages), "handler", *after]
