"""Pipelines as Hypothesis draws them: small stages of the two flows, with every effect that there is."""

from __future__ import annotations

from typing import Any

from hypothesis import strategies as st

THENS: list[Any] = [
    "continue", "continue", "continue", "nothing", {"answer": {"status": 200}}, {"answer": {"status": 403}},
    {"raise": "Forbidden"}, {"raise": "Oops"}, {"answer-and-continue": {"status": 401}},
]  # fmt: skip
OUTS: list[Any] = [
    None,
    None,
    None,
    {"put": {"X-Out": "1"}},
    {"then": {"raise": "Late"}},
    {"then": {"answer": {"status": 299}}},
]
HANDLERS: list[Any] = [
    {"answer": {"text": "ok"}},
    {"raise": "Oops"},
    {"raise": "NotFound"},
    {"answer": {"status": 204}, "busy-for": "1s"},
]


@st.composite
def pipelines(draw: st.DrawFn, flow: str | None = None) -> tuple[list[Any], dict[str, Any]]:
    """Stages that pass on, answer, raise and slip, on the server and on a group; one route."""
    flow = flow or draw(st.sampled_from(["nested", "sequential"]))
    stages: list[Any] = []
    for number in range(draw(st.integers(0, 6))):
        if draw(st.integers(0, 3)) == 0:
            stages.append({"id": f"net{number}", "kind": "error-handler", "log": "nothing"})
            continue
        if draw(st.integers(0, 5)) == 0:
            behind = draw(st.sampled_from(["cancelled", "runs-on"]))
            after = draw(st.sampled_from(["300ms", "1s", "2s"]))
            stages.append({"id": f"late{number}", "kind": "timeout", "after": after, "behind": behind})
            continue
        gate: dict[str, Any] = {"id": f"g{number}", "kind": "decide", "cases": [{"then": draw(st.sampled_from(THENS))}]}
        out = draw(st.sampled_from(OUTS))
        if out is not None:
            gate["way-out"] = [out]
        if draw(st.integers(0, 5)) == 0:
            gate["only"] = ["/elsewhere"]
        stages.append(gate)
    grouped = [stages.pop() for _ in range(min(len(stages), draw(st.integers(0, 2))))]
    if flow == "sequential":
        stages.insert(draw(st.integers(0, len(stages))), "routes")
    handler = draw(st.sampled_from(HANDLERS))
    group = {"id": "v", "stages": grouped, "routes": [{"id": "r", "at": "GET /", "handler": handler}]}
    return stages, {"flow": flow, "groups": [group], "routes": [], "refuse": draw(st.sampled_from(["answer", "raise"]))}
