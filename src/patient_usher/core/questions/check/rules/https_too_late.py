"""``https-too-late``: credentials or a body are read in clear before https-only stands."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.questions.check.mends import mend, stand
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, entered, shows


def look(context: Context) -> Iterator[Suspicion]:
    """Stages that look at credentials and bodies in front of https-only."""
    for _, order in context.ways:
        for guard in (id_ for id_ in order if context.kind(id_) == "https-only"):
            for early in order[: order.index(guard)]:
                option = context.stage(early)
                if option is None or not (list(option.credentials()) or "body" in option.leaves()):
                    continue
                yield Suspicion(
                    early,
                    None,
                    context.at(early),
                    f"{early} reads what came in clear before {guard} turns it away",
                    (mend(f"move {guard} in front of {early}", stand(guard, "before", early)),),
                    shows(
                        lambda x, by=early: x.sent.url.scheme == "http" and entered(x, by),  # type: ignore[misc]
                        lambda x, by=early: not entered(x, by),  # type: ignore[misc]
                    ),
                    tuple(scenario for scenario in context.scenarios if scenario.sort == "plain-http"),
                )


RULE = Rule(
    code="https-too-late",
    level="warning",
    says="credentials or a body are read in clear before https-only stands",
    matters="A client that sends its credential in clear isn't told so when it works, or when it is refused for it.",
    mend="Let https-only stand in front of everything that looks at the request.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
  - {id: tls, kind: https-only, hsts: {max-age: 180d}}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
)
