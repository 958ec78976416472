"""``copies-not-cleared``: a write clears the copy of one instance, the others go on giving theirs."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.rule_probes import read_write_read
from patient_usher.core.decisions.runner import ScenarioRun
from patient_usher.core.questions.check.mends import append, mend
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, state


def look(context: Context) -> Iterator[Suspicion]:
    """Caches that aren't shared, where a route clears another's copies."""
    deployment = context.spec.deployment
    if deployment.instances == 1 or deployment.spread == "by-address":
        return
    for item in context.compiled.placed:
        for cleared in item.spec.clears or ():
            read = context.by_id.get(cleared)
            if read is None or read.route.method != "GET":
                continue
            for id_ in context.order(read):
                if context.kind(id_) != "cache" or id_ in deployment.shared_state or id_ not in context.order(item):
                    continue
                yield Suspicion(
                    id_,
                    None,
                    context.at(id_),
                    f"{item.route.id} clears the copies of {cleared} in one of {deployment.instances} instances; "
                    f"the other{'s' if deployment.instances > 2 else ''} go{'' if deployment.instances > 2 else 'es'} "
                    f"on giving theirs",
                    (mend(f"let the instances share what {id_} stores", append(["deployment", "shared-state"], id_)),),
                    _proof,
                    tuple(read_write_read(context.words, read, item, deployment.instances)),
                )


def _proof(as_is: ScenarioRun, mended: ScenarioRun) -> bool:
    """The first read behind the write: from a copy, and then not."""
    return _behind(as_is) == "hit" and _behind(mended) not in ("hit", "")


def _behind(run: ScenarioRun) -> str:
    written = [at for at, x in enumerate(run.exchanges) if x.sent.method not in ("GET", "OPTIONS")]
    last = run.exchanges[written[-1]] if written else None
    behind = run.exchanges[written[-1] + 1 :] if written else []
    done = last is not None and last.answer is not None and last.answer.status < 400
    return state(behind[0]) if done and behind else ""


RULE = Rule(
    code="copies-not-cleared",
    level="warning",
    says="a write clears the copy of one instance, the others go on giving theirs",
    matters="Whoever has changed something sees the old answer again, now and then: it depends on the instance.",
    mend="Name the cache under deployment.shared-state, or let copies live shortly.",
    example="""
patient-usher: pipeline/1
stages: [{id: shelf, kind: cache}]
routes:
  - {id: berths, at: GET /berths, access: everyone, cache: 60s, handler: {answer: {text: seven}}}
  - {id: free, at: DELETE /berths, access: everyone, clears: [berths], handler: {answer: {status: 204}}}
deployment: {instances: 2}
""",
    look=look,
)
