"""``limit-unreached``: a limit that another one in front never lets come to its end."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.questions.check.mends import mend, remove
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion


def look(context: Context) -> Iterator[Suspicion]:
    """Pairs of limits that count the same for the same, one in front of the other."""
    for item, order in context.ways:
        counted = [id_ for id_ in order if context.kind(id_) == "rate-limit"] if item is not None else []
        for at, late in enumerate(counted):
            for early in counted[:at]:
                if _hides(context.options[early], context.options[late]):
                    quota = [getattr(context.options[id_], "quota", 0) for id_ in (early, late)]
                    yield Suspicion(
                        late,
                        None,
                        context.at(late),
                        f"{early} lets {quota[0]} through in at least the time in which {late} allows {quota[1]}: "
                        f"{late} never refuses",
                        (mend(f"take {late} out", remove(late), left=f"which of {early} and {late} is meant"),),
                    )


def _hides(early: StageOptions, late: StageOptions) -> bool:
    """Whether what the one lets through is never too much for the other (fixed windows, counting everything)."""
    first, second = early.limit(), late.limit()
    if first is None or second is None or first.window is None or second.window is None:
        return False
    alike = {*first.per} == {*second.per} and first.counts == second.counts == "everything"
    fixed = [getattr(one, "algorithm", "") == "fixed-window" for one in (early, late)]
    plain = all(fixed) and not any(getattr(one, "tiers", ()) for one in (early, late))
    open_ = early.only is None and early.except_ is None and getattr(early, "cost", 1) == getattr(late, "cost", 1) == 1
    return alike and plain and open_ and second.window <= first.window and second.quota >= 2 * first.quota


RULE = Rule(
    code="limit-unreached",
    level="warning",
    says="a limit never refuses, since another in front of it lets less through",
    matters="It looks as if two limits held callers, and it is one.",
    mend="Let the limit with the longer window have the larger quota.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: day, kind: rate-limit, quota: 10, window: 1h}
  - {id: burst, kind: rate-limit, quota: 20, window: 1m}
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
""",
    look=look,
    notices="Callers are never refused by this limit: another one stops them first.",
)
