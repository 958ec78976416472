"""What the interpreter keeps of an exchange while it walks: where it is, and whom it owes what.

An exchange that waits is found again by wake-ups from the clock's queue. Each carries the ``epoch`` in which it was
asked for; cancelling an exchange only starts a new epoch, so that no wake-up has to be searched for and taken out.
"""

from __future__ import annotations

from collections.abc import Callable
from enum import IntEnum
from typing import NamedTuple

from msgspec import Struct, field

from patient_usher.core.engine.plan.step import PlanStep
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.errors import Raised
from patient_usher.core.model.exchange import Exchange


class State(IntEnum):
    """Where an exchange is: on its way (parked or not), for ever in a stage, or over for its caller."""

    RUNNING = 0
    STALLED = 1
    SENT = 2


class TimeLimit(NamedTuple):
    """A time limit under way: the stage that set it, its place in the plan, and how many had been entered by then."""

    step: PlanStep
    place: int
    entered: int


class WalkState(Struct, eq=False):
    """An exchange's way through its plan.

    ``index`` is the step that it is at, ``frames`` the stages that have passed it on, ``done`` whom to tell when it is
    over. ``live`` counts the parts that still run: the exchange itself, and its orphans, whose ``owner`` is its
    walk state. Times are microseconds since the epoch of the clock.
    """

    x: Exchange
    patience_ends: int
    index: int = 0
    live: int = 1
    frames: list[PlanStep] = field(default_factory=list)
    done: list[Callable[[Exchange, str], None]] = field(default_factory=list)
    owner: WalkState | None = None
    raising: Raised | None = None
    resume: Callable[[Exchange], Effect] | None = None
    state: State = State.RUNNING
    epoch: int = 0
    wakes_at: int = 0
    slipped: bool = False
    timed_out: bool = False
    covered: bool = False
    gave_up: bool = False
    impatient: bool = False
    waits: bool = False
