"""``preflight-unrouted``: cors stands where OPTIONS never comes."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.questions.check.mends import mend, to_front
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, is_preflight, shows, status


def look(context: Context) -> Iterator[Suspicion]:
    """Preflights that the router refused, where a route of the path has a cors stage."""
    guards = context.kinds("cors")
    for run, x in context.exchanges("page", "preflight"):
        if not guards or not is_preflight(x) or x.refused_by != "router":
            continue
        inside = [id_ for id_ in guards if id_ not in context.order(None)]
        if not inside:
            continue
        id_ = inside[0]
        happens = f"no route is made for OPTIONS, so the router refuses preflights before they come to {id_}"
        yield Suspicion(
            id_,
            None,
            context.at(id_),
            happens,
            tuple(mend(f"move {one} in front of all that answers", to_front(one)) for one in inside),
            shows(
                lambda x: is_preflight(x) and x.refused_by == "router",
                lambda x: x.answered_by in guards and status(x) < 300,
            ),
            (run.scenario,),
        )


RULE = Rule(
    code="preflight-unrouted",
    level="error",
    says="cors stands where OPTIONS never comes",
    matters="Stages of a group or route meet requests that a route fits. A preflight fits none, so it is refused.",
    mend="Let cors stand among the server-wide stages, in front of everything that refuses.",
    example="""
patient-usher: pipeline/1
groups:
  - id: v1
    prefix: /v1
    stages:
      - {id: pages, kind: cors, allow-origins: ["https://a.example"], allow-methods: [PUT], allow-headers: ["*"]}
    routes:
      - {id: berths, at: PUT /berths, access: everyone, handler: {answer: {text: seven}}}
""",
    look=look,
)
