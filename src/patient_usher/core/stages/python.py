"""``python``: the developer's own logic, as a class; only where the command line allows it."""

from __future__ import annotations

from collections.abc import Collection
from typing import ClassVar

from pydantic import Field

from patient_usher.core.model import stage as base
from patient_usher.core.model.document import JsonObject
from patient_usher.core.model.effects import Effect, checked
from patient_usher.core.model.errors import Raised
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.stage import Setup, call_python, guarded, raised_from
from patient_usher.core.model.templates import GUARDED


class Options(StageOptions):
    """Where the class is, and what it is made with."""

    trade_names: ClassVar[tuple[str, ...]] = ("code", "script")
    sentences: ClassVar[dict[str, str]] = {
        "call": "The class, as module:Class.",
        "options": "What the class is made with.",
    }

    call: str
    options: JsonObject = Field(default_factory=dict)

    def guards(self) -> Collection[str]:
        """Perhaps all: nobody can see from outside what code checks."""
        return GUARDED


class Stage(base.Stage):
    """Calls the four methods of the class, as far as it has them."""

    out_work = "registered"
    keeps_state = rewrites = True

    def __init__(self, options: Options, setup: Setup) -> None:
        self.made = call_python(setup, options.call)
        self.options = options
        self.errors = setup.errors
        trial = self.fresh(0)  # what can't be made is told at load
        names = ("way_in", "way_out", "way_error", "done")
        self.unused = frozenset(name for name in names if not hasattr(trial, name))

    def fresh(self, seed: int) -> object:
        """An object of the user's class."""
        return guarded(self.made, **self.options.options)

    def migrate(self, old: Stage, state: object) -> object:
        """The same object goes on, unless it would be made otherwise now."""
        return state if (self.made, self.options) == (old.made, old.options) else self.fresh(0)

    def _call(self, name: str, way: str, x: Exchange, *more: object) -> Effect:
        own = x.memory[self.key]
        try:
            effect = getattr(own, name)(x, *more)
        except Exception as error:
            return raised_from(error, self.errors)
        return checked(effect, f"{type(own).__name__}.{name} of {self.options.call}", way)  # type: ignore[no-any-return]

    def way_in(self, x: Exchange) -> Effect:
        """The class's own way in."""
        self.rewrite(x, x.request.apart())  # what the class changes is nobody else's
        return self._call("way_in", "in", x)

    def way_out(self, x: Exchange) -> Effect:
        """The class's own way out."""
        return self._call("way_out", "out", x)

    def way_error(self, x: Exchange, error: Raised) -> Effect:
        """The class's own handling of errors."""
        return self._call("way_error", "error", x, error)

    def done(self, x: Exchange, how: str) -> None:
        """The class's own end. An error here comes too late for the answer, and goes into the log."""
        try:
            x.memory[self.key].done(x, how)
        except Exception as error:
            raised = raised_from(error, self.errors)
            x.write_log("python", "error", f"{raised.type}: {raised.message}", {"where": raised.where})
