"""By what a line of a trace is told apart: held against the very request that a replay makes of it."""

from __future__ import annotations

import json
from collections import defaultdict
from pathlib import Path
from random import Random
from typing import Any

import pytest

from conftest import make_pipeline
from patient_usher import RunState, Trace
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.verify.run import run
from patient_usher.use_cases.line_keys import by_address, key_reader

SERVICE = make_pipeline(
    [{"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}], "without-credential": "pass-on", "wrong-credential": "pass-on"}],
    routes=[
        {"id": id_, "at": at, "access": "everyone", "handler": {"answer": {"text": "ok"}}}
        for id_, at in (("tides", "GET /tides"), ("berth", "GET /berths/{berth}"), ("said", "POST /said"))
    ],
    accounts={"maren": {"api-keys": ["marens-made-up-key"]}, "odile": {"api-keys": ["odiles-made-up-key"]}},
)  # fmt: skip
CALLERS = {"buoy": {"address": "192.0.2.3", "headers": {"x-API-key": "buoys-made-up-key"}}}
HEAD = {"patient-usher": "trace/1", "base": "https://a.example", "callers": CALLERS}
TARGETS = [
    "/tides?station=tern",
    "/tides?a=1&station=gull&station=tern",
    "/tides?%73tation=tern",
    "/berths/T07",
    "/berths/T%30%37?station=",
    "https://b.example/tides?station=auk",
    "/none",
]
KEYS = ["marens-made-up-key", "odiles-made-up-key", "ä key \"of\" nobody's", ""]  # fmt: skip


def a_line(random: Random, number: int) -> str:
    """A request said in one of many ways."""
    row: dict[str, Any] = {"id": f"r{number}", "at": f"{number}ms", "send": f"GET {random.choice(TARGETS)}"}
    headers: dict[str, Any] = {"User-Agent": random.choice(["a", 'X-Api-Key": "b'])}
    for name in random.sample(["X-Api-Key", "x-api-key", "X-API-KEY", "X-Other"], random.randrange(3)):
        headers[name] = random.choice([*KEYS, [KEYS[0]], [KEYS[0], KEYS[1]]])
    row["headers"] = headers
    if random.random() < 0.2:
        row["sign"] = {"api-key": random.choice(["maren", "odile"])}
    if random.random() < 0.2:
        row["took"] = "5ms"
    if random.random() < 0.3:
        row["caller"] = random.choice(["buoy", "script"])
    elif random.random() < 0.3:
        row["address"] = random.choice(["192.0.2.3", "2001:DB8::1", "2001:db8::1", "2001:db8:0::1"])
    if random.random() < 0.2:
        row |= {"send": "POST /said", "json": {"X-Api-Key": "x", "address": "198.51.100.9"}, "times": 2}
    return json.dumps(row, ensure_ascii=random.random() < 0.5)


PARTS = {
    "address": lambda x: x.address,
    "route": lambda x: x.route.id if x.route is not None else "",
    "identity": lambda x: x.identity.name if x.identity is not None else "",
    "header.x-api-key": lambda x: x.sent.fields.get("x-api-key") or "",
    "query.station": lambda x: (x.sent.url.params.get("station") or [""])[0],
}


@pytest.mark.parametrize("part", PARTS)
@pytest.mark.parametrize("seed", range(4))
def test_what_is_the_same_in_the_request_is_the_same_in_the_line(tmp_path: Path, part: str, seed: int) -> None:
    random = Random(seed)
    lines = [a_line(random, number) for number in range(300)]
    path = tmp_path / "t.jsonl"
    path.write_text("\n".join([json.dumps(HEAD), *lines]) + "\n")
    compiled = SERVICE.compiled
    key_of = key_reader(part, HEAD, compiled)
    keys: dict[str, set[int]] = defaultdict(set)
    sent: dict[str, Exchange] = {}
    for judged in run(RunState(SERVICE), Trace.read(path).bound(compiled)):
        sent.setdefault(judged.send.entry.id, judged.send.exchanges[0])
    assert len(sent) == 300
    for number, line in enumerate(lines):
        keys[PARTS[part](sent[f"r{number}"])].add(key_of(line.encode()))
    assert all(len(found) == 1 for found in keys.values()), keys
    assert len({key for found in keys.values() for key in found}) == len(keys) > 2


NESTED = [
    ('"address":"192.0.2.7"', b"192.0.2.7"), ('"caller":"buoy"', b"192.0.2.3"), ('"headers":{"X-A":"1"}', b"192.0.2.1"), ('"json":{"address":"198.51.100.9"}', b"192.0.2.1"),
    ('"json":{"address":"198.51.100.9"},"address":"192.0.2.7"', b"192.0.2.7"), ('"json":{"caller":"buoy"},"address":"192.0.2.7"', b"192.0.2.7"), ('"address":"192.0.2.7","json":{"address":"198.51.100.9"}', b"192.0.2.7"),
    (r'"headers":{"X-A":"\"address\":\"198.51.100.9\""}', b"192.0.2.1"), ('"caller":"buoy","json":{"address":"198.51.100.9"}', b"192.0.2.3"),
]  # fmt: skip


@pytest.mark.parametrize(("members", "address"), NESTED)
def test_an_address_in_a_body_is_not_the_callers(members: str, address: bytes) -> None:
    line = f'{{"id":"a","at":"0s","send":"POST /",{members}}}'.encode()
    assert by_address({"buoy": {"address": "192.0.2.3"}})(line) == address
