"""``error-handler-idle``: no error ever comes past this error handler."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.pipeline import MARKER
from patient_usher.core.questions.check.mends import mend, remove, to_end
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion

_RAISE_NOTHING = ("access-log", "request-id", "header-fields", "read-cookies")


def look(context: Context) -> Iterator[Suspicion]:
    """Sequential: nothing in front of it can raise. Nested: another catches all that it could."""
    for id_ in context.kinds("error-handler"):
        ways = [order for _, order in context.ways if id_ in order]
        if context.sequential:
            listed = [entry if isinstance(entry, str) else entry["id"] for entry in context.spec.stages]
            if id_ not in listed or MARKER in listed[: listed.index(id_)]:
                continue
            if ways and all(_quiet(context, order[: order.index(id_)]) for order in ways):
                happens = f"errors skip forward, and nothing in front of {id_} raises any"
                out = mend(f"take {id_} out", remove(id_))
                last = mend(f"move {id_} to the end", to_end(id_))
                others = len(context.kinds("error-handler")) > 1
                yield Suspicion(id_, None, context.at(id_), happens, (out,) if others else (last, out))
        elif ways and all(_covered(context, order[order.index(id_) + 1 :]) for order in ways):
            happens = f"another error handler right behind {id_} catches everything first"
            yield Suspicion(id_, None, context.at(id_), happens, (mend(f"take {id_} out", remove(id_)),))


def _quiet(context: Context, stages: list[str]) -> bool:
    """Whether none of these stages raises anything."""
    return all(context.kind(id_) in (*_RAISE_NOTHING, "error-handler") for id_ in stages if id_ != "router")


def _covered(context: Context, behind: list[str]) -> bool:
    """Whether another error handler, for all requests, stands in front of all that may raise."""
    for id_ in behind:
        option = context.stage(id_)
        if option is None:
            return False
        if option.kind == "error-handler":
            return option.only is None and option.except_ is None
        if option.kind not in _RAISE_NOTHING:
            return False
    return False


RULE = Rule(
    code="error-handler-idle",
    level="warning",
    says="no error ever comes past this error handler",
    matters="It looks as if errors were taken care of here, and they aren't.",
    mend="Move it to where errors come past: nested, outside of what raises; sequential, to the end.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: outer-net, kind: error-handler}
  - {id: inner-net, kind: error-handler}
routes:
  - {id: berths, at: GET /berths, access: everyone, handler: {answer: {text: seven}}}
""",
    look=look,
    notices="Callers notice nothing of this handler: no error is ever told in its words.",
)
