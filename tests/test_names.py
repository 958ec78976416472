"""Names of the code: one class has one name."""

from __future__ import annotations

import ast
from collections import defaultdict
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src" / "patient_usher"
SEVERAL = {"Options", "Stage", "RunState"}
"""A kind's module has its own Options and Stage; Python callers make a RunState of a Pipeline."""


def test_no_two_classes_have_one_name() -> None:
    places: dict[str, list[str]] = defaultdict(list)
    for path in sorted(SOURCE.rglob("*.py")):
        for node in ast.parse(path.read_text()).body:
            if isinstance(node, ast.ClassDef) and node.name not in SEVERAL:
                places[node.name].append(str(path.relative_to(SOURCE)))
    assert len(places) > 400
    assert {name: found for name, found in places.items() if len(found) > 1} == {}
