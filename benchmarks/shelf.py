"""Two hundred thousand requests on cacheable, compressible routes, replayed as a JSON Lines trace.

Against a straight line that reads the same lines, keeps the same answers in a dictionary and
compresses each content once. Printed: the ratio, what compressing anew would cost, and that memory stays within bounds.
"""

from __future__ import annotations

import gzip
import json
import resource
import sys
import tempfile
import time
from pathlib import Path

from patient_usher import RunState, Trace, load
from patient_usher.core.verify.run import run

PAGES, CAPACITY = 2_000, 8 << 20
PIPELINE = {
    "patient-usher": "pipeline/1",
    "stages": [
        {"id": "squeeze", "kind": "compress", "codings": ["gzip"]},
        {"id": "shelf", "kind": "cache", "capacity": CAPACITY},
    ],
    "routes": [
        {
            "id": "page",
            "at": "GET /pages/{page}",
            "access": "everyone",
            "cache": "1h",
            "handler": {"answer": {"text": "page ${path.page} " + "of the harbour book, on tides and berths " * 60}},
        }
    ],
}


def memory() -> float:
    """The process's greatest size so far, in MiB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def straight_line(trace: Path, text: str) -> float:
    """The same answers by hand, from the same lines."""
    kept: dict[str, bytes] = {}
    coded: dict[bytes, bytes] = {}
    begin = time.perf_counter()
    with trace.open("rb") as stream:
        stream.readline()
        for raw in stream:
            row = json.loads(raw)
            path = row["send"].partition(" ")[2]
            body = kept.get(path)
            if body is None:
                page = path.rpartition("/")[2]
                body = kept[path] = text.replace("${path.page}", page).encode()
            answer = {"Vary": "Accept-Encoding", "Cache-Control": "max-age=3600"}
            if "gzip" in row["headers"].get("Accept-Encoding", ""):
                small = coded.get(body)
                if small is None:
                    small = coded[body] = gzip.compress(body, 6, mtime=0)
                answer.update({"Content-Encoding": "gzip", "Content-Length": str(len(small))})
    return time.perf_counter() - begin


def main() -> int:
    """Write the trace, replay it, and print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 200_000
    text = PIPELINE["routes"][0]["handler"]["answer"]["text"]  # type: ignore[index]
    paths = [f"/pages/p{n * 7919 % PAGES}" for n in range(count)]
    with tempfile.TemporaryDirectory() as folder:
        pipeline, trace = Path(folder, "pipeline.json"), Path(folder, "trace.jsonl")
        pipeline.write_text(json.dumps(PIPELINE))
        with trace.open("w") as stream:
            stream.write(json.dumps({"patient-usher": "trace/1", "base": "https://api.example"}) + "\n")
            for number, path in enumerate(paths):
                headers = {"Accept-Encoding": "gzip"}
                row = {"id": f"r{number}", "send": f"GET {path}", "at": f"{number}ms", "headers": headers}
                stream.write(json.dumps(row) + "\n")
        run_state = RunState(load(pipeline))
        shelf = run_state.memories[0]["shelf"]
        begin = time.perf_counter()
        ran, most = 0, 0
        half = 0.0
        prepared = Trace.read(trace).bound(run_state.compiled)
        for number, (send, *_) in enumerate(run(run_state, prepared, journeys=False)):
            ran += send.final.handler_reached  # type: ignore[union-attr]
            most = max(most, shelf.size)
            if number == count // 2:
                half = memory()
        took = time.perf_counter() - begin
        base = straight_line(trace, text)
    begin = time.perf_counter()
    for path in paths[:PAGES]:
        gzip.compress(text.replace("${path.page}", path).encode(), 6, mtime=0)
    anew = (time.perf_counter() - begin) / PAGES * count
    print(f"{count / took:>10,.0f} requests a second, reading included; the handler ran {ran:,} times")
    print(f"ratio: {took / base:.1f} times a straight line that reads the same lines into a dictionary")
    print(f"compressing each answer anew would add {anew:.1f} s to these {took:.1f} s")
    print(
        f"store: at most {most:,} of {CAPACITY:,} octets; memory {half:.0f} MiB half-way, {memory():.0f} MiB at the end"
    )
    return 0 if most <= CAPACITY else 1


if __name__ == "__main__":
    raise SystemExit(main())
