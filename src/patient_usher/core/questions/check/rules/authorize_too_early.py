"""``authorize-too-early``: authorize stands before authenticate."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.questions.check.mends import mend, stand
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows


def look(context: Context) -> Iterator[Suspicion]:
    """By the order on each route's way."""
    for _, order in context.ways:
        for late in (id_ for id_ in order if context.kind(id_) == "authenticate"):
            for early in order[: order.index(late)]:
                if context.kind(early) != "authorize":
                    continue
                yield Suspicion(
                    early,
                    None,
                    context.at(early),
                    f"{early} asks who is calling before {late} has found out, so it refuses everybody",
                    (
                        mend(f"move {early} behind {late}", stand(early, "behind", late)),
                        mend(f"move {late} in front of {early}", stand(late, "before", early)),
                    ),
                    shows(lambda x, by=early: x.refused_by == by, lambda x: x.handler_reached),  # type: ignore[misc]
                )


RULE = Rule(
    code="authorize-too-early",
    level="error",
    says="authorize stands before authenticate",
    matters="Nobody is known yet, so nobody may: the right credential is refused like the wrong one.",
    mend="Let authorize stand behind authenticate.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: may, kind: authorize}
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
)
