"""What every handler does around its work: being reached, being busy, and being done."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from patient_usher.core.model.document import JsonObject
from patient_usher.core.model.effects import Effect, Wait
from patient_usher.core.model.errors import Raised
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.stage import Stage

Work = Callable[[Exchange], Effect]
Choice = Callable[[Exchange], tuple[int, Work]]
"""For an exchange: for how much longer the handler is busy, and its work."""


class Handler(Stage):
    """Runs its work, after the time it is busy; effects happen at the end of that time."""

    def __init__(self, busy_for: int, work: Work, *, choose: Choice | None = None) -> None:
        self.busy_for, self.work, self.choose = busy_for, work, choose
        self.busy = Wait(busy_for, self._finish)

    def way_in(self, x: Exchange) -> Effect:
        """Work at once, or be busy first."""
        x.handler_reached = True
        if self.choose is not None:
            return self._chosen(*self.choose(x), x)
        if x.took is not None:
            return Wait(x.took, self._finish)
        return self.busy if self.busy_for else self._finish(x)

    def _finish(self, x: Exchange) -> Effect:
        effect = self.work(x)
        x.handler_finished = effect.__class__ is not Raised
        return effect

    def _chosen(self, more: int, work: Work, x: Exchange) -> Effect:
        def finish(x: Exchange) -> Effect:
            effect = work(x)
            x.handler_finished = effect.__class__ is not Raised
            return effect

        busy = self.busy_for + more if x.took is None else x.took
        return Wait(busy, finish) if busy else finish(x)


class Failing(Handler):
    """A handler whose every so manieth run fails."""

    def __init__(self, handler: Handler, every: int, fail: Work) -> None:
        super().__init__(handler.busy_for, self._sometimes)
        self.inner, self.every, self.fail = handler, every, fail

    @property
    def partition_keys(self) -> tuple[str, ...]:
        """Its runs are counted for its route alone."""
        return ("route",)

    def fresh(self, seed: int) -> JsonObject:
        """It has not run yet."""
        return {"runs": 0}

    def situations(self) -> Sequence[Callable[[], object]]:
        """The next run fails."""
        return (lambda: {"runs": self.every - 1},)

    def _sometimes(self, x: Exchange) -> Effect:
        state = x.memory[self.key]
        state["runs"] += 1
        if state["runs"] % self.every == 0:
            return self.fail(x)
        work = self.inner.work if self.inner.choose is None else self.inner.choose(x)[1]
        return work(x)
