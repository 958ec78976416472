"""Very many requests in parts and side by side: two cores, a cluster of two processes, a comparison, a chart.

Each is held against one replay of the same trace on one core, in the same run, start included; memory is the largest
process's. ``parts.py N``: N requests, of the demo's day and of one in which a single caller sends 46 %.
"""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from random import Random
from typing import NamedTuple

import patient_usher.demo

DEMO = Path(patient_usher.demo.__file__).parent
BUSY, BUSIER = DEMO / "busy.yaml", "throttle.quota=100"


class Took(NamedTuple):
    """What a command took: seconds by the wall, and MiB in the largest of its processes."""

    seconds: float
    most: float


def write_day(path: Path, count: int, heavy: float) -> None:
    """So many requests of a thousand callers, one of which sends this share of them."""
    random = Random(11)
    with path.open("w") as stream:
        stream.write('{"patient-usher": "trace/1", "base": "https://api.ternharbour.example"}\n')
        for number in range(count):
            caller = 0 if random.random() < heavy else random.randrange(1, 1000)
            target = random.choice(("/v1/berths", "/v1/weather", f"/v1/tides?station=s{random.randrange(40)}"))
            row = {
                "id": f"r{number}", "at": f"{number * 9}ms", "send": f"GET {target}",
                "address": f"198.51.{100 + caller // 250}.{caller % 250}",
            }  # fmt: skip
            stream.write(json.dumps(row) + "\n")


def taking(*arguments: object) -> Took:
    """Run the command."""
    command = [sys.executable, "-m", "patient_usher", *map(str, arguments)]
    begin = time.perf_counter()
    with open(os.devnull, "wb") as nowhere:
        child = subprocess.Popen(command, stdout=nowhere, stderr=nowhere)
        _, status, used = os.wait4(child.pid, 0)
    assert os.waitstatus_to_exitcode(status) in (0, 1), arguments
    return Took(time.perf_counter() - begin, used.ru_maxrss / 1024)


def both_halves(replay: tuple[object, ...], day: Path) -> float:
    """How long two commands take that replay half of the day each, at once: no sharing out does better here."""
    halves = [day.with_name(f"half-{at}.jsonl") for at in (0, 1)]
    with day.open() as lines, halves[0].open("w") as first, halves[1].open("w") as second:
        # Line by line: what this process once held would count as the largest of its children's memory too.
        header = next(lines)
        for half in (first, second):
            half.write(header)
        for at, line in enumerate(lines):
            (first, second)[at % 2].write(line)
    begin = time.perf_counter()
    commands = [
        [sys.executable, "-m", "patient_usher", *(str(half if part is day else part) for part in replay)]
        for half in halves
    ]
    with open(os.devnull, "wb") as nowhere:
        children = [subprocess.Popen(command, stdout=nowhere, stderr=nowhere) for command in commands]
        for child in children:
            assert child.wait() in (0, 1)
    return time.perf_counter() - begin


def main() -> int:
    """Time and print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    with tempfile.TemporaryDirectory() as folder:
        for words, heavy, wanted in (("keys balanced", 0.0, "1.75"), ("one key of 46 %", 0.46, "1.5")):
            day = Path(folder, f"day-{heavy}.jsonl")
            write_day(day, count, heavy)
            replay = ("replay", BUSY, day, "--set", "shelf.enabled=false", "-q")
            one, two = taking(*replay), taking(*replay, "--cores", 2)
            print(
                f"{count:,} requests, {words}: {one.seconds:.1f} s, on two cores {two.seconds:.1f} s: "
                f"{one.seconds / two.seconds:.2f} times as fast (wanted: {wanted})"
            )
            print(f"  two commands at once, each with half: {one.seconds / both_halves(replay, day):.2f}")
            if not heavy:
                cluster = taking(*replay, "--cluster", 2)
                print(f"a cluster of two: {cluster.seconds:.1f} s: {one.seconds / cluster.seconds:.2f} (wanted: 1.5)")
                plain = taking("replay", BUSY, day, "-q")
                both = taking("compare", BUSY, BUSY, day, "--b-set", BUSIER)
                print(
                    f"compare: {both.seconds / plain.seconds:.2f} replays (wanted: 2.5), {both.most:.0f} MiB "
                    "(wanted: under 200)"
                )
                drawn = taking("chart", BUSY, day, "--picture", Path(folder, "day.png"))
                print(f"chart: {drawn.seconds / plain.seconds:.2f} replays, {drawn.most:.0f} MiB (wanted: under 200)")
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    print(f"the largest process of all: {peak:.0f} MiB")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
