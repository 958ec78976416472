"""``body-unread``: something uses the body and nothing has read it."""

from __future__ import annotations

from patient_usher.core.questions.check.rule import Rule
from patient_usher.core.questions.check.unread_input import looker

RULE = Rule(
    code="body-unread",
    level="error",
    says="something uses the body and nothing has read it",
    matters="It sees no body, whatever the caller sent: fields are missing, and what goes by them never happens.",
    mend="Let read-body stand in front of it.",
    example="""
patient-usher: pipeline/1
routes:
  - {id: note, at: POST /notes, access: everyone, handler: {answer: {json: {said: "${body.text}"}}}}
""",
    look=looker("body", "read-body", "no body"),
)
