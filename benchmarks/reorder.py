"""Swapping the stages of a pipeline of 12 with a trace of 60 requests: neighbours, and every pair."""

from __future__ import annotations

import time

from patient_usher import Trace, load
from patient_usher.core.questions.reorder.swaps import swaps

NAMES = ("read-cookies", "request-id", "conditional", "compress")
STAGES = [
    "access-log",
    {"id": "net", "kind": "error-handler"},
    {"id": "pages", "kind": "cors", "allow-origins": ["https://boaters.example"]},
    {"id": "throttle", "kind": "rate-limit", "quota": 1000, "window": "1m"},
    {"id": "closed", "kind": "maintenance", "only": ["/closed"]},
    {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}]},
    "read-body",
    {"id": "mark", "kind": "header-fields", "on-answer": {"put": {"X-Desk": "quay"}}},
    *NAMES,
]


def main() -> None:
    """Time and print."""
    routes = [
        {"id": f"r{n}", "at": f"{method} /r{n}", "access": "signed-in", "handler": {"answer": {"json": {"n": n}}}}
        for n, method in enumerate(["GET", "POST", "GET", "PUT", "GET", "DELETE"])
    ]
    accounts = {"maren": {"api-keys": ["a-made-up-key"]}}
    pipeline = load({"patient-usher": "pipeline/1", "stages": STAGES, "routes": routes, "accounts": accounts})
    requests = [{"send": routes[n % 6]["at"], **({"sign": {"api-key": "maren"}} if n % 4 else {})} for n in range(60)]
    prepared = [Trace.of(*requests).bound(pipeline.compiled)]
    for words, every, wanted in (("neighbours", False, 0.5), ("every pair", True, 3)):
        begin = time.perf_counter()
        count = len(list(swaps(pipeline.compiled, prepared, every=every)))
        took = time.perf_counter() - begin
        print(f"{words:<11} {count:>3} swaps in {took:.2f} s (wanted: under {wanted})")


if __name__ == "__main__":
    main()
