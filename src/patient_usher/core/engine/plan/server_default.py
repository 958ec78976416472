"""The server itself: what it answers, and logs, where no error handler catches an error."""

from __future__ import annotations

from typing import Literal

from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer
from patient_usher.core.model.errors import Raised
from patient_usher.core.model.exchange import Exchange

_PRIVATE = ("message", "where", "cause", "stack")


class Uncaught:
    """A bare 500, unless the pipeline says that its server tells more."""

    def __init__(
        self, reveal: Literal["nothing", "message", "everything"], log: Literal["full", "message", "nothing"]
    ) -> None:
        self.reveal, self.log = reveal, log

    def answer(self, x: Exchange, error: Raised | None) -> Answer:
        """The server's own answer; what was raised goes into its log."""
        if error is not None and x.log is not None and self.log != "nothing":
            detail = {name: text for name in _PRIVATE[1:] if (text := getattr(error, name))}
            said = {"raised_by": error.raised_by, **detail} if self.log == "full" else None
            x.write_log("server", "error", f"{error.type}: {error.message}", said)
        if error is None or self.reveal == "nothing":
            return Answer(500, Fields())
        return self._revealing(error)

    def _revealing(self, error: Raised) -> Answer:
        from patient_usher.core.stages.error_handler import view, write_text

        media, body = write_text(view(error, 500, "Internal Server Error", self.reveal))
        return Answer(500, Fields([("Content-Type", media)]), body)
