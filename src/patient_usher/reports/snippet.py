"""Data as YAML that people would write: a line an entry, what is inside it in one line."""

from __future__ import annotations

import io
from typing import Any

from patient_usher.core.model.document import FromEnvironment


def yaml_of(value: Any, *, deep: int = 2) -> str:
    """As YAML; mappings and lists below ``deep`` levels stand in one line."""
    from ruamel.yaml import YAML

    yaml = YAML()
    yaml.width = 4096
    yaml.indent(mapping=2, sequence=4, offset=2)
    out = io.StringIO()
    yaml.dump(_laid_out(value, deep), out)
    return out.getvalue()


def _laid_out(value: Any, deep: int) -> Any:
    from ruamel.yaml.comments import CommentedMap, CommentedSeq

    if isinstance(value, FromEnvironment):
        return value.written
    if isinstance(value, dict):
        found: Any = CommentedMap((str(key), _laid_out(part, deep - 1)) for key, part in value.items())
    elif isinstance(value, list | tuple):
        found = CommentedSeq(_laid_out(part, deep - (not isinstance(part, dict))) for part in value)
    else:
        return value
    if deep <= 0:
        found.fa.set_flow_style()
    return found
