"""``access-log``: a log record when a request arrives and when it departs."""

from __future__ import annotations

from typing import ClassVar, Literal

from patient_usher.core.model import stage as base
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.stage import Setup


class Options(StageOptions):
    """When to write, and at which level."""

    trade_names: ClassVar[tuple[str, ...]] = ("log", "logger", "logging", "request-log")
    sentences: ClassVar[dict[str, str]] = {
        "write-on": "When a line is written.",
        "level": "The lines' level.",
        "departs": "always: whatever happens. in-order: on the way out, and lost when an error passes.",
    }

    write_on: Literal["both", "arrival", "departure"] = "both"
    level: Literal["info", "debug"] = "info"
    departs: Literal["always", "in-order"] = "always"


class Stage(base.Stage):
    """Writes its departure record in ``done``, so that it is there however the exchange ended."""

    out_work = "registered"
    only_watches = True

    def __init__(self, options: Options, setup: Setup) -> None:
        self.id = options.id
        self.level = options.level
        departure = "done" if options.departs == "always" else "way_out"
        used = {"both": {"way_in", departure}, "arrival": {"way_in"}, "departure": {departure}}[options.write_on]
        self.unused = frozenset({"way_in", "way_out", "done"} - used)

    def way_in(self, x: Exchange) -> Effect:
        """Write the arrival."""
        request = x.request
        x.write_log(self.id, self.level, f"{request.method} {request.url.target}")
        return None

    def way_out(self, x: Exchange) -> Effect:
        """Write the departure where the answer passes: an error that passes here is not written."""
        self.done(x, x.outcome)
        return None

    def done(self, x: Exchange, how: str) -> None:
        """Write the departure: the status, or how it ended without one."""
        request, status = x.request, x.answer.status if x.answer is not None else how
        x.write_log(self.id, self.level, f"{request.method} {request.url.target} {status}")
