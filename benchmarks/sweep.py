"""A sweep of eight combinations over a trace in bulk, on one core and on two."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import bulk

PIPELINE = Path(bulk.PIPELINE).with_name("limits.yaml")


def taking(trace: Path, cores: int) -> float:
    """The seconds of wall time that the whole command takes."""
    command = [sys.executable, "-m", "patient_usher", "sweep", str(PIPELINE), str(trace), "--cores", str(cores)]
    begin = time.perf_counter()
    with open(os.devnull, "wb") as nowhere:
        subprocess.run([*command, "--try", "throttle.quota=5,10,20,30,40,50,60,70"], stdout=nowhere, check=True)
    return time.perf_counter() - begin


def main() -> None:
    """Time and print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 60_000
    with tempfile.TemporaryDirectory() as folder:
        trace = Path(folder, "trace.jsonl")
        bulk.write_trace(trace, count)
        one, two = taking(trace, 1), taking(trace, 2)
    print(f"8 combinations of {count:,} requests: {one:.1f} s on one core, {two:.1f} s on two: {one / two:.2f} times")
    print("wanted: at least 1.7 times, on two cores that nothing else uses")


if __name__ == "__main__":
    main()
