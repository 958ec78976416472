"""The server itself: what it answers, and logs, where no error handler catches an error."""

from __future__ import annotations

from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer
from patient_usher.core.model.errors import Raised
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import UncaughtSpec

_PRIVATE = ("message", "where", "cause", "stack")


class Uncaught:
    """A bare 500, unless the pipeline says that its server tells more, or closes the connection without an answer."""

    def __init__(self, spec: UncaughtSpec) -> None:
        self.spec = spec

    def answer(self, x: Exchange, error: Raised | None) -> Answer | None:
        """The server's own answer, None for none; what was raised goes into its log."""
        spec = self.spec
        if error is not None and x.log is not None and spec.log != "nothing":
            detail = {name: text for name in _PRIVATE[1:] if (text := getattr(error, name))}
            said = {"raised_by": error.raised_by, **detail} if spec.log == "full" else None
            x.write_log("server", "error", f"{error.type}: {error.message}", said)
        if spec.answer == "nothing":
            return None
        if error is None or spec.reveal == "nothing":
            return Answer(500, Fields())
        return self._revealing(error)

    def _revealing(self, error: Raised) -> Answer:
        from patient_usher.core.stages.error_handler import WRITERS, view

        media, body = WRITERS[self.spec.write_as](view(error, 500, "Internal Server Error", self.spec.reveal))
        return Answer(500, Fields([("Content-Type", media)]), body)
