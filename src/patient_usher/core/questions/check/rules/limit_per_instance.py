"""``limit-per-instance``: several instances, each counting for itself."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.request_generators import bursts
from patient_usher.core.decisions.rule_probes import guesses
from patient_usher.core.decisions.scenario import Scenario
from patient_usher.core.questions.check.mends import append, mend
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, refuses_now


def look(context: Context) -> Iterator[Suspicion]:
    """Limits whose state isn't shared, where there are several instances."""
    deployment = context.spec.deployment
    alone = [id_ for id_ in context.kinds("rate-limit") if id_ not in deployment.shared_state]
    if deployment.instances == 1 or not alone:
        return
    count = deployment.instances
    names = " and ".join(alone) if len(alone) < 4 else f"{len(alone)} limits"
    yield Suspicion(
        alone[0] if len(alone) == 1 else None,
        None,
        ("deployment", "instances"),
        f"each of {count} instances counts for itself at {names}: {count} times the quota passes",
        (mend(f"let the instances share what {names} counted", append(["deployment", "shared-state"], *alone)),),
        refuses_now(*alone),
        tuple(_probes(context, alone)),
    )


def _probes(context: Context, alone: list[str]) -> Iterator[Scenario]:
    for item, order in context.ways:
        for id_ in alone:
            limit = context.options[id_].limit()
            if item is not None and id_ in order and limit is not None and limit.quota <= 500:
                yield from bursts(context.words, item, limit.quota + 1)
                yield from guesses(context.words, item, limit.quota + 1)


RULE = Rule(
    code="limit-per-instance",
    level="warning",
    says="several instances, each counting for itself",
    matters="The quota that callers really have is the quota times the number of instances, and changes with it.",
    mend="Name the limit under deployment.shared-state (a store that all instances use), or spread by address.",
    example="""
patient-usher: pipeline/1
stages: [{id: throttle, kind: rate-limit, quota: 3, window: 1m}]
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
deployment: {instances: 3}
""",
    look=look,
)
