"""``timeout``: gives up on what is behind it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import ClassVar, Literal

from patient_usher.core.model import stage as base
from patient_usher.core.model.document import JsonMapping
from patient_usher.core.model.effects import Deadline, Effect
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.routes import RouteSpec
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.text_types import PositiveDuration


class Options(StageOptions):
    """After which time, and whether the work behind is cancelled or runs on."""

    trade_names: ClassVar[tuple[str, ...]] = ("deadline", "time-limit")
    sentences: ClassVar[dict[str, str]] = {
        "after": "How long what is behind may take.",
        "behind": "Whether the work behind is cancelled then, or runs on for nobody.",
    }

    after: PositiveDuration
    behind: Literal["cancelled", "runs-on"] = "cancelled"

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """What is behind was in time, or not."""
        return ("in time", "too slow")

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """By whether it gave up."""
        if way == "out":
            return ("too slow" if did in ("raised", "answered") else "in time",)
        return ()

    def gives_up_after(self) -> int | None:
        """Its own time."""
        return self.after


class Stage(base.Stage):
    """The clock is the engine's; it raises Timeout at this stage's position when the time is over."""

    out_work = "registered"

    def __init__(self, options: Options, setup: Setup) -> None:
        self.deadline = Deadline(options.after, options.behind == "runs-on")

    def way_in(self, x: Exchange) -> Effect:
        """Set the clock."""
        return self.deadline

    def way_out(self, x: Exchange) -> Effect:
        """In time: nothing to do."""
        return None
