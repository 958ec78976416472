"""``marks-overwritten``: a stage overwrites or drops the fields of the CORS protocol."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.runner import ScenarioRun
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import leave_alone, mend
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, same


def look(context: Context) -> Iterator[Suspicion]:
    """Stages that put or drop what cors has said, and calls of pages that suffer from it."""
    if not context.kinds("cors"):
        return
    for id_ in context.kinds("header-fields"):
        cached = _is_cached(context, id_)  # what comes of a lost Vary is told where the copy is given again
        touched = [name for name in _touched(context, id_) if not (cached and name.lower() == "vary")]
        if touched:
            yield Suspicion(
                id_,
                None,
                context.at(id_),
                f"{id_} writes {' and '.join(touched)} over, or takes it off, which cors has put",
                (mend(f"let {id_} leave {' and '.join(touched)} alone", leave_alone(id_, touched)),),
                _proof,
                tuple(run.scenario for run in context.runs("page", "page-body", "origins")),
            )


def _is_cached(context: Context, id_: str) -> bool:
    """Whether a cache stands outside the stage, so that it keeps what the stage has left."""
    outside = (order[: order.index(id_)] for _, order in context.ways if id_ in order)
    return any(context.kind(one) == "cache" for early in outside for one in early)


def _is_mark(name: str) -> bool:
    return name.lower().startswith("access-control-") or name.lower() == "vary"


def _touched(context: Context, id_: str) -> list[str]:
    work = getattr(context.options[id_], "on_answer", None)
    return [name for name in [*work.put, *work.drop] if _is_mark(name)] if work is not None else []


def _proof(as_is: ScenarioRun, mended: ScenarioRun) -> bool:
    """A page that can't read, and then can; or an answer that doesn't say that it goes by Origin, and then does."""
    for x in as_is.exchanges:
        other = same(mended, x)
        if other is None:
            continue
        verdicts = [one.browser.verdict if one.browser is not None else None for one in (x, other)]
        if verdicts[1] == "readable" and verdicts[0] != "readable":
            return True
        if _by_origin(other) and not _by_origin(x) and x.answer is not None:
            return True
    return False


def _by_origin(x: Exchange) -> bool:
    vary = ",".join(x.answer.fields.values("vary")) if x.answer is not None else ""
    return "origin" in [name.strip().lower() for name in vary.split(",")]


RULE = Rule(
    code="marks-overwritten",
    level="error",
    says="a stage overwrites or drops the fields of the CORS protocol",
    matters="The cors stage has said who may read, and the answer that comes says something else: pages are blocked, "
    "or a cache gives one page another's answer.",
    mend="Let cors alone write these fields; add to Vary, and never put or drop it.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: lax, kind: header-fields, on-answer: {put: {Access-Control-Allow-Origin: "https://quay.example"}}}
  - {id: browsers, kind: cors, allow-origins: ["https://boaters.example"]}
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
""",
    look=look,
)
