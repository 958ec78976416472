"""The model as a service: a world that walks exchanges on the virtual clock."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from patient_usher.core.engine.callers.block_diagnosis import diagnosed
from patient_usher.core.engine.run.clock import ARRIVAL, Clock
from patient_usher.core.engine.run.walk import Walk
from patient_usher.core.engine.run.world import World
from patient_usher.core.http.messages import Request
from patient_usher.core.model.exchange import Exchange


class ModelService:
    """A world behind the shape that callers know (``callers.service.Service``).

    ``on_finished(x)`` is called when a caller has its answer, or has given up; ``on_over(x)`` when nothing of the
    exchange runs any more.
    """

    def __init__(
        self, world: World, clock: Clock, on_finished: Callable[[Exchange], None], on_over: Callable[[Exchange], None]
    ) -> None:
        self._world = world
        self.arrive = world.admit
        self.start = Walk(clock, on_finished, on_over, lambda name, x: world.blueprint.missing(name, x)).start

    def blocked(self, origin: str, why: str, what: str, x: Exchange, method: str) -> tuple[str, str]:
        """The code and the sentence that names the stage to look at."""
        return diagnosed(self._world.blueprint, origin, why, what, x, method)


class Paced:
    """Makes a model that is asked no earlier than somebody else was, who answers in real time: windows and lifetimes
    are as far on then as there. ``sent`` has when that was, in microseconds from the start on, by exchange.
    """

    def __init__(self, world: World, sent: Mapping[str, int]) -> None:
        self._world, self._sent = world, sent

    def __call__(
        self, clock: Clock, on_finished: Callable[[Exchange], None], on_over: Callable[[Exchange], None]
    ) -> ModelService:
        """The service of a replay that begins now."""
        service, starts, sent = ModelService(self._world, clock, on_finished, on_over), clock.now, self._sent
        admit, start = service.arrive, service.start

        def arrive(id_: str, request: Request, at: int, *, watched: bool = True) -> Exchange:
            return admit(id_, request, max(at, starts + sent.get(id_, 0)), watched=watched)

        def begin(x: Exchange, patience: int) -> None:
            if x.at > clock.now:
                clock.push(x.at, ARRIVAL, x.number, lambda x, _: start(x, patience), x)
            else:
                start(x, patience)

        service.arrive, service.start = arrive, begin
        return service
