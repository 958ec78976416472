"""``timeout-inside-out``: an inner timeout outlasts the outer, or the patience of a trace's caller."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.overlays import named
from patient_usher.core.questions.check.mends import mend, option
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, entered, shows


def look(context: Context) -> Iterator[Suspicion]:
    """By the order on each route's way: a timeout that never comes to its end, as what is around it gives up first."""
    yield from _impatient(context)
    stages = named(context.doc, "stages")
    for item, order in context.ways:
        timed = [(id_, after) for id_ in order if (after := _after(context, id_)) is not None]
        for at, (inner, long) in enumerate(timed):
            for outer, short in timed[:at]:
                if item is None or long < short or context.options[outer].only or context.options[outer].except_:
                    continue
                figures = stages[outer]["after"], stages[inner]["after"]
                yield Suspicion(
                    inner,
                    None,
                    context.at(inner, "after"),
                    f"{inner} waits {figures[1]}, and {outer} around it gives up after {figures[0]}: "
                    f"{inner} never comes to its end",
                    (
                        mend(
                            f"let {outer} wait {figures[1]} and {inner} {figures[0]}",
                            option(outer, "after", figures[1]),
                            option(inner, "after", figures[0]),
                        ),
                    ),
                )


def _impatient(context: Context) -> Iterator[Suspicion]:
    """Callers of a trace who gave up before the timeout did: they never see its answer."""
    for run, x in context.exchanges("trace"):
        waited = x.finished - x.at
        late = [id_ for id_ in context.order_of(x) if entered(x, id_) and (_after(context, id_) or 0) > waited]
        if x.outcome != "abandoned" or not late:
            continue
        yield Suspicion(
            late[-1],
            None,
            context.at(late[-1], "after"),
            f"a caller of {x.sent.method} {x.sent.url.path} gives up after {waited / 1_000_000:g} s, "
            f"before {late[-1]} does",
            (
                mend(
                    f"let {late[-1]} wait {waited // 2_000} ms",
                    option(late[-1], "after", f"{waited // 2_000}ms"),
                    left=f"how much sooner than its callers {late[-1]} should give up",
                ),
            ),
            shows(lambda x: x.outcome == "abandoned", lambda x: x.outcome != "abandoned"),
            (run.scenario,),
        )


def _after(context: Context, id_: str) -> int | None:
    return context.options[id_].gives_up_after() if id_ in context.options else None


RULE = Rule(
    code="timeout-inside-out",
    level="warning",
    says="an inner timeout outlasts the outer, or the patience of a trace's caller",
    matters="What the inner one was meant to do, an answer of its own or another attempt, never happens.",
    mend="Let each timeout be shorter than the one around it.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: whole, kind: timeout, after: 2s}
  - {id: each, kind: timeout, after: 5s}
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
""",
    look=look,
    notices="Callers of a slow handler get the outer stage's answer, never the inner one's.",
)
