"""``known-stale``: an entry of known accepts nothing that is found."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.questions.check.mends import drop, mend
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion


def look(context: Context) -> Iterator[Suspicion]:
    """Nothing: what is stale is known when all else is."""
    return iter(())


def stale(compiled: CompiledPipeline, idle: Sequence[int]) -> tuple[Rule, list[Suspicion]]:
    """The suspicions for entries that accepted nothing, by their numbers."""
    found = []
    for at in idle:
        entry = compiled.spec.known[at]
        place = entry.stage or entry.route
        happens = f"{entry.finding}{f' at {place}' if place else ''} is accepted, and isn't found any more"
        mends = (mend("take the entry out", drop(["known", at])),)
        found.append(Suspicion(None, None, ("known", at), happens, mends))
    return RULE, found


RULE = Rule(
    code="known-stale",
    level="warning",
    says="an entry of known accepts nothing that is found",
    matters="It would accept the same mistake silently, should somebody make it again.",
    mend="Take the entry out.",
    example="""
patient-usher: pipeline/1
stages: [access-log]
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
known: [{finding: stalls, stage: access-log, why: it did once}]
""",
    look=look,
    notices="Callers notice nothing: the mistake that was accepted is gone.",
)
