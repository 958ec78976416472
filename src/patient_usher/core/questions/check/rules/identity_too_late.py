"""``identity-too-late``: something uses the caller's identity before anyone knows it."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from patient_usher.core.questions.check.mends import mend, stand
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, differs


def look(context: Context) -> Iterator[Suspicion]:
    """By the order on each route's way, and by what stages say that they go by."""
    for item, order in context.ways:
        first = next((id_ for id_ in order if "identity" in _leaves(context, id_)), None)
        if first is None:
            continue
        for early in order[: order.index(first)]:
            option = context.stage(early)
            if option is None or option.kind in ("authorize", "authenticate"):
                continue
            if "identity" in option.needs(item.spec if item is not None else None):
                yield Suspicion(
                    early,
                    None,
                    context.at(early),
                    f"{early} goes by who is calling, and stands before {first} has found out",
                    (
                        mend(f"move {early} behind {first}", stand(early, "behind", first)),
                        mend(f"move {first} in front of {early}", stand(first, "before", early)),
                    ),
                    differs,
                )


def _leaves(context: Context, id_: str) -> Collection[str]:
    option = context.stage(id_)
    return option.leaves() if option is not None else ()


RULE = Rule(
    code="identity-too-late",
    level="error",
    says="something uses the caller's identity before anyone knows it",
    matters="Everybody counts as nobody there: callers share one quota, and what is meant for a role never happens.",
    mend="Let what goes by the identity stand behind authenticate.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: fair, kind: rate-limit, quota: 5, window: 10s, per: [identity]}
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
)
