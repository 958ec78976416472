"""``strangers-share-quota``: a limit by identity where strangers come: they share one quota."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.rule_probes import two_callers
from patient_usher.core.questions.check.mends import mend, option
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, refuses_no_more


def look(context: Context) -> Iterator[Suspicion]:
    """Limits by identity on the way to what is open to everyone."""
    for item, order in context.ways:
        if item is None or item.route.access is None or item.route.access.who != "everyone":
            continue
        for id_ in order:
            limit = context.options[id_].limit() if id_ in context.options else None
            if limit is None or "identity" not in limit.per or {"address", "identity-or-address"} & {*limit.per}:
                continue
            per = ["identity-or-address" if name == "identity" else name for name in limit.per]
            yield Suspicion(
                id_,
                None,
                context.at(id_),
                f"{id_} counts by who calls, and nobody is known at {item.route.id}: all strangers have one quota",
                (mend(f"let {id_} count strangers by address", option(id_, "per", per)),),
                refuses_no_more(id_),
                tuple(two_callers(context.words, item, limit.quota)),
            )


RULE = Rule(
    code="strangers-share-quota",
    level="warning",
    says="a limit by identity where strangers come: they share one quota",
    matters="One stranger uses up what all have, and nobody who isn't signed in can come any more.",
    mend="Count by identity-or-address.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
  - {id: fair, kind: rate-limit, quota: 3, window: 1m, per: [identity]}
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
)
