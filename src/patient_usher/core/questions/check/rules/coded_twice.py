"""``coded-twice``: two codings are applied on one way."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import mend, remove
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows


def look(context: Context) -> Iterator[Suspicion]:
    """Answers that two stages coded, one after the other."""
    if len(context.kinds("compress")) < 2:
        return
    for run, x in context.exchanges("sample"):
        coders = _coders(x)
        if len(coders) > 1:
            yield Suspicion(
                coders[-1],
                None,
                context.at(coders[-1]),
                f"{coders[-1]} codes what {coders[0]} has coded already",
                (mend(f"take {coders[-1]} out", remove(coders[-1])),),
                shows(lambda x: len(_coders(x)) > 1, lambda x: len(_coders(x)) == 1),
                (run.scenario,),
            )


def _coders(x: Exchange) -> list[str]:
    """Who coded the answer, in order."""
    return [step[0] for step in x.journey or () if step[1] == "out" and "coding" in (step[4] or {})]


RULE = Rule(
    code="coded-twice",
    level="warning",
    says="two codings are applied on one way",
    matters="The second coding costs time and makes the answer larger; and whoever undoes only one reads noise.",
    mend="Let one compress stage do it.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: outer, kind: compress, from-size: 1}
  - {id: plain, kind: header-fields, on-answer: {drop: [Content-Encoding]}}
  - {id: inner, kind: compress, from-size: 1}
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {json: {filler: high at six and low at noon}}}}
""",
    look=look,
)
