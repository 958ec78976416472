"""Processes that work for one: they end with it, however it ends, and leave Ctrl-C to it."""

from __future__ import annotations

import os
from concurrent.futures import ProcessPoolExecutor

from patient_usher.use_cases.session import collect_garbage


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
