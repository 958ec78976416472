"""What grows, and how the time and memory of a request grow with it: flat, or in proportion.

For each thing that there may be much of, 4,000 requests are replayed with little of it, with more and with much.
Printed is the processor time of a request as a multiple of that with the least, and the MiB that the run takes on
(of stages: the time of a request and stage).
"""

from __future__ import annotations

import statistics
import sys
import time
import tracemalloc
from collections.abc import Callable, Iterator
from typing import Any

from patient_usher import Trace, load
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.verify.run import run

REQUESTS = 4_000
BASE = {"patient-usher": "pipeline/1", "name": "growth"}
ROUTE = {"id": "all", "at": "GET /{+rest}", "access": "everyone", "handler": {"answer": {"text": "ok"}}}

Made = tuple[dict[str, Any], Iterator[dict[str, Any]]]


def stages(count: int) -> Made:
    """So many stages in front of a handler."""
    marks = [
        {"id": f"s{at}", "kind": "header-fields", "on-answer": {"put": {f"X-{at}": "1"}}, "only": [f"/never/{at}"]}
        for at in range(count)
    ]
    return {"stages": marks, "routes": [ROUTE]}, ({"send": f"GET /a{n}"} for n in range(REQUESTS))


def routes(count: int) -> Made:
    """So many routes with a parameter each, in groups of one prefix."""
    made = [{**ROUTE, "id": f"r{at}", "at": f"GET /p{at}/{{id}}"} for at in range(count)]
    return {"routes": made}, ({"send": f"GET /p{n % count}/{n}"} for n in range(REQUESTS))


def accounts(count: int) -> Made:
    """So many accounts, each with a key of its own."""
    known = {f"a{at}": {"password": "made-up", "api-keys": [f"made-up-key-number-{at}"]} for at in range(count)}
    who = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key", "name": "X-Key"}]}
    return (
        {"stages": [who], "accounts": known, "routes": [ROUTE]},
        ({"send": "GET /a", "headers": {"X-Key": f"made-up-key-number-{n % count}"}} for n in range(REQUESTS)),
    )


def partitions(count: int) -> Made:
    """A limit that counts for so many."""
    limit = {"id": "fair", "kind": "rate-limit", "quota": 5, "window": "1h", "per": ["header.X-Boat"]}
    return (
        {"stages": [limit], "routes": [ROUTE]},
        ({"send": "GET /a", "headers": {"X-Boat": f"b{n % count}"}} for n in range(REQUESTS)),
    )


def copies(count: int) -> Made:
    """A cache that keeps so many that are asked for again; every other request is new to it, whatever their number."""
    route = {**ROUTE, "cache": {"shared": "1h"}}
    return (
        {"stages": [{"id": "shelf", "kind": "cache"}], "routes": [route]},
        ({"send": f"GET /a{n // 2 % count}" if n % 2 else f"GET /new{n}"} for n in range(REQUESTS)),
    )


def open_requests(count: int) -> Made:
    """So many under way at a time."""
    route = {**ROUTE, "handler": {"answer": {"text": "ok"}, "busy-for": f"{count}ms"}}
    return {"routes": [route]}, ({"at": f"{n}ms", "send": f"GET /a{n}"} for n in range(REQUESTS))


GROW: dict[str, tuple[Callable[[int], Made], tuple[int, ...]]] = {
    "stages": (stages, (4, 16, 64)),
    "routes": (routes, (10, 100, 1000)),
    "accounts": (accounts, (10, 100, 1000)),
    "partitions": (partitions, (10, 100, 4000)),
    "copies": (copies, (10, 100, 1000)),
    "open requests": (open_requests, (10, 100, 2000)),
}


def measured(made: Callable[[int], Made], size: int, rounds: int) -> tuple[float, float]:
    """The seconds of processor time of a request, and the MiB that the run has taken on at most."""
    doc, sends = made(size)
    pipeline = load({**BASE, **doc}).compiled
    trace = Trace.of(*({"id": f"r{n}", **send} for n, send in enumerate(sends))).bound(pipeline)
    took = []
    for _ in range(rounds):
        begin = time.process_time()
        for _one in run(RunState(pipeline), trace, journeys=False):
            pass
        took.append((time.process_time() - begin) / REQUESTS)
    tracemalloc.start()
    for _one in run(RunState(pipeline), trace, journeys=False):
        pass
    most = tracemalloc.get_traced_memory()[1] / 2**20
    tracemalloc.stop()
    return statistics.median(took), most


def main() -> int:
    """Measure and print."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    for name, (made, sizes) in GROW.items():
        found = [measured(made, size, rounds) for size in sizes]
        per = [took / size if name == "stages" else took for (took, _), size in zip(found, sizes, strict=True)]
        told = [
            f"{size:,}: {one / per[0]:.2f} ({most:.1f} MiB)"
            for size, one, (_, most) in zip(sizes, per, found, strict=True)
        ]
        print(f"{name:<14} {'a request and stage' if name == 'stages' else 'a request'}: {', '.join(told)}")
    print("(wanted: at most 1.5 times of the least, however many there are)")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
