"""A stage, the router or the handler at its place in a plan: its methods bound, made once, at load."""

from __future__ import annotations

from collections.abc import Callable

from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.stage import Stage

PassesOver = Callable[[Exchange], str | None]
"""Why a stage does not meet an exchange, None where it does."""


class PlanStep:
    """A stage, the router or the handler at its place in a plan, methods bound."""

    __slots__ = (
        "acts_later", "catches", "done", "framed", "id", "idles", "keeps_fields", "marks", "passes_over", "raises",
        "rewrites", "silent", "stage", "way_error", "way_in", "way_out", "works_out",
    )  # fmt: skip

    def __init__(
        self,
        id_: str,
        stage: Stage,
        *,
        raises: bool,
        sequential: bool,
        framed: bool = True,
        passes_over: PassesOver | None = None,
    ) -> None:
        self.id = id_
        self.stage = stage
        self.way_in, self.way_out, self.way_error, self.done = (
            None if name in stage.unused else getattr(stage, name)
            for name in ("way_in", "way_out", "way_error", "done")
        )
        self.raises = raises
        self.passes_over = passes_over
        # Sequential flow: an error handler meets errors only, and needs not have been entered for that.
        self.catches = self.way_error is not None and (not sequential or self.way_in is None)
        if sequential and self.catches and self.way_out is None and passes_over is None:
            self.passes_over = _silently
        self.keeps_fields = stage.keeps_fields
        self.rewrites = stage.rewrites
        # Sequential flow: marks go onto the draft at once, registered work gets a frame.
        self.marks = sequential and self.way_out is not None and stage.out_work == "fields"
        # One that rewrites the request leaves a frame, too, so that on the way out the old one can be put back.
        registered = self.way_out is not None and not self.marks
        self.framed = framed and (not sequential or registered or self.rewrites)
        # Without a journey to write, a frame is needed only for what the stage still has to do,
        # and a stage that has nothing to do, or only writes down what passes, is not needed at all.
        self.acts_later = self.framed and (self.way_out is not None or self.way_error is not None or self.rewrites)
        self.works_out = self.way_out is not None or self.rewrites
        self.silent = sequential and not registered  # its frame only puts the request back
        works = self.way_in or self.acts_later or self.catches or self.marks or self.done or passes_over
        self.idles = stage.only_watches or not works


def _silently(x: Exchange) -> str | None:
    """Passed over without a mark."""
    return ""
