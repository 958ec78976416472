"""The virtual clock: one queue of what is to be done, and when.

The queue holds (time, phase, order); phases are completions, then timers, then arrivals. What
arrives at one time is served in the order of the file (``order``); the rest in the order of the
exchanges. Time is integer microseconds since the epoch and only ever moves forward.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable

COMPLETION, TIMER, ARRIVAL = range(3)


class Clock:
    """Time, and its queue."""

    __slots__ = ("_queue", "_sequence", "arrivals", "now")

    def __init__(self, now: int) -> None:
        self.now = now
        self.arrivals = 0
        """How many arrivals are on the queue."""
        self._queue: list[tuple[int, int, int, int, Callable[..., object], object, int]] = []
        self._sequence = 0

    def push(
        self, time: int, phase: int, order: int, action: Callable[..., object], subject: object, epoch: int = 0
    ) -> None:
        """Have ``action(subject, epoch)`` called at a time and phase."""
        self._sequence += 1
        if phase == ARRIVAL:
            self.arrivals += 1
        heapq.heappush(self._queue, (time, phase, order, self._sequence, action, subject, epoch))

    @property
    def due(self) -> int | None:
        """When the next thing on the queue is to be done; None where there is none."""
        return self._queue[0][0] if self._queue else None

    def step(self) -> bool:
        """Do the next thing on the queue. False where there is none."""
        if not self._queue:
            return False
        self.now, phase, _, _, action, subject, epoch = heapq.heappop(self._queue)
        if phase == ARRIVAL:
            self.arrivals -= 1
        action(subject, epoch)
        return True
