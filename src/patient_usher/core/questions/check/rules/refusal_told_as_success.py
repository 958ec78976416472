"""``refusal-told-as-success``: an error handler answers a refusal, or an error, with a success."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import Mend, drop, mend
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows, status


def look(context: Context) -> Iterator[Suspicion]:
    """Errors that were caught and answered with a status of the 200s."""
    for run, x in context.exchanges():
        by = x.answered_by
        if by is None or context.kind(by) != "error-handler" or not _praised(x):
            continue
        error = x.errors[-1]
        yield Suspicion(
            by,
            None,
            context.at(by),
            f"{by} answers {error.type}, raised by {error.raised_by or 'the handler'}, with {status(x)}",
            tuple(_mends(context, by)),
            shows(_praised, lambda x, by=by: status(x) >= 400 and x.answered_by == by),  # type: ignore[misc]
            (run.scenario,),
        )


def _praised(x: Exchange) -> bool:
    return bool(x.errors) and 200 <= status(x) < 300


def _mends(context: Context, id_: str) -> Iterator[Mend]:
    for at, entry in enumerate(getattr(context.options[id_], "answers", ())):
        if entry.status is not None and entry.status < 300:
            words = f"let {id_} answer {' and '.join(entry.raised)} with the status of its own"
            yield mend(words, drop(context.at(id_, "answers", at, "status")))


RULE = Rule(
    code="refusal-told-as-success",
    level="error",
    says="an error handler answers a refusal with a success",
    matters="Clients take the refusal for what they asked for; caches store it, and no alarm goes off.",
    mend="Leave the status to the error's type, or give one of the 400s or 500s.",
    example="""
patient-usher: pipeline/1
refuse: raise
stages:
  - {id: net, kind: error-handler, answers: [{raised: Unauthenticated, status: 200, message: please sign in}]}
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
)
