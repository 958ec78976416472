"""``errors-uncaught``: what a stage raises leaves as a bare 500."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.analysis.findings.mends import (
    Mend,
    add_behind_routes,
    add_first,
    free_id,
    mend,
    option,
    stand,
    to_end,
    to_front,
)
from patient_usher.core.analysis.findings.rule import Rule, Site, Suspicion, shows


def look(site: Site) -> Iterator[Suspicion]:
    """Errors that nobody caught, by whoever raised them."""
    handlers = site.kinds("error-handler")
    for run, x in site.exchanges():
        if x.outcome != "crashed" or (run.probe.sort in ("failing", "slow") and not handlers):
            continue
        error = next((error for error in x.errors if error.caught_by is None), None)
        if error is None or error.type == "MissingValue":  # value-unset tells the cause
            continue
        by = error.raised_by or "handler"
        stage = by if by in site.options else None
        route = x.route.id if stage is None and x.route is not None else None
        yield Suspicion(
            stage,
            route,
            site.at(stage) if stage else site.at_route(route, "handler"),
            f"{error.type}, raised by {by}, leaves as a bare 500: no error handler stands around it",
            tuple(_mends(site, handlers, by)),
            shows(lambda x: x.outcome == "crashed", lambda x: x.outcome != "crashed"),
            (run.probe,),
        )


def _mends(site: Site, handlers: list[str], by: str) -> Iterator[Mend]:
    for id_, option_ in site.options.items():
        if option_.kind == "error-handler" and not option_.enabled:
            yield mend(f"switch {id_} on", option(id_, "enabled", True))
    for id_ in handlers:
        if site.sequential:
            yield mend(f"move {id_} to the end, where errors skip to", to_end(id_))
        else:
            if by in site.options:
                yield mend(f"move {id_} in front of {by}", stand(id_, "before", by))
            yield mend(f"move {id_} in front of all that answers", to_front(id_))
    name = free_id(site.doc, "safety-net")
    entry = {"id": name, "kind": "error-handler"}
    if site.sequential:
        yield mend(f"add an error handler, {name}, at the end", add_behind_routes(entry))
    else:
        yield mend(f"add an error handler, {name}, in front of all that answers", add_first(entry))


RULE = Rule(
    code="errors-uncaught",
    level="error",
    says="what this stage raises leaves as a bare 500: no error handler stands around it",
    matters="The caller gets an empty 500 in place of the status and the words that the error has, and so does "
    "every page and client that goes by them.",
    mend="Let an error handler stand in front of everything that may raise; in a sequential flow, behind it.",
    example="""
patient-usher: pipeline/1
refuse: raise
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
  - {id: safety-net, kind: error-handler}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
)
