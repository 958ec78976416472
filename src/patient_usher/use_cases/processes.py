"""Processes that work for one: they end with it, however it ends, and leave Ctrl-C to it."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from functools import partial
from typing import TypeVar

from patient_usher.core.model.document import unusable
from patient_usher.use_cases.session import collect_garbage

A = TypeVar("A")
B = TypeVar("B")


class OnCores:
    """Does the same to many things in processes of this machine, and gives what comes of them in their order."""

    def __init__(self, cores: int, begin: Callable[[], None] | None = None) -> None:
        """``begin`` is what each process does first."""
        self.size, self.begin = cores, begin

    def __call__(self, work: Callable[[A], B], things: Sequence[A], /) -> Iterator[B]:
        """Do it. Raises what one raises, and Unusable where a process was ended from outside."""
        pool = ProcessPoolExecutor(min(self.size, len(things)), initializer=partial(_begin_apart, self.begin))
        try:
            yield from pool.map(work, things)
        except BrokenProcessPool:
            pool.shutdown(wait=False, cancel_futures=True)
            raise unusable("a process that worked on it was ended from outside", "try again", "--cores") from None
        except BaseException:
            _give_up(pool)
            raise
        pool.shutdown()


def _begin_apart(begin: Callable[[], None] | None) -> None:
    """In a process of a pool, however it was started: ``fork``, ``forkserver`` and ``spawn`` are all somebody's way."""
    import signal
    import threading
    from multiprocessing import parent_process
    from multiprocessing.connection import wait

    parent = parent_process()
    assert parent is not None

    def watch() -> None:
        wait([parent.sentinel])
        os._exit(1)

    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    threading.Thread(target=watch, daemon=True).start()
    collect_garbage()
    if begin is not None:
        begin()


def _give_up(pool: ProcessPoolExecutor) -> None:
    """What its processes are at is of no use any more."""
    for process in list((getattr(pool, "_processes", None) or {}).values()):
        process.terminate()
    pool.shutdown(wait=False, cancel_futures=True)
