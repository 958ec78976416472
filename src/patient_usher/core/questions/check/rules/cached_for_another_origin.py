"""``cached-for-another-origin``: a cache outside cors gives one origin's marks to another."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import Mend, append, leave_alone, mend, stand
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows, state


def look(context: Context) -> Iterator[Suspicion]:
    """Hits whose marks are for another origin than the page's."""
    for run, x in context.exchanges("origins"):
        if not _foreign(x):
            continue
        cache = x.caches[-1].stage
        route = x.route.id if x.route is not None else None
        happens = f"{cache} gives a copy with the marks that were made for another origin, or with none"
        yield Suspicion(
            cache,
            None,
            context.at(cache),
            happens,
            tuple(_mends(context, cache, route)),
            shows(_foreign, lambda x: not _foreign(x) and x.answer is not None),
            (run.scenario,),
        )


def _foreign(x: Exchange) -> bool:
    own = x.sent.fields.get("origin")
    if own is None or state(x) != "hit" or x.answer is None:
        return False
    return x.answer.fields.get("access-control-allow-origin") not in (own, "*")


def _mends(context: Context, cache: str, route: str | None) -> Iterator[Mend]:
    for id_ in context.kinds("header-fields"):
        if "vary" in context.options[id_].drops_on_answer():
            yield mend(f"let {id_} leave Vary alone", leave_alone(id_, ["Vary", "vary"]))
    for guard in context.kinds("cors", "header-fields"):
        yield mend(f"move {cache} behind {guard}", stand(cache, "behind", guard))
    if route is not None:
        at = context.at_route(route, "cache")
        rule = context.by_id[route].spec.cache
        if rule is not None and isinstance(_cache_of(context, route), dict):
            yield mend(f"let Origin make a copy of its own on {route}", append((*at, "per"), "header.Origin"))


def _cache_of(context: Context, route: str) -> object:
    node = context.doc
    for part in context.at_route(route, "cache"):
        node = node[part]
    return node


RULE = Rule(
    code="cached-for-another-origin",
    level="error",
    says="a cache outside cors gives one origin's marks to another",
    matters="The page of the other origin is blocked, or a page may read what it may not; and it comes and goes "
    "with the cache.",
    mend="Let the cache stand behind what marks the answers, or keep Vary: Origin on them.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: shelf, kind: cache}
  - {id: plain, kind: header-fields, on-answer: {drop: [Vary]}}
  - {id: browsers, kind: cors, allow-origins: ["https://boaters.example", "https://anglers.example"]}
routes:
  - {id: tides, at: GET /tides, access: everyone, cache: 60s, handler: {answer: {text: high at six}}}
""",
    look=look,
)
