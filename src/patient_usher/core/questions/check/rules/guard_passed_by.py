"""``guard-passed-by``: HEAD, or another spelling of the path, gets past a guard."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.document import Path
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import Document, Edit, Mend, drop, mend, value_at
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows

_GUARDS = ("authenticate", "authorize", "decide", "python")


def look(context: Context) -> Iterator[Suspicion]:
    """Requests that reach a handler in another spelling, where the plain one is refused."""
    for run in context.runs("spelled"):
        if len(run.sends) < 2:
            continue
        plain, x = run.sends[-2].final, run.last
        guard = plain.refused_by if plain is not None else None
        if (
            plain is None
            or guard is None
            or context.kind(guard) not in _GUARDS
            or plain.handler_reached
            or not x.handler_reached
        ):
            continue
        if plain.route is None or x.route is None or x.route.id != plain.route.id:
            continue
        yield Suspicion(
            guard,
            None,
            context.at(guard),
            f"{plain.sent.method} {plain.sent.url.path} is refused, and {x.sent.method} {x.sent.url.path} "
            f"reaches the same handler past {guard}",
            tuple(_mends(context, guard, x)),
            shows(lambda x: x.handler_reached, lambda x: not x.handler_reached),
            (run.scenario,),
        )


def _mends(context: Context, guard: str, x: Exchange) -> Iterator[Mend]:
    if x.sent.method == "HEAD":
        yield mend(f"let {guard} hold HEAD to what it holds GET", _by_head_too(context.at(guard)))
    left = f"which spellings of its paths {guard} should meet, or which the handler should take"
    yield mend(f"let {guard} meet every path", drop(context.at(guard, "only")), left=left)
    yield mend(f"let the cases of {guard} fit every path", _without_path(context.at(guard, "cases")), left=left)


def _by_head_too(where: Path) -> Edit:
    """Add HEAD wherever the stage's cases name GET."""

    def edit(doc: Document) -> None:
        changed = 0
        for case in value_at(doc, (*where, "cases")):
            when = case.get("when") or {}
            methods = when.get("method", [])
            held = [methods] if isinstance(methods, str) else methods
            if "GET" in held and "HEAD" not in held:
                when["method"] = [*held, "HEAD"]
                changed += 1
        if not changed:
            raise LookupError(where)

    return edit


def _without_path(where: Path) -> Edit:
    """Take the path out of every condition of the stage's cases."""

    def edit(doc: Document) -> None:
        for case in value_at(doc, where):
            case.get("when", {}).pop("path", None)

    return edit


RULE = Rule(
    code="guard-passed-by",
    level="error",
    says="a spelling of the path, or HEAD, gets past a guard",
    matters="The guard stands there, and whoever asks a little differently walks past it.",
    mend="Let the guard's cases and patterns name the path alone, without methods, and no tail route lie behind.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: gate, kind: decide, cases: [{when: {method: GET, header: {X-Pass: missing}}, then: {raise: Forbidden}}]}
routes:
  - {id: ledger, at: GET /ledger, access: everyone, handler: {answer: {text: owed}}}
""",
    look=look,
)
