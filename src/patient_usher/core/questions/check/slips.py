"""Looking for the two classic slips of a stage: it does neither, or it does both."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

from patient_usher.core.model.document import Json, Path
from patient_usher.core.questions.check.mends import PASS_ON, Mend, mend, option, put, value_at
from patient_usher.core.questions.check.rule import Context, Suspicion, shows


def looker(outcome: str, did: str, words: str) -> Callable[[Context], Iterator[Suspicion]]:
    """Make what looks for exchanges that ended so because a stage did that."""

    def look(context: Context) -> Iterator[Suspicion]:
        for run, x in context.exchanges():
            if x.outcome != outcome:
                continue
            step = next((step for step in x.journey or () if step[2] == did), None)
            if step is None or step[0] not in context.options:
                continue
            stage, way = step[0], step[1]
            yield Suspicion(
                stage,
                None,
                context.at(stage),
                f"{stage} {words}, as for {x.sent.method} {x.sent.url.path}",
                tuple(_mends(context, stage, "cases" if way == "in" else "way-out")),
                shows(lambda x: x.outcome == outcome, lambda x: x.outcome != outcome),
                (run.scenario,),
            )

    return look


def _mends(context: Context, stage: str, key: str) -> Iterator[Mend]:
    """Let every case that slips pass on, or refuse; a gate, as it seems, is offered the refusal first."""
    if context.kind(stage) == "decide":
        cases: list[Mapping[str, Json]] = value_at(context.doc, context.at(stage, key))
        slips = {at: case for at, case in enumerate(cases) if _refusal(case) is not None}
        if not slips:
            return
        numbers = " and ".join(str(at + 1) for at in slips)
        named = f"case{'s' if len(slips) > 1 else ''} {numbers} of {stage}"
        places: dict[int, Path] = {at: context.at(stage, key, at, "then") for at in slips}
        twice = any(case["then"] != "nothing" for case in slips.values())
        refusing = "answer, and not pass on" if twice else "refuse with 403"
        both = [
            mend(
                f"let {named} {refusing}",
                *(put(place, _refusal(slips[at])) for at, place in places.items()),
                intent="refuse",
            ),
            mend(f"let {named} pass on", *(put(place, "continue") for place in places.values()), intent=PASS_ON),
        ]
        yield from both if twice or all(_is_gate(*slip) for slip in slips.items()) else reversed(both)
        return
    left = f"what {stage} should do then: its code is yours"
    yield mend(f"switch {stage} off", option(stage, "enabled", False), left=left)


def _refusal(case: Mapping[str, Json]) -> Json | None:
    """What a case that slips would do if it was meant to refuse; None where it doesn't slip."""
    then = case.get("then")
    if then == "nothing":
        return {"answer": {"status": 403}}
    if isinstance(then, dict) and "answer-and-continue" in then:
        return {"answer": then["answer-and-continue"]}
    return None


def _is_gate(at: int, case: Mapping[str, Json]) -> bool:
    """Whether a case picks requests out and has no other work: what only logs or sets was hardly meant to refuse."""
    return ("when" in case or at > 0) and not any(key in case for key in ("set", "put", "drop", "log"))
