"""For stages and handlers of your own: what they are given and what they may return.

See docs/python.md. A module that a pipeline names imports from here, and from nowhere deeper.
"""

from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer, Request, json_answer, text_answer
from patient_usher.core.model.effects import NOTHING, AnswerAndPass, Refused, Wait
from patient_usher.core.model.errors import Raised, refusal
from patient_usher.core.model.exchange import UNREAD, Exchange, Identity

__all__ = [
    "NOTHING",
    "UNREAD",
    "Answer",
    "AnswerAndPass",
    "Exchange",
    "Fields",
    "Identity",
    "Raised",
    "Refused",
    "Request",
    "Wait",
    "json_answer",
    "refusal",
    "text_answer",
]
