"""``limit-too-late``: the limit stands behind costly work that it should protect."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.scenario import Scenario
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.questions.check.mends import mend, stand
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows

_COSTLY = ("authenticate", "read-body", "validate", "python")


def look(context: Context) -> Iterator[Suspicion]:
    """Server-wide limits that go by nothing that a stage in front of them finds out."""
    server_wide = context.compiled.order(None)
    for item, order in context.ways:
        if item is None:
            continue
        limits = [id_ for id_ in order if context.kind(id_) == "rate-limit"]
        for id_ in limits[:1]:
            option = context.options[id_]
            own = option.limit()
            plain = not option.needs(item.spec) and own is not None and own.window is not None
            if id_ not in server_wide or own is None or not plain or own.counts != "everything":
                continue
            costly = [one for one in order[: order.index(id_)] if context.kind(one) in _COSTLY]
            if not costly:
                continue
            first, limit = costly[0], option.limit()
            if limit is None or limit.quota > 500:
                continue
            yield Suspicion(
                id_,
                None,
                context.at(id_),
                f"{id_} stands behind {first}: what that refuses is never counted, however often it comes",
                (mend(f"move {id_} in front of {first}", stand(id_, "before", first)),),
                shows(
                    lambda x, by=costly: x.refused_by in by,  # type: ignore[misc]
                    lambda x, by=id_: x.refused_by == by,  # type: ignore[misc]
                ),
                tuple(_bursts(context, item, limit.quota + 1)),
            )


def _bursts(context: Context, item: PlacedRoute, times: int) -> Iterator[Scenario]:
    """Too many requests that don't count: with wrong credentials, with bodies that can't be read."""
    many = {"times": times, "every": "1ms"}
    for credential in context.words.callers:
        if credential.sort != "right":
            yield context.words.scenario("burst", item, credential, **many)
    if item.route.method in ("POST", "PUT", "PATCH"):
        headers = {"Content-Type": "application/json"}
        yield context.words.scenario("burst", item, context.words.may(item), headers=headers, text="{", **many)


RULE = Rule(
    code="limit-too-late",
    level="advice",
    says="the limit stands behind costly work that it should protect",
    matters="Passwords are compared and bodies read for whoever floods the service; a limit in front costs nothing.",
    mend="Let limits that go by the address stand in front of authenticate and read-body.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
  - {id: throttle, kind: rate-limit, quota: 3, window: 1m}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
)
