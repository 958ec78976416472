"""``stage-idle``: it runs for no request that a route answers."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.model.enumerations import OWN_LOGIC
from patient_usher.core.model.patterns import fits_template, split_request
from patient_usher.core.model.pipeline import MARKER, StageOptions
from patient_usher.core.questions.check.mends import drop, mend, remove, stand
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion


def look(context: Context) -> Iterator[Suspicion]:
    """Stages that no route has on its way, or that every route on theirs is left out of."""
    for id_, option in context.options.items():
        if not option.enabled:
            continue
        items = [item for item, order in context.ways if item is not None and id_ in order]
        if not items and id_ not in context.order(None):
            happens = f"{id_} stands where there is no route"
            left = (
                None
                if context.compiled.stages[id_].only_watches
                else f"where {id_} should stand, or whether at all, is yours to say"
            )
            yield Suspicion(id_, None, context.at(id_), happens, (mend(f"take {id_} out", remove(id_), left=left),))
        elif any(_wanted(option, item) for item in items) and all(_passed(option, item) for item in items):
            happens = f"every route that {id_} could meet is left out of it by except"
            yield Suspicion(
                id_, None, context.at(id_), happens, (mend("leave except out", drop(context.at(id_, "except"))),)
            )
    yield from _behind_routes(context)
    yield from _shut_out(context)


def _behind_routes(context: Context) -> Iterator[Suspicion]:
    """Stages of a sequential flow to which no request comes that a route answers."""
    if not context.sequential:
        return
    routed = [x for _, x in context.exchanges() if x.route is not None]
    met = {step[0] for x in routed for step in x.journey or () if step[1] == "in"}
    orders = [order for item, order in context.ways if item is not None]
    behind = [
        id_
        for id_ in context.options
        if context.kind(id_) not in ("error-handler", *OWN_LOGIC)
        and any(id_ in order for order in orders)
        and all(id_ not in order or order.index("handler") < order.index(id_) for order in orders)
    ]
    for id_ in behind:
        if id_ not in met and not context.compiled.stages[id_].only_watches:
            happens = f"{id_} stands behind the routes: no request that a route answers comes to it"
            words = f"move {id_} in front of the routes"
            yield Suspicion(id_, None, context.at(id_), happens, (mend(words, stand(id_, "before", MARKER)),))


def _shut_out(context: Context) -> Iterator[Suspicion]:
    """What stands behind a stage of one's own that answers every request."""
    for redactor in context.kinds("decide"):
        options = context.options[redactor]
        first = next(iter(getattr(options, "cases", ())), None)
        if first is None or first.when is not None or options.only is not None or options.except_ is not None:
            continue
        if first.then.continue_ or first.then.nothing or first.then.answer_and_continue:
            continue
        behind = [
            id_
            for id_ in context.options
            if (ways := [order for _, order in context.ways if id_ in order])
            and all(redactor in order and order.index(redactor) < order.index(id_) for order in ways)
            and (not context.sequential or context.kind(id_) != "error-handler")
        ]
        if behind:
            yield Suspicion(
                behind[0],
                None,
                context.at(behind[0]),
                f"{redactor} answers every request, so nothing comes to {', '.join(behind)}, nor to any handler",
                (mend(f"take {redactor} out", remove(redactor), left=f"whether {redactor} should answer everything"),),
            )


def _wanted(option: StageOptions, item: PlacedRoute) -> bool:
    return option.only is None or any(_fits(pattern, item) for pattern in option.only)


def _passed(option: StageOptions, item: PlacedRoute) -> bool:
    return not _wanted(option, item) or any(_fits(pattern, item, surely=True) for pattern in option.except_ or ())


def _fits(pattern: str, item: PlacedRoute, *, surely: bool = False) -> bool:
    methods, path = split_request(pattern)
    there = not methods or item.route.method in methods
    return there and fits_template(path, item.route.template.segments, surely=surely)


RULE = Rule(
    code="stage-idle",
    level="warning",
    says="it runs for no request that a route answers",
    matters="It looks as if something were taken care of here, and it isn't.",
    mend="Move it to where requests come, or take it out.",
    example="""
patient-usher: pipeline/1
stages: [{id: mark, kind: header-fields, on-answer: {put: {X-Desk: quay}}, except: [/**]}]
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
""",
    look=look,
    notices="Callers of routes notice nothing of this stage.",
)
