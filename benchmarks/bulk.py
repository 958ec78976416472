"""The whole command on many JSON Lines requests, against ``json.loads`` of the same lines.

The lines are mixed: routes with and without parameters, several header fields, credentials absent,
wrong and right, some of them like others and some like none. The command is run as a user runs it,
quiet, and writing every exchange. ``bulk.py N M``: N lines for the ratios, M for memory.
"""

from __future__ import annotations

import json
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from random import Random

import patient_usher.demo

PIPELINE = Path(patient_usher.demo.__file__).parent / "harbour.yaml"
HEAD = {"patient-usher": "trace/1", "base": "https://api.ternharbour.example"}
AGENTS = ("buoy/1", "skipper/2", "harbour-page/8")
KEYS = (None, "marens-made-up-key", "odiles-made-up-key", "a-key-of-nobody")


def write_trace(path: Path, count: int) -> None:
    """So many requests, five milliseconds apart."""
    random = Random(5)
    with path.open("w") as stream:
        stream.write(json.dumps(HEAD) + "\n")
        for number in range(count):
            target = random.choice(
                (
                    "/health",
                    f"/v1/tides?station={random.choice(('tern', 'gull', 'auk', 'skua'))}",
                    f"/v1/berths/T{random.randrange(40):02}",
                    "/v1/harbour/ledger",
                    "/v1/weather",
                    "/v1/lighthouse",
                )
            )
            headers = {"User-Agent": random.choice(AGENTS), "Accept": "application/json"}
            if key := random.choice(KEYS):
                headers["X-Harbour-Key"] = key
            if random.random() < 0.3:
                headers["X-Trip"] = f"trip-{random.randrange(100_000)}"
            row = {"id": f"r{number}", "at": f"{number * 5}ms", "send": f"GET {target}", "headers": headers}
            stream.write(json.dumps(row) + "\n")


def loading(path: Path) -> float:
    """The seconds of processor time that ``json.loads`` of every line takes."""
    lines = path.read_bytes().splitlines()
    begin = time.process_time()
    for line in lines:
        json.loads(line)
    return time.process_time() - begin


def running(path: Path, *options: str) -> float:
    """The seconds of processor time that the whole command takes, its start included."""
    command = [sys.executable, "-m", "patient_usher", "replay", str(PIPELINE), str(path), *options]
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    with open(os.devnull, "wb") as nowhere:
        subprocess.run(command, stdout=nowhere, check=False)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def main() -> int:
    """Time and print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    many = int(sys.argv[2]) if len(sys.argv) > 2 else 1_000_000
    with tempfile.TemporaryDirectory() as folder:
        trace = Path(folder, "trace.jsonl")
        write_trace(trace, count)
        for options, wanted in ((("-q",), 12), (("--format", "jsonl"), 25)):
            ratios = []
            for _ in range(5):  # in turn, and as long: a machine that changes its pace changes it for both
                before = [loading(trace) for _ in range(5)]
                took = running(trace, *options)
                base = statistics.mean(before + [loading(trace) for _ in range(5)])
                ratios.append(took / base)
            told = f"{count / took:>10,.0f} requests a second, start included"
            print(
                f"{' '.join(options):<15} {told}; {statistics.median(ratios):.1f} times json.loads of the lines "
                f"(wanted: at most {wanted}; from {min(ratios):.1f} to {max(ratios):.1f})"
            )
        if many:
            write_trace(trace, many)
            running(trace, "-q")
            most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
            print(f"{many:,} requests: at most {most:.0f} MiB (wanted: under 100)")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
