"""What is wrong with a pipeline's order and options, and which request proves it?"""

from __future__ import annotations

from collections.abc import Collection, Iterable

from patient_usher.core.decisions.runner import BASE, BUDGET
from patient_usher.core.decisions.scenario import Scenario
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.model.document import Json
from patient_usher.core.questions.check import search
from patient_usher.core.questions.check.search import Checked, Finding
from patient_usher.core.variants.search import fulfilled
from patient_usher.files.trace import Trace
from patient_usher.use_cases.session import Pipeline, bound_all


def check(
    pipeline: Pipeline,
    *traces: Trace,
    budget: int = BUDGET,
    seed: int = 0,
    codes: Collection[str] = (),
    mends: bool = True,
) -> Checked:
    """Everything that is wrong with a pipeline, the gravest first; ``at_least`` gives those of a level.

    The requests of ``traces`` are tried too, and no mend may make any of them worse. ``codes``: look for these only.
    Without ``mends`` these aren't tried out: for counting alone. Where something doesn't come that the traces expect,
    ``unmet`` says with which changes it would. Raises Unusable for a trace that doesn't fit.
    """
    compiled = pipeline.compiled
    bound = bound_all(compiled, traces)
    more = [scenario for trace in traces for scenario in _scenarios(trace.requests_for(compiled))]
    base = bound[0].base if bound else BASE
    found = search.check(
        compiled, budget=budget, base=base, seed=seed, traces=bound, more=more, codes=tuple(codes), mends=mends
    )
    if codes or not mends:
        return found
    unmet = fulfilled(compiled, bound, seed=seed)
    return found._replace(unmet=unmet if unmet.tried else None)


def mend(
    checked: Checked, *traces: Trace, wanted: Collection[str] = ()
) -> tuple[CompiledPipeline, list[Finding], list[Finding]]:
    """The pipeline with findings mended one after the other, which were, and what is found then that wasn't before.

    ``wanted``: codes, or ``CODE@STAGE``, with ``=N`` for the Nth of the mends that are offered.
    """
    return search.mend_all(checked, tuple(wanted), bound_all(checked.compiled, traces))


def _scenarios(doc: Json) -> Iterable[Scenario]:
    """A trace's requests, each by itself, as something to be tried."""
    callers = doc.get("callers") or {}
    for entry in doc.get("requests") or ():
        if "send" in entry and "${kept" not in str(entry):
            request = {k: v for k, v in entry.items() if k not in ("id", "expect", "expect-in", "at", "after", "keep")}
            yield Scenario("trace", (request,), {k: v for k, v in callers.items() if k == entry.get("caller")})
