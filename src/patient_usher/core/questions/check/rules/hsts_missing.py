"""``hsts-missing``: https-only without HSTS."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import mend, option
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows


def look(context: Context) -> Iterator[Suspicion]:
    """By the option."""
    for id_ in context.kinds("https-only"):
        if getattr(context.options[id_], "hsts", None) is None:
            yield Suspicion(
                id_,
                None,
                context.at(id_),
                f"{id_} redirects plain requests, and never tells browsers to stop sending them",
                (mend(f"let {id_} announce HSTS for a year", option(id_, "hsts", {"max-age": "365d"})),),
                shows(lambda x: not _announced(x), _announced),
            )


def _announced(x: Exchange) -> bool:
    return x.answer is not None and "strict-transport-security" in x.answer.fields


RULE = Rule(
    code="hsts-missing",
    level="advice",
    says="https-only without HSTS",
    matters="A browser's first request goes out in clear every time, where somebody on the way can answer it "
    "(RFC 6797).",
    mend="Give https-only hsts: {max-age: 365d}.",
    example="""
patient-usher: pipeline/1
stages: [{id: tls, kind: https-only}]
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
""",
    look=look,
)
