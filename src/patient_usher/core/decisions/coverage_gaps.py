"""Requests that make happen what a trace has not: tried one by one, kept only where they do what they claim."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from patient_usher.core.decisions import request_generators as generators
from patient_usher.core.decisions.coverage import Coverage
from patient_usher.core.decisions.runner import Runner
from patient_usher.core.decisions.scenario import APART
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.model.branches import Branch
from patient_usher.core.model.document import JsonObject

MOST = 5_000
"""How many requests are tried."""


class Closing(NamedTuple):
    """Requests, ready to be pasted into a trace, and the gaps that they closed in a run state of their own."""

    requests: list[JsonObject]
    closed: list[Branch]


def closings(compiled: CompiledPipeline, missing: Sequence[Branch], base: str, seed: int = 0) -> list[Closing]:
    """What closes gaps: one request, or two where the first leaves something for the second."""
    open_ = list(dict.fromkeys(missing))
    found: list[Closing] = []
    trials = Runner(MOST, base, seed)
    for scenario in generators.scenarios(compiled):
        if not open_ or trials.spent:
            break
        if scenario.callers or any("change" in request for request in scenario.requests):
            continue  # a trace that people have has callers of its own, and no changes of ours
        run = trials.run(scenario, compiled)
        coverage = Coverage(compiled)
        for send in run.sends if run is not None else ():
            coverage.add(send)
        closed = [outcome for outcome in open_ if coverage.hits[outcome]]
        if closed:
            _, id_, name = closed[0]
            words = re.sub(r"[^A-Za-z0-9]+", "-", f"{id_}-{name}").strip("-")
            label = f"cover-{len(found) + 1}-{words}"[:60]
            count = len(scenario.requests)
            ids = [label if count == 1 else f"{label}.{at}" for at in range(1, count + 1)]
            # In one trace they come long after each other: no limit and no copy of one is in the way of the next.
            apart = [{"after": APART} if at == 0 and compiled.stateful else {} for at in range(count)]
            given = zip(ids, apart, scenario.requests, strict=True)
            requests = [{"id": id_, **wait, **request} for id_, wait, request in given]
            found.append(Closing(requests, closed))
            open_ = [outcome for outcome in open_ if outcome not in closed]
    return found
