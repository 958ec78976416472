"""The model as a service: a run state that walks exchanges on the virtual clock."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from patient_usher.core.engine.callers.block_diagnosis import diagnosed
from patient_usher.core.engine.callers.service import Service
from patient_usher.core.engine.run.clock import ARRIVAL, Clock
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.engine.run.walk import Walk
from patient_usher.core.http.messages import Request
from patient_usher.core.model.exchange import Exchange

Told = Callable[[Exchange], None]
MakeService = Callable[[Clock, Told, Told], Service]
"""What makes a service of the clock and what is to be called when a caller has its answer, and when all is over."""


class ModelService:
    """A run state behind the shape that callers know (``callers.service.Service``).

    ``on_finished(x)`` is called when a caller has its answer, or has given up; ``on_over(x)`` when nothing of the
    exchange runs any more.
    """

    def __init__(self, run_state: RunState, clock: Clock, on_finished: Told, on_over: Told) -> None:
        self._world = run_state
        self.arrive = run_state.admit
        self.start = Walk(clock, on_finished, on_over, lambda name, x: run_state.compiled.missing(name, x)).start

    def blocked(self, origin: str, why: str, what: str, x: Exchange, method: str) -> tuple[str, str]:
        """The code and the sentence that names the stage to look at."""
        return diagnosed(self._world.compiled, origin, why, what, x, method)


class PacedService:
    """A model that is asked no earlier than somebody else was, who answers in real time: windows and lifetimes are as
    far on then as there. ``sent`` has when that was, in microseconds from the clock's present on, by exchange.
    """

    def __init__(self, model: ModelService, clock: Clock, sent: Mapping[str, int]) -> None:
        self._model, self._clock, self._sent, self._starts = model, clock, sent, clock.now
        self.blocked = model.blocked

    def arrive(self, id_: str, request: Request, at: int, *, watched: bool) -> Exchange:
        """A request has come, when it came there."""
        return self._model.arrive(id_, request, max(at, self._starts + self._sent.get(id_, 0)), watched=watched)

    def start(self, x: Exchange, patience: int) -> None:
        """Answer it, from when it came there on."""
        if x.at > self._clock.now:
            self._clock.push(x.at, ARRIVAL, x.number, lambda x, _: self._model.start(x, patience), x)
        else:
            self._model.start(x, patience)


def paced(run_state: RunState, sent: Mapping[str, int]) -> MakeService:
    """What makes the model as such a service."""
    return lambda clock, finished, over: PacedService(ModelService(run_state, clock, finished, over), clock, sent)
