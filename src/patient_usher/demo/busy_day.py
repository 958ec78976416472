"""A made-up access log of a busy day at the harbour, in the combined format: the same every time.

``python -m patient_usher.demo.busy_day`` prints it: about 20,000 lines, of boats that look at the tides, and of one
visitor at 203.0.113.9 who takes every berth there is, as fast as it goes. With ``--took`` each ends with the seconds
that the request took, as servers log it: a few are slow.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from random import Random

SEED = 20_310_501
HOURS = range(6, 20)
_STATIONS = ("tern", "gull", "auk", "skua")
_AGENTS = ("harbour-page/8", "skipper/2", "buoy/1")
_SCRAPER = ("203.0.113.9", "a-made-up-scraper/0.1")


def lines() -> Iterator[str]:
    """The log, line by line, in order of time."""
    random = Random(SEED)
    boats = [(f"198.51.100.{n}", random.choice(_AGENTS)) for n in range(1, 201)]
    for hour in HOURS:
        busy = 0.12 + 0.12 * (1 - abs(hour - 12.5) / 7)
        for second in range(3600):
            moment = f"01/May/2031:{hour:02}:{second // 60:02}:{second % 60:02} +0200"
            callers = [random.choice(boats) for _ in range(3) if random.random() < busy / 2]
            if 10 <= hour < 12 and second % 1200 < 360:
                callers += [_SCRAPER] * random.randint(2, 4)
            for address, agent in callers:
                target = _target(random, scrapes=address == _SCRAPER[0])
                yield f'{address} - - [{moment}] "GET {target} HTTP/1.1" 200 64 "-" "{agent}"'


def _target(random: Random, *, scrapes: bool) -> str:
    if scrapes:
        return f"/v1/berths?page={random.randrange(400)}"
    kind = random.random()
    if kind < 0.6:
        return f"/v1/tides?station={random.choice(_STATIONS)}"
    return "/v1/weather" if kind < 0.85 else "/v1/berths"


def lasting(random: Random) -> str:
    """How long a request took, in seconds: most of them a few hundredths, one in fifty up to four seconds."""
    return f"{random.uniform(0.3, 4) if random.random() < 0.02 else random.uniform(0.02, 0.2):.3f}"


if __name__ == "__main__":
    took = Random(SEED)
    for line in lines():
        print(line, lasting(took)) if "--took" in sys.argv else print(line)
