"""Each rate-limit algorithm over a million arrivals, against a plain dictionary counter.

The counter is a function that counts up to a quota per key and window, and nothing more. Arrivals
are the same for all: 50,000 partitions in random order, a millisecond apart. Memory is the
number of states that a limiter holds, half-way and at the end.
"""

from __future__ import annotations

import statistics
import sys
import time
from collections.abc import Callable
from random import Random

from patient_usher.core.http.limits import ALGORITHMS, AtOnce

START = 1_924_992_000_000_000
PARTITIONS = 50_000
QUOTA, WINDOW = 12, 600_000_000


def plain_counter() -> Callable[[str, int], bool]:
    """What one would write by hand."""
    counts: dict[tuple[str, int], int] = {}

    def allow(key: str, now: int) -> bool:
        slot = (key, now // WINDOW)
        used = counts.get(slot, 0)
        if used >= QUOTA:
            return False
        counts[slot] = used + 1
        return True

    return allow


def main() -> int:
    """Time them in turn and print the ratios."""
    arrivals = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    random = Random(7)
    keys = [f"203.0.{n // 256}.{n % 256}" for n in range(PARTITIONS)]
    order = [(keys[random.randrange(PARTITIONS)], START + n * 1000) for n in range(arrivals)]
    rounds = 3
    plain: list[float] = []
    took: dict[str, list[float]] = {name: [] for name in ALGORITHMS}
    states: dict[str, tuple[int, int]] = {}
    for _ in range(rounds):
        for name, make in ALGORITHMS.items():
            allow = plain_counter()
            begin = time.perf_counter()
            for key, now in order:
                allow(key, now)
            middle = time.perf_counter()
            limiter = make(QUOTA, WINDOW)
            take = limiter.take
            half = 0
            for number, (key, now) in enumerate(order):
                if number == arrivals // 2:
                    half = len(limiter.states)
                take(key, now)
                if name == "at-once" and isinstance(limiter, AtOnce):
                    limiter.leave(key)
            end = time.perf_counter()
            plain.append(middle - begin)
            took[name].append((end - middle) / (middle - begin))
            states[name] = (half, len(limiter.states))
    base = statistics.median(plain)
    print(f"plain counter:   {arrivals / base:>10,.0f} arrivals a second")
    for name, ratios in took.items():
        half, full = states[name]
        ratio = statistics.median(ratios)
        print(f"{name + ':':<16} {ratio:.2f} times the plain counter; {half:,} states half-way, {full:,} at the end")
    print("(wanted: at most 3 times; states flat once the live partitions are reached)")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
