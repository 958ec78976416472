"""Which quota, which lifetime, how many instances? Traces under every combination of settings."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from pathlib import Path

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.compile.compiler import changed
from patient_usher.core.questions.metrics import Select
from patient_usher.core.questions.sweep import Combination, Trial, combinations_of, marked, overlay_of, tried
from patient_usher.files.trace import Trace
from patient_usher.files.trust import NOTHING, Trust
from patient_usher.use_cases.processes import OnCores
from patient_usher.use_cases.session import Pipeline


def sweep(
    pipeline: Pipeline, trace: str | Path, tries: Mapping[str, Sequence[object]], *, cores: int = 1, seed: int = 0
) -> list[Trial]:
    """The trace in a file under every combination of settings, as ``{"throttle.quota": [10, 20]}`` has them.

    Those that no other beats are marked as best. Raises Unusable where a combination gives no pipeline.
    """
    combinations = combinations_of(tries)
    for combination in combinations:  # all that is wrong is told before anything runs
        changed(pipeline.compiled, overlay_of(combination))
    return marked(list(trials(pipeline.compiled, Path(trace), combinations, cores=cores, seed=seed)))


def trials(
    compiled: CompiledPipeline,
    trace: Path,
    combinations: Sequence[Combination],
    *,
    cores: int,
    seed: int,
    trust: Trust = NOTHING,
    named: Iterable[Select] | None = None,
    watch: Callable[[int], None] = lambda done: None,
) -> Iterator[Trial]:
    """Every combination tried, in order, on as many cores as there are. ``watch`` is told how many are done; ``named``:
    of whom figures will be asked, so that others needn't be remembered.
    """
    with_these = (compiled, trace, trust, seed, named)
    cores = min(cores, len(combinations))
    if cores <= 1:
        _begin(*with_these)
        found: Iterator[Trial] = map(_try, combinations)
        yield from _counted(found, watch)
        return
    yield from _counted(OnCores(cores, partial(_begin, *with_these))(_try, combinations), watch)


def _counted(found: Iterator[Trial], watch: Callable[[int], None]) -> Iterator[Trial]:
    for number, trial in enumerate(found, 1):
        watch(number)
        yield trial


class _Worker:
    """What a process of the pool works with."""

    compiled: CompiledPipeline
    trace: Path
    trust: Trust
    seed: int
    named: Iterable[Select] | None


def _begin(compiled: CompiledPipeline, trace: Path, trust: Trust, seed: int, named: Iterable[Select] | None) -> None:
    _Worker.compiled, _Worker.trace, _Worker.trust, _Worker.seed = compiled, trace, trust, seed
    _Worker.named = named


def _try(combination: Combination) -> Trial:
    bound = Trace.read(_Worker.trace, trust=_Worker.trust).bound(_Worker.compiled)
    return tried(_Worker.compiled, combination, bound, _Worker.seed, _Worker.named)
