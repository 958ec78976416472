"""Which outcomes can happen at all, and do the statements that must always hold do so in all that was tried?"""

from __future__ import annotations

from collections.abc import Callable

from patient_usher.core.questions import explore as search
from patient_usher.core.questions.explore import BUDGET, Explored
from patient_usher.use_cases.session import Pipeline


def explore(
    pipeline: Pipeline, *, budget: int = BUDGET, seed: int = 0, watch: Callable[[int], None] = lambda tried: None
) -> Explored:
    """Try requests of every sort, up to ``budget`` of them; ``watch`` is told how many there have been."""
    return search.explore(pipeline.compiled, budget=budget, seed=seed, watch=watch)
