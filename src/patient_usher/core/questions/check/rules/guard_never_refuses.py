"""``guard-never-refuses``: a stage that looks like a guard passes everything on."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.questions.check.mends import append, mend
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion


def look(context: Context) -> Iterator[Suspicion]:
    """Stages of one's own whose cases ask something, and all of them only continue: they make no difference."""
    for id_ in context.kinds("decide"):
        options = context.options[id_]
        cases = getattr(options, "cases", ())
        if getattr(options, "way_out", ()) or not any(case.when is not None for case in cases):
            continue
        if any(case.set_ or case.put or case.drop or case.log or not case.then.continue_ for case in cases):
            continue
        yield Suspicion(
            id_,
            None,
            context.at(id_),
            f"{id_} asks, and whatever the answer is, it passes the request on and leaves nothing",
            (
                mend(
                    f"let {id_} refuse what no case fits",
                    append(context.at(id_, "cases"), {"then": {"raise": "Forbidden"}}),
                    left=f"add a last case to {id_} that refuses, as in {{then: {{raise: Forbidden}}}}, or take it out",
                ),
            ),
        )


RULE = Rule(
    code="guard-never-refuses",
    level="warning",
    says="a stage that looks like a guard passes everything on",
    matters="It reads as if something were checked here, and nobody is ever refused.",
    mend="Add a last case that refuses.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: signature, kind: decide, cases: [{when: {header: {X-Signature: a-made-up-signature}}, then: continue}]}
routes:
  - {id: paid, at: POST /hooks/paid, access: everyone, handler: {answer: {status: 202}}}
""",
    look=look,
    notices="Callers who should be refused here come through like all others.",
)
