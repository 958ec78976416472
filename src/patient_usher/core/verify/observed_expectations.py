"""What came of an exchange, as expectations that hold for it."""

from __future__ import annotations

from patient_usher.core.model.document import JsonObject
from patient_usher.core.model.exchange import Exchange


def observed(x: Exchange) -> JsonObject:
    """The stable and telling part: status, who answered, who refused and why, whether the handler was reached."""
    expect: JsonObject = {}
    if x.answer is not None:
        expect["status"] = x.answer.status
    else:
        expect["outcome"] = x.outcome
    if x.answered_by not in (None, "handler", x.refused_by):
        expect["answered-by"] = x.answered_by
    if x.refused_by is not None:
        expect["refused-by"] = x.refused_by
        if x.why is not None:
            expect["why"] = x.why
    expect["handler"] = "reached" if x.handler_reached else "not-reached"
    if x.browser is not None:
        blocked = {"verdict": x.browser.verdict, "why": x.browser.why}
        expect["browser"] = x.browser.verdict if x.browser.why is None else blocked
    return expect
