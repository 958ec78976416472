"""``closed-too-late``: maintenance stands behind a stage that refuses first."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.questions.check.mends import mend, stand
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows, status


def look(context: Context) -> Iterator[Suspicion]:
    """Refusals by a stage in front, while the service is closed."""
    for id_, option in context.options.items():
        if option.kind != "maintenance":
            continue
        sorts = ("call",) if option.enabled else ("switched",)
        orders = map(context.compiled.order, [*context.compiled.placed, None])
        order = next((order for order in orders if id_ in order), [])
        early = [one for one in order[: order.index(id_)] if one in context.options] if order else []
        first: dict[str, Suspicion] = {}
        for run, x in context.exchanges(*sorts):
            by = x.refused_by
            if by is None or by not in early:
                continue
            first.setdefault(
                by,
                Suspicion(
                    id_,
                    None,
                    context.at(id_),
                    f"while {id_} is on, {by} still answers first, with {status(x)} where the service is closed",
                    (mend(f"move {id_} in front of {by}", stand(id_, "before", by)),),
                    shows(
                        lambda x, by=by: x.refused_by == by,  # type: ignore[misc]
                        lambda x, by=id_: x.refused_by == by,  # type: ignore[misc]
                    ),
                    (run.scenario,),
                ),
            )
        yield from (first[by] for by in early if by in first)


RULE = Rule(
    code="closed-too-late",
    level="advice",
    says="maintenance stands behind a stage that refuses first",
    matters="Callers are told that their credential is wrong or their quota used up, and not to come back later.",
    mend="Let maintenance stand in front of everything that refuses.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
  - {id: closed, kind: maintenance, enabled: false}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
)
