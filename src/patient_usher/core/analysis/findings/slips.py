"""Looking for the two classic slips of a stage: it does neither, or it does both."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from patient_usher.core.analysis.findings.mends import Document, Edit, Mend, mend, option, value_at
from patient_usher.core.analysis.findings.rule import Context, Suspicion, shows
from patient_usher.core.model.document import Path


def looker(outcome: str, did: str, words: str) -> Callable[[Context], Iterator[Suspicion]]:
    """What looks for exchanges that ended so, on account of a stage that did that."""

    def look(context: Context) -> Iterator[Suspicion]:
        for run, x in context.exchanges():
            if x.outcome != outcome:
                continue
            step = next((step for step in x.journey or () if step[2] == did), None)
            if step is None or step[0] not in context.options:
                continue
            stage, way, note = step[0], step[1], step[4] or {}
            yield Suspicion(
                stage,
                None,
                context.at(stage),
                f"{stage} {words}, as for {x.sent.method} {x.sent.url.path}",
                tuple(_mends(context, stage, way, note.get("case"))),
                shows(lambda x: x.outcome == outcome, lambda x: x.outcome != outcome),
                (run.scenario,),
            )

    return look


def _mends(context: Context, stage: str, way: str, case: int | None) -> Iterator[Mend]:
    if case is not None:
        path = context.at(stage, "cases" if way == "in" else "way-out", case - 1, "then")
        yield mend(f"let case {case} of {stage} do one thing", _one(path, shut=False))
        yield mend(f"let case {case} of {stage} refuse with 403", _one(path, shut=True))
    yield mend(f"switch {stage} off", option(stage, "enabled", False))


def _one(path: Path, *, shut: bool) -> Edit:
    """Pass on where nothing is done, or refuse where the stage may be a gate; stop where an answer was given."""

    def edit(doc: Document) -> None:
        node = value_at(doc, path[:-1])
        then = node["then"]
        both = then.get("answer-and-continue") if isinstance(then, dict) else None
        otherwise = {"answer": {"status": 403}} if shut else "continue"
        node["then"] = otherwise if both is None else {"answer": both}

    return edit
