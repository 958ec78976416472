"""What a failed validation means to the person who wrote the file."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from pydantic import BaseModel, ValidationError
from pydantic_core import ErrorDetails

from patient_usher.core.model.document import Json, Problem, did_you_mean, locate
from patient_usher.core.model.text_types import show

_WANTED = {
    "string_type": "text",
    "int_type": "a whole number",
    "float_type": "a number",
    "bool_type": "true or false",
    "dict_type": "a mapping",
    "model_type": "a mapping",
    "list_type": "a list",
}

_BOUNDS = {
    "greater_than_equal": "ge",
    "greater_than": "gt",
    "less_than_equal": "le",
    "less_than": "lt",
}
_BOUND_WORDS = {"ge": "at least", "gt": "more than", "le": "at most", "lt": "less than"}


MOST = 1_000
"""How many things that are wrong are put into words."""


def problems_of(
    error: ValidationError, doc: Json, model: type[BaseModel], path: Iterable[str | int] = ()
) -> list[Problem]:
    """Each validation error as a problem with its place; ``path`` leads from ``doc`` to what was validated."""
    return [_problem(detail, doc, model, tuple(path)) for detail in error.errors(include_url=False)[:MOST]]


def _problem(detail: ErrorDetails, doc: Json, model: type[BaseModel], path: tuple[str | int, ...]) -> Problem:
    kind, loc, context = detail["type"], detail["loc"], detail.get("ctx", {})
    full = (*path, *loc)
    key = str(loc[-1]) if loc else ""
    said = _subject(doc, full) if loc and isinstance(loc[-1], int) else f"'{key}'"
    given = detail["input"]
    if kind == "usher":
        return Problem(locate(doc, full), context["what"], context["mend"])
    if kind == "extra_forbidden":
        return Problem(locate(doc, full, key=True), f"unknown key '{key}'", did_you_mean(key, _known(model, loc[:-1])))
    if kind == "missing":
        return Problem(locate(doc, full), f"'{key}' is missing here", f"add {key}:")
    if kind == "union_tag_invalid":
        tags = str(context["expected_tags"]).replace("'", "").split(", ")
        what = f"'{context['tag']}' is none of those that are known here"
        return Problem(locate(doc, full), what, did_you_mean(str(context["tag"]), tags))
    if kind in ("literal_error", "enum"):
        names = str(context.get("expected", "")).replace("'", "").replace(" or ", ", ").split(", ")
        return Problem(locate(doc, full), f"{said} can't be {show(given)}", did_you_mean(show(given).strip("'"), names))
    if kind in _WANTED:
        return Problem(locate(doc, full), f"{said} must be {_WANTED[kind]}, not {show(given)}")
    if kind in _BOUNDS:
        bound = _BOUNDS[kind]
        return Problem(locate(doc, full), f"{said} must be {_BOUND_WORDS[bound]} {context[bound]}, not {show(given)}")
    if kind == "too_short":
        return Problem(locate(doc, full), f"{said} must not be empty", "give at least one")
    return Problem(locate(doc, full), f"{said} can't be {show(given)}", detail["msg"][:1].lower() + detail["msg"][1:])


def _subject(doc: Json, path: tuple[str | int, ...]) -> str:
    """What an item of a list is called: by the list's key. Labels of validators stand in paths, too."""
    node, key = doc, ""
    for part in path:
        if isinstance(part, str) and isinstance(node, dict) and part in node:
            node, key = node[part], part
        elif isinstance(part, int) and isinstance(node, list) and part < len(node):
            node = node[part]
    return f"an item of '{key}'" if key else "an item"


def _known(model: type[BaseModel], loc: tuple[str | int, ...]) -> list[str]:
    """The keys of the model that a path leads to."""
    current: object = model
    for part in loc:
        found = _step(current, part)
        current = found if found is not None else current
    if not (isinstance(current, type) and issubclass(current, BaseModel)):
        return []
    return [field.alias or name for name, field in current.model_fields.items()]


def _step(current: object, part: str | int) -> object:
    """The model below ``current`` at ``part``: a field's, or an alternative's by its tag."""
    if not (isinstance(current, type) and issubclass(current, BaseModel)):
        return _tagged(current, part)
    for name, field in current.model_fields.items():
        if (field.alias or name) == part:
            annotation = [field.annotation, *field.metadata]
            models = [found for piece in annotation for found in _models(piece)]
            return models[0] if len(models) == 1 else field.annotation if models else None
    return None


def _tagged(annotation: Any, tag: str | int) -> Any:
    from pydantic import Tag

    pending = [annotation]
    while pending:
        piece = pending.pop()
        if any(isinstance(item, Tag) and item.tag == tag for item in getattr(piece, "__metadata__", ())):
            return piece.__origin__
        pending += [arg for arg in getattr(piece, "__args__", ()) if arg is not type(None)]
    return None


def _models(annotation: object) -> list[Json]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [found for part in getattr(annotation, "__args__", ()) for found in _models(part)]
