"""``limit-key-chosen``: the caller chooses by what the limit counts."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.rule_probes import other_value
from patient_usher.core.model.matcher import When
from patient_usher.core.model.reads import within
from patient_usher.core.questions.check.mends import Mend, mend, option
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, refuses_now


def look(context: Context) -> Iterator[Suspicion]:
    """Limits whose key has a header field or parameter in it that nothing in front has looked at."""
    for item, order in context.ways:
        for id_ in order if item is not None else ():
            limit = context.options[id_].limit() if id_ in context.options else None
            if limit is None or item is None or not limit.per:
                continue
            chosen = [name for name in limit.per if name.partition(".")[0] in ("header", "query")]
            if not chosen or any(name in _vouched(context, order[: order.index(id_)]) for name in chosen):
                continue
            if any(_counts_callers(context, other) for other in order if other != id_):
                continue
            yield Suspicion(
                id_,
                None,
                context.at(id_),
                f"{id_} counts by {' and '.join(chosen)}, which callers choose: with another value they start anew",
                (_mend(id_, [name for name in limit.per if name not in chosen]),),
                refuses_now(id_),
                tuple(other_value(context.words, item, chosen[0], limit.quota)),
            )


def _mend(id_: str, kept: list[str]) -> Mend:
    """Count by what is left of the key, or by address where nothing is."""
    kept = kept if {*kept} - {"route"} else ["address", *kept]
    return mend(f"let {id_} count by {' and '.join(kept)}", option(id_, "per", kept))


def _counts_callers(context: Context, id_: str) -> bool:
    """Whether a stage on the way limits callers by what they can't choose."""
    limit = context.options[id_].limit() if id_ in context.options else None
    return limit is not None and bool({"address", "identity", "identity-or-address"} & {*limit.per})


def _vouched(context: Context, early: list[str]) -> set[str]:
    """What stages in front have looked at: credentials, and what cases go by."""
    found: set[str] = set()
    for id_ in early:
        options = context.options.get(id_)
        if options is None:
            continue
        found |= {f"{asked.place[0]}.{asked.place[1]}" for asked in options.credentials() if asked.place}
        for _, when in within(options, (), When):
            found |= {f"header.{name}" for name in when.header} | {f"query.{name}" for name in when.query}
    return found


RULE = Rule(
    code="limit-key-chosen",
    level="warning",
    says="the caller chooses by what the limit counts",
    matters="Whoever wants more than the quota sends another value: the limit holds only those who don't try.",
    mend="Count by address or identity, or by a value that a stage in front has checked.",
    example="""
patient-usher: pipeline/1
stages: [{id: fair, kind: rate-limit, quota: 3, window: 1m, per: [header.X-Client]}]
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
""",
    look=look,
)
