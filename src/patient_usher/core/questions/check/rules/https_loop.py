"""``https-loop``: https-only behind a front that ends TLS and isn't believed."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.scenario import Scenario
from patient_usher.core.questions.check.mends import append, mend, put
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows


def look(context: Context) -> Iterator[Suspicion]:
    """A client that follows redirects, sent to the secure URL that it came from."""
    front = context.spec.deployment.in_front
    guards = context.kinds("https-only")
    if not guards or not front.ends_tls:
        return
    says = [] if front.sends != "nothing" else [put(["deployment", "in-front", "sends"], "forwarded")]
    words = f"believe what {front.address} says of the caller" + (", and let it say so" if says else "")
    yield Suspicion(
        guards[0],
        None,
        context.at(guards[0]),
        "the front ends TLS, and its word for it isn't believed: every request looks plain, and is sent round again",
        (mend(words, append(["deployment", "trusts-forwarded"], front.address), *says),),
        shows(lambda x: x.outcome == "redirect-loop", lambda x: x.outcome != "redirect-loop"),
        tuple(_followed(context)),
    )


def _followed(context: Context) -> Iterator[Scenario]:
    for item in context.compiled.placed:
        if item.route.method == "GET":
            request = {**context.words.plain(item), "caller": "follower"}
            yield Scenario("followed", (request,), {"follower": {"redirects": "follow"}})


RULE = Rule(
    code="https-loop",
    level="error",
    says="https-only behind a front that ends TLS and isn't believed",
    matters="Browsers give up with a redirect loop, and nobody can use the service at all.",
    mend="List the front's address under deployment.trusts-forwarded, and let the front send what it knows.",
    example="""
patient-usher: pipeline/1
stages: [{id: tls, kind: https-only, hsts: {max-age: 180d}}]
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
deployment: {in-front: {ends-tls: true, sends: forwarded}}
""",
    look=look,
)
