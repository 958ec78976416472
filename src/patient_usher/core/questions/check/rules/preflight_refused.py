"""``preflight-refused``: a stage in front of cors refuses preflights."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.questions.check.mends import mend, stand, to_front
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, is_preflight, shows, status


def look(context: Context) -> Iterator[Suspicion]:
    """Preflights that a stage refused."""
    guards = context.kinds("cors")
    for run, x in context.exchanges("page", "preflight"):
        by = x.refused_by
        if by is None or not guards or not is_preflight(x) or by not in context.options or context.kind(by) == "cors":
            continue
        willing = [id_ for id_ in guards if any(id_ in order for _, order in context.ways)]
        happens = f"{by} refuses preflights, which never carry what it asks for, before {willing[0]} can answer them"
        mends = [mend(f"move {id_} in front of all that answers", to_front(id_)) for id_ in willing]
        mends += [mend(f"move {id_} in front of {by}", stand(id_, "before", by)) for id_ in willing]
        yield Suspicion(
            by,
            None,
            context.at(by),
            happens,
            tuple(mends),
            shows(
                lambda x, by=by: is_preflight(x) and x.refused_by == by,  # type: ignore[misc]
                lambda x: x.answered_by in guards and status(x) < 300,
            ),
            (run.scenario,),
        )


RULE = Rule(
    code="preflight-refused",
    level="error",
    says="a stage in front of cors refuses preflights",
    matters="A browser asks before it calls, without credentials. Where that is refused, pages can't call at all.",
    mend="Let cors stand in front of everything that refuses.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
  - {id: browsers, kind: cors, allow-origins: ["https://boaters.example"], allow-headers: [x-api-key]}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
)
