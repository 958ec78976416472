"""``state-apart``: sessions or records of one instance are missing at another."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.questions.check.mends import drop, mend
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, differs


def look(context: Context) -> Iterator[Suspicion]:
    """Desks and records that each instance has for itself, where callers come to several instances."""
    deployment = context.spec.deployment
    if deployment.instances == 1 or deployment.spread == "by-address":
        return
    tried = tuple(run.scenario for run in context.runs("at-the-desk", "desk", "records"))
    for at, name in enumerate(deployment.own_state):
        place = ("deployment", "own-state", at) if len(deployment.own_state) > 1 else ("deployment", "own-state")
        yield Suspicion(
            None,
            None,
            ("deployment", "own-state", at),
            f"each of {deployment.instances} instances has {name} for itself: what one has, the others don't know",
            (mend(f"let all instances share {name}", drop(place)),),
            differs,
            tried,
        )


RULE = Rule(
    code="state-apart",
    level="error",
    says="sessions or records of one instance are missing at another",
    matters="Whoever has signed in at one instance is a stranger at the next; what was made there isn't found here.",
    mend="Keep them where all instances find them, or spread by address.",
    example="""
patient-usher: pipeline/1
stages: [read-body]
routes:
  - {id: book, at: POST /bookings, access: everyone, handler: {records: bookings, do: create}}
  - {id: booking, at: "GET /bookings/{id}", access: everyone, handler: {records: bookings, do: read}}
records: {bookings: {}}
deployment: {instances: 2, own-state: [bookings]}
""",
    look=look,
)
