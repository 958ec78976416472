"""``answers-twice``: a request makes a stage answer and yet pass on."""

from __future__ import annotations

from patient_usher.core.questions.check.rule import Rule
from patient_usher.core.questions.check.slips import looker

RULE = Rule(
    code="answers-twice",
    level="error",
    says="a request makes a stage answer and yet pass on",
    matters="The caller is told no, and the handler runs all the same: what was refused is done.",
    mend="Let the stage stop where it has answered.",
    example="""
patient-usher: pipeline/1
stages:
  - id: card
    kind: decide
    cases: [{when: {header: {X-Card: missing}}, then: {answer-and-continue: {status: 402}}}]
routes:
  - {id: fuel, at: POST /fuel, access: everyone, handler: {answer: {status: 201}}}
""",
    look=looker("answered-twice", "answered-and-continued", "answers, and yet passes on"),
)
