"""``value-unset``: a context value is read where nothing has set it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from patient_usher.core.engine.plan.data_availability import handler_reads
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import Mend, add, add_last, append, free_id, mend, put, stand
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, differs


def look(context: Context) -> Iterator[Suspicion]:
    """By the order on each way; then by what ran, where a value is set for some requests only."""
    seen: set[tuple[str, str]] = set()
    for item, reader, name in _unset(context):
        seen.add((reader, name))
        yield _suspicion(context, item, reader, name)
    for run, x in context.exchanges():
        for error in x.errors:
            reader, value = error.raised_by, _name(error.message)
            if error.type != "MissingValue" or value is None or (reader, value) in seen:
                continue
            seen.add((reader, value))
            sets = [id_ for id_, option in context.options.items() if value in option.leaves() and option.enabled]
            yield _suspicion(context, context.item(x), reader, value)._replace(
                happens=f"{reader} reads {value}, which {' and '.join(sets) or 'nothing'} has not set for this request",
                mends=tuple(_defaults(context, x, sets, value.partition(".")[2])),
                scenarios=(run.scenario,),
            )


def _name(message: str) -> str | None:
    """The context value that a message is about."""
    found = re.search(r"context\.[\w-]+", message)
    return found[0] if found is not None else None


def _defaults(context: Context, x: Exchange, sets: Sequence[str], value: str) -> Iterator[Mend]:
    """The value in the case that was taken, or in a last case; what it should be, nobody but the author knows."""
    for id_ in sets:
        if context.kind(id_) == "decide":
            taken = [int(name[5:]) for _, stage, name in x.branches if stage == id_ and re.fullmatch(r"case \d+", name)]
            if taken:
                words, edit = (
                    f"case {taken[0]} of {id_}",
                    put(context.at(id_, "cases", taken[0] - 1, "set", value), "none"),
                )
            else:
                words, edit = f"a last case of {id_}", append(context.at(id_, "cases"), {"set": {value: "none"}})
            yield mend(f"set {value} in {words}, too", edit, left=f"which {value} such a request has")


def _unset(context: Context) -> Iterator[tuple[PlacedRoute | None, str, str]]:
    """By what stages and handlers say that they read and leave: who reads a value that nothing in front can set."""
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
                    yield item, id_, name
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
            moves = [
                mend(f"move {id_} in front of {reader}", stand(id_, "before", reader)),
                mend(f"move {reader} behind {id_}", stand(reader, "behind", id_)),
            ]
            order = next((order for _, order in context.ways if reader in order and id_ in order), [reader, id_])
            between = order[order.index(reader) : order.index(id_)]  # whoever sets it may need what stands here
            needed = any(context.kind(one) in ("error-handler", "authenticate", "read-body") for one in between)
            yield from reversed(moves) if needed else moves
    kind = "request-id" if value == "request-id" else "decide"
    entry: dict[str, object] = {"id": free_id(context.doc, f"sets-{value}"), "kind": kind}
    if kind == "decide":
        entry["cases"] = [{"set": {value: "made-up"}}]
    where = add(entry, "before", reader) if reader in context.options else add_last(entry)
    left = None if kind == "request-id" else f"what {value} should be; set it in a stage in front of what reads it"
    yield mend(f"set {value} in a stage in front of it", where, left=left)


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
