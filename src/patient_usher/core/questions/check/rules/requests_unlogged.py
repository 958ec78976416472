"""``requests-unlogged``: the access log stands behind something that answers."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import mend, to_front
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, entered, shows


def look(context: Context) -> Iterator[Suspicion]:
    """Requests that were answered in front of every access log on their way."""
    logs = context.kinds("access-log")
    if not logs:
        return
    for run, x in context.exchanges():
        order = context.order_of(x)
        there = [id_ for id_ in logs if id_ in order]
        if not there or _logged(x, logs) or x.answered_by not in order[: order.index(there[0])]:
            continue
        yield Suspicion(
            there[0],
            None,
            context.at(there[0]),
            f"what {x.answered_by} answers never comes to {there[0]}, and no log has it",
            (mend(f"move {there[0]} to the front", to_front(there[0])),),
            shows(lambda x: not _logged(x, logs), lambda x: _logged(x, logs)),
            (run.scenario,),
        )


def _logged(x: Exchange, logs: list[str]) -> bool:
    return any(entered(x, id_) for id_ in logs)


RULE = Rule(
    code="requests-unlogged",
    level="warning",
    says="the access log stands behind something that answers",
    matters="Refusals are what one looks for in the log, and they are the ones that aren't there.",
    mend="Let the access log stand in front of everything.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
  - access-log
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
)
