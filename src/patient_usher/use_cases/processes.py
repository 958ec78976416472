"""Processes that work for one: they end with it, however it ends, and leave Ctrl-C to it."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from typing import TypeVar

from patient_usher.core.model.document import unusable
from patient_usher.use_cases.session import collect_garbage

A = TypeVar("A")
B = TypeVar("B")


class OnCores:
    """Does the same to many things in processes of this machine, and gives what comes of them in their order."""

    def __init__(self, cores: int) -> None:
        self.size = cores

    def __call__(self, work: Callable[[A], B], things: Sequence[A], /) -> Iterator[B]:
        """Do it. Raises what one raises, and Unusable where a process was ended from outside."""
        pool = ProcessPoolExecutor(min(self.size, len(things)), initializer=begin_apart, initargs=(os.getpid(),))
        try:
            yield from pool.map(work, things)
        except BrokenProcessPool:
            pool.shutdown(wait=False, cancel_futures=True)
            raise unusable("a process that replayed a part was ended from outside", "replay again", "--cores") from None
        except BaseException:
            give_up(pool)
            raise
        pool.shutdown()


def begin_apart(parent: int) -> None:
    """In a process of a pool."""
    import signal
    import threading
    import time

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(0.5)
        os._exit(1)

    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    threading.Thread(target=watch, daemon=True).start()
    collect_garbage()


def give_up(pool: ProcessPoolExecutor) -> None:
    """What its processes are at is of no use any more."""
    for process in list((getattr(pool, "_processes", None) or {}).values()):
        process.terminate()
    pool.shutdown(wait=False, cancel_futures=True)
