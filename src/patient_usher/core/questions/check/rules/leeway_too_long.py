"""``leeway-too-long``: an expired token is good for longer than it lived."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.rule_probes import used_late
from patient_usher.core.decisions.scenario import Scenario
from patient_usher.core.questions.check.mends import mend, put
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows

_LONGEST = 15 * 60_000_000
"""Microseconds: longer than any two clocks are apart, where nothing says how long tokens live."""


def look(context: Context) -> Iterator[Suspicion]:
    """Leeways that are longer than the tokens' own life, or than any clock goes wrong."""
    for id_ in context.kinds("authenticate"):
        for at, scheme in enumerate(getattr(context.options[id_], "schemes", ())):
            leeway = getattr(scheme, "leeway", 0)
            lives = [desk.lasts for desk in context.words.desks.values() if desk.keys in getattr(scheme, "keys", ())]
            if leeway and leeway >= min([_LONGEST, *lives]):
                yield Suspicion(
                    id_,
                    None,
                    context.at(id_, "schemes", at, "leeway"),
                    f"{id_} takes tokens that expired long ago: as long as the leeway, {leeway // 1_000_000:,} seconds",
                    (mend(f"let {id_} allow none", put(context.at(id_, "schemes", at, "leeway"), "0s")),),
                    shows(lambda x: x.handler_reached, lambda x: not x.handler_reached and x.why == "expired"),
                    tuple(_late(context)),
                )


def _late(context: Context) -> Iterator[Scenario]:
    """A token that expired a minute ago."""
    for item in context.compiled.placed:
        access = item.route.access
        if item.desk is None and access is not None and access.who != "everyone":
            for credential in context.words.right:
                if "bearer" in credential.parts.get("sign", {}) and context.words.is_for(access, credential.account):
                    yield used_late(context.words, item, credential)


RULE = Rule(
    code="leeway-too-long",
    level="advice",
    says="an expired token is good for longer than it lived",
    matters="Whoever finds an old token can use it, and signing out or a short life helps nobody.",
    mend="Leeway is for clocks that differ: half a minute is enough where they do.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: bearer, keys: main, leeway: 7d}]}
  - {id: may, kind: authorize}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {}}
signing-keys: {main: {algorithm: HS256, secret: "${env:TOKENS|made-up-secret-for-the-example-32-octets}"}}
""",
    look=look,
)
