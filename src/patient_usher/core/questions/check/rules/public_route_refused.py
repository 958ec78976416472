"""``public-route-refused``: a route is open to everyone, and a stage refuses whoever it is meant for."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.schema_samples import as_pattern
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import append, mend, option
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows


def look(context: Context) -> Iterator[Suspicion]:
    """Calls without a credential that were refused for that; and calls of a desk with one that is over."""
    for run, x in context.exchanges("call"):
        by, item = x.refused_by, context.item(x)
        if by is None or by not in context.options or item is None:
            continue
        if item.desk in _ANEW and _too_late(x):
            yield Suspicion(
                by,
                item.route.id,
                context.at(by),
                f"{item.route.id} is where callers get a credential, and {by} refuses whoever brings one that is over",
                (mend(f"let {by} take it for none there", option(by, "wrong-credential", "by-access")),),
                shows(_too_late, lambda x: x.handler_reached),
                (run.scenario,),
            )
        if not _turned_away(x) or context.kind(by) not in _ASKS:
            continue
        pattern = f"{item.route.method} {as_pattern(item.route.template)}"
        mends = [mend(f"let {by} pass {pattern} over", append(context.at(by, "except"), pattern))]
        if context.kind(by) == "authenticate" and getattr(context.options[by], "without_credential", "") == "refuse":
            words = f"let {by} go by the route's access"
            mends.insert(0, mend(words, option(by, "without-credential", "by-access")))
        yield Suspicion(
            by,
            item.route.id,
            context.at(by),
            f"{item.route.id} is open to everyone, and {by} refuses whoever brings no credential",
            tuple(mends),
            shows(_turned_away, lambda x: x.handler_reached),
            (run.scenario,),
        )


_ASKS = ("authenticate", "authorize")
"""What refuses for want of a credential. What the developer's own logic refuses, it may well mean to."""
_ANEW = ("sign-in", "sign-up", "refresh")


def _too_late(x: Exchange) -> bool:
    return _kept_out(x) and x.why == "expired"


def _turned_away(x: Exchange) -> bool:
    return x.identity is None and x.why == "absent" and _kept_out(x)


def _kept_out(x: Exchange) -> bool:
    """Whether a request didn't come through to a route that is open to everyone."""
    access = x.route.access if x.route is not None else None
    return access is not None and access.who == "everyone" and not x.handler_reached


RULE = Rule(
    code="public-route-refused",
    level="error",
    says="a route is open to everyone, and a stage refuses the anonymous caller, or at a desk an old credential",
    matters="Whoever isn't signed in, or no longer, can't use what is meant for them: signing in itself, most often.",
    mend="Let authenticate go by access (without-credential, wrong-credential), or pass the route over with except.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}], without-credential: refuse}
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
)
