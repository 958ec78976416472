"""In which order does the real service run its stages? The fewest telling requests, sent to it."""

from __future__ import annotations

from collections.abc import Callable

from patient_usher.core.decisions.runner import BASE, prepared
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.model.document import unusable
from patient_usher.core.questions.reorder.discriminate import distinguish_orders
from patient_usher.core.questions.reorder.fitting import FittingOrder, fitting
from patient_usher.use_cases.drift import side_by_side
from patient_usher.use_cases.real_service import ServiceAddress
from patient_usher.use_cases.session import Pipeline


def find_order(
    pipeline: Pipeline,
    *,
    app: Callable[..., object] | None = None,
    at: str | None = None,
    certificates: bytes | None = None,
    writes: bool = False,
    seed: int = 0,
    wait: Callable[[int], None] | None = None,
) -> FittingOrder:
    """Send a service the fewest requests whose answers tell orders of the server-wide stages apart (reads only, unless
    ``writes``), and see which orders answer so. Raises Unusable where no request tells any apart.
    """
    service = ServiceAddress(app, at, None, certificates)
    compiled = pipeline.compiled
    apart = distinguish_orders(compiled, seed=seed, reads_only=not writes, waits=False)
    ready = prepared(apart.trace, compiled, BASE) if apart.requests else None
    if ready is None:
        raise unusable("no request tells these orders apart", "give --writes, or see usher reorder --tell-apart")
    with service.open() as ask:
        run_states = RunState(compiled, seed), RunState(compiled, seed)
        held = list(side_by_side(run_states, ready, ask(BASE), "", wait, bodies=False))
    trouble = next((one.trouble for one in held if one.trouble is not None), None)
    ready = ready._replace(starts=held[0].model.starts)
    return fitting(compiled, apart, ready, [one.service for one in held], seed, trouble)
