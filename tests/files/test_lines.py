"""Traces in JSON Lines: lines that say the same share what is made of them, and nothing shows it."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from random import Random
from typing import Any

import pytest

from conftest import DEMO, Outcome

Usher = Callable[..., Outcome]
HEAD = {"patient-usher": "trace/1", "base": "https://api.ternharbour.example"}
PARTS: list[dict[str, Any]] = [
    {}, {"address": "192.0.2.7"}, {"address": "198.51.100.9"}, {"sign": {"api-key": "maren"}}, {"sign": {"bearer": "odile"}}, {"expect": {"status": 200}},
    {"expect": {"status": [200, 401]}}, {"headers": {"User-Agent": "Barnacle/2"}}, {"headers": {"X-Harbour-Key": ["marens-made-up-key"]}}, {"headers": {"X-Odd": 'a "b" \\'}},
    {"took": "250ms"}, {"caller": "buoy"}, {"caller": "buoy", "address": "203.0.113.5"},
    {"headers": {"X-Odd": "}", "address": "192.0.2.99"}}, {"headers": {"X-Odd": "{"}, "address": "192.0.2.98"}, {"headers": {"X-Odd": "1"}, "address": "192.0.2.97"},
]  # fmt: skip
SENDS: list[dict[str, Any]] = [
    {"send": "GET /health"}, {"send": "GET /v1/tides?station=tern"}, {"send": "GET /v1/berths/T07"}, {"send": "POST /v1/berths/T07/bookings", "json": {"id": 7, "a": "${caller.x}" * 0}},
    {"send": "POST /v1/fuel/orders", "form": {"a": "b"}}, {"send": "GET /v1/harbour/ledger", "times": 2},
    {"send": "POST /v1/berths/T07/bookings", "json": {"id": 7, "address": "192.0.2.77"}}, {"send": "POST /v1/berths/T07/bookings", "json": {"a": {"b": 1}, "address": "192.0.2.76"}},
    {"send": "POST /v1/berths/T07/bookings", "json": [{"a": "}"}, {"b": "", "address": "192.0.2.75"}]},
]  # fmt: skip


@pytest.mark.parametrize("seed", range(8))
def test_the_quick_way_and_the_careful_one_agree(usher: Usher, tmp_path: Path, seed: int) -> None:
    """The same lines with their members in another order are read with all care, one by one."""
    random = Random(seed)
    rows = []
    for number in range(120):
        row: dict[str, Any] = {"id": f"r{number}", "at": f"{number * 50}ms", **random.choice(SENDS)}
        for part in random.sample(PARTS, random.randrange(0, 3)):
            row = {**row, **part}
        if random.random() < 0.3:
            row = {
                "id": row.pop("id"),
                "at": row.pop("at"),
                "took": f"{random.randrange(9)}00000us",
                **{k: v for k, v in row.items() if k != "took"},
            }
        rows.append(row)
    head = {**HEAD, "callers": {"buoy": {"address": "192.0.2.50", "headers": {"User-Agent": "buoy/1"}}}}
    for name, turn in (("quick", list), ("careful", reversed)):
        lines = [json.dumps(head), *(json.dumps(dict(turn(list(row.items()))), separators=(",", ":")) for row in rows)]  # type: ignore[operator]
        (tmp_path / f"{name}.jsonl").write_text("\n".join(lines) + "\n")
    busy = ("--busy", "each") if seed % 2 else ()
    quick, careful = (
        usher("replay", str(DEMO / "harbour.yaml"), f"{name}.jsonl", "--format", "jsonl", *busy)
        for name in ("quick", "careful")
    )
    assert quick.err == careful.err == ""
    assert quick.out.splitlines() == careful.out.splitlines()
    assert len(quick.out.splitlines()) >= 120


def test_one_address_that_is_none(usher: Usher) -> None:
    text = (
        "\n".join(
            [
                json.dumps(HEAD),
                '{"id":"a","at":"0s","send":"GET /health","address":"192.0.2.1"}',
                '{"id":"b","at":"1s","send":"GET /health","address":"999.0.2.1"}',
            ]
        )
        + "\n"
    )
    outcome = usher("replay", str(DEMO / "harbour.yaml"), "t.jsonl", "-q", t__jsonl=text)
    assert (outcome.status, "t.jsonl:3:" in outcome.err, "'999.0.2.1' is no IP address" in outcome.err) == (
        2,
        True,
        True,
    )
