"""Names in a pipeline that are slips of the pen: whose they are, what was meant, and how to write it."""

from __future__ import annotations

import re

from patient_usher.core.model.document import Path
from patient_usher.core.questions.check.mends import Document, Edit, value_at
from patient_usher.core.questions.check.rule import Context

_MEANT = re.compile(r"did you mean '(.+)'\?")


def meant(hint: str) -> str | None:
    """The name that a hint suggests."""
    found = _MEANT.fullmatch(hint)
    return found[1] if found else None


def owner(context: Context, path: Path) -> tuple[str | None, str | None]:
    """The stage or the route that a place belongs to."""
    for stage, at in context.compiled.stages_at.items():
        if path[: len(at)] == at:
            return stage, None
    for route, at in context.compiled.routes_at.items():
        if path[: len(at)] == at:
            return None, route
    return None, None


def renamed(path: Path, name: str | None, other: str) -> Edit:
    """Write another name at a place, which holds it alone or in a list; ``name`` None: whatever stands there."""

    def edit(doc: Document) -> None:
        node = value_at(doc, path[:-1])
        if isinstance(node, str):  # a short form: raise: NAME
            raise LookupError(path)
        held = node[path[-1]]
        new = [other if each == name else each for each in held] if isinstance(held, list) else other
        node[path[-1]] = new

    return edit
