"""``cookies-unread``: something needs a cookie and nothing has read them."""

from __future__ import annotations

from patient_usher.core.questions.check.rule import Rule
from patient_usher.core.questions.check.unread_input import looker

RULE = Rule(
    code="cookies-unread",
    level="error",
    says="something needs a cookie and nothing has read them",
    matters="It sees no cookies, whatever the browser sent: whoever is signed in counts as nobody.",
    mend="Let read-cookies stand in front of it.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: api-key, in: cookie, name: key}]}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=looker("cookies", "read-cookies", "no cookies"),
)
