"""``python``: a function of the user's own; only where the command line allows it."""

from __future__ import annotations

from patient_usher.core.handlers.base import Work
from patient_usher.core.http.messages import Answer, json_answer
from patient_usher.core.model.effects import Effect, IllegalEffect
from patient_usher.core.model.errors import Raised
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.stage import Setup, call_python, raised_from


def python_work(call: str, setup: Setup) -> Work:
    """The function as work: it returns an answer, an error, or a value that becomes JSON."""
    own = call_python(setup, call)

    def work(x: Exchange) -> Effect:
        x.request = x.request.apart()  # what the function changes is nobody else's
        try:
            value = own(x)
        except Exception as error:
            return raised_from(error, setup.errors)
        if isinstance(value, Answer | Raised):
            return value
        try:
            return json_answer(200, value)
        except (TypeError, ValueError):
            raise IllegalEffect(call, "handler", value) from None

    return work
