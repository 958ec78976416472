"""``failures-unseen``: a limit that counts failures stands where they don't pass."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.request_factory import LONGEST_BURST
from patient_usher.core.decisions.request_generators import bursts
from patient_usher.core.questions.check.mends import mend, option, stand
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, entered, refuses_now, shows, status


def look(context: Context) -> Iterator[Suspicion]:
    """Limits for failures behind the stage that refuses; and those that count statuses which nothing answers."""
    yield from _behind(context)
    yield from _unanswered(context)


def _unanswered(context: Context) -> Iterator[Suspicion]:
    """A wrong credential that is refused with a status which the limit doesn't count, nor any that is answered."""
    for id_ in context.kinds("rate-limit"):
        limit, counted = context.options[id_].limit(), getattr(context.options[id_], "failures", ())
        if limit is None or limit.counts != "failures" or limit.quota > LONGEST_BURST:
            continue
        met = [x for _, x in context.exchanges("call", "body", "desk") if entered(x, id_)]
        answered = {status(x) for x in met}
        wrong = next((x for x in met if x.why == "wrong" and status(x) not in counted), None)
        item = context.item(wrong) if wrong is not None else None
        if wrong is None or item is None or (answered & {*counted} and not {401, 403} & {*counted}):
            continue  # it counts others on purpose
        order = context.order(item)
        behind = [one for one in order[order.index(id_) :] if context.kind(one) == "error-handler"]
        yield Suspicion(
            id_,
            None,
            context.at(id_),
            f"{id_} counts {' and '.join(map(str, counted))}, and wrong credentials are refused with {status(wrong)}",
            (
                *(mend(f"move {net} in front of {id_}", stand(net, "before", id_)) for net in behind),
                mend(f"let {id_} count {status(wrong)} too", option(id_, "failures", [*counted, status(wrong)])),
            ),
            refuses_now(id_),
            tuple(bursts(context.words, item, limit.quota + 1)),
        )


def _behind(context: Context) -> Iterator[Suspicion]:
    """Limits for failures behind the stage that refuses."""
    for item, order in context.ways:
        if item is None or item.desk is not None:  # at a desk the failures that count are the handler's own
            continue
        for id_ in (one for one in order if getattr(context.stage(one), "counts", "") == "failures"):
            limit = context.options[id_].limit()
            for early in order[: order.index(id_)]:
                if (
                    context.kind(early) not in ("authenticate", "authorize")
                    or limit is None
                    or limit.quota > LONGEST_BURST
                ):
                    continue
                yield Suspicion(
                    id_,
                    None,
                    context.at(id_),
                    f"{id_} counts failures, and stands behind {early}: what that refuses never comes to it",
                    (mend(f"move {id_} in front of {early}", stand(id_, "before", early)),),
                    shows(
                        lambda x, by=early: x.refused_by == by,  # type: ignore[misc]
                        lambda x, by=id_: x.refused_by == by,  # type: ignore[misc]
                    ),
                    tuple(bursts(context.words, item, limit.quota + 1)),
                )


RULE = Rule(
    code="failures-unseen",
    level="error",
    says="a limit that counts failures stands where they don't pass, or counts others than come",
    matters="Whoever guesses passwords may go on for ever: the limit that should stop it sees none of the guesses.",
    mend="Let it stand in front of the stage whose refusals it counts.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
  - {id: guard, kind: rate-limit, quota: 3, window: 10m, counts: failures}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
)
