"""``pattern-fits-nothing``: no route of the pipeline fits this pattern."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.schema_samples import as_pattern
from patient_usher.core.engine.compile.warnings import of_matchers, of_patterns
from patient_usher.core.model.document import Path
from patient_usher.core.model.patterns import fits_template
from patient_usher.core.model.templates import parse_template
from patient_usher.core.questions.check.mends import Document, Mend, mend, value_at
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion
from patient_usher.core.questions.check.spelling import meant, owner, renamed


def look(context: Context) -> Iterator[Suspicion]:
    """By the patterns and the templates."""
    for path, what, hint in (*of_patterns(context.compiled), *of_matchers(context.compiled)):
        if path[-1] == "route":
            continue
        stage, route = owner(context, path)
        yield Suspicion(stage, route, path, what, tuple(_mends(context, path, what, hint)))


def _mends(context: Context, path: Path, what: str, hint: str) -> Iterator[Mend]:
    pattern = what.rpartition(" fits ")[2]
    if hint.startswith("write "):
        yield mend(hint, renamed(path, None, hint.removeprefix("write ")))
    if (other := meant(hint)) is not None:
        yield mend(f"write {other}", renamed(path, pattern, as_pattern(parse_template(other))))

    lower = pattern.rpartition(" ")[2].lower()
    there = lower.startswith("/") and any(
        fits_template(lower, item.route.template.segments) for item in context.compiled.placed
    )
    if there and not pattern.endswith(lower):
        written = pattern[: len(pattern) - len(lower)] + lower
        yield mend(f"write {written}", renamed(path, pattern, written))

    def edit(doc: Document) -> None:
        node = value_at(doc, path[:-2])
        patterns = node[path[-2]]
        del patterns[path[-1]]
        if not patterns:
            del node[path[-2]]
            if path[-2] == "only":
                node["enabled"] = False

    if path[-2] in ("only", "except"):
        yield mend(f"take {pattern} out", edit)


RULE = Rule(
    code="pattern-fits-nothing",
    level="warning",
    says="no route of the pipeline fits this pattern",
    matters="The stage meets requests that it should pass over, or none of those that it is there for.",
    mend="Write the path as the routes have it, the prefixes of their groups included.",
    example="""
patient-usher: pipeline/1
stages: [{id: mark, kind: header-fields, on-answer: {put: {X-Desk: quay}}, only: [GET /tide]}]
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
""",
    look=look,
    notices="Callers of the route that was meant are treated as if the pattern weren't there.",
)
