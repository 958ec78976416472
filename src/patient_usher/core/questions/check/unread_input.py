"""Looking for what uses a body or cookies that nothing in front has read."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from patient_usher.core.decisions.runner import ScenarioRun
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import Mend, add, add_last, free_id, mend, stand
from patient_usher.core.questions.check.rule import Context, Suspicion, differs


def looker(what: str, kind: str, words: str) -> Callable[[Context], Iterator[Suspicion]]:
    """What looks for stages and handlers that see none of ``what``, since no stage of ``kind`` has read it."""

    def look(context: Context) -> Iterator[Suspicion]:
        for _, x in context.exchanges():
            for id_, told in _missing(x).items():
                if words in told:
                    yield _suspicion(context, x, id_, what, kind)

    return look


def _missing(x: Exchange) -> dict[str, str]:
    sight = x.plan.sight if x.plan is not None else None
    return sight.missing(x) if sight is not None else {}


def _suspicion(context: Context, x: Exchange, id_: str, what: str, kind: str) -> Suspicion:
    route = x.route.id if x.route is not None and id_ == "handler" else None
    reader = id_ if id_ in context.options else None

    def proof(as_is: ScenarioRun, mended: ScenarioRun) -> bool:
        return differs(as_is, mended) and any(id_ in _missing(other) for other in as_is.exchanges)

    return Suspicion(
        reader,
        route,
        context.at(reader) if reader else context.at_route(route, "handler"),
        f"{reader or f'the handler of {route}'} uses the {what}, and no {kind} stage in front of it has read "
        f"{'it' if what == 'body' else 'them'}",
        tuple(_mends(context, id_, kind)),
        proof,
    )


def _mends(context: Context, reader: str, kind: str) -> Iterator[Mend]:
    if reader in context.options:
        for id_ in context.kinds(kind):
            yield mend(f"move {id_} in front of {reader}", stand(id_, "before", reader))
    entry = {"id": free_id(context.doc, kind), "kind": kind}
    where = add(entry, "before", reader) if reader in context.options else add_last(entry)
    yield mend(f"add a {kind} stage in front of it", where)
