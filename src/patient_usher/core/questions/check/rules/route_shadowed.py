"""``route-shadowed``: it can never be chosen."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.http.urls import parse_url
from patient_usher.core.questions.check.mends import drop, mend, setting
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion


def look(context: Context) -> Iterator[Suspicion]:
    """Routes whose path has dot segments, which no client sends (RFC 3986 5.2.4; the URL standard, 4.4)."""
    for item in context.compiled.placed:
        parts = [text for sort, text in item.route.template.segments]
        if item.desk is not None or not {".", ".."} & {*parts}:
            continue
        path = "/" + "/".join(_without_dots(parts))
        found, _, _ = context.compiled.router.find(item.route.method, parse_url(f"https://service.example{path}"))
        leads = found.id if found is not None else "no route"
        place = context.at_route(item.route.id)
        mends = [mend(f"take {item.route.id} out", drop(place))]
        if found is None and not item.groups and not item.route.names:
            at = f"{item.route.method} {path}"
            mends.insert(0, mend(f"write {at}", setting(item.route.id, "at", at)))
        happens = f"clients make {path} of {item.route.template.text}, which leads to {leads}"
        yield Suspicion(None, item.route.id, (*place, "at"), happens, tuple(mends))


def _without_dots(parts: list[str]) -> list[str]:
    found: list[str] = []
    for part in parts:
        if part == "..":
            found = found[:-1]
        elif part != ".":
            found.append(part)
    return found


RULE = Rule(
    code="route-shadowed",
    level="warning",
    says="it can never be chosen",
    matters="Its handler never runs, and its settings are nobody's.",
    mend="Write the path as URLs have it: clients take dot segments out before they send it.",
    example="""
patient-usher: pipeline/1
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: high at six}}}
  - {id: old-tides, at: GET /berths/../tides, access: everyone, handler: {answer: {text: low at noon}}}
""",
    look=look,
    notices="Callers get the other route's answer, always.",
)
