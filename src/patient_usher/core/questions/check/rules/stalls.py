"""``stalls``: a request makes a stage neither pass on nor answer."""

from __future__ import annotations

from patient_usher.core.questions.check.rule import Rule
from patient_usher.core.questions.check.slips import looker

RULE = Rule(
    code="stalls",
    level="error",
    says="a request makes a stage neither pass on nor answer",
    matters="The client waits until it gives up, and the connection is held all that time.",
    mend="Let every way through the stage pass on, answer or raise.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: keeper, kind: decide, cases: [{when: {header: {X-Boat: missing}}, then: nothing}]}
routes:
  - {id: lock, at: GET /lock, access: everyone, handler: {answer: {text: open}}}
""",
    look=looker("stalled", "nothing", "neither passes on nor answers"),
)
