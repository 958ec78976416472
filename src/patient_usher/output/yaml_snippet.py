"""Data as YAML that people would write: a line an entry, what is inside it in one line."""

from __future__ import annotations

import io
import json
from collections.abc import Mapping
from typing import Any

from patient_usher.core.model.document import FromEnvironment, Json, JsonObject

_UNQUOTED = frozenset(":?")
"""Between braces, older readers of YAML take these for the signs of keys."""


LARGE = 150_000
"""From how many characters on nobody reads a file from end to end: then it is JSON, which is YAML too, and fast."""


def file_of(doc: JsonObject, **how: Any) -> str:
    """A document as a file: YAML (``how``: as ``yaml_of``), or JSON, an entry a line, where it is large."""
    text = json.dumps(doc, ensure_ascii=False)
    if len(text) < LARGE:
        return yaml_of(doc, **how)

    def told(value: Json) -> str:
        if not isinstance(value, list):
            return json.dumps(value, ensure_ascii=False)
        return "[\n" + ",\n".join(json.dumps(one, ensure_ascii=False) for one in value) + "]"

    return "{" + ",\n".join(f"{json.dumps(key)}: {told(value)}" for key, value in doc.items()) + "}\n"


def yaml_of(value: Json, *, deep: int = 2, comments: Mapping[str, str] = {}, heading: str = "") -> str:
    """As YAML; mappings and lists below ``deep`` levels stand in one line.

    ``comments`` stand above the members of a mapping that they are named by, ``heading`` above everything.
    """
    from ruamel.yaml import YAML

    yaml = YAML()
    yaml.width = 4096
    yaml.indent(mapping=2, sequence=4, offset=2)
    out = io.StringIO()
    laid = _laid_out(value, deep)
    for key, comment in comments.items():
        laid.yaml_set_comment_before_after_key(key, before=comment)
    if heading:
        laid.yaml_set_start_comment(heading)
    yaml.dump(laid, out)
    return out.getvalue()


def _laid_out(value: Json, deep: int, *, within: bool = False) -> Any:
    from ruamel.yaml.comments import CommentedMap, CommentedSeq
    from ruamel.yaml.scalarstring import DoubleQuotedScalarString

    if isinstance(value, FromEnvironment):
        value = value.written
    if within and isinstance(value, str) and not _UNQUOTED.isdisjoint(value):
        return DoubleQuotedScalarString(value)
    if isinstance(value, dict):
        found: Json = CommentedMap(
            (str(key), _laid_out(part, deep - 1, within=deep <= 0)) for key, part in value.items()
        )
    elif isinstance(value, list | tuple):
        found = CommentedSeq(_laid_out(part, deep - (not isinstance(part, dict)), within=deep <= 0) for part in value)
    else:
        return value
    if deep <= 0:
        found.fa.set_flow_style()
    return found
