"""``errors-without-cors``: error answers leave without the fields of the CORS protocol."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import Mend, mend, option, stand, to_front
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, is_preflight, shows, status


def look(context: Context) -> Iterator[Suspicion]:
    """Error answers to a page's call that the page can't read."""
    guards = context.kinds("cors")
    for run, x in context.exchanges("page", "page-body", "failing"):
        order = context.order_of(x)
        there = [id_ for id_ in guards if id_ in order]
        if not there or not _unmarked(x, context.words.origins):
            continue
        culprits = [id_ for id_ in order if id_ in (x.answered_by, x.refused_by) and id_ in context.options]
        first = culprits[0] if culprits else None
        told = f"the {status(x)} of {x.answered_by or 'a stage'} leaves without the fields of {there[0]}"
        yield Suspicion(
            there[0],
            None,
            context.at(there[0]),
            f"{told}, so no page can read it",
            tuple(_mends(context, there[0], first)),
            shows(lambda x: _unmarked(x, context.words.origins), lambda x: status(x) >= 400 and _marked(x)),
            (run.scenario,),
        )


def _unmarked(x: Exchange, listed: list[str]) -> bool:
    own = x.sent.fields.get("origin") in listed
    return own and status(x) >= 400 and x.outcome != "crashed" and not is_preflight(x) and not _marked(x)


def _marked(x: Exchange) -> bool:
    return x.answer is not None and "access-control-allow-origin" in x.answer.fields


def _mends(context: Context, guard: str, first: str | None) -> Iterator[Mend]:
    for id_ in context.kinds("error-handler"):
        if context.sequential and not getattr(context.options[id_], "keeps_headers", True):
            yield mend(f"let {id_} keep the draft's fields", option(id_, "keeps-headers", True))
    if first is not None:
        yield mend(f"move {guard} in front of {first}", stand(guard, "before", first))
    yield mend(f"move {guard} in front of all that answers", to_front(guard))


RULE = Rule(
    code="errors-without-cors",
    level="error",
    says="error answers leave without the fields of the CORS protocol",
    matters="A page can't read such an answer: its code sees a network error, and not the 401 or 500 that came.",
    mend="Let cors stand outside whatever answers errors: error handlers, and stages that refuse.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: safety-net, kind: error-handler}
  - {id: browsers, kind: cors, allow-origins: ["https://boaters.example"]}
routes:
  - {id: berths, at: GET /berths, access: everyone, handler: {answer: {text: seven}}}
""",
    look=look,
)
