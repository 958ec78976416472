"""``value-unset``: a context value is read where nothing has set it."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.analysis.findings.mends import Mend, add, add_last, free_id, mend, stand
from patient_usher.core.analysis.findings.rule import Context, Rule, Suspicion, differs
from patient_usher.core.engine.plan.data_availability import handler_reads
from patient_usher.core.engine.plan.route_table import PlacedRoute


def look(context: Context) -> Iterator[Suspicion]:
    """By what stages and handlers say that they read and leave, in the order on each way."""
    for item, order in context.ways:
        there: set[str] = set()
        for id_ in order:
            option = context.stage(id_)
            needs = option.needs(item.spec if item is not None else None) if option is not None else ()
            if id_ == "handler" and item is not None:
                needs = handler_reads(item)
            own = set(option.leaves()) if option is not None else set()
            for name in sorted({*needs} - there - own):
                if name.startswith("context."):
                    yield _suspicion(context, item, id_, name)
            there |= own


def _suspicion(context: Context, item: PlacedRoute | None, id_: str, name: str) -> Suspicion:
    route = item.route.id if item is not None and id_ == "handler" else None
    reader = id_ if id_ in context.options else None
    return Suspicion(
        reader,
        route,
        context.at(reader) if reader else context.at_route(route, "handler"),
        f"{reader or route} reads {name}, and nothing in front of it has set that",
        tuple(_mends(context, id_, name.partition(".")[2])),
        differs,
    )


def _mends(context: Context, reader: str, value: str) -> Iterator[Mend]:
    for id_, option in context.options.items():
        if value in option.sets() and option.enabled and reader in context.options:
            yield mend(f"move {id_} in front of {reader}", stand(id_, "before", reader))
    kind = "request-id" if value == "request-id" else "decide"
    entry: dict[str, object] = {"id": free_id(context.doc, f"sets-{value}"), "kind": kind}
    if kind == "decide":
        entry["cases"] = [{"set": {value: "made-up"}}]
    where = add(entry, "before", reader) if reader in context.options else add_last(entry)
    yield mend(f"set {value} in a stage in front of it", where)


RULE = Rule(
    code="value-unset",
    level="error",
    says="a context value is read where nothing has set it",
    matters="Filling it in fails, so the exchange crashes; a condition on it never fits.",
    mend="Let the stage that sets it stand in front of what reads it.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: mark, kind: header-fields, on-answer: {put: {X-Desk: "${context.desk}"}}}
routes:
  - {id: berths, at: GET /berths, access: everyone, handler: {answer: {text: seven}}}
""",
    look=look,
)
