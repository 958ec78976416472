"""``setting-unread``: no stage on the route's way reads this setting."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.questions.check.mends import Mend, add_last, free_id, mend, setting
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion

_READ_BY = {
    "cache": ("cache",),
    "clears": ("cache",),
    "input": ("validate",),
    "body-limit": ("read-body",),
    "cost": ("rate-limit",),
}
"""Settings of routes, and the kinds that read them."""


def look(context: Context) -> Iterator[Suspicion]:
    """By the kinds on each route's way; all settings of a route that nothing reads are one finding."""
    for item in context.compiled.placed:
        if item.desk is not None:
            continue
        there = {context.kind(id_) for id_ in context.compiled.order(item)}  # those that are switched off too
        given = {name.replace("_", "-") for name in item.spec.model_fields_set}
        unread = [name for name, kinds in _READ_BY.items() if name in given and not there & {*kinds, "python"}]
        if unread:
            route = item.route.id
            missing = " and no ".join(dict.fromkeys(_READ_BY[name][0] for name in unread))
            yield Suspicion(
                None,
                route,
                context.at_route(route, unread[0]),
                f"{route} says {' and '.join(unread)}, and no {missing} stage stands on its way",
                tuple(_mends(context, route, unread, there)),
            )


def _mends(context: Context, route: str, unread: list[str], there: set[str]) -> Iterator[Mend]:
    """Add what reads them, but for limits, which need figures; or leave them out."""
    left = [name for name in unread if _READ_BY[name][0] not in _ADDED]
    added = [kind for name in unread for kind in _ADDED.get(_READ_BY[name][0], ()) if kind not in there]
    out = [setting(route, name, None) for name in left]
    if added:
        kinds = list(dict.fromkeys(added))
        words = f"add {' and '.join(f'a {kind} stage' for kind in kinds)}"
        adding = [add_last({"id": free_id(context.doc, kind), "kind": kind}) for kind in kinds]
        yield mend(words + (f", and leave {' and '.join(left)} out of {route}" if left else ""), *adding, *out)
    yield mend(f"leave {' and '.join(unread)} out of {route}", *(setting(route, name, None) for name in unread))


_ADDED = {"cache": ("cache",), "read-body": ("read-body",), "validate": ("read-body", "validate")}
"""What to add for a kind that is missing, in order."""


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
    notices="Callers are treated as if the setting weren't there.",
)
