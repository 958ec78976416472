"""``preflight-counts``: preflights use up a quota."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import mend, option
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, is_preflight, shows


def look(context: Context) -> Iterator[Suspicion]:
    """Preflights that a limit counted."""
    for run, x in context.exchanges("page", "preflight"):
        for use in x.rates:
            if is_preflight(x) and getattr(context.stage(use.stage), "algorithm", "at-once") != "at-once":
                yield Suspicion(
                    use.stage,
                    None,
                    context.at(use.stage),
                    f"{use.stage} counts the preflights that browsers send by themselves",
                    (mend(f"let preflights be free at {use.stage}", option(use.stage, "preflights", "free")),),
                    shows(
                        lambda x, by=use.stage: is_preflight(x) and _counted(x, by),  # type: ignore[misc]
                        lambda x, by=use.stage: not _counted(x, by),  # type: ignore[misc]
                    ),
                    (run.scenario,),
                )


def _counted(x: Exchange, by: str) -> bool:
    return any(use.stage == by for use in x.rates)


RULE = Rule(
    code="preflight-counts",
    level="advice",
    says="preflights use up a quota",
    matters="A page's callers have half the quota that scripts have, for requests that they don't know of.",
    mend="Write preflights: free, or let the limit stand behind cors, which answers preflights.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: throttle, kind: rate-limit, quota: 30, window: 1m}
  - {id: pages, kind: cors, allow-origins: ["https://a.example"], allow-methods: [PUT], allow-headers: ["*"]}
routes:
  - {id: berths, at: PUT /berths, access: everyone, handler: {answer: {text: seven}}}
""",
    look=look,
)
