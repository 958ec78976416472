"""Serving a pipeline, against the same server answering a constant; and drift, against a replay of the same requests.

How long requests take on one kept connection and on ten, against a bare application that uvicorn serves. Processor time
of the server, for keep-alive requests over 32 connections made by ``ab`` (Debian's apache2-utils; left out where that
isn't installed); and of this process for ``drift`` of an application that does next to nothing.
``real_service.py N``: N requests for the server.
"""

from __future__ import annotations

import os
import re
import shutil
import socket
import statistics
import subprocess
import sys
import time
from http.client import HTTPConnection
from pathlib import Path
from threading import Thread
from typing import Any

import patient_usher.demo
from patient_usher import Trace, drift, load, replay

DEMO = Path(patient_usher.demo.__file__).parent
TICK = os.sysconf("SC_CLK_TCK")
CONSTANT = """
import sys
from patient_usher.wire.server import Server, listening
HEAD = [(b"Content-Type", b"application/json"), (b"X-Harbour", b"tern"), (b"Content-Length", b"52")]
async def app(scope, receive, send):
    await receive()
    await send({"type": "http.response.start", "status": 200, "headers": HEAD})
    await send({"type": "http.response.body", "body": b'{"station": "tern", "high": "06:12", "low": "12:21"}'})
Server(app, listening("127.0.0.1", int(sys.argv[1]))).work()
"""


BARE = """
import sys, uvicorn
async def app(scope, receive, send):
    await receive()
    await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"52")]})
    await send({"type": "http.response.body", "body": b'{"station": "tern", "high": "06:12", "low": "12:21"}'})
uvicorn.run(app, host="127.0.0.1", port=int(sys.argv[1]), http="h11", lifespan="off", log_level="critical")
"""


def free_port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        port: int = found.getsockname()[1]
        return port


def seconds(command: list[str], port: int, count: int) -> float:
    """Processor time of a server for so many requests, after a tenth of them to warm up."""
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    try:
        for _ in range(100):
            with socket.socket() as knocking:
                if knocking.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.1)
        _load(port, count // 10)
        before = _processor_time(process.pid)
        _load(port, count)
        return _processor_time(process.pid) - before
    finally:
        process.terminate()
        process.wait()


def waited(command: list[str], port: int, connections: int, count: int = 400) -> float:
    """Seconds from request to answer, the median, on so many kept connections at once."""
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    took: list[float] = []

    def ask() -> None:
        client = HTTPConnection("127.0.0.1", port, timeout=60)
        for _ in range(count // connections):
            begun = time.perf_counter()
            client.request("GET", "/health")
            client.getresponse().read()
            took.append(time.perf_counter() - begun)
        client.close()

    try:
        for _ in range(200):
            with socket.socket() as knocking:
                if knocking.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.1)
        asking = [Thread(target=ask) for _ in range(connections)]
        for one in asking:
            one.start()
        for one in asking:
            one.join()
    finally:
        process.terminate()
        process.wait()
    return statistics.median(took)


def _load(port: int, count: int) -> None:
    url = f"http://127.0.0.1:{port}/v1/tides?station=tern"
    said = subprocess.run(
        ["ab", "-q", "-k", "-c", "32", "-n", str(count), url], capture_output=True, text=True, check=True
    ).stdout
    assert re.search(r"Failed requests:\s+0", said), said


def _processor_time(pid: int) -> float:
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / TICK


async def nothing(scope: Any, receive: Any, send: Any) -> None:
    """Answers, and no more."""
    if scope["type"] == "http":
        await send({"type": "http.response.start", "status": 200, "headers": [(b"content-type", b"text/plain")]})
        await send({"type": "http.response.body", "body": b"ok"})


def drifting() -> float:
    """How many times as long a drift of a thousand requests takes as their replay."""
    pipeline = load(DEMO / "landing.yaml")
    sends = [
        {
            "id": f"r{at}",
            "send": ("GET /tides", "GET /berths")[at % 2],
            **({"sign": {"api-key": "odile"}} if at % 3 else {}),
        }
        for at in range(1000)
    ]
    trace = Trace.of(*sends, base="https://landing.ternharbour.example")
    ratios = []
    for _ in range(5):
        begun = time.process_time()
        list(replay(pipeline, trace))
        replayed = time.process_time()
        list(drift(pipeline, trace, app=nothing))
        ratios.append((time.process_time() - replayed) / (replayed - begun))
    return statistics.median(ratios)


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    print(f"drift of 1,000 requests: {drifting():.2f} times their replay")
    usher = str(Path(sys.executable).parent / "usher")
    for connections in (1, 10):
        ports = [free_port(), free_port()]
        bare = waited([sys.executable, "-c", BARE, str(ports[0])], ports[0], connections)
        serve = [usher, "serve", str(DEMO / "harbour.yaml"), "-q", "--listen", f"127.0.0.1:{ports[1]}"]
        kept = waited(serve, ports[1], connections)
        words = f"{connections} kept connection{'s' * (connections > 1)}"
        print(f"serve, {words}: {kept / bare:.2f} times a bare server, {kept * 1e3:.2f} ms a request")
    if shutil.which("ab") is None:
        print("serve: ab isn't installed here (apache2-utils)")
        return
    for words, more in (("quiet", ["-q"]), ("with rows", [])):
        ports = [free_port(), free_port()]
        constant = seconds([sys.executable, "-c", CONSTANT, str(ports[0])], ports[0], count)
        served = seconds(
            [usher, "serve", str(DEMO / "harbour.yaml"), "--listen", f"127.0.0.1:{ports[1]}", *more], ports[1], count
        )
        print(f"serve, {words}: {served / constant:.2f} times a constant, {served / count * 1e6:.0f} us a request")


if __name__ == "__main__":
    main()
