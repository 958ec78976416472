"""``answer`` and ``raise``: a made-up answer, or an error."""

from __future__ import annotations

from patient_usher.core.handlers.base import Work
from patient_usher.core.model.answers import answer_maker, raiser
from patient_usher.core.model.handling import HandlerCase, HandlerSpec
from patient_usher.core.model.stage import Setup


def answer_or_raise(spec: HandlerSpec | HandlerCase, setup: Setup) -> Work | None:
    """What the file says, as work; None where it says neither."""
    if spec.answer is not None:
        return answer_maker(spec.answer, setup.read_file)
    if spec.raise_ is not None:
        return raiser(spec.raise_, setup.errors)
    return None
