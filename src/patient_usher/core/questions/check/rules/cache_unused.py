"""``cache-unused``: no route on the way of this cache opts in."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.questions.check.mends import mend, remove, setting
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion


def look(context: Context) -> Iterator[Suspicion]:
    """By the settings of the routes on its way."""
    for id_ in context.kinds("cache"):
        if getattr(context.options[id_], "stores", "") != "opted-in":
            continue
        items = [item for item, order in context.ways if item is not None and id_ in order]
        if any(item.spec.cache is not None for item in items):
            continue
        reads = [item for item in items if item.route.method == "GET" and item.desk is None]
        mends = [mend(f"take {id_} out", remove(id_))]
        if reads:
            name = reads[0].route.id
            mends.insert(0, mend(f"let {name} opt in for a minute", setting(name, "cache", "60s")))
        yield Suspicion(id_, None, context.at(id_), f"no route on the way of {id_} says cache:", tuple(mends))


RULE = Rule(
    code="cache-unused",
    level="warning",
    says="no route on the way of this cache opts in",
    matters="Adding the stage does nothing: a route's answers are stored when the route says for how long.",
    mend="Give the routes that are worth it a cache: setting, or take the stage out.",
    example="""
patient-usher: pipeline/1
stages: [{id: shelf, kind: cache}]
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
""",
    look=look,
    notices="Callers wait for the handler each time: nothing is ever answered from a copy.",
)
