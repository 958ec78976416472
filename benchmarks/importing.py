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
    """So many lines, a hundred a second, from a thousand addresses, of a few requests and agents."""
    random = Random(5)
    with path.open("w") as stream:
        for number in range(count):
            target = random.choice(("/health", "/v1/tides?station=tern", f"/v1/berths/T{random.randrange(40):02}"))
            address = f"198.51.{random.randrange(4)}.{random.randrange(250)}"
            stream.write(_line(number, address, target, "-", random.choice(AGENTS)))


def write_varied_log(path: Path, count: int) -> None:
    """So many lines, each with a query of its own, of many callers, pages and agents."""
    random = Random(7)
    agents = [
        f"page/{at}.{random.randrange(100)} (device {random.randrange(1_000_000)}; sails)" for at in range(20_000)
    ]
    with path.open("w") as stream:
        for number in range(count):
            query = f"station=s{random.randrange(900)}&at={random.randrange(10**9)}&q={random.randrange(16**8):08x}"
            address = f"198.{random.randrange(18, 20)}.{random.randrange(256)}.{random.randrange(250)}"
            page = f"https://harbour.example/p/{random.randrange(3000)}"
            stream.write(_line(number, address, f"/v1/tides?{query}", page, random.choice(agents)))


def _line(number: int, address: str, target: str, page: str, agent: str) -> str:
    second = number // 100
    moment = f"{1 + second // 86400:02}/May/2031:{second // 3600 % 24:02}:{second // 60 % 60:02}:{second % 60:02}"
    return f'{address} - - [{moment} +0000] "GET {target} HTTP/1.1" 200 512 "{page}" "{agent}"\n'


def splitting(log: Path) -> float:
    """Seconds of processor time for the baseline."""
    begin = time.process_time()
    with log.open("rb") as stream:
        for line in stream:
            match = LINE.match(line)
            assert match is not None
            match.groups()
    return time.process_time() - begin


def main() -> int:
    """Time and print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    with tempfile.TemporaryDirectory() as folder:
        log, into = Path(folder, "access.log"), Path(folder, "trace.jsonl")
        for words, write, wanted in (("tame", write_log, 4.5), ("varied", write_varied_log, 8)):
            write(log, count)
            base = splitting(log)
            before = resource.getrusage(resource.RUSAGE_CHILDREN)
            with open(os.devnull, "wb") as nowhere:
                command = [sys.executable, "-m", "patient_usher", "import", str(log), "--into", str(into)]
                subprocess.run(command, stdout=nowhere, check=True)
            after = resource.getrusage(resource.RUSAGE_CHILDREN)
            base = (base + splitting(log)) / 2
            took = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
            print(
                f"{count:,} {words} lines imported in {took:.1f} s: {took / base:.1f} times splitting them "
                f"(wanted: at most {wanted}), at most {after.ru_maxrss / 1024:.0f} MiB (wanted: under 120)"
            )
    return 0


if __name__ == "__main__":
    sys.exit(main())
