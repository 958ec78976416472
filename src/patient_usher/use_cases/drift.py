"""Does the real service do what the model says, and where does it differ?"""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from itertools import chain
from typing import Any, NamedTuple

from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.run.clock import Clock
from patient_usher.core.engine.run.model_service import paced
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.http.messages import SAFE_METHODS, Request
from patient_usher.core.model.document import Json, unusable
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.variants.search import Explanation, explained
from patient_usher.core.verify.expectations import Verifier
from patient_usher.core.verify.outside import DriftResult, Read, apart, compared, is_visible, settled, stage_at
from patient_usher.core.verify.run import Judged, prefix_of, run
from patient_usher.files.trace import Trace
from patient_usher.use_cases.real_service import ServiceAddress
from patient_usher.use_cases.session import Pipeline, bound_all
from patient_usher.wire.application import Asks
from patient_usher.wire.inside import Inside, Spans
from patient_usher.wire.real_service import SERVICE, RealService, went

WAIT_AT_MOST = 60
"""Seconds that traces may wait for in real time, where nobody says."""


def drift(
    pipeline: Pipeline,
    *traces: Trace,
    app: Callable[..., object] | None = None,
    at: str | None = None,
    recorded: Json = None,
    certificates: bytes | None = None,
    bodies: bool = False,
    leave_out: Collection[str] = (),
    writes: bool = False,
    wait_at_most: float = WAIT_AT_MOST,
    seed: int = 0,
    wait: Callable[[int], None] | None = None,
    told: Told | None = None,
) -> Iterator[DriftResult]:
    """Every request of the traces, asked of the model and of a service.

    That is an ASGI or WSGI application in this process (``app``), whoever answers at an origin (``at``) for the traces'
    base, or what was ``recorded`` of one (a HAR document). ``certificates`` (PEM) are trusted beside the system's.
    Where a trace waits, so does this, in real time, ``wait_at_most`` seconds in all. ``writes``: whether requests are
    sent that may change something (RFC 9110 9.2.1). ``wait`` is told when each request is due, in microseconds, and
    does the waiting, for applications whose clock can be turned. ``leave_out``: header fields that aren't compared.
    ``told``: where the service says which of its stages
    ran, beside Server-Timing. Raises Unusable for a trace that can't be sent so.
    """
    service = ServiceAddress(app, at, recorded, certificates)
    bound = sent_of(pipeline, traces, writes=writes)
    for trace in bound:
        check_sendable(trace, wait_at_most if wait is None and recorded is None else float("inf"))
    run_states = RunState(pipeline.compiled, seed), RunState(pipeline.compiled, seed)
    with service.open() as ask:  # what one trace leaves in the service, the next one comes to: so in the model
        for trace in bound:
            if service.starts is not None:
                trace = trace._replace(starts=service.starts)
            turned = wait if service.starts is None else _no_time
            asked, prefix = ask(trace.base), prefix_of(trace, bound)
            pairs = side_by_side(
                run_states,
                trace,
                asked,
                prefix,
                turned,
                bodies=bodies,
                leave_out=leave_out,
                told=told,
                when=service.when,
            )
            yield from _in_bursts(pairs)


def explain(
    pipeline: Pipeline,
    traces: Sequence[Trace],
    held: Sequence[DriftResult],
    *,
    bodies: bool = False,
    leave_out: Collection[str] = (),
    writes: bool = False,
    seed: int = 0,
    watch: Callable[[int], None] = lambda tried: None,
) -> Explanation:
    """Why a service differs from its model: the fewest changes of the model that answer as it did (``held``)."""
    rest = list(held)
    bound, by_trace = [], []
    for trace in sent_of(pipeline, traces, writes=writes):
        count = sum(entry.request_template.spec.times for entry in trace.entries if entry.request_template is not None)
        own, rest = rest[:count], rest[count:]
        if own:
            bound.append(trace._replace(starts=own[0].model.starts))
            by_trace.append(own)
    how: dict[str, Any] = {"seed": seed, "bodies": bodies, "leave_out": leave_out}
    return explained(pipeline.compiled, bound, by_trace, **how, watch=watch)


def _no_time(at: int) -> None:
    """What was recorded is there at once."""


def sent_of(pipeline: Pipeline, traces: Iterable[Trace], *, writes: bool) -> list[BoundTrace]:
    """What is sent of traces: all, or what changes nothing. Raises Unusable."""
    bound = bound_all(pipeline.compiled, traces)
    return bound if writes else [reads_only(trace) for trace in bound]


def reads_only(trace: BoundTrace) -> BoundTrace:
    """The trace without requests that may change something."""
    kept = [
        entry
        for entry in trace.entries
        if entry.request_template is None or entry.request_template.method in SAFE_METHODS
    ]
    return trace._replace(entries=[entry._replace(order=number) for number, entry in enumerate(kept)])


def waits(trace: BoundTrace) -> float:
    """How many seconds a trace waits for, by what it says."""
    after = sum((entry.after or 0) for entry in trace.entries if entry.at is None)
    at = max((entry.at or 0 for entry in trace.entries), default=0)
    request_templates = (entry.request_template.spec for entry in trace.entries if entry.request_template is not None)
    every = sum((spec.every or 0) * (spec.times - 1) for spec in request_templates)
    return (after + at + every) / 1_000_000


def check_sendable(trace: BoundTrace, wait_at_most: float) -> None:
    """Raises Unusable for a trace that no real service can be sent."""
    if trace.streams:
        raise unusable("a trace in bulk isn't sent to a real service", "name one that people write, or take a sample")
    if trace.changes:
        raise unusable("the trace changes the pipeline, and a real service can't be changed so", "leave change: out")
    if waits(trace) > wait_at_most:
        what = f"the trace waits for {waits(trace):,.0f} s, and a real service's clock can't be turned"
        raise unusable(what, f"give --wait-at-most {waits(trace):.0f}s, or a trace that waits less")


def side_by_side(
    run_states: tuple[RunState, RunState],
    trace: BoundTrace,
    ask: Asks,
    prefix: str,
    wait: Callable[[int], None] | None,
    *,
    bodies: bool,
    leave_out: Collection[str] = (),
    told: Told | None = None,
    when: Callable[[Request], int] | None = None,
) -> Iterator[DriftResult]:
    """The model's run and the service's, side by side: both are asked in the trace's order, by callers of
    their own. The model is asked when the service was, which answers in its own time.

    Where the service says which of its stages ran, all is compared at the end, when it is known which ones it shows.
    """
    compiled = run_states[0].compiled
    how: dict[str, Any] = {"fields": compared(compiled, leave_out), "bodies": bodies}
    if wait is None:  # the model's clock shows what the service's does: windows and dates begin alike
        trace = trace._replace(starts=time.time_ns() // 1000)
    said = told or Told()
    inside = Inside(compiled.options, said.names, said.spans, f"{time.time_ns()} {prefix}")
    asked: list[RealService] = []

    def service(
        clock: Clock, on_finished: Callable[[Exchange], None], on_over: Callable[[Exchange], None]
    ) -> RealService:
        asked.append(RealService(ask, clock, on_finished, on_over, wait, inside, when or (lambda request: 0)))
        return asked[0]

    theirs = run(run_states[1], trace, service=service)
    kept: list[tuple[Judged, Judged]] = []
    first = next(theirs, None)  # the service's clock goes first: the model is asked when it was
    if first is None:
        return
    for judged, ours in zip(
        chain([first], theirs), run(run_states[0], trace, service=paced(run_states[0], asked[0].sent)), strict=True
    ):
        if inside.shown or inside.spans is not None:
            kept.append((ours, judged))
        else:
            yield _compared(compiled, prefix, ours, judged, asked[0].troubles, inside.shown, **how)
    if inside.spans is not None:
        kept = _with_spans(compiled, kept, inside, said.within)
    for ours, judged in kept:
        yield _compared(compiled, prefix, ours, judged, asked[0].troubles, inside.shown, **how)


class Told(NamedTuple):
    """Where a service says which of its stages ran, beside Server-Timing.

    ``spans`` may come ``within`` so many seconds after the last answer; ``names``: the stages of spans and entries that
    aren't named like them.
    """

    spans: Spans | None = None
    names: Mapping[str, str] = {}
    within: float = 10.0


def _with_spans(
    compiled: CompiledPipeline, pairs: Sequence[tuple[Judged, Judged]], inside: Inside, within: float
) -> list[tuple[Judged, Judged]]:
    """The same, with the stages whose spans have come by then; what is expected of them is checked again."""
    assert inside.spans is not None
    sent = [x for _, judged in pairs for x in judged.send.exchanges if x.answered_by == SERVICE]
    try:
        inside.spans.wait([inside.trace_id(x.number) for x in sent], within)
    except ValueError as error:
        what, _, mend = str(error).partition("; ")
        raise unusable(what, mend, "--spans") from None
    for x in sent:
        if (ran := inside.ran_in(x.number)) is not None:
            went(x, ran)
    verifier = Verifier(compiled.environment)
    return [(ours, judged._replace(checks=verifier.check(judged.send))) for ours, judged in pairs]


def _compared(
    compiled: CompiledPipeline,
    prefix: str,
    ours: Judged,
    judged: Judged,
    troubles: Mapping[str, str],
    shown: Collection[str],
    *,
    fields: Mapping[str, Read],
    bodies: bool,
) -> DriftResult:
    records = judged.records()
    ran = {x.id: [step[0] for step in x.journey] for x in judged.send.exchanges if x.journey is not None}
    differs = tuple(
        (id_, one if record is None or one.stage else one._replace(stage=stage_at(compiled, record, one)))
        for record, id_, one in apart(ours, records, judged.checks, ran, shown, fields=fields, bodies=bodies)
    )
    seen = tuple(check for check in judged.checks if is_visible(check, shown if ran else ()))
    unseen = len(judged.checks) - len(seen)
    trouble = next((troubles[record.id] for record in records if record.id in troubles), None)
    return DriftResult(prefix + ours.send.id, ours, records, differs, seen, unseen, trouble, ran)


def _in_bursts(held: Iterable[DriftResult]) -> Iterator[DriftResult]:
    """The requests, those of a burst compared by how often each status came."""
    burst: list[DriftResult] = []
    for one in held:
        if one.model.send.request_template.spec.times == 1:
            yield one
            continue
        burst.append(one)
        if one.model.send.last:
            found = settled([(each.model.records(), each.service, each.differs) for each in burst])
            yield from (each._replace(differs=differs) for each, differs in zip(burst, found, strict=True))
            burst = []
