"""``value-unset``: a context value is read where nothing has set it."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.analysis.findings.mends import Mend, add, add_last, free_id, mend, stand
from patient_usher.core.analysis.findings.rule import Rule, Site, Suspicion, differs
from patient_usher.core.engine.compile.route_table import PlacedRoute
from patient_usher.core.engine.flow.data_availability import handler_reads


def look(site: Site) -> Iterator[Suspicion]:
    """By what stages and handlers say that they read and leave, in the order on each way."""
    for item, order in site.ways:
        there: set[str] = set()
        for id_ in order:
            option = site.stage(id_)
            needs = option.needs(item.spec if item is not None else None) if option is not None else ()
            if id_ == "handler" and item is not None:
                needs = handler_reads(item)
            own = set(option.leaves()) if option is not None else set()
            for name in sorted({*needs} - there - own):
                if name.startswith("context."):
                    yield _suspicion(site, item, id_, name)
            there |= own


def _suspicion(site: Site, item: PlacedRoute | None, id_: str, name: str) -> Suspicion:
    route = item.route.id if item is not None and id_ == "handler" else None
    reader = id_ if id_ in site.options else None
    return Suspicion(
        reader,
        route,
        site.at(reader) if reader else site.at_route(route, "handler"),
        f"{reader or route} reads {name}, and nothing in front of it has set that",
        tuple(_mends(site, id_, name.partition(".")[2])),
        differs,
    )


def _mends(site: Site, reader: str, value: str) -> Iterator[Mend]:
    for id_, option in site.options.items():
        if value in option.sets() and option.enabled and reader in site.options:
            yield mend(f"move {id_} in front of {reader}", stand(id_, "before", reader))
    kind = "request-id" if value == "request-id" else "decide"
    entry: dict[str, object] = {"id": free_id(site.doc, f"sets-{value}"), "kind": kind}
    if kind == "decide":
        entry["cases"] = [{"set": {value: "made-up"}}]
    where = add(entry, "before", reader) if reader in site.options else add_last(entry)
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
