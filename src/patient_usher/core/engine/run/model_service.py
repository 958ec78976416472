"""The model as a service: a world that walks exchanges on the virtual clock."""

from __future__ import annotations

from collections.abc import Callable

from patient_usher.core.engine.callers.block_diagnosis import diagnosed
from patient_usher.core.engine.run.clock import Clock
from patient_usher.core.engine.run.walk import Walk
from patient_usher.core.engine.run.world import World
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
