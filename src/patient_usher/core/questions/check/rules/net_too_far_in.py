"""``net-too-far-in``: a stage that may fail stands where the error handler doesn't catch it."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.questions.check.mends import mend, stand
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion

_MAY_FAIL = ("authenticate", "decide", "python")
"""Kinds that look something up or hold the developer's own logic; of others only those whose state is shared."""


def look(context: Context) -> Iterator[Suspicion]:
    """By the order: every stage is supposed to be able to fail, whether the model says how or not."""
    if context.sequential:  # there an error that skips past the handler is found by what runs
        return
    seen = set[str]()
    for item, order in context.ways:
        net = next((id_ for id_ in order if context.kind(id_) == "error-handler"), None)
        exposed = [id_ for id_ in order[: order.index(net)] if _may_fail(context, id_)] if net is not None else []
        if item is None or net is None or not exposed or net in seen:
            continue
        seen.add(net)
        stands = "stand" if len(exposed) > 1 else "stands"
        happens = f"{' and '.join(exposed)} {stands} in front of {net}: what fails there leaves as a bare 500"
        move = mend(f"move {net} in front of {exposed[0]}", stand(net, "before", exposed[0]))
        yield Suspicion(net, None, context.at(net), happens, (move,))


def _may_fail(context: Context, id_: str) -> bool:
    return context.kind(id_) in _MAY_FAIL or id_ in context.spec.deployment.shared_state


RULE = Rule(
    code="net-too-far-in",
    level="advice",
    says="a stage that may fail stands where the error handler doesn't catch it",
    matters="Whatever looks something up fails one day, and then its error has neither words nor a log record.",
    mend="Let the error handler stand outside every stage that may fail.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
  - {id: net, kind: error-handler}
routes:
  - {id: tides, at: GET /tides, access: signed-in, handler: {answer: {text: high at six}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
    notices="Nothing, until that stage fails.",
)
