"""How long requests took where they were seen, as what handlers are busy for."""

from __future__ import annotations

from patient_usher.core.engine.bind.request_templates import url_of
from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.compile.compiler import changed
from patient_usher.core.model.document import JsonObject

MOST = 100_000
"""Of so many requests of a route the median is taken."""


def with_medians(compiled: CompiledPipeline, trace: BoundTrace) -> tuple[CompiledPipeline, dict[str, int]]:
    """The pipeline whose handlers are busy for the median of what their requests took, in microseconds by route."""
    from statistics import median_low

    found: dict[str, list[int]] = {}
    for entry in trace.entries:
        if entry.took is None or entry.request_template is None:
            continue
        try:
            url = url_of(entry.request_template.written, entry.request_template.base)
        except ValueError:
            continue
        route, *_ = compiled.router.find(entry.request_template.method, url)
        if route is not None and len(took := found.setdefault(route.id, [])) < MOST:
            took.append(entry.took)
    medians = {route: median_low(took) for route, took in sorted(found.items())}
    routes: JsonObject = {route: {"handler": {"busy-for": f"{took}us"}} for route, took in medians.items()}
    return (changed(compiled, {"routes": routes}) if routes else compiled), medians
