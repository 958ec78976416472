"""Saved results with numbers that no replay writes: taken, or refused in a line; never a fault."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from io import BytesIO
from pathlib import Path
from typing import Any

import pytest

from conftest import DEMO, Outcome
from patient_usher import Unusable
from patient_usher.core.verify.exchange_table import row_of_record
from patient_usher.files.saved_result import saved
from patient_usher.output.chart import Columns
from patient_usher.output.tables import FORMATS

Usher = Callable[..., Outcome]


def numbers(value: Any, path: tuple[str | int, ...] = ()) -> Iterator[tuple[str | int, ...]]:
    """Where numbers stand, one of a sort each."""
    if isinstance(value, dict | list):
        for key, item in value.items() if isinstance(value, dict) else enumerate(value):
            yield from numbers(item, (*path, key))
    elif isinstance(value, int | float) and not isinstance(value, bool):
        yield path


@pytest.mark.parametrize("number", [10**400, 1e300, -1, 0.5], ids=["huge", "large", "less", "half"])
def test_numbers_that_no_replay_writes(usher: Usher, tmp_path: Path, number: float) -> None:
    done = usher("replay", str(DEMO / "limits.yaml"), str(DEMO / "limits-story.yaml"), "--format", "json")
    result = json.loads(done.out)
    result["exchanges"] = result["exchanges"][:1]
    sorts = {tuple("*" if isinstance(key, int) else key for key in path): path for path in numbers(result)}
    assert len(sorts) > 12
    taken = 0
    for path in sorts.values():
        part = result
        for key in path[:-1]:
            part = part[key]
        before, part[path[-1]] = part[path[-1]], number
        (tmp_path / "r.json").write_text(json.dumps(result))
        part[path[-1]] = before
        try:
            records = saved(tmp_path / "r.json") or []
        except Unusable:
            continue
        taken += 1
        rows = [row_of_record(record) for record in records]
        Columns(iter(rows))
        table = FORMATS[".parquet"](BytesIO())
        for row in [*rows, None]:
            table(row)
    assert 0 < taken < len(sorts)
