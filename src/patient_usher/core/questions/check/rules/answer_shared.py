"""``answer-shared``: a copy made for one caller is given to another."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.runner import ScenarioRun
from patient_usher.core.engine.plan.data_availability import handler_reads
from patient_usher.core.model.enumerations import OWN_LOGIC
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import Mend, copies_per, drop, mend, stand
from patient_usher.core.questions.check.rule import (
    Context,
    Rule,
    Suspicion,
    observable_state,
    same,
    shows,
    state,
    status,
)
from patient_usher.core.verify.always import READY


def look(context: Context) -> Iterator[Suspicion]:
    """Copies that came to a caller for whom they weren't made."""
    for run in context.runs("again"):
        x = _shared(context, run)
        if x is None:
            continue
        cache = x.caches[-1].stage
        route = x.route.id if x.route is not None else None
        yield Suspicion(
            cache,
            None,
            context.at(cache),
            f"the copy that {cache} made for one caller is given to another",
            tuple(_mends(context, cache, route)),
            lambda as_is, mended: _leaks(context, as_is, mended),
            (run.scenario,),
        )
    yield from _guarded(context)


def _guarded(context: Context) -> Iterator[Suspicion]:
    """Copies that come to whom a guard behind the cache would refuse."""
    for run in context.runs("guarded"):
        x = run.last
        if state(x) != "hit" or len(run.sends) < 2:
            continue
        alone = context.run(run.scenario._replace(requests=run.scenario.requests[-1:]))
        guard = alone.last.refused_by if alone is not None and not alone.last.handler_reached else None
        cache = x.caches[-1].stage
        if guard is None or context.kind(guard) not in OWN_LOGIC:
            continue
        yield Suspicion(
            cache,
            None,
            context.at(cache),
            f"the copy that {cache} made for one caller is given to another, whom {guard} refuses",
            (mend(f"move {cache} behind {guard}", stand(cache, "behind", guard)),),
            shows(lambda x: state(x) == "hit", lambda x, by=guard: x.refused_by == by),  # type: ignore[misc]
            (run.scenario,),
        )


def _leaks(context: Context, as_is: ScenarioRun, mended: ScenarioRun) -> bool:
    """Whether the copy isn't what the caller would get who has none of another's."""
    x = _shared(context, as_is)
    own = same(mended, x) if x is not None else None
    if x is None or own is None or _shared(context, mended) is not None:
        return False
    return observable_state(x)[6] != observable_state(own)[6] or status(x) != status(own)


def _shared(context: Context, run: ScenarioRun) -> Exchange | None:
    judge = READY["copies-stay-private"](context.compiled)
    for x in run.exchanges:
        checks = judge(x)
        if checks is not None and not all(check.ok for check in checks):
            return x
    return next((x for x in run.exchanges if _personal(context, run, x)), None)


def _personal(context: Context, run: ScenarioRun, x: Exchange) -> bool:
    """A hit that says who another is, where the route calls it the same for everyone."""
    item = context.item(x)
    rule = item.spec.cache if item is not None else None
    if item is None or rule is None or rule.same_for is None or state(x) != "hit" or x.answer is None:
        return False
    if "identity" not in handler_reads(item):
        return False
    first = next((other for other in run.exchanges if other.caches and other.caches[-1].stored), None)
    if first is None or first.answer is None or first is x:
        return False
    ours = x.identity.name if x.identity is not None else None
    theirs = first.identity.name if first.identity is not None else None
    return ours != theirs and x.answer.body == first.answer.body


def _mends(context: Context, cache: str, route: str | None) -> Iterator[Mend]:
    item = context.by_id.get(route or "")
    order = context.order(item)
    behind = order[order.index(cache) + 1 :] if cache in order else []
    for id_ in reversed(behind):
        if context.kind(id_) in ("authenticate", "authorize", "decide"):
            yield mend(f"move {cache} behind {id_}", stand(cache, "behind", id_))
    if item is not None and item.spec.cache is not None:
        if item.spec.cache.same_for is not None:
            yield mend(
                f"don't call {route} the same for everyone", drop((*context.at_route(route, "cache"), "same-for"))
            )
        yield mend(f"let identity make a copy of its own on {route}", copies_per(item.route.id, "identity"))


RULE = Rule(
    code="answer-shared",
    level="error",
    says="a copy made for one caller is given to another",
    matters="One caller reads what is another's. No log shows it: every answer is a 200.",
    mend="Let the cache stand behind authenticate and authorize, and let the identity make a copy of its own.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: shelf, kind: cache}
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
routes:
  - {id: mine, at: GET /mine, access: signed-in, cache: 60s, handler: {answer: {text: "for ${identity.name}"}}}
accounts: {maren: {api-keys: [a-made-up-key]}, jory: {api-keys: [another-made-up-key]}}
""",
    look=look,
)
