"""What learning a service came to."""

from __future__ import annotations

from typing import NamedTuple

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.overlays import named
from patient_usher.core.questions.learn.document import Learned
from patient_usher.core.questions.learn.inference import ShownValue
from patient_usher.core.questions.learn.interview import Interview
from patient_usher.core.verify.outside import DriftResult


class LearnedService(NamedTuple):
    """A service's model. ``trace`` has what was asked, ``held`` how the model answers that beside the service.

    ``mended``: the changes, in words, that what differed at first asked for.
    """

    compiled: CompiledPipeline
    learned: Learned
    interview: Interview
    trace: JsonObject
    held: list[DriftResult]
    mended: list[str]

    @property
    def differing(self) -> list[DriftResult]:
        """The questions that the model answers otherwise."""
        return [one for one in self.held if one.differs]

    @property
    def shown(self) -> list[ShownValue]:
        """The options that stand in the model as an answer showed them."""
        stages = named(self.learned.document, "stages")
        return [one for one in self.learned.found.shown if _stands(stages, one)]


def _stands(stages: dict[str, JsonObject], one: ShownValue) -> bool:
    stage, _, option = one.option.partition(".")
    node: Json = stages.get(stage)
    if node is None:
        return False
    for key in option.split(".") if option else ():
        node = node.get(key) if isinstance(node, dict) else None
    return node is None or node == one.value or option == "schemes"
