"""Whether a mend does harm: what it would change for callers whom the finding isn't about.

Everything that was tried is run through the mended pipeline too. Nobody may reach a handler who didn't, but those
for whom the route is; nobody may be kept out who rightly came; no statement may break; nothing may newly fail.
"""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.runner import ScenarioRun
from patient_usher.core.decisions.scenario import UNKNOWN, WRONG, Scenario
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.model.enumerations import OWN_LOGIC, SLIPS
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.rule import Context, Suspicion, same, status
from patient_usher.core.verify.always import Statements

_REPEATED = ("burst", "guesses")
_PLAIN = ("call", "matched", "page")
"""Probes of the sort that every caller may send: to keep out one who rightly does is harm, whatever it shows."""


def harm(context: Context, suspicion: Suspicion, cure: CompiledPipeline, *, lets_through: bool = False) -> str | None:
    """What a mend would make worse, in words; None where it does no harm in anything that was tried.

    ``lets_through``: the mend is meant to let pass what the stage of the finding leaves without an answer.
    """
    trials = context.trials.apart()
    for scenario in context.scenarios:
        as_is = context.run(scenario)
        after = trials.run(scenario, cure) if as_is is not None else None
        if as_is is None or after is None:
            continue
        shown = suspicion.proof is not None and suspicion.proof(as_is, after)
        for found in _harms(context, suspicion, scenario, as_is, after, shown=shown, lets_through=lets_through):
            return found
    return None


def fails(x: Exchange) -> bool:
    """Whether something went wrong inside: a slip, or a status of the 500s that no stage means."""
    return x.outcome in SLIPS or (status(x) >= 500 and x.refused_by is None)


def newly_fails(as_is: ScenarioRun, after: ScenarioRun) -> bool:
    """Whether any exchange fails that didn't: no such answer proves anything."""
    pairs = ((x, same(after, x)) for x in as_is.exchanges)
    return any(other is not None and fails(other) and not fails(x) for x, other in pairs)


def _harms(
    context: Context,
    suspicion: Suspicion,
    scenario: Scenario,
    as_is: ScenarioRun,
    after: ScenarioRun,
    *,
    shown: bool,
    lets_through: bool,
) -> Iterator[str]:
    """``shown``: the probe is one of those that the finding is about."""
    for x in as_is.exchanges:
        other = same(after, x)
        if other is None or other.route is None or x.route is None:
            continue
        what = f"{x.sent.method} {x.sent.url.path}"
        by = scenario.by if x is as_is.last else UNKNOWN
        failed = other.outcome in SLIPS if scenario.sort == "failing" else fails(other)
        lost = other.outcome == "crashed" and any(error.caught_by for error in x.errors)  # nobody catches it now
        if failed and not fails(x) and (lost or (_served(x) and not (shown and _is_odd(scenario)))):
            yield f"make {what} fail with {status(other) or 'no answer'}"
        elif other.handler_reached and not x.handler_reached:
            if _kept_by_own_logic(context, x) and not (lets_through and x.outcome in SLIPS):
                yield f"let {what} through, which {x.refused_by or 'a stage'} keeps out"
            elif not (_is_open(other) or _rightly(context, other, other, by)):
                yield f"let {_who(by, other)} in at {what}"
        elif _served(x) and not _served(other) and not (shown and _is_odd(scenario)):
            meant = status(other) == 429 and scenario.sort in _REPEATED
            meant |= other.refused_by == suspicion.stage and context.kind(suspicion.stage or "") in OWN_LOGIC
            if not meant and _rightly(context, x, other, by):
                yield f"keep {_who(by, x)} out of {what}"
    before, then = (_broken(context, run) for run in (as_is, after))
    yield from (f"break the invariant {id_}" for id_ in then if id_ not in before)


def _is_odd(scenario: Scenario) -> bool:
    return scenario.sort not in _PLAIN


def _who(by: str | None, x: Exchange) -> str:
    name = x.identity.name if x.identity is not None else by
    return "a caller whom nobody knows" if name in (None, UNKNOWN, WRONG) else str(name)


def _served(x: Exchange) -> bool:
    return x.handler_reached or 200 <= status(x) < 300 or status(x) == 304


def _kept_by_own_logic(context: Context, x: Exchange) -> bool:
    """Whether the developer's own logic kept the request out, or let it hang."""
    if x.outcome == "stalled":
        return any(step[2] == "nothing" and context.kind(step[0]) in OWN_LOGIC for step in x.journey or ())
    return x.refused_by is not None and context.kind(x.refused_by) in OWN_LOGIC


def _is_open(x: Exchange) -> bool:
    access = x.route.access if x.route is not None else None
    return access is not None and access.who == "everyone"


def _rightly(context: Context, x: Exchange, mended: Exchange, by: str | None) -> bool:
    """Whether the route, as mended, is for whoever sent this."""
    access = mended.route.access if mended.route is not None else None
    return context.words.is_for(access, by, x.identity)


def _broken(context: Context, run: ScenarioRun) -> list[str]:
    if not context.spec.always:
        return []
    statements = Statements(context.compiled)
    for send in run.sends:
        statements.add(send)
    return [one.id for one in statements.all if one.failed]
