"""``copy-key-too-narrow``: a stored answer depends on a field or parameter that isn't part of its key."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.runner import ScenarioRun
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import Mend, copies_per, leave_alone, mend
from patient_usher.core.questions.check.rule import Context, Proof, Rule, Suspicion, observable_state, state


def look(context: Context) -> Iterator[Suspicion]:
    """Hits of requests that differ in something that the handler reads."""
    for run in context.runs("varied"):
        if len(run.sends) < 2 or state(run.last) != "hit":
            continue
        x, name = run.last, run.scenario.sort.partition(":")[2]
        route = x.route.id if x.route is not None else None
        if not name or route is None or context.by_id[route].spec.cache is None:
            continue
        sort, _, rest = name.partition(".")
        what = f"the {_SORTS.get(sort, 'field')} {rest}"
        yield Suspicion(
            x.caches[-1].stage,
            route,
            context.at_route(route, "cache"),
            f"it goes by {what}, which isn't part of the key: whoever asks with another gets the first's copy",
            tuple(_mends(context, x, name, route)),
            _proof_at(x.caches[-1].stage),
            (run.scenario,),
        )


_SORTS = {"query": "parameter", "cookie": "cookie"}


def _mends(context: Context, x: Exchange, name: str, route: str) -> Iterator[Mend]:
    """Let nobody take Vary off, where that is why; or let what the answer goes by be part of the key."""
    for id_ in context.order_of(x):
        drops = context.options[id_].drops_on_answer() if id_ in context.options else ()
        if name.startswith("header.") and "vary" in drops and context.kind(id_) == "header-fields":
            yield mend(f"let {id_} leave Vary alone", leave_alone(id_, ["Vary", "vary"]))
    key = "header.Cookie" if name.startswith("cookie.") else name  # of fields a cache compares the whole (RFC 9111 4.1)
    yield mend(f"let {key} make a copy of its own on {route}", copies_per(route, key))


def _proof_at(cache: str) -> Proof:
    def proof(as_is: ScenarioRun, mended: ScenarioRun) -> bool:
        was, is_ = ([use.state for use in run.last.caches if use.stage == cache] for run in (as_is, mended))
        return was == ["hit"] and is_ != ["hit"] and _content(as_is.last) != _content(mended.last)

    return proof


def _content(x: Exchange) -> object:
    coding = x.answer.fields.get("content-encoding") if x.answer is not None else None
    return observable_state(x)[6], coding


RULE = Rule(
    code="copy-key-too-narrow",
    level="error",
    says="a stored answer depends on a field or parameter that isn't part of its key",
    matters="Callers get the answer to another question, as long as the copy lives.",
    mend="List under per what the answer goes by.",
    example="""
patient-usher: pipeline/1
stages: [{id: shelf, kind: cache}]
routes:
  - id: tides
    at: GET /tides
    access: everyone
    cache: {shared: 60s, per: [query.day]}
    handler: {answer: {json: {day: "${query.day}", station: "${query.station}"}}}
""",
    look=look,
)
