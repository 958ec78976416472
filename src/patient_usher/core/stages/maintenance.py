"""``maintenance``: answers everything, so that nothing behind it runs."""

from __future__ import annotations

from collections.abc import Collection
from typing import ClassVar

from patient_usher.core.http.dates import MICROSECONDS
from patient_usher.core.http.fields import Fields
from patient_usher.core.model import stage as base
from patient_usher.core.model.answer_factory import answer_maker
from patient_usher.core.model.effects import Effect, Refused
from patient_usher.core.model.errors import refusal
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.handler_specs import AnswerSpec
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.text_types import Duration, Status


class Options(StageOptions):
    """What is answered, and when to come again."""

    trade_names: ClassVar[tuple[str, ...]] = ("downtime", "maintenance-mode")
    written: ClassVar[Collection[str]] = ("retry-after",)
    sentences: ClassVar[dict[str, str]] = {
        "status": "The status of the answer to everything.",
        "retry-after": "When to come back.",
        "answer": "A whole answer of your own.",
    }

    status: Status = 503
    retry_after: Duration | None = None
    answer: AnswerSpec | None = None

    def answers_all(self) -> bool:
        """Nothing comes past it."""
        return True


class Stage(base.Stage):
    """503 with Retry-After (RFC 9110 15.6.4, 10.2.3), or an answer of the developer's own."""

    def __init__(self, options: Options, setup: Setup) -> None:
        self.status = options.status
        self.make = answer_maker(options.answer, setup.read_file, status=options.status) if options.answer else None
        self.fields = Fields()
        if options.retry_after is not None:
            self.fields.put("Retry-After", str(-(-options.retry_after // MICROSECONDS)))

    def way_in(self, x: Exchange) -> Effect:
        """Refuse."""
        if self.make is None:
            return refusal("Unavailable", "maintenance", status=self.status, fields=self.fields)
        answer = self.make(x)
        fields = self.fields.copy()
        fields.update(answer.fields)
        answer.fields = fields
        return Refused(answer, "maintenance")
