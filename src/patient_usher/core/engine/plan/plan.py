"""What an exchange on one route walks: a tuple of steps, and the flow in which it walks them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple, Protocol

from msgspec import Struct, structs

from patient_usher.core.engine.plan.data_availability import DataAvailability
from patient_usher.core.engine.plan.server_default import Uncaught
from patient_usher.core.engine.plan.step import PlanStep
from patient_usher.core.engine.plan.walk_state import WalkState
from patient_usher.core.http.messages import Answer
from patient_usher.core.model.effects import Effect
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

    def meets_error(self, walk_state: WalkState) -> PlanStep | None:
        """The next whom an error meets that was raised where the walk state is; None where nobody is left."""

    def caught(self, x: Exchange, step: PlanStep, answer: Answer) -> None:
        """An error handler has answered."""

    def fails_on_the_way_out(self, walk_state: WalkState) -> bool:
        """An error on the way out discards the answer. Whether anybody may still catch it."""


WayIn = Callable[[Exchange], Effect]


class PlanPrefix(NamedTuple):
    """The steps at a plan's beginning that every exchange meets in turn, and that leave nothing to do but to ask them.

    ``asked`` has them all, by place, ``acting`` those only that have a way in. By place, too: who then holds a frame
    (``framed``; ``holding`` of them those that still act), and who wants to be ``told`` at the end. It goes up to
    ``ends``: a step that some exchanges pass over, or that marks a draft at once.
    """

    asked: tuple[tuple[int, str, WayIn | None], ...]
    acting: tuple[tuple[int, WayIn], ...]
    framed: tuple[tuple[PlanStep, ...], ...]
    holding: tuple[tuple[PlanStep, ...], ...]
    told: tuple[tuple[Callable[[Exchange, str], None], ...], ...]
    ends: int


def _opening_of(steps: Sequence[PlanStep]) -> PlanPrefix:
    ends = next((at for at, step in enumerate(steps) if step.passes_over is not None or step.marks), len(steps))
    opening = steps[:ends]
    places = range(ends + 1)
    return PlanPrefix(
        tuple((at, step.id, step.way_in) for at, step in enumerate(opening)),
        tuple((at, step.way_in) for at, step in enumerate(opening) if step.way_in is not None),
        tuple(tuple(step for step in opening[:at] if step.framed) for at in places),
        tuple(tuple(step for step in opening[:at] if step.acts_later) for at in places),
        tuple(tuple(step.done for step in opening[: at + 1] if step.done is not None) for at in places),
        ends,
    )


class Plan(Struct, eq=False):
    """The steps that an exchange on one route walks, and in which flow.

    ``routes_at`` is where the routes stand among them; ``answers``: whether what a type of error declares is
    answered plainly where no error handler catches it (``refuse: answer``); ``drafts``: whether there is an
    answer from the start, for stages to write on; ``cancels``: whether a caller that leaves ends the work;
    ``sight`` knows who looks for what nobody has read. Nothing of it changes; ``opening`` is found by ``opened``, when
    an exchange first comes this way: of most plans of most variants nobody walks any.
    """

    steps: tuple[PlanStep, ...]
    flow: Flow
    routes_at: int = 0
    answers: bool = False
    uncaught: Uncaught | None = None
    drafts: bool = False
    cancels: bool = False
    sight: DataAvailability | None = None
    opening: PlanPrefix | None = None

    def opened(self) -> PlanPrefix:
        """How it begins."""
        self.opening = _opening_of(self.steps)
        return self.opening

    def unwatched(self, *, routed: bool) -> Plan:
        """The same for exchanges whose journey nobody keeps; where there is a route the router only passes on."""
        kept = [not (step.idles or (routed and step.id == "router")) for step in self.steps]
        steps = tuple(step for step, stays in zip(self.steps, kept, strict=True) if stays)
        return self.of(steps, sum(kept[: self.routes_at]))

    def of(self, steps: tuple[PlanStep, ...], routes_at: int) -> Plan:
        """The same way through other steps."""
        return structs.replace(self, steps=steps, routes_at=routes_at, opening=None)
