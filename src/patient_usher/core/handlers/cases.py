"""``cases``: the first case that fits the request says what the handler does."""

from __future__ import annotations

from patient_usher.core.handlers.answer import answer_or_raise
from patient_usher.core.handlers.base import Choice, Work
from patient_usher.core.model.answer_factory import answer_maker, logging
from patient_usher.core.model.branches import Cases
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.handler_specs import HandlerSpec
from patient_usher.core.model.matcher import Test, compile_when
from patient_usher.core.model.stage import Setup


def chooser(spec: HandlerSpec, setup: Setup) -> Choice:
    """What chooses the case; where none fits, the handler's own answer."""
    rows: list[tuple[Test | None, int, Work]] = []
    for case in spec.cases or ():
        work = answer_or_raise(case, setup)
        assert work is not None
        work = logging("handler", case.log, work) if case.log else work
        rows.append((compile_when(case.when), case.busy_for, work))

    def no_case(x: Exchange) -> Effect:
        return setup.errors.raised("NoCaseFits", "none of the handler's cases fits this request")

    ways = Cases([case.when for case in spec.cases or ()])
    otherwise: Work = answer_maker(spec.answer, setup.read_file) if spec.answer else no_case

    def choose(x: Exchange) -> tuple[int, Work]:
        if x.journey is not None and x.route is not None:
            ways.decide(x, "routes", x.route.id)
        for fits, busy, work in rows:
            if fits is None or fits(x):
                return busy, work
        return 0, otherwise

    return choose
