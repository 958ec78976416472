"""What an exchange on one route walks: a tuple of steps with bound methods, made once, at load."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple, Protocol

from patient_usher.core.engine.flow.data_availability import DataAvailability
from patient_usher.core.engine.flow.server_default import Uncaught
from patient_usher.core.http.messages import Answer
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.stage import Stage

PassesOver = Callable[[Exchange], str | None]
"""Why a stage does not meet an exchange, None where it does."""


class PlanStep:
    """A stage, the router or the handler at its place in a plan, methods bound."""

    __slots__ = (
        "acts_later", "catches", "done", "framed", "id", "idles", "keeps_fields", "marks", "passes_over", "raises",
        "stage", "way_error", "way_in", "way_out",
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
        # Sequential flow: marks go onto the draft at once, registered work gets a frame.
        self.marks = sequential and self.way_out is not None and stage.out_work == "fields"
        self.framed = framed and (not sequential or (self.way_out is not None and not self.marks))
        # Without a journey to write, a frame is needed only for what the stage still has to do,
        # and a stage that has nothing to do, or only writes down what passes, is not needed at all.
        self.acts_later = self.framed and (self.way_out is not None or self.way_error is not None)
        works = self.way_in or self.acts_later or self.catches or self.marks or self.done or passes_over
        self.idles = stage.only_watches or not works


def _silently(x: Exchange) -> str | None:
    """Passed over without a mark."""
    return ""


class Flow(Protocol):
    """How a flow treats answers and errors: ``nested`` and ``sequential`` are two modules of this shape."""

    catches_on_the_way_out: bool

    def begin(self, x: Exchange) -> None:
        """Before the first stage."""

    def answered(self, x: Exchange, answer: Answer) -> None:
        """A stage, the router or the handler has answered."""

    def raised(self, x: Exchange) -> None:
        """Something has raised an error."""

    def path_of_error(self, x: Exchange, index: int) -> Iterator[PlanStep]:
        """Those whom the error raised at ``index`` meets, in order; the first that answers ends it."""

    def caught(self, x: Exchange, step: PlanStep, answer: Answer) -> None:
        """An error handler has answered."""

    def fails_on_the_way_out(self, x: Exchange) -> bool:
        """An error on the way out discards the answer. Whether anybody may still catch it."""


class Plan(NamedTuple):
    """The steps that an exchange on one route walks, and in which flow.

    ``routes_at`` is where the routes stand among them; ``answers``: whether what a type of error declares is
    answered plainly where no error handler catches it (``refuse: answer``); ``drafts``: whether there is an
    answer from the start, for stages to write on; ``cancels``: whether a caller that leaves ends the work;
    ``sight`` knows who looks for what nobody has read.
    """

    steps: tuple[PlanStep, ...]
    flow: Flow
    routes_at: int = 0
    answers: bool = False
    uncaught: Uncaught | None = None
    drafts: bool = False
    cancels: bool = False
    sight: DataAvailability | None = None

    def unwatched(self, *, routed: bool) -> Plan:
        """The same for exchanges whose journey nobody keeps; where there is a route the router only passes on."""
        kept = [not (step.idles or (routed and step.id == "router")) for step in self.steps]
        steps = tuple(step for step, stays in zip(self.steps, kept, strict=True) if stays)
        return self._replace(steps=steps, routes_at=sum(kept[: self.routes_at]))
