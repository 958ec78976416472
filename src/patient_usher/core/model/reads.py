"""What a part of a pipeline reads of an exchange, so that something in front of it must have left it there.

The words: ``body``, ``cookies``, ``identity``, and ``context.NAME`` for a value of that name.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TypeVar

from patient_usher.core.model.document import Json, Path
from patient_usher.core.model.matcher import When
from patient_usher.core.model.text_types import Model
from patient_usher.core.model.values import placeholders

T = TypeVar("T", bound=Model)

_BY_KEY = {"body": "body", "cookie": "cookies", "identity": "identity", "role": "identity", "scope": "identity"}


def uses(part: Model) -> set[str]:
    """What matchers and placeholders anywhere in this part read."""
    found: set[str] = set()
    for _, node in nodes(part, ()):
        if isinstance(node, When):
            found |= {_BY_KEY[key] for key in node.model_fields_set if key in _BY_KEY}
            found |= {f"context.{name}" for name in node.context}
        elif not isinstance(node, Model):
            for name in placeholders(node):
                root, _, rest = name.partition(".")
                found |= {_BY_KEY[root]} if root in _BY_KEY else set()
                found |= {f"context.{rest.partition('.')[0]}"} if root == "context" else set()
    return found


def within(value: Json, where: Path, sort: type[T]) -> Iterator[tuple[Path, T]]:
    """Every part of this sort within a value that a file gave, with its place."""
    return ((path, node) for path, node in nodes(value, where) if isinstance(node, sort))


def nodes(value: Json, where: Path) -> Iterator[tuple[Path, object]]:
    """Every model within a value, and whatever stands in them that is none."""
    if isinstance(value, Model):
        yield where, value
        for name in sorted(value.model_fields_set):
            alias = type(value).model_fields[name].alias or name
            yield from nodes(getattr(value, name), (*where, alias))
    elif isinstance(value, list | tuple):
        for at, item in enumerate(value):
            yield from nodes(item, (*where, at))
    else:
        yield where, value
