"""Does the real service do what the model says, and where does it differ?"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from typing import Any

from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.engine.run.clock import Clock
from patient_usher.core.engine.run.world import World
from patient_usher.core.http.messages import SAFE_METHODS
from patient_usher.core.model.document import Json, Problem, Spot, Unusable
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.verify.outside import Drift, Held, drifts, is_visible, stage_at
from patient_usher.core.verify.run import Judged, prefix_of, run
from patient_usher.files.trace import Trace
from patient_usher.use_cases.session import Pipeline, bound_all
from patient_usher.wire.application import Asks, asker
from patient_usher.wire.over_sockets import AtUrl, origin_of, trusted
from patient_usher.wire.real_service import RealService
from patient_usher.wire.recorded import Recorded

WAIT_AT_MOST = 60
"""Seconds that traces may wait for in real time, where nobody says."""


def drift(
    pipeline: Pipeline,
    *traces: Trace,
    app: Callable[..., Any] | None = None,
    at: str | None = None,
    recorded: Json = None,
    certificates: bytes | None = None,
    bodies: bool = False,
    writes: bool = False,
    wait_at_most: float = WAIT_AT_MOST,
    seed: int = 0,
    wait: Callable[[int], None] | None = None,
) -> Iterator[Held]:
    """Every request of the traces, asked of the model and of a service.

    That is an ASGI or WSGI application in this process (``app``), whoever answers at an origin (``at``) for the traces'
    base, or what was ``recorded`` of one (a HAR document). ``certificates`` (PEM) are trusted beside the system's.
    Where a trace waits, so does this, in real time, ``wait_at_most`` seconds in all. ``writes``: whether requests are
    sent that may change something (RFC 9110 9.2.1). ``wait`` is told when each request is due, in microseconds, and
    does the waiting, for applications whose clock can be turned. Raises Unusable for a trace that can't be sent so.
    """
    bound = bound_all(pipeline.blueprint, traces)
    for trace in bound:
        check_sendable(trace, wait_at_most if wait is None and recorded is None else float("inf"))
    bound = bound if writes else [reads_only(trace) for trace in bound]
    if sum(one is not None for one in (app, at, recorded)) != 1:
        raise _unusable("there is no service to ask, or there are several", "give app, at or recorded")
    try:
        origin = origin_of(at) if at is not None else None
        tls = trusted(certificates)
        kept = Recorded(recorded) if recorded is not None else None
        asked: Asks | None = asker(app) if app is not None else kept
    except ValueError as error:
        what, _, mend = str(error).partition("; ")
        where = "app" if app is not None else "at" if at is not None else "recorded"
        raise Unusable([Problem(Spot(where, 1, 1), what, mend)]) from None
    if kept is not None:
        bound = [trace._replace(starts=kept.starts) for trace in bound]
        wait = lambda at: None  # noqa: E731
    try:
        for trace in bound:
            ask: Asks | None = AtUrl(origin, trace.base, tls) if origin is not None else asked
            assert ask is not None
            try:
                yield from _held(pipeline, trace, ask, prefix_of(trace, bound), seed, wait, bodies=bodies)
            finally:
                if origin is not None:
                    ask.close()
    finally:
        if asked is not None:
            asked.close()


def reads_only(trace: BoundTrace) -> BoundTrace:
    """The trace without requests that may change something."""
    kept = [entry for entry in trace.entries if entry.recipe is None or entry.recipe.method in SAFE_METHODS]
    return trace._replace(entries=[entry._replace(order=number) for number, entry in enumerate(kept)])


def waits(trace: BoundTrace) -> float:
    """How many seconds a trace waits for, by what it says."""
    after = sum((entry.after or 0) for entry in trace.entries if entry.at is None)
    at = max((entry.at or 0 for entry in trace.entries), default=0)
    recipes = (entry.recipe.spec for entry in trace.entries if entry.recipe is not None)
    every = sum((spec.every or 0) * (spec.times - 1) for spec in recipes)
    return (after + at + every) / 1_000_000


def check_sendable(trace: BoundTrace, wait_at_most: float) -> None:
    """Raises Unusable for a trace that no real service can be sent."""
    if trace.streams:
        raise _unusable("a trace in bulk isn't sent to a real service", "name one that people write, or take a sample")
    if trace.changes:
        raise _unusable("the trace changes the pipeline, and a real service can't be changed so", "leave change: out")
    if waits(trace) > wait_at_most:
        what = f"the trace waits for {waits(trace):,.0f} s, and a real service's clock can't be turned"
        raise _unusable(what, f"give --wait-at-most {waits(trace):.0f}s, or a trace that waits less")


def _unusable(what: str, mend: str) -> Unusable:
    return Unusable([Problem(Spot("command line", 1, 1), what, mend)])


def _held(
    pipeline: Pipeline,
    trace: BoundTrace,
    ask: Asks,
    prefix: str,
    seed: int,
    wait: Callable[[int], None] | None,
    *,
    bodies: bool,
) -> Iterator[Held]:
    """The model's run and the service's, side by side: both are asked in the trace's order."""
    blueprint = pipeline.blueprint
    if wait is None:  # the model's clock shows what the service's does: windows and dates begin alike
        trace = trace._replace(starts=time.time_ns() // 1000)
    asked: list[RealService] = []

    def service(
        clock: Clock, on_finished: Callable[[Exchange], None], on_over: Callable[[Exchange], None]
    ) -> RealService:
        asked.append(RealService(ask, clock, on_finished, on_over, wait))
        return asked[0]

    theirs = run(World(blueprint, seed), trace, service=service)
    for ours, judged in zip(run(World(blueprint, seed), trace), theirs, strict=True):
        troubles = asked[0].troubles if asked else {}
        yield _compared(blueprint, prefix, ours, judged, troubles, bodies=bodies)


def _compared(
    blueprint: Blueprint, prefix: str, ours: Judged, judged: Judged, troubles: dict[str, str], *, bodies: bool
) -> Held:
    records = judged.records()
    by_id = {record.id: record for record in records}
    expects_body = any(check.what.startswith("body") for check in ours.checks)
    differs: list[tuple[str, Drift]] = []
    for record in ours.records():
        other = by_id.pop(record.id, None)
        if other is None:
            differs.append((record.id, Drift("request", "sent", "not sent")))
            continue
        for one in drifts(record, other, bodies=bodies or expects_body):
            differs.append((record.id, one._replace(stage=stage_at(blueprint, record, one.what))))
    differs += [(id_, Drift("request", "not sent", "sent")) for id_ in by_id]
    seen = tuple(check for check in judged.checks if is_visible(check))
    trouble = next((troubles[record.id] for record in records if record.id in troubles), None)
    return Held(prefix + ours.send.id, ours, records, tuple(differs), seen, len(judged.checks) - len(seen), trouble)
