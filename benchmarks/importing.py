"""Importing a combined log as a user does, against splitting the same lines with one compiled regular expression."""

from __future__ import annotations

import os
import re
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from random import Random

LINE = re.compile(rb'(\S+) (\S+) (\S+) \[([^\]]+)\] "([^"]*)" (\d+) (\S+) "([^"]*)" "([^"]*)"')
AGENTS = ("buoy/1", "skipper/2", "harbour-page/8", "a-made-up-scraper/0.1")


def write_log(path: Path, count: int) -> None:
    """So many lines, a hundred a second, from a thousand addresses."""
    random = Random(5)
    with path.open("w") as stream:
        for number in range(count):
            second = number // 100
            moment = (
                f"{1 + second // 86400:02}/May/2031:{second // 3600 % 24:02}:{second // 60 % 60:02}:{second % 60:02}"
            )
            target = random.choice(("/health", "/v1/tides?station=tern", f"/v1/berths/T{random.randrange(40):02}"))
            address = f"198.51.{random.randrange(4)}.{random.randrange(250)}"
            agent = random.choice(AGENTS)
            stream.write(f'{address} - - [{moment} +0000] "GET {target} HTTP/1.1" 200 512 "-" "{agent}"\n')


def main() -> int:
    """Time and print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    with tempfile.TemporaryDirectory() as folder:
        log, into = Path(folder, "access.log"), Path(folder, "trace.jsonl")
        write_log(log, count)
        begin = time.process_time()
        with log.open("rb") as stream:
            for line in stream:
                match = LINE.match(line)
                assert match is not None
                match.groups()
        base = time.process_time() - begin
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        with open(os.devnull, "wb") as nowhere:
            command = [sys.executable, "-m", "patient_usher", "import", str(log), "--into", str(into)]
            subprocess.run(command, stdout=nowhere, check=True)
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        took = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
        memory = after.ru_maxrss / 1024
        print(f"{count:,} lines imported in {took:.1f} s: {took / base:.1f} times splitting them (wanted: at most 12)")
        print(f"at most {memory:.0f} MiB (wanted: under 200)")
    return 0


if __name__ == "__main__":
    sys.exit(main())
