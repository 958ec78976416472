"""What an exchange on one route walks: a tuple of steps, and the flow in which it walks them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

from msgspec import Struct, structs

from patient_usher.core.engine.plan.course import Course
from patient_usher.core.engine.plan.data_availability import DataAvailability
from patient_usher.core.engine.plan.server_default import Uncaught
from patient_usher.core.engine.plan.step import PlanStep
from patient_usher.core.http.messages import Answer
from patient_usher.core.model.exchange import Exchange


class Flow(Protocol):
    """How a flow treats answers and errors: ``nested`` and ``sequential`` are two modules of this shape."""

    catches_on_the_way_out: bool

    def begin(self, x: Exchange) -> None:
        """Before the first stage."""

    def answered(self, x: Exchange, answer: Answer) -> None:
        """A stage, the router or the handler has answered."""

    def replaced(self, x: Exchange, answer: Answer) -> None:
        """A refusal on the way out takes the place of the answer."""

    def raised(self, x: Exchange) -> None:
        """Something has raised an error."""

    def path_of_error(self, course: Course) -> Iterator[PlanStep]:
        """Those whom the error raised where the course is meets, in order; the first that answers ends it."""

    def caught(self, x: Exchange, step: PlanStep, answer: Answer) -> None:
        """An error handler has answered."""

    def fails_on_the_way_out(self, course: Course) -> bool:
        """An error on the way out discards the answer. Whether anybody may still catch it."""


class Plan(Struct, frozen=True, eq=False):
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
        return structs.replace(self, steps=steps, routes_at=sum(kept[: self.routes_at]))
