"""``setting-unread``: no stage on the route's way reads this setting."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.analysis.findings.mends import Mend, add_last, free_id, mend, setting
from patient_usher.core.analysis.findings.rule import Context, Rule, Suspicion

_READ_BY = {
    "cache": ("cache",),
    "clears": ("cache",),
    "input": ("validate",),
    "body-limit": ("read-body",),
    "cost": ("rate-limit",),
}
"""Settings of routes, and the kinds that read them."""


def look(context: Context) -> Iterator[Suspicion]:
    """By the kinds on each route's way."""
    for item in context.blueprint.placed:
        if item.desk is not None:
            continue
        there = {context.kind(id_) for id_ in context.blueprint.order(item)}  # those that are switched off too
        given = {name.replace("_", "-") for name in item.spec.model_fields_set}
        for name, kinds in _READ_BY.items():
            if name in given and not there & {*kinds, "python"}:
                route = item.route.id
                happens = f"{route} says {name}, and no {kinds[0]} stage stands on its way"
                yield Suspicion(
                    None,
                    route,
                    context.at_route(route, name),
                    happens,
                    tuple(_mends(context, route, name, kinds[0], there)),
                )


def _mends(context: Context, route: str, name: str, kind: str, there: set[str]) -> Iterator[Mend]:
    if kind in ("cache", "read-body"):
        entry = {"id": free_id(context.doc, kind), "kind": kind}
        yield mend(f"add a {kind} stage", add_last(entry))
    if kind == "validate":
        first = (
            [] if "read-body" in there else [add_last({"id": free_id(context.doc, "read-body"), "kind": "read-body"})]
        )
        yield mend(
            "add a validate stage", *first, add_last({"id": free_id(context.doc, "validate"), "kind": "validate"})
        )
    yield mend(f"leave {name} out of {route}", setting(route, name, None))


RULE = Rule(
    code="setting-unread",
    level="warning",
    says="no stage on the route's way reads this setting",
    matters="The route asks for something that nobody does: nothing is stored, limited or held against a schema.",
    mend="Let a stage of the kind that reads it stand on the route's way, or leave the setting out.",
    example="""
patient-usher: pipeline/1
routes:
  - {id: tides, at: GET /tides, access: everyone, cache: 60s, handler: {answer: {text: high at six}}}
""",
    look=look,
)
