"""The real service against its model: no difference where there is none, and each difference where there is one."""

from __future__ import annotations

import json
import socket
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from threading import Thread
from typing import Any
from wsgiref.simple_server import WSGIRequestHandler, make_server

import pytest
from jsonschema import Draft202012Validator

from conftest import DEMO, Outcome, described, make_pipeline
from patient_usher import Trace, Unusable, drift, load
from patient_usher.core.http.urls import parse_url
from patient_usher.core.verify.outside import drifts
from patient_usher.output.schema import SCHEMAS
from patient_usher.use_cases.serve import served
from pipelines import put_together
from served import Served

Usher = Callable[..., Outcome]
STORIES = [
    ("harbour", "story"), ("sequential", "story"), ("boaters", "boaters-story"), ("shelf", "shelf-story"), ("return", "return-story"),
    ("front-believed", "front-story"), ("mistaken", "story"), ("landing", "landing-story"), ("busy", "landing-story"),
]  # fmt: skip


@pytest.mark.parametrize(("pipeline", "story"), STORIES[:-1])
def test_a_model_does_not_differ_from_itself(pipeline: str, story: str) -> None:
    """Served as an application, with its clock turned as the trace says: bodies too."""
    model = load(DEMO / f"{pipeline}.yaml")
    served = Served(model.compiled)
    trace = Trace.read(DEMO / f"{story}.yaml")
    held = list(drift(model, trace, app=served, writes=True, bodies=True, wait=served.wait))
    assert held
    assert [(one.id, one.differs, one.trouble) for one in held if one.differs] == []


@pytest.mark.parametrize("seed", range(6))
def test_nor_does_one_at_random(seed: int) -> None:
    model = described(json.dumps(put_together(seed)), "p.json")
    served = Served(model.compiled)
    sends = [
        {"id": f"r{at}", "send": f"{method} {path}", **more}
        for at, (method, path, more) in enumerate(
            [
                ("GET", "/tides?station=a", {}), ("GET", "/tides?station=a", {}), ("GET", "/berths/T07", {"sign": {"basic": "maren"}}),
                ("POST", "/book", {"json": {"n": 1}, "sign": {"basic": "odile"}}), ("GET", "/ctx", {}), ("HEAD", "/tides", {}), ("GET", "/nowhere", {}),
            ]
        )
    ]  # fmt: skip
    held = list(drift(model, Trace.of(*sends), app=served, writes=True, bodies=True, wait=served.wait))
    assert [(one.id, one.differs) for one in held if one.differs] == []


def test_a_slow_service_is_held_against_what_is_left_by_then(tmp_path: Path, usher: Usher) -> None:
    """One request a window is let in, and the service takes longer for each than the window lasts; so does a recording."""
    text = SLOW_WINDOWS.replace("TOOK", "0ms")
    model = described(text)
    trace = Trace.of(*({"id": f"r{at}", "send": "GET /a"} for at in range(4)), base="http://harbour.example")
    with served(described(SLOW_WINDOWS.replace("TOOK", "250ms")), origin=parse_url("http://harbour.example")) as found:
        held = list(drift(model, trace, at=found.url))
    assert [[record.response.status for record in one.service if record.response] for one in held] == [[200]] * 4
    assert [one.differs for one in held] == [()] * 4
    (tmp_path / "t.yaml").write_text(
        "patient-usher: trace/1\nbase: http://harbour.example\nrequests: [{id: r, times: 4, send: GET /a}]\n"
    )
    with served(described(SLOW_WINDOWS.replace("TOOK", "250ms")), origin=parse_url("http://harbour.example")) as found:
        live = usher("drift", "p.yaml", "t.yaml", "--at", found.url, "--into", "a.har", p__yaml=text)
    again = usher("drift", "p.yaml", "t.yaml", "--recorded", "a.har")
    assert (live.status, again.status) == (0, 0), (live.out, again.out)


SLOW_WINDOWS = """patient-usher: pipeline/1
stages: [{id: fair, kind: rate-limit, algorithm: sliding-log, quota: 1, window: 200ms, fields: []}]
routes: [{id: a, at: GET /a, access: everyone, handler: {answer: {text: a}, busy-for: TOOK}}]
"""


CHANGES: list[tuple[dict[str, Any], str, str | None]] = [
    ({"stages": {"fair": {"quota": 1}}}, "status", "handler"),
    ({"stages": {"may": {"enabled": False}}}, "status", "may"),
    ({"stages": {"browsers": {"allow-origins": ["https://quay.example"]}}}, "browser", "browsers"),
    ({"stages": {"marks": {"on-answer": {"put": {"Cache-Control": "public"}}}}}, "cache-control", "marks"),
    ({"stages": {"who": {"realm": "quay"}}}, "www-authenticate", "who"),
    ({"stages": {"fair": {"window": "30s"}}}, "retry-after", "fair"),
    ({"routes": {"tides": {"handler": {"answer": {"json": {"high": "07:00"}}}}}}, "body", "handler"),
]


@pytest.mark.parametrize(("change", "what", "stage"), CHANGES, ids=[what for _, what, _ in CHANGES])
def test_what_a_service_does_otherwise_is_seen(change: dict[str, Any], what: str, stage: str | None) -> None:
    """Another pipeline is served than the model has."""
    model, story = load(DEMO / "landing.yaml"), Trace.read(DEMO / "landing-story.yaml")
    served = Served(model.variant(**change).compiled)
    held = list(drift(model, story, app=served, wait=served.wait))
    assert (what, stage) in {(one.what, one.stage) for row in held for _, one in row.differs}


@pytest.mark.parametrize(("model", "service"), [("deck=1; Secure", "deck=1; Secure"), ("deck=1", "deck=1; Secure"), ("deck=1; Secure", "deck=1"), ("deck=1", "deck=1")])  # fmt: skip
def test_what_becomes_of_a_services_cookies_is_seen(model: str, service: str) -> None:
    """A Secure one isn't kept over plain HTTP: that of the service, whatever the model's is."""
    setting = {"id": "in", "at": "GET /in", "access": "everyone"}
    ours, theirs = (
        make_pipeline([], routes=[{**setting, "handler": {"answer": {"headers": {"Set-Cookie": cookie}}}}])
        for cookie in (model, service)
    )
    sends = {"id": "in", "send": "GET /in", "caller": "buoy", "expect": {"cookies": "it is Secure"}}
    trace = Trace.of(sends, callers={"buoy": {"cookies": "keep"}}, base="http://api.example")
    with served(theirs) as found:
        [held] = drift(ours, trace, at=found.url)
    secure = "Secure" in service
    assert [(check.what, check.ok) for check in held.checks] == [("cookies", secure)]
    assert held.same is (secure and model == service)


# The command, on the two services that the demo ships.


def landing(usher: Usher, app: str, *more: str) -> Outcome:
    if time.time() % 60 > 55:
        time.sleep(60 - time.time() % 60)  # the services count by the minute
    paths = (str(DEMO / "landing.yaml"), str(DEMO / "landing-story.yaml"))
    return usher("drift", *paths, "--app", f"landing_service:{app}", "--trust", "python", *more)


def test_a_service_that_agrees(usher: Usher) -> None:
    outcome = landing(usher, "agreeing")
    assert outcome.status == 0, outcome.out
    assert "✓ 12 requests: the service does what the model says" in outcome.out
    assert "2 expectations of stages, order or logs: of a service nobody outside sees those" in outcome.out
    assert max(map(len, outcome.out.splitlines())) <= 100


def test_three_mistakes_each_with_its_stage(usher: Usher) -> None:
    outcome = landing(usher, "drifted", "--format", "json")
    document = outcome.json
    Draft202012Validator(SCHEMAS["drift"]()).validate(document)
    rows = {row["id"]: row for row in document["rows"]}
    assert (outcome.status, document["differing"]) == (1, 5)
    assert (rows["ledger-skipper"]["model"], rows["ledger-skipper"]["service"]) == (403, 200)
    stages = {id_: {one["stage"] for one in row["differs"]} for id_, row in rows.items() if not row["same"]}
    assert "may" in stages["ledger-skipper"]
    assert "fair" in stages["hurry[4]"]
    assert "browsers" in stages["page"]
    told = landing(usher, "drifted")
    assert told.status == 1
    for words in (
        "≠ 200 may",
        "stages to look at, by requests: browsers (3)",
        "the model's way of the first that differs",
    ):
        assert words in told.out
    assert max(map(len, told.out.splitlines())) <= 100


def test_reports_and_a_recording_that_says_the_same_again(usher: Usher, tmp_path: Path) -> None:
    forms = ("junit", "md", "html", "json", "svg")
    reports = [word for form in forms for word in ("--report", f"{form}=r.{form}")]
    first = landing(usher, "drifted", "--into", "kept.har", *reports)
    again = [
        usher("drift", str(DEMO / "landing.yaml"), str(DEMO / "landing-story.yaml"), "--recorded", "kept.har", *more)
        for more in ((), ("--format", "json"))
    ]
    assert (first.status, again[0].status) == (1, 1)
    rows = {row["id"]: row for row in again[1].json["rows"]}
    assert [rows[id_]["service"] for id_ in ("tides", "ledger-skipper")] == [200, 200]
    text = {form: (tmp_path / f"r.{form}").read_text() for form in forms}
    document = json.loads(text["json"])
    assert document["differing"] == again[1].json["differing"] == 5
    assert 'failures="5"' in text["junit"]
    for form in ("md", "html", "junit"):
        assert "service: status: expected 403, got 200" in text[form]
    assert text["svg"].startswith("<svg") or "<svg" in text["svg"]
    other = usher("drift", str(DEMO / "harbour.yaml"), str(DEMO / "landing-story.yaml"), "--recorded", "kept.har")
    assert other.status in (1, 2)


def test_a_recording_that_is_none(usher: Usher) -> None:
    outcome = usher("drift", "p.yaml", "t.yaml", "--recorded", "p.yaml", p__yaml=PLAIN, t__yaml=ASK)
    assert (outcome.status, "this is no recording" in outcome.err) == (2, True)


@pytest.mark.parametrize("trusted", [True, False])
def test_a_service_over_tls(usher: Usher, tmp_path: Path, trusted: bool) -> None:
    """Whose certificate is trusted, and whose isn't."""
    model = described(PLAIN)
    with served(model, tls=True) as found:
        assert found.certificate is not None
        (tmp_path / "c.pem").write_bytes(found.certificate.pem)
        more = ["--certificate", "c.pem"] if trusted else []
        outcome = usher("drift", "p.yaml", "t.yaml", "--at", found.url, *more, p__yaml=PLAIN, t__yaml=ASK)
    assert outcome.status == (0 if trusted else 1)
    assert ("can't be trusted" in outcome.out) is not trusted


@pytest.mark.parametrize(("arguments", "words"), [
    (["--at", "http://127.0.0.1:1", "--certificate", "p.yaml"], "--certificate is for a service over TLS"),
    (["--at", "https://127.0.0.1:1", "--certificate", "p.yaml"], "these are no certificates"),
    (["--at", "https://127.0.0.1:1", "--into", "x.json"], "write FILE.har"),
])  # fmt: skip
def test_what_cannot_be_asked_so(usher: Usher, arguments: list[str], words: str) -> None:
    outcome = usher("drift", "p.yaml", "t.yaml", *arguments, p__yaml=PLAIN, t__yaml=ASK)
    assert (outcome.status, words in outcome.err) == (2, True)


# What a user's mistake gets.


def test_what_a_trace_leaves_the_next_one_comes_to() -> None:
    """In the service as in the model."""
    model, story = load(DEMO / "landing.yaml"), Trace.read(DEMO / "landing-story.yaml")
    served = Served(model.compiled)
    held = list(drift(model, story, story, app=served, wait=served.wait))
    assert [(one.id, one.differs) for one in held if one.differs] == []
    assert len(held) == 24
    assert sum(one.service[-1].status == 429 for one in held) > 2


APPS = """
async def silent(scope, receive, send):
    pass
async def broken(scope, receive, send):
    raise KeyError("berth")
async def endless(scope, receive, send):
    import asyncio
    await asyncio.sleep(3600 if scope["type"] == "http" else 0)
async def odd(scope, receive, send):
    await send({"type": "http.response.body", "body": b""})
def wsgi_broken(environ, start_response):
    raise KeyError("berth")
def wsgi_silent(environ, start_response):
    return []
class Late:
    async def __call__(self, scope, receive, send):
        if scope["type"] == "lifespan":
            assert (await receive())["type"] == "lifespan.startup"
            await send({"type": "lifespan.startup.complete"})
            self.ready = True
            await receive()
            return
        await send({"type": "http.response.start", "status": 200 if self.ready else 500, "headers": []})
        await send({"type": "http.response.body", "body": b"ok"})
late = Late()
number = 7
def three(a):
    pass
"""
PLAIN = """patient-usher: pipeline/1
routes: [{id: r, at: GET /, access: everyone, handler: {answer: {text: ok}}}, {id: w, at: POST /, access: everyone, handler: {answer: {text: ok}}}]
"""
ASK = "patient-usher: trace/1\nrequests: [{id: a, send: GET /, caller: c}]\ncallers: {c: {patience: 300ms}}\n"
TROUBLES = {
    "silent": "returned without an answer", "broken": "raised KeyError: 'berth', apps.py:5", "endless": "gave no answer within 0.3 s",
    "odd": "sent 'http.response.body' where an answer should come", "wsgi_broken": "raised KeyError: 'berth', apps.py:12", "wsgi_silent": "returned without calling start_response",
}  # fmt: skip


@pytest.mark.parametrize("app", TROUBLES)
def test_an_application_that_gives_no_answer(usher: Usher, app: str) -> None:
    outcome = usher(
        "drift",
        "p.yaml",
        "t.yaml",
        "--app",
        f"apps:{app}",
        "--trust",
        "python",
        p__yaml=PLAIN,
        t__yaml=ASK,
        apps__py=APPS,
    )
    assert (outcome.status, outcome.err) == (1, "")
    assert f"the service {TROUBLES[app]}" in outcome.out


def test_a_lifespan_begins_before_the_first_request(usher: Usher) -> None:
    outcome = usher(
        "drift",
        "p.yaml",
        "t.yaml",
        "--app",
        "apps:late",
        "--trust",
        "python",
        "--format",
        "json",
        p__yaml=PLAIN,
        t__yaml=ASK,
        apps__py=APPS,
    )
    assert outcome.json["rows"][0]["service"] == 200


WRONG = [
    (["--app", "apps:silent"], ASK, "give --trust python"),
    (["--app", "apps:nothing", "--trust", "python"], ASK, "apps has no nothing"),
    (["--app", "nowhere:app", "--trust", "python"], ASK, "no module nowhere"),
    (["--app", "apps:number", "--trust", "python"], ASK, "this is int, no application"),
    (["--app", "apps:three", "--trust", "python"], ASK, "neither (scope, receive, send)"),
    (["--app", "apps:late", "--trust", "python"], "patient-usher: trace/1\nrequests: [{id: a, send: GET /}, {change: {stages: {}}}]\n", "leave change: out"),
    (["--app", "apps:late", "--trust", "python"], "patient-usher: trace/1\nrequests: [{id: a, send: GET /}, {id: b, send: GET /, after: 2h}]\n", "--wait-at-most 7200s"),
]  # fmt: skip


@pytest.mark.parametrize(("arguments", "trace", "words"), WRONG)
def test_what_cannot_be_asked_is_told(usher: Usher, arguments: list[str], trace: str, words: str) -> None:
    outcome = usher("drift", "p.yaml", "t.yaml", *arguments, p__yaml=PLAIN, t__yaml=trace, apps__py=APPS)
    assert (outcome.status, words in outcome.err) == (2, True), outcome.err


def test_nothing_is_written_unless_it_may_be(usher: Usher) -> None:
    writing = "patient-usher: trace/1\nrequests: [{id: w, send: POST /}, {id: a, send: GET /}, {id: b, send: GET /}]\n"
    files = {"p__yaml": PLAIN, "t__yaml": writing, "apps__py": APPS}
    arguments = ("drift", "p.yaml", "t.yaml", "--app", "apps:late", "--trust", "python", "--format", "json")
    assert [row["id"] for row in usher(*arguments, **files).json["rows"]] == ["a", "b"]
    assert [row["id"] for row in usher(*arguments, "--writes", **files).json["rows"]] == ["w", "a", "b"]


def test_a_trace_waits_in_real_time() -> None:
    model = make_pipeline([])
    at: list[float] = []

    def app(environ: Any, start_response: Any) -> list[bytes]:
        at.append(time.monotonic())
        start_response("200 OK", [("Content-Type", "text/plain")])
        return [b"ok"]

    trace = Trace.of({"id": "a", "send": "GET /"}, {"id": "b", "send": "GET /", "after": "200ms"})
    assert [one.same for one in drift(model, trace, app=app)] == [True, True]
    assert 0.19 < at[1] - at[0] < 5
    with pytest.raises(Unusable, match="wait-at-most"):
        list(drift(model, trace, app=app, wait_at_most=0.1))


FIELDS: list[tuple[str, str | None, str | None, bool]] = [
    ("Vary", "Origin, Accept", "accept,origin", True), ("Vary", "Origin", "Accept", False), ("Cache-Control", "private, max-age=5", "max-age=5, private", True),
    ("Retry-After", "30", "31", True), ("Retry-After", "30", "33", False), ("RateLimit", '"fair";r=2;t=30', '"fair";r=2;t=29', True),
    ("RateLimit", '"fair";r=2;t=30', '"fair";r=1;t=30', False), ("ETag", '"a"', 'W/"b"', True), ("ETag", '"a"', None, False),
    ("Set-Cookie", "deck=1; Path=/; HttpOnly", "deck=2; HttpOnly; Path=/", True), ("Set-Cookie", "deck=1; HttpOnly", "deck=1", False),
    ("Content-Type", "text/plain; charset=utf-8", "text/plain", True), ("Content-Type", "text/plain", "text/html", False),
    ("WWW-Authenticate", 'Bearer realm="a"', 'Bearer realm="a", error="invalid_token"', True), ("WWW-Authenticate", 'Bearer realm="a"', 'Bearer realm="b"', False),
    ("Allow", "GET, HEAD", "HEAD, GET", True), ("X-Own", "a", "b", True), ("Location", "/a", "/b", False),
]  # fmt: skip


@pytest.mark.parametrize(("name", "ours", "theirs", "same"), FIELDS)
def test_fields_are_compared_by_what_they_mean(name: str, ours: str | None, theirs: str | None, same: bool) -> None:
    model, trace = make_pipeline([]), Trace.of({"id": "a", "send": "GET /"})

    def served(value: str | None) -> Any:
        def app(environ: Any, start_response: Any) -> list[bytes]:
            fields = [] if name == "Content-Type" else [("Content-Type", "text/plain")]
            start_response("200 OK", [*fields, *([(name, value)] if value is not None else [])])
            return [b"ok"]

        return app

    a, b = (next(drift(model, trace, app=served(value))).service[-1] for value in (ours, theirs))
    assert (drifts(a, b) == []) is same


def test_the_demo_copies_the_service(usher: Usher, tmp_path: Path) -> None:
    assert usher("demo", "--copy", "mine").status == 0
    assert (tmp_path / "mine" / "landing_service.py").exists()


# Over sockets, on loopback.


@contextmanager
def listening(serve: Callable[[socket.socket], None]) -> Iterator[str]:
    """A server that does this with each connection; its origin."""
    server = socket.create_server(("127.0.0.1", 0))

    def accept() -> None:
        while True:
            try:
                connection, _ = server.accept()
            except OSError:
                return
            Thread(target=_quietly, args=(serve, connection), daemon=True).start()

    accepting = Thread(target=accept, daemon=True)
    accepting.start()
    try:
        yield f"http://127.0.0.1:{server.getsockname()[1]}"
    finally:
        with suppress(OSError):
            server.shutdown(socket.SHUT_RDWR)  # closed alone, it would go on waiting, for the next one's connections
        accepting.join(5)
        server.close()


def _quietly(serve: Callable[[socket.socket], None], connection: socket.socket) -> None:
    with connection, suppress(OSError):
        serve(connection)


def _said(*parts: bytes, pause: float = 0.0) -> Callable[[socket.socket], None]:
    def serve(connection: socket.socket) -> None:
        connection.recv(65536)
        for part in parts:
            connection.sendall(part)
            time.sleep(pause)

    return serve


def _hangs(connection: socket.socket) -> None:
    connection.recv(65536)
    time.sleep(5)


OK = b"HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: 2\r\n\r\nok"
AWAY = b"HTTP/1.1 302 Found\r\nLocation: http://192.0.2.9/else\r\nContent-Length: 0\r\n\r\n"
SERVERS: dict[str, tuple[Callable[[socket.socket], None], str]] = {
    "closes at once": (_said(), "closed the connection"), "speaks something else": (_said(b"220 mail.example ready\r\n"), "speaks no HTTP/1.1"),
    "hangs": (_hangs, "gave no answer within 0.3 s"), "answers for ever": (_said(b"HTTP/1.1 200 OK\r\n\r\n", *[b"x"] * 40, pause=0.05), "was still answering after 0.3 s"),
    "breaks off": (_said(OK[:-1]), "speaks no HTTP/1.1, or closed the connection"),
}  # fmt: skip


@pytest.mark.parametrize("name", SERVERS)
def test_a_service_that_gives_no_answer(usher: Usher, name: str) -> None:
    serve, words = SERVERS[name]
    with listening(serve) as at:
        outcome = usher("drift", "p.yaml", "t.yaml", "--at", at, p__yaml=PLAIN, t__yaml=ASK)
    assert (outcome.status, outcome.err) == (1, "")
    assert words in " ".join(outcome.out.split())


@pytest.mark.parametrize(
    "location", [b"x:y", b"http:a", b"http://xn--/", b"http://[", b"http://a:99999/", b"\\thttp://a/"]
)
def test_a_location_that_leads_nowhere_is_an_answer(location: bytes) -> None:
    answer = b"HTTP/1.1 302 Found\r\nLocation: " + location + b"\r\nContent-Length: 0\r\n\r\n"
    with listening(_said(answer)) as at:
        held = list(drift(make_pipeline([]), Trace.of({"id": "a", "send": "GET /"}), at=at))
    assert (held[0].trouble, held[0].service[0].response.status) == (None, 302)


def test_octets_too_many_are_no_other_requests_answer() -> None:
    """A service that answers twice in one: what comes behind the first answer belongs to nobody."""
    with listening(_said(OK + OK.replace(b"200 OK", b"500 No"))) as at:
        asked = [{"id": name, "send": "GET /"} for name in "abc"]
        held = list(drift(make_pipeline([]), Trace.of(*asked), at=at))
    assert [one.service[0].status for one in held] == [200, 200, 200]


TWICE = {
    "asgi": "async def app(scope, receive, send):\n    for status in (200, 500):\n        await send({'type': 'http.response.start', 'status': status, 'headers': []})\n        await send({'type': 'http.response.body', 'body': b'ok'})\n",
    "wsgi": "def app(environ, start_response):\n    start_response('200 OK', [])\n    start_response('500 No', [])\n    return [b'ok']\n",
}


@pytest.mark.parametrize("sort", TWICE)
def test_an_application_that_answers_twice_is_said_to(usher: Usher, sort: str) -> None:
    files = {"p__yaml": PLAIN, "t__yaml": ASK, "twice__py": TWICE[sort]}
    outcome = usher("drift", "p.yaml", "t.yaml", "--app", "twice:app", "--trust", "python", **files)
    assert (outcome.status, "the service answered a second time, with 500" in outcome.out) == (1, True)


def test_cookies_are_the_callers_alone() -> None:
    """What one caller was given goes along with its own requests, and with nobody else's."""
    asked: list[bytes] = []

    def serve(connection: socket.socket) -> None:
        asked.append(connection.recv(65536))
        connection.sendall(OK.replace(b"Content-Type", b"Set-Cookie: sid=made-up-session\r\nContent-Type"))

    sent = [{"id": f"q{at}", "send": "GET /", **({"caller": "jar"} if at in (0, 2) else {})} for at in range(4)]
    with listening(serve) as at:
        list(drift(make_pipeline([]), Trace.of(*sent, callers={"jar": {"cookies": "keep"}}), at=at))
    assert [b"sid=" in one for one in asked] == [False, False, True, False]


def test_a_service_that_is_not_there(usher: Usher) -> None:
    with socket.socket() as taken:  # nobody else gets the port, and nobody listens
        taken.bind(("127.0.0.1", 0))
        at = f"http://127.0.0.1:{taken.getsockname()[1]}"
        outcome = usher("drift", "p.yaml", "t.yaml", "--at", at, p__yaml=PLAIN, t__yaml=ASK)
    assert (outcome.status, f"the service isn't there at {at}" in " ".join(outcome.out.split())) == (1, True)
    wrong = usher("drift", "p.yaml", "t.yaml", "--at", "ftp://127.0.0.1", p__yaml=PLAIN, t__yaml=ASK)
    assert wrong.status == 2


def test_no_other_host_is_asked(usher: Usher) -> None:
    """Neither where the service redirects to, nor what the trace names beside its base."""
    hop = "patient-usher: trace/1\ncallers: {c: {redirects: follow}}\nrequests: [{id: a, send: GET /, caller: c}, {id: b, send: GET http://192.0.2.9/}]\n"
    with listening(_said(AWAY)) as at:
        outcome = usher("drift", "p.yaml", "t.yaml", "--at", at, "--format", "json", p__yaml=PLAIN, t__yaml=hop)
    assert (outcome.status, outcome.err) == (1, "")
    assert ["another host" in (row["trouble"] or "") for row in outcome.json["rows"]] == [True, True]


@pytest.mark.parametrize("target", ["/a%2Fb", "/a/../b", "//a", "/a?b=%20c&d=", "/%7Ea"])
def test_what_is_asked_for_is_what_the_trace_says(target: str) -> None:
    got: list[bytes] = []

    def serve(connection: socket.socket) -> None:
        got.append(connection.recv(65536))
        connection.sendall(OK)

    model = make_pipeline([])
    with listening(serve) as at:
        trace = Trace.of(
            {"id": "a", "send": f"GET {target}", "headers": {"X-Own": "a", "Accept": "text/plain"}},
            base="https://api.example",
        )
        sent = list(drift(model, trace, at=at))
    assert sent[0].trouble is None
    lines = got[0].split(b"\r\n")
    assert lines[0] == f"GET {sent[0].model.send.final.sent.url.target} HTTP/1.1".encode("latin-1")
    names = [line.split(b":")[0].lower() for line in lines[1:] if line]
    wanted = [b"accept", b"host", b"traceparent", b"x-own"]
    assert sorted(names) == wanted, "nothing that the trace doesn't say, but for what ties spans to it"


def test_a_real_server_agrees_with_its_model(usher: Usher, tmp_path: Path) -> None:
    """What goes over the wire is what the model has: a page, scripts, credentials."""
    sys.path.insert(0, str(DEMO))
    try:
        import landing_service
    finally:
        sys.path.remove(str(DEMO))
    hurry = landing_service.IN_A_HURRY
    story = (
        (DEMO / "landing-story.yaml").read_text().split("  - {id: hurry")[0]
    )  # over sockets all come from one address
    (tmp_path / "t.yaml").write_text(story)
    for handler, status in ((landing_service.AS_IT_SHOULD, 0), (hurry, 1)):
        landing_service.IN_A_HURRY = handler
        with make_server("127.0.0.1", 0, landing_service.drifted, handler_class=Silent) as server:
            Thread(target=server.serve_forever, daemon=True).start()
            outcome = usher(
                "drift", str(DEMO / "landing.yaml"), "t.yaml", "--at", f"http://127.0.0.1:{server.server_port}"
            )
            server.shutdown()
        assert outcome.status == status, outcome.out


class Silent(WSGIRequestHandler):
    """Logs nothing."""

    def log_message(self, format: str, *args: Any) -> None:
        """Nothing."""
