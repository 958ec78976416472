"""Saved results with numbers that no replay writes: taken, or refused in a line; never a fault."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from conftest import DEMO, Outcome

Usher = Callable[..., Outcome]
STORIES = [("limits", "limits-story"), ("shelf", "shelf-story")]


def numbers(value: Any, path: tuple[str | int, ...] = ()) -> Iterator[tuple[str | int, ...]]:
    """Where numbers stand, one of a sort each."""
    if isinstance(value, dict | list):
        for key, item in value.items() if isinstance(value, dict) else enumerate(value):
            yield from numbers(item, (*path, key))
    elif isinstance(value, int | float) and not isinstance(value, bool):
        yield path


@pytest.mark.parametrize(("name", "story"), STORIES)
@pytest.mark.parametrize("number", [10**400, 1e300, -1, 0.5], ids=["huge", "large", "less", "half"])
def test_numbers_that_no_replay_writes(usher: Usher, tmp_path: Path, name: str, story: str, number: float) -> None:
    done = usher("replay", str(DEMO / f"{name}.yaml"), str(DEMO / f"{story}.yaml"), "--format", "json")
    result = json.loads(done.out)
    result["exchanges"] = result["exchanges"][:4]
    sorts = {tuple("*" if isinstance(key, int) else key for key in path): path for path in numbers(result)}
    assert len(sorts) > 12
    for path in sorts.values():
        part = result
        for key in path[:-1]:
            part = part[key]
        before, part[path[-1]] = part[path[-1]], number
        (tmp_path / "r.json").write_text(json.dumps(result))
        part[path[-1]] = before
        for command in (("chart", "r.json", "--format", "csv"), ("export", "r.json", "--into", "o.parquet")):
            told = usher(*command)
            assert told.status in (0, 2), (path, command, told.err)
            assert told.status == 0 or told.err.startswith("r.json:1:1: this result isn't whole: "), told.err
