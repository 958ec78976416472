"""``python``: the developer's own logic, as a class; only where the command line allows it."""

from __future__ import annotations

from typing import Any

from pydantic import Field

from patient_usher.core.model.errors import Raised
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.stages import base


class Options(StageOptions):
    """Where the class is, and what it is made with."""

    call: str
    options: dict[str, Any] = Field(default_factory=dict)


class Stage(base.Stage):
    """Calls the four methods of the class, as far as it has them."""

    out_work = "registered"
    keeps_state = True

    def __init__(self, options: Options, setup: base.Setup) -> None:
        made = base.call_python(setup, options.call)
        self.own = base.guarded(made, **options.options)
        self.errors = setup.errors
        names = ("way_in", "way_out", "way_error", "done")
        self.unused = frozenset(name for name in names if not hasattr(self.own, name))

    def _call(self, name: str, *arguments: Any) -> base.Effect:
        try:
            return base.effect_of(getattr(self.own, name)(*arguments))
        except Exception as error:
            return base.raised_from(error, self.errors)

    def way_in(self, x: Exchange) -> base.Effect:
        """The class's own way in."""
        return self._call("way_in", x)

    def way_out(self, x: Exchange) -> base.Effect:
        """The class's own way out."""
        return self._call("way_out", x)

    def way_error(self, x: Exchange, error: Raised) -> base.Effect:
        """The class's own handling of errors."""
        return self._call("way_error", x, error)

    def done(self, x: Exchange, how: str) -> None:
        """The class's own end. An error here comes too late for the answer, and goes into the log."""
        try:
            self.own.done(x, how)
        except Exception as error:
            raised = base.raised_from(error, self.errors)
            x.write_log("python", "error", f"{raised.type}: {raised.message}", {"where": raised.where})
