"""Exchanges per second through the demo pipeline, against a straight-line function.

The straight line does the same routing, key lookup, role check, header and body work for the same
requests, written out by hand with nothing modelled. Both run in this process, in turn, and the
median of the ratios, pair by pair, is printed. Where nobody looks no journey is kept, as in a quiet
replay of many requests; what it takes to keep them is told beside it.
"""

from __future__ import annotations

import json
import re
import statistics
import sys
import time
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path

import patient_usher.demo
from patient_usher import Pipeline, RunState, load
from patient_usher.core.engine.run.clock import Clock
from patient_usher.core.engine.run.walk import Walk
from patient_usher.core.http.dates import http_date
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Request
from patient_usher.core.http.urls import parse_url
from patient_usher.core.model.exchange import Exchange

DEMO = Path(patient_usher.demo.__file__).parent
HOST = "https://api.ternharbour.example"
KEY = "X-Harbour-Key"
START = 1_924_992_000_000_000

# (method, path, key): read by all, read by a skipper, refused for the role, without a key, unknown.
REQUESTS = [
    ("GET", "/health", None),
    ("GET", "/v1/tides?station=tern", None),
    ("GET", "/v1/berths/T07", "marens-made-up-key"),
    ("GET", "/v1/harbour/ledger", "marens-made-up-key"),
    ("GET", "/v1/harbour/ledger", None),
    ("GET", "/v1/lighthouse", "odiles-made-up-key"),
]


def straight_line() -> Callable[[Request, int], tuple[int, list[tuple[str, str]], bytes, list[str]]]:
    """The demo service as one function."""
    accounts = {
        "marens-made-up-key": ("maren", ["skipper"]),
        "odiles-made-up-key": ("odile", ["harbour-master"]),
    }
    exact = {
        ("GET", "/health"): "health",
        ("GET", "/v1/tides"): "tides",
        ("GET", "/v1/harbour/ledger"): "ledger",
    }
    berth = re.compile(r"/v1/berths/([^/]+)")
    challenges = ['Bearer realm="Tern Harbour"', f'ApiKey realm="Tern Harbour", in="header", name="{KEY}"']
    public = {"health", "tides"}

    def problem(
        status: int, title: str, detail: str, fields: list[tuple[str, str]]
    ) -> tuple[int, list[tuple[str, str]], bytes]:
        body = json.dumps({"type": "about:blank", "title": title, "status": status, "detail": detail}).encode()
        return status, [("Content-Type", "application/problem+json"), *fields], body

    def answer(request: Request) -> tuple[int, list[tuple[str, str]], bytes]:
        url = request.url
        route = exact.get((request.method, url.path))
        values: dict[str, str] = {}
        if route is None and (match := berth.fullmatch(url.path)) and request.method == "GET":
            route, values = "berth", {"berth": match.group(1)}
        key = request.fields.get("x-harbour-key")
        caller = None
        if key is not None:
            caller = accounts.get(key)
            if caller is None:
                return problem(
                    401,
                    "Unauthorized",
                    "This credential doesn't count here",
                    [("WWW-Authenticate", c) for c in challenges],
                )
        elif route not in public:
            return problem(
                401,
                "Unauthorized",
                "Bring a harbour key or a token",
                [("WWW-Authenticate", c) for c in challenges],
            )
        if route is None:
            return problem(404, "Not Found", "Nothing is here", [])
        if route == "ledger" and (caller is None or "harbour-master" not in caller[1]):
            return problem(403, "Forbidden", "You may not do this", [])
        if route == "health":
            return 200, [("Content-Type", "text/plain; charset=utf-8")], b"afloat"
        if route == "tides":
            body = json.dumps(
                {"station": url.params.get("station", [None])[0], "high": "06:12", "low": "12:21"}
            ).encode()
        elif route == "berth":
            body = json.dumps(
                {"berth": values["berth"], "asked_by": caller[0] if caller else None, "free": True}
            ).encode()
        else:
            body = b'{"owed": 1250}'
        return 200, [("Content-Type", "application/json")], body

    date = lru_cache(maxsize=256)(lambda second: http_date(second * 1_000_000))  # who writes by hand remembers it too

    def serve(request: Request, now: int) -> tuple[int, list[tuple[str, str]], bytes, list[str]]:
        log = [f"{request.method} {request.url.target}"]
        status, fields, body = answer(request)
        if status >= 400:
            log.append(f"warning {status}")
        fields += [("X-Harbour", "tern"), ("Date", date(now // 1_000_000)), ("Content-Length", str(len(body)))]
        log.append(f"{request.method} {request.url.target} {status}")
        return status, fields, body, log

    return serve


def prepared() -> list[Request]:
    """The requests, ready made for both sides."""
    made = []
    for method, path, key in REQUESTS:
        url = parse_url(HOST + path)
        fields = Fields([("Host", url.authority)] + ([(KEY, key)] if key else []))
        made.append(Request(method, url, fields))
    return made


def modelled(pipeline: Pipeline, requests: list[Request], rounds: int, *, journeys: bool) -> list[int]:
    """The same requests through the pipeline; the statuses of the last round."""
    done: list[Exchange] = []
    run_state, clock = RunState(pipeline), Clock(START)
    walk = Walk(clock, lambda x: None, done.append, pipeline.compiled.missing)
    for _ in range(rounds):
        done.clear()
        for request in requests:
            walk.start(run_state.admit("bench", request, clock.now, watched=journeys), 30_000_000)
            while clock.step():  # a handler that is busy takes its virtual time
                pass
    return [x.answer.status for x in done if x.answer is not None]


def main() -> int:
    """Time both and print the ratios."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    requests = prepared()
    serve = straight_line()
    pipeline = load(DEMO / "harbour.yaml")  # loading is not what is measured
    expected = [serve(request, START)[0] for request in requests]
    actual = modelled(pipeline, requests, 1, journeys=True)
    if expected != actual:
        print(f"the two disagree: straight line {expected}, pipeline {actual}", file=sys.stderr)
        return 1
    took: dict[str, list[float]] = {"straight line": [], "pipeline": [], "with journeys": []}
    for _ in range(15):  # in turn, so that a machine that changes its pace changes it for all
        begin = time.perf_counter()
        for _ in range(rounds):
            for request in requests:
                serve(request, START)
        took["straight line"].append(time.perf_counter() - begin)
        for name, journeys in (("pipeline", False), ("with journeys", True)):
            begin = time.perf_counter()
            modelled(pipeline, requests, rounds, journeys=journeys)
            took[name].append(time.perf_counter() - begin)
    for name, times in took.items():
        print(f"{name + ':':<15}{rounds * len(requests) / statistics.median(times):>10,.0f} exchanges a second")
    for name in ("pipeline", "with journeys"):
        ratio = statistics.median(mine / its for mine, its in zip(took[name], took["straight line"], strict=True))
        wanted = " (wanted: at most 2.8)" if name == "pipeline" else ", all kept (wanted: at most 4)"
        print(f"ratio: {ratio:.2f} times the straight line{wanted}")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
