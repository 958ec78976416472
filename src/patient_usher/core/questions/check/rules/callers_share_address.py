"""``callers-share-address``: behind a front that isn't trusted, all callers count as one."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.rule_probes import two_callers
from patient_usher.core.questions.check.mends import Mend, append, mend, put
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, refuses_no_more


def look(context: Context) -> Iterator[Suspicion]:
    """Limits by address, where every address is the front's: one caller uses up another's quota."""
    front = context.spec.deployment.in_front
    if not (front.ends_tls or front.sends != "nothing"):
        return
    for item, order in context.ways:
        for id_ in order if item is not None else ():
            limit = context.options[id_].limit() if id_ in context.options else None
            if limit is None or not {"address", "identity-or-address"} & {*limit.per} or item is None:
                continue
            yield Suspicion(
                id_,
                None,
                context.at(id_),
                f"all requests come from {front.address}, the front, and what it says isn't believed: {id_} counts all "
                f"callers as one",
                (_believing(context, front.address, front.sends),),
                refuses_no_more(id_),
                tuple(two_callers(context.words, item, limit.quota)),
            )


def _believing(context: Context, address: str, sends: str) -> Mend:
    believe = append(["deployment", "trusts-forwarded"], address)
    if sends != "nothing":
        return mend(f"believe {address}", believe)
    left = "let the front say whom it passes on (deployment.in-front.sends), and believe it (trusts-forwarded)"
    told = put(["deployment", "in-front", "sends"], "x-forwarded")
    return mend(f"let the front say who calls, and believe {address}", told, believe, left=left)


RULE = Rule(
    code="callers-share-address",
    level="error",
    says="behind a front that isn't trusted, all callers count as one",
    matters="A few busy callers use up the quota, and everybody else is refused.",
    mend="List the front under trusts-forwarded, and let it say for whom it asks.",
    example="""
patient-usher: pipeline/1
stages: [{id: fair, kind: rate-limit, quota: 3, window: 1m}]
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
deployment: {in-front: {sends: forwarded}}
""",
    look=look,
)
