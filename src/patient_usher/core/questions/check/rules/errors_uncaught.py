"""``errors-uncaught``: what a stage raises leaves as a bare 500."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.questions.check.mends import (
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
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows


def look(context: Context) -> Iterator[Suspicion]:
    """Errors that nobody caught, by whoever raised them."""
    handlers = context.kinds("error-handler")
    closes = context.spec.uncaught.answer == "nothing"
    reveals = context.spec.uncaught.reveal != "nothing"
    leaves = "leaves as a 500 that tells callers what only the log should know" if reveals else "leaves as a bare 500"
    leaves = "ends in a closed connection" if closes else leaves
    for run, x in context.exchanges():
        if x.outcome != "crashed" or (run.scenario.sort in ("failing", "slow") and not handlers):
            continue
        error = next((error for error in x.errors if error.caught_by is None), None)
        if error is None or error.type == "MissingValue":  # value-unset tells the cause
            continue
        by = error.raised_by or "handler"
        stage = by if by in context.options else None
        route = x.route.id if stage is None and x.route is not None else None
        yield Suspicion(
            stage,
            route,
            context.at(stage) if stage else context.at_route(route, "handler"),
            f"{error.type}, raised by {by}, {leaves}: no error handler stands around it",
            tuple(_mends(context, handlers, by)),
            shows(lambda x: x.outcome == "crashed", lambda x: x.outcome != "crashed"),
            (run.scenario,),
        )


def _mends(context: Context, handlers: list[str], by: str) -> Iterator[Mend]:
    for id_, option_ in context.options.items():
        if option_.kind == "error-handler" and not option_.enabled:
            yield mend(f"switch {id_} on", option(id_, "enabled", True))
    for id_ in handlers:
        if context.sequential:
            yield mend(f"move {id_} to the end, where errors skip to", to_end(id_))
        else:
            if by in context.options:
                yield mend(f"move {id_} in front of {by}", stand(id_, "before", by))
            yield mend(f"move {id_} in front of all that answers", to_front(id_))
    name = free_id(context.doc, "safety-net")
    entry = {"id": name, "kind": "error-handler"}
    if context.sequential:
        yield mend(f"add an error handler, {name}, at the end", add_behind_routes(entry))
    else:
        yield mend(f"add an error handler, {name}, in front of all that answers", add_first(entry))


RULE = Rule(
    code="errors-uncaught",
    level="error",
    says="what this stage raises leaves as a bare 500: no error handler stands around it",
    matters="The caller gets the server's own 500 in place of the status and the words that the error has, and so "
    "does every page and client that goes by them.",
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
