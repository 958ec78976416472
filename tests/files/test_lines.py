"""Traces in JSON Lines: lines that say the same share what is made of them, and nothing shows it."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from random import Random
from typing import Any

import pytest

from conftest import DEMO, Outcome, make_pipeline
from patient_usher import Unusable
from patient_usher.core.engine.bind.request_templates import Entry, Kept
from patient_usher.core.engine.bind.trace import Maker, read_spec
from patient_usher.files.lines import Lines, _LineReader
from patient_usher.files.trace import Trace

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


SERVICE = make_pipeline(
    [{"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}]}],
    routes=[{"id": "t", "at": "GET /tides", "handler": {"answer": {"text": "x"}}}],
    accounts={"maren": {"api-keys": ["marens-made-up-key"]}},
)
SPEC = read_spec({**HEAD, "callers": {"buoy": {"address": "192.0.2.3", "headers": {"User-Agent": "b"}}}})
NASTY = ["{", "}", '"', "\\", '":', ',"address":"192.0.2.9"', ', "caller":"buoy"', '"id":"q"', '"took":"5us"', "${clock.now}", "$${x}", "é", "\u2028", "a", ""]  # fmt: skip


def nasty(random: Random) -> str:
    return "".join(random.choice(NASTY) for _ in range(random.randrange(4)))


def nested(random: Random, depth: int = 0) -> Any:
    """Any JSON, with members that are called as those of a line."""
    if random.random() < 0.4 + 0.2 * depth:
        return random.choice([nasty(random), 7, None, True, "192.0.2.7"])
    if random.random() < 0.4:
        return [nested(random, depth + 1) for _ in range(random.randrange(3))]
    names = ["address", "caller", "id", "at", "took", "change", "a"]
    return {random.choice(names): nested(random, depth + 1) for _ in range(random.randrange(4))}


def odd_row(random: Random, number: int) -> dict[str, Any]:
    """A line that is right, or nearly."""
    row: dict[str, Any] = {"id": f"r{number}", random.choice(["at", "after"]): f"{number}ms"}
    if random.random() < 0.3:
        row["took"] = "5us"
    others: dict[str, tuple[float, Callable[[], Any]]] = {
        "send": (1, lambda: random.choice(["GET /tides", "GET /tides?a=b", "POST /x", "GET /{x}"])),
        "headers": (0.5, lambda: {random.choice(["X-A", "address", "Caller"]): random.choice([nasty(random), "192.0.2.5", ["a", "b"]])}),
        "address": (0.4, lambda: random.choice(["192.0.2.9", "2001:DB8::1", "no"])),
        "caller": (0.2, lambda: random.choice(["buoy", "script", "nobody"])),
        random.choice(["json", "text", "form"]): (0.4, lambda: nested(random)),
        "sign": (0.1, lambda: {"api-key": "maren"}),
        "times": (0.1, lambda: 2),
    }  # fmt: skip
    members = [(name, make()) for name, (share, make) in others.items() if random.random() < share]
    random.shuffle(members)
    return {**row, **dict(members)}


def told(entry: Entry) -> object:
    """All that an entry says."""
    request_template = entry.request_template
    assert request_template is not None
    try:
        request = request_template.request(Kept(), SERVICE.compiled)
    except LookupError as error:
        return repr(error)
    sent = (request.method, request.url.text, request.fields.pairs(), request.body, entry.address or request.peer)
    return (
        entry.id,
        entry.at,
        entry.after,
        entry.took,
        sent,
        request_template.caller_name,
        request_template.spec.times,
    )


@pytest.mark.parametrize("seed", range(12))
def test_a_line_says_the_same_the_first_time_the_second_time_and_read_with_care(seed: int) -> None:
    def reader() -> _LineReader:
        return _LineReader("t", Maker(SPEC, SERVICE.compiled, lambda path: b""), (), ids_differ=True)

    def attempt(read: Callable[[], Entry]) -> object:
        try:
            return told(read())
        except Unusable as error:
            return str(error)

    random, quick = Random(seed), reader()
    for number in range(60):
        row = odd_row(random, number)
        separators = random.choice([(",", ":"), (", ", ": ")])
        raw = json.dumps(row, ensure_ascii=random.random() < 0.5, separators=separators).encode() + b"\n"
        careful = attempt(lambda raw=raw: reader()._read(9, raw))  # type: ignore[misc]
        for _ in range(2):
            assert attempt(lambda raw=raw: quick._known(9, raw) or quick._read(9, raw)) == careful, raw  # type: ignore[misc]


# In stretches.


@pytest.mark.parametrize("seed", range(20))
def test_stretches_hold_each_line_once(tmp_path: Path, seed: int) -> None:
    random = Random(seed)
    path = tmp_path / "t.jsonl"
    rows = ["", " "] + [json.dumps({"id": f"r{at}", "send": "GET /" + "x" * random.randrange(300)}) for at in range(50)]
    random.shuffle(rows)
    text = "\n".join([json.dumps(HEAD), *rows[: random.randrange(52)]])
    path.write_text(text + random.choice(["", "\n", "\n\n"]))
    wanted = path.read_bytes().splitlines(keepends=True)[1:]
    lines = of(path)
    stretches = lines.stretches(random.randrange(1, 9))
    found = [list(lines.within(*stretch)) for stretch in stretches]
    assert [raw for several in found for _, raw in several] == wanted
    assert [[number for number, _ in several] for several in found] == [
        list(range(start := 0 if at else 2, start + len(several))) for at, several in enumerate(found)
    ]


def of(path: Path) -> Lines:
    lines = Trace.read(path).lines
    assert lines is not None
    return lines
