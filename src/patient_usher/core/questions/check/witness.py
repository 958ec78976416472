"""A witness as people keep it: the requests, with the expectation that would have caught the mistake."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator

from patient_usher.core.decisions.runner import ScenarioRun, prepared
from patient_usher.core.decisions.scenario import Scenario
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.replay import Send
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.rule import observable_state
from patient_usher.core.verify.observed_expectations import observed
from patient_usher.core.verify.run import run

Document = JsonObject
Expect = JsonObject


def caught(
    name: str,
    as_is: ScenarioRun,
    mended: ScenarioRun,
    compiled: CompiledPipeline,
    cure: CompiledPipeline,
    base: str,
    seed: int = 0,
) -> Document:
    """The witness as a trace that fails in the pipeline as it is and holds in the mended one.

    Its ids begin with ``name``. Where no expectation can tell the two apart, it has none.
    """
    sends = [request for request in as_is.scenario.requests if "send" in request]
    named = _named(name, as_is.scenario, len(sends))
    for entry, ours, theirs in _entries(as_is, mended):
        if _seen(ours) == _seen(theirs):
            continue
        for scenario in _expecting(named, entry, ours, theirs):
            if _holds(scenario, cure, base, seed) is True and _holds(scenario, compiled, base, seed) is False:
                return scenario.document(base)
    return named.document(base)


def _seen(sends: list[Send]) -> Json:
    """All that an expectation can speak of."""
    return [
        (
            observable_state(x),
            x.identity,
            [step[0] for step in x.journey or () if step[1] == "in"],
            [(stage, message) for _, stage, _, message, *_ in x.log or ()],
        )
        for send in sends
        for x in send.exchanges
    ]


def _named(name: str, scenario: Scenario, count: int) -> Scenario:
    number, requests = 0, []
    for request in scenario.requests:
        if "send" in request:
            number += 1
            request = {
                "id": name if count == 1 else f"{name}-{number}",
                **{k: v for k, v in request.items() if k != "id"},
            }
        requests.append(request)
    used = {request.get("caller") for request in requests}
    callers = {caller: spec for caller, spec in scenario.callers.items() if caller in used}
    return scenario._replace(requests=tuple(requests), callers=callers)


def _entries(as_is: ScenarioRun, mended: ScenarioRun) -> Iterator[tuple[int, list[Send], list[Send]]]:
    """Each request's sends, as it is and mended, with its number among the requests; the last one first."""
    ours, theirs = _by_entry(as_is), _by_entry(mended)
    for entry in sorted(ours, reverse=True):
        yield entry, ours[entry], theirs.get(entry, [])


def _by_entry(run: ScenarioRun) -> dict[int, list[Send]]:
    found: dict[int, list[Send]] = {}
    for send in run.sends:
        found.setdefault(send.entry.order, []).append(send)
    return found


def _expecting(scenario: Scenario, entry: int, ours: list[Send], theirs: list[Send]) -> Iterator[Scenario]:
    """The probe with what may be expected of a request; of a repeated one, at last of the last time that differs."""
    before, request, behind = scenario.requests[:entry], scenario.requests[entry], scenario.requests[entry + 1 :]
    for expect in _expectations(ours, theirs):
        yield scenario._replace(requests=(*before, {**request, "expect": expect}, *behind))
    if len(theirs) < 2:
        return
    pairs = zip(ours, theirs, strict=False)
    differ = max((at for at, (a, b) in enumerate(pairs) if _seen([a]) != _seen([b])), default=0)
    once = {key: value for key, value in request.items() if key not in ("times", "every")}
    first = [{**request, "times": differ}] if differ > 1 else [once] if differ else []
    last = {**once, **({"id": f"{request['id']}-then", "after": request.get("every", "0s")} if differ else {})}
    for expect in _expectations(ours[differ : differ + 1], theirs[differ : differ + 1]):
        yield scenario._replace(requests=(*before, *first, {**last, "expect": expect}, *behind))


def _holds(scenario: Scenario, compiled: CompiledPipeline, base: str, seed: int) -> bool | None:
    """Whether what is expected holds; None where the pipeline hasn't what that names."""
    ready = prepared(scenario, compiled, base)
    if ready is None:
        return None
    checks = [check for judged in run(RunState(compiled, seed), ready, journeys=False) for check in judged.checks]
    return bool(checks) and all(check.ok for check in checks)


def _expectations(ours: list[Send], theirs: list[Send]) -> Iterator[Expect]:
    """What may be expected of a request that comes out otherwise, the most telling first."""
    if not theirs:
        return
    if len(theirs) > 1:
        counts = Counter(send.final.answer.status for send in theirs if send.final is not None and send.final.answer)
        yield {"tally": {str(status): count for status, count in sorted(counts.items())}}
        return
    x, other = ours[-1].final, theirs[-1].final
    if x is None or other is None:
        return
    yield observed(other)
    yield {key: value for key, value in observed(other).items() if key in ("status", "outcome", "handler")}
    base = {"status": other.answer.status} if other.answer is not None else {"outcome": other.outcome}
    for more in _finer(x, other):
        yield {**base, **more}
    asked, asked_too = (
        next((each for each in sends[-1].exchanges if each.kind == "preflight"), None) for sends in (ours, theirs)
    )
    if asked is not None and asked_too is not None:
        yield from ({"preflight": more} for more in _finer(asked, asked_too) if more.keys() <= {"headers", "log"})


def _finer(x: Exchange, other: Exchange) -> Iterator[Expect]:
    """What differs beyond the outcome: fields, content, log, rates."""
    if x.answer is not None and other.answer is not None:
        before, after = dict(x.answer.fields.pairs()), dict(other.answer.fields.pairs())
        content = other.answer.content
        try:
            yield {"body": {"exact": json.loads(content)}}
        except ValueError:
            yield {"body": {"contains": content.decode(errors="replace")[:60]}}
        for name, value in after.items():
            if name.lower() not in ("date", "content-length") and before.get(name) != value:
                yield {"headers": {name: value if len(value) < 60 else "present"}}
        yield from ({"headers": {name: "missing"}} for name in before if name not in after)
    if x.caches and other.caches:
        yield {"cache": other.caches[-1].state}
    logged = [(stage, message) for _, stage, _, message, *_ in x.log or ()]
    for _, stage, _, message, *_ in other.log or ():
        if (stage, message) not in logged:
            yield {"log": {"stage": stage, "contains": message}}
    ran = {step[0] for step in x.journey or () if step[1] == "in"} - {
        step[0] for step in other.journey or () if step[1] == "in"
    }
    yield from ({"skipped": [stage]} for stage in sorted(ran))
    if other.identity is not None:
        yield {"identity": other.identity.name}
    for name, value in other.context.items():
        if x.context.get(name) != value and isinstance(value, str):
            yield {"context": {name: value}}
