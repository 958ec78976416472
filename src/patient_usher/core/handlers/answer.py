"""``answer`` and ``raise``: a made-up answer, whole or in parts, or an error."""

from __future__ import annotations

from patient_usher.core.handlers.base import Work
from patient_usher.core.http.messages import Answer
from patient_usher.core.http.ranges import partial
from patient_usher.core.model.answer_factory import answer_maker, raiser
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.handler_specs import HandlerCase, HandlerSpec
from patient_usher.core.model.stage import Setup


def answer_or_raise(spec: HandlerSpec | HandlerCase, setup: Setup) -> Work | None:
    """What the file says, as work; None where it says neither."""
    if spec.answer is not None:
        return answer_maker(spec.answer, setup.read_file)
    if spec.raise_ is not None:
        return raiser(spec.raise_, setup.errors)
    return None


def in_parts(work: Work) -> Work:
    """The work, where a GET may ask for a part of a 200 (RFC 9110 14.2)."""

    def on(x: Exchange) -> Effect:
        effect = work(x)
        if x.request.method not in ("GET", "HEAD") or not isinstance(effect, Answer) or effect.status != 200:
            return effect
        if x.request.method == "HEAD":  # RFC 9110 14.2: a range means nothing there; that there are some, does
            effect.fields.put("Accept-Ranges", "bytes")
            return effect
        return partial(x.request.fields, effect, judged=x.judged)

    return on
