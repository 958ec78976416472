"""The model, served: what goes over the wire is what it says, and what waits, stalls, leaves or misbehaves is over with."""

from __future__ import annotations

import asyncio
import json
import re
import shutil
import signal
import socket
import ssl
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import httpx
import pytest
from ruamel.yaml import YAML

from conftest import DEMO, ROOT, STORIES, USHER, Outcome, described, make_pipeline
from patient_usher import Pipeline, Trace, drift, load
from patient_usher.core.http.urls import parse_url
from patient_usher.use_cases.serve import Answers, Ended, served
from patient_usher.wire.serving import Bounds

CURL = shutil.which("curl")


@contextmanager
def serving(pipeline: Pipeline, **how: Any) -> Iterator[tuple[Any, list[Ended]]]:
    """Served, with what was over in the meantime."""
    ended: list[Ended] = []
    with served(pipeline, on_ended=ended.append, **how) as found:
        yield found, ended


def said(at: str, *octets: bytes, pause: float = 0.0) -> bytes:
    """All that comes back for some octets, on a connection of their own."""
    url = parse_url(at)
    with socket.create_connection((url.host, url.port), timeout=60) as connection:
        for part in octets:
            connection.sendall(part)
            time.sleep(pause)
        found = b""
        while part := connection.recv(65536):
            found += part
        return found


def until(true: Callable[[], Any]) -> None:
    """Wait until something is so, a minute at most."""
    ends = time.monotonic() + 60
    while not true() and time.monotonic() < ends:
        time.sleep(0.01)
    assert true()


# Two ways agree: the model asked over sockets, and walked.


SERVED = [(pipeline, ()) for pipeline, _ in STORIES] + [
    # all come from one address: past the first limit the others are reached
    (pipeline, ("throttle.quota=71",))
    for pipeline in ("limits", "limits-misplaced")
]


@pytest.mark.parametrize(("pipeline", "settings"), SERVED)
def test_what_is_served_is_the_model(pipeline: str, settings: tuple[str, ...], tmp_path: Path) -> None:
    """Without the waits of the stories, and all from this machine's address."""
    # No window may end meanwhile: how long the way takes isn't known, and a slow machine would tell it as a difference.
    options = load(DEMO / f"{pipeline}.yaml").compiled.options
    slow = [f"{id_}.window=10h" for id_, said in options.items() if getattr(said, "window", None) is not None]
    model = load(DEMO / f"{pipeline}.yaml", settings=[*slow, *settings])
    doc = YAML(typ="safe", pure=True).load((DEMO / f"{dict(STORIES)[pipeline]}.yaml").read_text())
    left_out = ("at", "after", "every", "expect", "expect-in")
    doc["requests"] = [
        {key: value for key, value in request.items() if key not in left_out}
        for request in doc["requests"]
        if "change" not in request and "http://" not in request["send"]  # another host than the one that is asked
    ]
    callers = {"script": {"kind": "script"}} | doc.get("callers", {})
    doc["callers"] = {name: {**caller, "address": "127.0.0.1", "patience": "2s"} for name, caller in callers.items()}
    (tmp_path / "t.yaml").write_text(json.dumps(doc, default=str))
    trace = Trace.read(tmp_path / "t.yaml")
    with serving(model, origin=parse_url(trace.bound(model.compiled).base)) as (found, _):
        held = list(drift(model, trace, at=found.url, writes=True))
    assert [(one.id, one.differs, one.trouble) for one in held if not one.same] == []
    assert len(held) >= 2


def test_requests_overlap_as_the_trace_has_it() -> None:
    """One at a time is let in: who comes meanwhile is refused, by the model and by what is served."""
    model = found_pipeline("1s")
    sends = [{"id": f"r{at}", "at": f"{at * 400}ms", "send": "GET /few"} for at in range(5)]
    with serving(model) as (found, _):
        held = list(drift(model, Trace.of(*sends, base="http://api.example"), at=found.url))
    assert [one.service[-1].status for one in held] == [200, 429, 429, 200, 429]
    assert [(one.id, one.differs) for one in held if not one.same] == []


BODIES = [b"", b"a=b", b"\x00\xff" * 40_000]
ANY = [{"id": "all", "kind": "decide", "cases": [{"then": {"answer": {"text": "heard"}}}]}]
"""Stages that answer whatever comes."""


@pytest.mark.parametrize("method", ["GET", "POST", "PUT", "HEAD", "OPTIONS", "DELETE"])
@pytest.mark.parametrize(
    "target", ["/", "/a%2Fb", "/a/../b", "//a", "/a?b=%20c&d=", "/%7Ea", "/a;b=c", "/ä".encode().decode("latin-1")]
)
def test_a_request_comes_as_it_was_sent(method: str, target: str) -> None:
    body = BODIES[len(target) % 3] if method in ("POST", "PUT") else b""
    head = f"{method} {target} HTTP/1.1\r\nHost: api.example\r\nX-Sent: ö\r\nContent-Length: {len(body)}\r\nConnection: close\r\n\r\n"
    with serving(make_pipeline(ANY)) as (found, ended):
        answer = said(found.url, head.encode("latin-1"), body)
        if "ä".encode().decode("latin-1") in target:  # RFC 9112 3.2: no octets but those of URLs
            assert answer.startswith(b"HTTP/1.1 400")
            return
        until(lambda: ended)
    sent = ended[0].x.sent
    assert (sent.method, sent.url.target, sent.body, sent.url.origin) == (method, target, body, "http://api.example")
    assert (sent.fields.get("x-sent"), sent.fields.get("host")) == ("ö", "api.example")
    assert "connection" not in sent.fields
    assert int(answer.split()[1]) == ended[0].x.answer.status  # type: ignore[union-attr]


ODD: list[tuple[str, bytes, bytes]] = [
    ("chunked", b"POST /a HTTP/1.1\r\nHost: h\r\nTransfer-Encoding: chunked\r\nConnection: close\r\n\r\n3\r\na=b\r\n0\r\n\r\n", b"HTTP/1.1 200"),
    ("absolute form", b"GET http://other.example/a?b=c HTTP/1.1\r\nHost: h\r\nConnection: close\r\n\r\n", b"HTTP/1.1 200"),
    ("HTTP/1.0", b"GET /a HTTP/1.0\r\n\r\n", b"HTTP/1.1 200"),
    ("two at once", b"GET /a HTTP/1.1\r\nHost: h\r\n\r\nGET /b HTTP/1.1\r\nHost: h\r\nConnection: close\r\n\r\n", b"HTTP/1.1 200"),
    ("no HTTP", b"EHLO mail.example\r\n\r\n", b"HTTP/1.1 400"), ("no host", b"GET / HTTP/1.1\r\n\r\n", b"HTTP/1.1 400"),
    ("a large head", b"GET / HTTP/1.1\r\nHost: h\r\nX-A: " + b"a" * 100_000, b"HTTP/1.1 431"),
    ("a head that is a little too large", b"GET / HTTP/1.1\r\nHost: h\r\nConnection: close\r\nX-A: " + b"a" * 66_000 + b"\r\n\r\n", b"HTTP/1.1 431"),
    ("two lengths", b"POST /a HTTP/1.1\r\nHost: h\r\nContent-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\nGET /a HTTP/1.1\r\nHost: h\r\n\r\n", b"HTTP/1.1 200"),
    ("a websocket", b"GET /a HTTP/1.1\r\nHost: h\r\nUpgrade: websocket\r\nConnection: upgrade, close\r\nSec-WebSocket-Key: dGhlIHNhbXBsZQ==\r\n\r\n", b"HTTP/1.1 200"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "octets", "begins"), ODD, ids=[name for name, *_ in ODD])
def test_odd_messages(name: str, octets: bytes, begins: bytes) -> None:
    with serving(make_pipeline(ANY)) as (found, _):
        answer = said(found.url, octets)
    assert answer.startswith(begins)
    assert answer.count(b"HTTP/1.1 ") == (2 if name == "two at once" else 1)
    assert (b"heard" in answer) is begins.endswith(b"200")


# Time, and those who don't wait.

SLOW = """
patient-usher: pipeline/1
stages: [{id: few, kind: rate-limit, algorithm: at-once, quota: 1, only: [/few]}]
deployment: {caller-leaves: LEAVES}
routes:
  - {id: slow, at: GET /slow, access: everyone, handler: {answer: {text: done}, busy-for: 400ms}}
  - {id: few, at: GET /few, access: everyone, handler: {answer: {text: done}, busy-for: 400ms}}
  - {id: stuck, at: GET /stuck, access: everyone, stages: [{id: lost, kind: decide, cases: [{then: nothing}]}], handler: {answer: {text: no}}}
  - {id: gone, at: GET /gone, access: everyone, handler: {raise: {type: Broken}}}
uncaught: {answer: nothing}
"""


def test_what_takes_time_takes_it() -> None:
    for faster, busy, least, most in ((1, "400ms", 0.4, 2.0), (16, "8s", 0.5, 4.0)):
        with serving(found_pipeline(busy), faster=faster) as (found, ended), httpx.Client() as client:
            begun = time.monotonic()
            assert client.get(f"{found.url}/slow").text == "done"
            assert least <= time.monotonic() - begun < most
            until(lambda ended=ended: ended)
        x = ended[0].x
        assert least * faster <= (x.finished - x.at) / 1_000_000 < most * faster


def found_pipeline(busy: str = "400ms", leaves: str = "runs-on") -> Pipeline:
    """The slow one."""
    return described(SLOW.replace("LEAVES", leaves).replace("400ms", busy))


def test_no_answer_closes_the_connection() -> None:
    """Of a crash that answers nothing at once, of a stall when patience ends."""
    with serving(found_pipeline(), patience=0.3) as (found, ended):
        for path, least in (("gone", 0.0), ("stuck", 0.3)):
            begun = time.monotonic()
            assert said(found.url, f"GET /{path} HTTP/1.1\r\nHost: h\r\n\r\n".encode()) == b""
            assert least <= time.monotonic() - begun < least + 3
    assert [one.x.outcome for one in ended] == ["crashed", "stalled"]
    assert [one.mark for one in ended] == ["slipped", "slipped"]


@pytest.mark.parametrize(("leaves", "second"), [("runs-on", 429), ("cancels", 200)])
def test_a_client_that_goes_away(leaves: str, second: int) -> None:
    """What ran for it runs on and keeps its place, or is given up, as the deployment says."""
    with serving(found_pipeline("2s", leaves)) as (found, ended):  # a client may take a while to be made
        url = parse_url(found.url)
        with socket.create_connection((url.host, url.port)) as connection:
            connection.sendall(b"GET /few HTTP/1.1\r\nHost: h\r\n\r\n")
            time.sleep(0.1)
        time.sleep(0.1)
        assert httpx.get(f"{found.url}/few").status_code == second
        until(lambda: len(ended) == 2)
    assert sorted(one.x.outcome for one in ended) == sorted(
        ["abandoned", "handled" if second == 200 else "short-circuited"]
    )
    assert found.application.under_way == 0


def test_what_keeps_others_out() -> None:
    """Bounds in front of the pipeline."""
    aside: list[str] = []
    bounds = Bounds(at_once=1, body=10, within=0.3)
    with serving(found_pipeline("1s"), bounds=bounds, aside=aside.append) as (found, ended):
        url = parse_url(found.url)
        large = said(found.url, b"POST /slow HTTP/1.1\r\nHost: h\r\nContent-Length: 20\r\n\r\n" + b"a" * 20)
        late = said(found.url, b"POST /slow HTTP/1.1\r\nHost: h\r\nContent-Length: 5\r\n\r\na")
        head = said(found.url, b"GET /slow HTTP/1.1\r\nHo")
        silent = said(found.url)
        with socket.create_connection((url.host, url.port)) as first:
            first.sendall(b"GET /slow HTTP/1.1\r\nHost: h\r\n\r\n")
            until(lambda: found.application.under_way)
            second = said(found.url, b"GET /slow HTTP/1.1\r\nHost: h\r\n\r\n")
            assert b"done" in first.recv(65536) + first.recv(65536)
        assert [one[:12] for one in (large, late, head, silent, second)] == [
            b"HTTP/1.1 413",
            b"HTTP/1.1 408",
            b"",
            b"",
            b"HTTP/1.1 503",
        ]
        assert len(ended) == 1
    assert [words.split(" in front")[0] for words in aside] == ["POST /slow: 413", "POST /slow: 408", "GET /slow: 503"]


def test_what_is_not_read_is_not_piled_up() -> None:
    """An answer goes out as it is read, and counts among what is under way until it has gone."""
    routes = [{"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": {"size": "64MiB"}}}]
    with serving(make_pipeline([], routes=routes)) as (found, ended):
        url = parse_url(found.url)
        with socket.create_connection((url.host, url.port), timeout=60) as slow:
            slow.sendall(b"GET / HTTP/1.1\r\nHost: h\r\nConnection: close\r\n\r\n")
            until(lambda: ended)
            assert found.application.under_way == 1
            came = 0
            while part := slow.recv(1 << 20):
                came += len(part)
        assert came > 64 << 20
        until(lambda: not found.application.under_way)


def test_answers_on_a_kept_connection_come_at_once() -> None:
    """Head and content leave apart: without TCP_NODELAY each second answer waits 40 ms for an acknowledgement."""
    late = 0
    with serving(make_pipeline(ANY)) as (found, _), httpx.Client(base_url=found.url) as client:
        client.get("/a")
        for _ in range(50):
            begun = time.monotonic()
            assert client.get("/a").status_code == 200
            late += time.monotonic() - begun > 0.04
    assert late < 25


def test_many_at_once_and_nothing_left_over() -> None:
    """Stalls, waits, quick ones and clients that go away, all together: each is told of once, and nothing is kept."""
    with serving(found_pipeline(), patience=0.5, bounds=Bounds(at_once=2000)) as (found, ended):
        url = parse_url(found.url)

        async def one(number: int) -> None:
            path = ("slow", "stuck", "gone", "nowhere")[number % 4]
            reader, writer = await asyncio.open_connection(url.host, url.port)
            writer.write(f"GET /{path} HTTP/1.1\r\nHost: h\r\nConnection: close\r\n\r\n".encode())
            if number % 8 < 4:
                await reader.read()
            writer.close()

        async def all_of_them() -> None:
            await asyncio.gather(*map(one, range(400)))

        asyncio.run(all_of_them())
        until(lambda: len(ended) >= 395)  # who goes at once may never have been heard
        until(lambda: found.application.under_way == 0)
        until(lambda: found.application.clock.due is None)
    assert len({one.x.number for one in ended}) == len(ended)
    assert sum(one.x.outcome == "handled" for one in ended) >= 50


def test_time_runs_on_between_requests() -> None:
    """A window ends by the wall, and Date is the present second."""
    pipeline = make_pipeline(
        [{"id": "few", "kind": "rate-limit", "quota": 1, "window": "1s", "algorithm": "sliding-log"}]
    )
    with serving(pipeline) as (found, _), httpx.Client() as client:
        statuses = [client.get(found.url).status_code, client.get(found.url).status_code]
        time.sleep(1.1)
        answer = client.get(found.url)
    assert [*statuses, answer.status_code] == [200, 429, 200]
    shown = time.strptime(answer.headers["Date"], "%a, %d %b %Y %H:%M:%S GMT")
    assert abs(time.mktime(shown) - time.mktime(time.gmtime())) <= 2


# TLS, and whom it stands for.


def test_tls_by_its_own_certificate_alone() -> None:
    model = load(DEMO / "harbour.yaml")
    with serving(model, tls=True, origin=parse_url("https://ternharbour.example")) as (found, ended):
        context = ssl.create_default_context(cadata=found.certificate.pem.decode())
        assert httpx.get(f"{found.url}/health", verify=context).text == "afloat"
        with pytest.raises(httpx.ConnectError):
            httpx.get(f"{found.url}/health")
        pem = ssl.get_server_certificate((parse_url(found.url).host, parse_url(found.url).port))
        digest = __import__("hashlib").sha256(ssl.PEM_cert_to_DER_cert(pem)).hexdigest()
    assert found.certificate.fingerprint.replace(":", "").lower() == digest
    sent = ended[0].x.sent
    assert (sent.url.text, sent.fields.get("host")) == ("https://ternharbour.example/health", "ternharbour.example")


# Changes.


def test_answers_that_are_others_after_a_change() -> None:
    answers = Answers()
    plain, other = (
        make_pipeline(
            [], routes=[{"id": "r", "at": "GET /{x}", "access": "everyone", "handler": {"answer": {"text": text}}}]
        )
        for text in ("a", "b")
    )
    with serving(plain) as (found, ended):
        for path in ("a", "b"):
            httpx.get(f"{found.url}/{path}")
        until(lambda: len(ended) == 2)
        first = [answers.differs(one.record()) for one in ended]
        answers.change()
        httpx.get(f"{found.url}/a")
        found.go_on_as(other)
        httpx.get(f"{found.url}/b")
        httpx.get(f"{found.url}/new")
        until(lambda: len(ended) == 5)
        later = [answers.differs(one.record()) for one in ended[2:]]
    assert (first, later) == ([True, True], [False, True, True])


class Command:
    """``usher serve`` as a process."""

    def __init__(self, folder: Path, *arguments: str) -> None:
        self.out = folder / "out.txt"
        with self.out.open("wb") as out, (folder / "err.txt").open("wb") as err:
            command = [str(USHER), "serve", *arguments, "--listen", "127.0.0.1:0"]
            self.process = subprocess.Popen(command, cwd=folder, stdout=out, stderr=err)
        until(lambda: self._place() or self.process.poll() is not None)
        found = self._place()
        assert found is not None, (folder / "err.txt").read_text()
        self.url = found[0]

    def _place(self) -> re.Match[str] | None:
        said = self.out.read_text() + (self.out.parent / "err.txt").read_text()
        return re.search(r"https?://127\.0\.0\.1:\d+", said)

    def end(self, how: int = signal.SIGINT) -> tuple[int, float]:
        """Its status, and how long it took to end."""
        begun = time.monotonic()
        self.process.send_signal(how)
        return self.process.wait(60), time.monotonic() - begun


def test_the_command_watches_appends_and_ends_at_once(tmp_path: Path, usher: Callable[..., Outcome]) -> None:
    file = tmp_path / "p.yaml"
    before = SLOW.replace("LEAVES", "runs-on").replace(
        "stages: [", "stages: [{id: thrice, kind: rate-limit, quota: 3, window: 1h, only: [/slow]}, ", 1
    )
    file.write_text(before)
    command = Command(tmp_path, "p.yaml", "--watch", "--append", "seen.yaml", "--patience", "20s")
    try:
        url = parse_url(command.url)
        client = httpx.Client(base_url=command.url)
        assert client.get("/slow").text == "done"
        file.write_text("patient-usher: pipeline/1\nroutes: [{id: r}]\n")
        until(lambda: "goes on" in (tmp_path / "err.txt").read_text())
        assert client.get("/slow").text == "done"
        file.write_text(before.replace("text: done}, busy-for: 400ms", "text: other}", 1))
        until(lambda: "changed; limits" in command.out.read_text())
        assert client.get("/slow").text == "other"
        assert client.get("/slow").status_code == 429, "the count has been carried on"
        stuck = [socket.create_connection((url.host, url.port)) for _ in range(20)]
        for connection in stuck:
            connection.sendall(b"GET /stuck HTTP/1.1\r\nHost: h\r\n\r\n")
        time.sleep(0.2)
        client.close()
    finally:
        status, took = command.end()
    assert (status, took < 10) == (0, True)
    out = command.out.read_text()
    for words in ("◆  200 handler", "  429 thrice", "× 200"):
        assert words in out
    assert max(map(len, out.splitlines())) <= 100
    again = usher("replay", "p.yaml", "seen.yaml", "--format", "json")
    rows = {row["id"]: row for row in again.json["exchanges"]}
    assert [rows[id_]["mark"] for id_ in ("r1", "r2", "r3", "r4")] == ["held"] * 4


def test_rows_as_lines_with_journeys_and_only_those_that_differ(tmp_path: Path) -> None:
    """The same three calls, told in three ways; the second time round a change makes one of them another."""
    told: dict[str, str] = {}
    for how in (["--format", "jsonl"], ["--details"], ["--watch", "--only-differing"]):
        folder = tmp_path / how[-1]
        folder.mkdir()
        (folder / "p.yaml").write_text(QUIET)
        command = Command(folder, "p.yaml", *how)
        with httpx.Client(base_url=command.url) as client:
            for text in (QUIET, QUIET.replace("text: low", "text: high")):
                if text != QUIET and "--watch" in how:
                    (folder / "p.yaml").write_text(text)
                    until(lambda shown=command.out: "changed; limits" in shown.read_text())
                assert [client.get(path).status_code for path in ("/tides", "/berths", "/nowhere")] == [200, 200, 404]
        assert command.end()[0] == 0
        told[how[-1]] = command.out.read_text()
    lines = [json.loads(line) for line in told["jsonl"].splitlines() if line.startswith("{")]
    assert [x["answered_by"] for x in lines] == ["handler", "handler", "router"] * 2
    assert told["--details"].count("marks") >= 6, "each journey names the stage that it came by"
    after = told["--only-differing"].partition("changed; limits")[2]
    assert ("/tides" in after, "/berths" in after, "/nowhere" in after) == (True, False, False)


QUIET = """patient-usher: pipeline/1
name: Quiet
stages: [{id: marks, kind: header-fields, on-answer: {put: {X-Quay: north}}}]
routes:
  - {id: tides, at: GET /tides, access: everyone, handler: {answer: {text: low}}}
  - {id: berths, at: GET /berths, access: everyone, handler: {answer: {text: free}}}
"""


def test_what_came_replays_as_it_was(tmp_path: Path, usher: Callable[..., Outcome]) -> None:
    """Accounts, passwords, cookies, bodies and secrets: the trace that is kept holds, and holds no secret."""
    shutil.copytree(DEMO, tmp_path / "d")
    command = Command(tmp_path, "d/quay.yaml", "--append", "seen.yaml", "--quiet")
    with httpx.Client(base_url=command.url) as client:
        made = client.post("/accounts", json={"name": "brine", "password": "made-up-brine-1", "email": "b@x.example"})
        token = client.post("/sign-in", json={"name": "maren", "password": "low-tide-22"})
        client.get("/berths", headers={"Authorization": "Bearer made-up.token.here"})
        client.post("/sign-in", content=b"a=b", headers={"Content-Type": "application/x-www-form-urlencoded"})
    assert command.end(signal.SIGINT)[0] == 0
    assert made.status_code + token.status_code > 0
    text = (tmp_path / "seen.yaml").read_text()
    assert "low-tide-22" not in text
    assert "made-up.token.here" not in text
    outcome = usher("replay", "d/quay.yaml", "seen.yaml")
    assert outcome.status == 0, outcome.out


WRONG: list[tuple[list[str], str]] = [
    (["--listen", "8471"], "'8471' is no place to listen; write HOST:PORT"), (["--listen", "192.0.2.1:80"], "nobody can listen at 192.0.2.1:80"),
    (["--only-differing"], "give --watch too"), (["--certificate", "c.pem"], "give --tls too"), (["--as", "ternharbour"], "is no origin"),
    (["--as", "https://a.example/b"], "has more than an origin; write https://a.example"), (["--format", "jsonl", "--details"], "--details belongs to --format text"),
    (["--append", "t.jsonl"], "this is a trace in JSON Lines"), (["--body-at-most", "many"], "is no size; write octets"), (["--append", "p.yaml"], "this is no trace"),
]  # fmt: skip


@pytest.mark.parametrize(("arguments", "words"), WRONG)
def test_what_cannot_be_served(usher: Callable[..., Outcome], arguments: list[str], words: str) -> None:
    lines = '{"patient-usher": "trace/1"}\n{"id": "a", "send": "GET /"}\n'
    outcome = usher("serve", "p.yaml", *arguments, p__yaml="patient-usher: pipeline/1\n", t__jsonl=lines)
    assert outcome.status == 2
    assert words in outcome.err


def test_a_place_that_is_taken(usher: Callable[..., Outcome]) -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
        outcome = usher("serve", "p.yaml", "--listen", f"127.0.0.1:{port}", p__yaml="patient-usher: pipeline/1\n")
    assert outcome.status == 2
    assert f"nobody can listen at 127.0.0.1:{port}" in outcome.err


@pytest.mark.skipif(CURL is None, reason="curl isn't installed here")
def test_the_manuals_requests_by_hand(tmp_path: Path) -> None:
    """Eleven, each with what the manual says comes back."""
    blocks = re.findall(r"```console\n(.*?)```", (ROOT / "docs" / "serve.md").read_text(), re.DOTALL)
    asked = [part.partition("\n") for block in blocks for part in re.split(r"^\$ ", block, flags=re.MULTILINE) if part]
    assert len(asked) == 11
    model = load(DEMO / "harbour.yaml")
    with (
        serving(model) as (plain, _),
        serving(model, tls=True, origin=parse_url("https://ternharbour.example")) as (tls, _),
    ):
        (tmp_path / "served.pem").write_bytes(tls.certificate.pem)
        for command, _, wanted in asked:
            at = command.replace("http://127.0.0.1:8471", plain.url).replace("https://127.0.0.1:8472", tls.url)
            done = subprocess.run(at, shell=True, cwd=tmp_path, capture_output=True, text=True, timeout=60)
            got = re.sub("^Date: .*$", "Date: ...", done.stdout.replace("\r", ""), flags=re.MULTILINE)
            assert got.strip() == wanted.strip(), command
