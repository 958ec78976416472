"""``case-unreachable``: an earlier case, or a more general type, always fits."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from patient_usher.core.model.document import Path
from patient_usher.core.model.errors import ANY
from patient_usher.core.questions.check.mends import Document, Edit, drop, mend, option, value_at
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion


def look(context: Context) -> Iterator[Suspicion]:
    """Cases of stages and handlers behind one without a condition, and answers behind a more general one."""
    for id_, options in context.options.items():
        if not options.enabled:
            continue
        for key, name in (("cases", "cases"), ("way_out", "way-out")):
            cases: Sequence[object] = getattr(options, key, ())
            yield from _cases(id_, None, context.at(id_, name), cases, id_)
        if options.kind == "error-handler" and getattr(options, "picks", "") == "first":
            yield from _answers(context, id_, getattr(options, "answers", ()))
    for item in context.compiled.placed:
        route = item.route.id
        yield from _cases(
            None, route, context.at_route(route, "handler", "cases"), item.spec.handler.cases or (), route
        )


def _cases(stage: str | None, route: str | None, at: Path, cases: Sequence[Any], name: str) -> Iterator[Suspicion]:
    """The first case that another hides: one without a condition, or with the same one."""
    for number, case in enumerate(cases):
        for later in range(number + 1, len(cases)):
            if case.when is None:
                told, words, edit = "always fits", f"move case {number + 1} of {name} to the end", _to_end(at, number)
            elif cases[later].when == case.when:
                told, words, edit = "fits wherever it does", f"take case {later + 1} of {name} out", drop((*at, later))
            else:
                continue
            happens = f"case {later + 1} of {name} never comes: case {number + 1} {told}"
            yield Suspicion(stage, route, (*at, later), happens, (mend(words, edit),))
            return


def _answers(context: Context, id_: str, answers: Sequence[Any]) -> Iterator[Suspicion]:
    lineage = context.compiled.setup.errors.lineage
    for later, entry in enumerate(answers):
        for number, first in enumerate(answers[:later]):
            if all({*first.raised} & {*lineage(name), ANY} for name in entry.raised):
                yield Suspicion(
                    id_,
                    None,
                    context.at(id_, "answers", later),
                    f"{id_} never answers {' or '.join(entry.raised)} by its own entry: entry {number + 1}, for "
                    f"{' and '.join(first.raised)}, comes first and fits too",
                    (mend(f"let {id_} pick the nearest type", option(id_, "picks", "nearest")),),
                )
                return


def _to_end(at: Path, number: int) -> Edit:
    def edit(doc: Document) -> None:
        cases = value_at(doc, at)
        cases.append(cases.pop(number))

    return edit


RULE = Rule(
    code="case-unreachable",
    level="warning",
    says="an earlier case, or a more general type, always fits",
    matters="What the later case was written for never happens.",
    mend="Put the case without a condition last; let the error handler pick the nearest type.",
    example="""
patient-usher: pipeline/1
stages:
  - id: watch
    kind: decide
    cases:
      - set: {desk: quay}
      - {when: {header: {X-Boat: present}}, set: {desk: pier}}
routes:
  - {id: desk, at: GET /desk, access: everyone, handler: {answer: {text: "${context.desk}"}}}
""",
    look=look,
    notices="Callers for whom the later case is meant get what the earlier one does.",
)
