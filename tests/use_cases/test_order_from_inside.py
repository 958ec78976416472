"""A service that says which of its stages ran: by Server-Timing, by spans from files, and by spans received meanwhile."""

from __future__ import annotations

import gzip
import json
import socket
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

import pytest
from opentelemetry import context, propagate
from opentelemetry.exporter.otlp.proto.common.trace_encoder import encode_spans
from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
from opentelemetry.sdk.trace import TracerProvider
from opentelemetry.sdk.trace.export import BatchSpanProcessor, SimpleSpanProcessor
from opentelemetry.sdk.trace.export.in_memory_span_exporter import InMemorySpanExporter

from conftest import Outcome, described
from patient_usher import Trace, drift
from patient_usher.core.http.server_timing import timing_names
from patient_usher.core.verify.outside import DriftResult
from patient_usher.use_cases.drift import Told, explain
from patient_usher.wire.inside import Receiver, Spans, SpansIn, spans_of

Usher = Callable[..., Outcome]
MODEL = """
patient-usher: pipeline/1
stages:
  - {id: marks, kind: header-fields, on-answer: {put: {X-Seen: "1"}}}
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
  - {id: watch, kind: access-log}
routes: [{id: r, at: GET /, access: signed-in, handler: {answer: {text: ok}}}]
accounts: {maren: {api-keys: [marens-made-up-key]}}
"""
SENDS = [
    {"id": "in", "send": "GET /", "sign": {"api-key": "maren"}, "expect": {"status": 200, "order": ["marks", "who", "watch", "handler"], "handler": "reached"}},
    {"id": "out", "send": "GET /", "expect": {"status": 401, "skipped": ["watch"], "handler": "not-reached"}},
]  # fmt: skip


def _lengthy(body: bytes) -> bytes:
    """A body behind the field that says its length."""
    return b"Content-Length: %d\r\n\r\n" % len(body) + body


def service(order: list[str], note: Callable[[list[str], Any], list[tuple[bytes, bytes]]], enter: Any = None) -> Any:
    """An application whose wrappers run in this order; ``note`` makes fields of those that ran."""

    async def app(scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            return
        headers = {name.decode(): value.decode() for name, value in scope["headers"]}
        ran: list[str] = []
        known = headers.get("x-api-key") == "marens-made-up-key"
        with ExitStack() as stack:
            for name in [*order, "handler"]:
                if enter is not None:
                    stack.enter_context(enter(name, headers))
                ran.append(name)
                if name == "who" and not known:
                    break
        fields = [(b"content-type", b"text/plain; charset=utf-8"), (b"x-seen", b"1"), *note(ran, headers)]
        if not known:
            fields.append((b"www-authenticate", b'ApiKey in="header", name="X-Api-Key"'))
        await send({"type": "http.response.start", "status": 200 if known else 401, "headers": fields})
        await send({"type": "http.response.body", "body": b"ok"})

    return app


def asked(app: Any, **how: Any) -> list[DriftResult]:
    return list(drift(described(MODEL), Trace.of(*SENDS), app=app, **how))


def orders(held: list[DriftResult]) -> list[tuple[str, Any, Any, str | None]]:
    return [(id_, one.model, one.service, one.stage) for row in held for id_, one in row.differs if one.what == "order"]


TIMINGS: list[tuple[str, Callable[[list[str]], str]]] = [
    ("plain", ", ".join), ("with durations", lambda ran: ", ".join(f'{name};dur=1.5;desc="a, b"' for name in ran)),
    ("as they ended", lambda ran: ", ".join(reversed(ran)) if "handler" in ran else ", ".join(ran)),
    ("among others", lambda ran: ", ".join(["db;dur=3", *ran, "total;dur=9"])),
]  # fmt: skip


@pytest.mark.parametrize(("name", "text"), TIMINGS, ids=[name for name, _ in TIMINGS])
def test_server_timing_makes_the_order_seen(name: str, text: Callable[[list[str]], str]) -> None:
    def note(ran: list[str], _: Any) -> list[tuple[bytes, bytes]]:
        return [(b"server-timing", text(ran).encode())]

    held = asked(service(["marks", "who", "watch"], note))
    assert [(row.id, row.differs, row.unseen) for row in held] == [("in", (), 0), ("out", (), 0)]
    assert held[0].ran == {"in": ["marks", "who", "watch", "handler"]}
    assert {check.what for check in held[1].checks} == {"status", "skipped", "handler"}
    other = asked(service(["who", "marks", "watch"], note))
    assert orders(other)[0] == (
        "in",
        ["marks", "who", "watch", "handler"],
        ["who", "marks", "watch", "handler"],
        "marks",
    )
    assert [check.what for check in other[0].checks if not check.ok] == ["order"]


def test_a_service_that_says_nothing_is_not_judged() -> None:
    held = asked(service(["who", "marks", "watch"], lambda ran, _: []))
    assert orders(held) == []
    assert [row.unseen for row in held] == [2, 2]


def test_only_stages_that_are_shown_count() -> None:
    held = asked(
        service(
            ["who", "marks"],
            lambda ran, _: [(b"server-timing", b", ".join(name.encode() for name in ran if name != "marks"))],
        )
    )
    assert orders(held) == []
    assert {check.what for check in held[0].checks} == {"status", "handler"}


def test_the_order_seen_explains_what_differs() -> None:
    """Answers alone tell nothing here; what ran does."""
    model, story = described(MODEL), Trace.of(*SENDS)
    held = asked(service(["watch", "marks", "who"], lambda ran, _: [(b"server-timing", ", ".join(ran).encode())]))
    found = explain(model, [story], held)
    assert [one.change.words for one in found.changes] == ["watch stands in front of marks"]
    assert found.leaves == ()


# Spans of a real SDK.


def entering(tracer: Any, names: dict[str, str]) -> Callable[[str, dict[str, str]], Any]:
    @contextmanager
    def enter(name: str, headers: dict[str, str]) -> Iterator[None]:
        token = context.attach(propagate.extract(headers)) if name == "marks" or name == "who" else None
        del token
        with tracer.start_as_current_span(names.get(name, name), context=propagate.extract(headers)):
            time.sleep(0.001)
            yield

    return enter


@pytest.mark.parametrize("form", ["protobuf", "json", "lines"])
def test_spans_from_a_file(tmp_path: Path, form: str) -> None:
    kept = InMemorySpanExporter()
    provider = TracerProvider()
    provider.add_span_processor(SimpleSpanProcessor(kept))
    app = service(
        ["who", "marks", "watch"], lambda ran, _: [], entering(provider.get_tracer("t"), {"who": "authentication"})
    )
    path = tmp_path / "spans"

    class Written(SpansIn):
        """A file that is written when the last answer has been given."""

        def wait(self, traces: Any, within: float) -> None:
            path.write_bytes(as_file(encode_spans(kept.get_finished_spans()), form))
            super().wait(traces, within)

    held = asked(app, told=Told(Written([path]), {"authentication": "who"}, 1.0))
    assert orders(held)[0] == (
        "in",
        ["marks", "who", "watch", "handler"],
        ["who", "marks", "watch", "handler"],
        "marks",
    )
    assert [check.what for check in held[0].checks if not check.ok] == ["order"]
    assert [row.unseen for row in held] == [0, 0]


def as_file(request: Any, form: str) -> bytes:
    if form == "protobuf":
        return bytes(request.SerializeToString())
    doc = {"resourceSpans": [{"scopeSpans": [{"spans": [
        {"traceId": span.trace_id.hex(), "spanId": span.span_id.hex(), "name": span.name, "startTimeUnixNano": str(span.start_time_unix_nano)}
        for resource in request.resource_spans for scope in resource.scope_spans for span in scope.spans
    ]}]}]}  # fmt: skip
    if form == "json":
        return json.dumps(doc, indent=1).encode()
    spans = doc["resourceSpans"][0]["scopeSpans"][0]["spans"]
    return "".join(json.dumps({"resourceSpans": [{"scopeSpans": [{"spans": [one]}]}]}) + "\n" for one in spans).encode()


def test_spans_received_while_it_runs() -> None:
    """Sent in batches by the SDK's own exporter, after the last answer."""
    spans = Spans()
    receiver = Receiver("127.0.0.1", 0, spans)
    exporter = OTLPSpanExporter(endpoint=f"http://127.0.0.1:{receiver.port}/v1/traces")
    provider = TracerProvider()
    provider.add_span_processor(BatchSpanProcessor(exporter, schedule_delay_millis=300))
    app = service(["who", "marks", "watch"], lambda ran, _: [], entering(provider.get_tracer("t"), {}))
    try:
        held = asked(app, told=Told(spans, {}, 5.0))
    finally:
        provider.shutdown()
        receiver.close()
    assert orders(held)[0][2] == ["who", "marks", "watch", "handler"]


def test_every_request_says_to_which_trace_it_belongs() -> None:
    seen: list[str] = []
    app = service(["marks", "who"], lambda ran, headers: seen.append(headers["traceparent"]) or [])  # type: ignore[func-returns-value]
    own = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"
    list(
        drift(
            described(MODEL), Trace.of(*SENDS, {"id": "own", "send": "GET /", "headers": {"traceparent": own}}), app=app
        )
    )
    assert seen[2] == own
    assert len(set(seen)) == 3
    for one in seen:
        version, trace, span, flags = one.split("-")
        assert (version, len(trace), len(span), flags) == ("00", 32, 16, "01")


@pytest.mark.parametrize("octets", [b"", b"{}", b"\x0a\x02\x0a\x00"])
def test_files_without_spans(octets: bytes) -> None:
    assert list(spans_of(octets)) == []


@pytest.mark.parametrize(
    "octets",
    [
        b'{"resourceSpans": 7}',
        b'{"resourceSpans": [{"scopeSpans": [{"spans": [{}]}]}]}',
        b"no spans at all",
        b"{",
        b"\xff" * 40,
    ],
)
def test_what_are_no_spans(octets: bytes, usher: Usher) -> None:
    with pytest.raises(ValueError, match=r"spans|Expecting"):
        list(spans_of(octets))


def test_the_command(usher: Usher, tmp_path: Path) -> None:
    code = """
async def app(scope, receive, send):
    if scope["type"] == "http":
        await send({"type": "http.response.start", "status": 200, "headers": [(b"content-type", b"text/plain"), (b"x-seen", b"1"), (b"server-timing", b"auth;dur=1, marks, handler")]})
        await send({"type": "http.response.body", "body": b"ok"})
"""
    trace = "patient-usher: trace/1\nrequests: [{id: a, send: GET /, sign: {api-key: maren}, expect: {order: [marks, who, handler]}}]\n"
    paths = ("drift", "p.yaml", "t.yaml", "--app", "inside:app", "--trust", "python", "--span", "auth=who")
    outcome = usher(*paths, p__yaml=MODEL.lstrip(), t__yaml=trace, inside__py=code)
    assert outcome.status == 1
    assert "order: model marks, who, handler, service who, marks, handler  → marks" in " ".join(
        outcome.out.split()
    ).replace(" → ", "  → ")
    row = usher(*paths, "--format", "json").json["rows"][0]
    assert row["ran"] == {"a": ["who", "marks", "handler"]}
    for more, words in (
        (["--span", "auth"], "write NAME=STAGE"), (["--span", "a=whom"], "there is no stage 'whom'; did you mean 'who'?"),
        (["--spans", "none.json"], "none.json"), (["--spans-at", "4318"], "write HOST:PORT"),
    ):  # fmt: skip
        wrong = usher(*paths, *more)
        assert (wrong.status, words in wrong.err) == (2, True), wrong.err
    (tmp_path / "bad.json").write_text("no spans")
    bad = usher(*paths, "--spans", "bad.json", "--spans-within", "0s")
    assert (bad.status, "these are no spans" in bad.err) == (2, True)


def test_names_of_entries() -> None:
    assert timing_names(['a;dur=1, b;desc="x, y;z", c', "d"]) == ["a", "b", "c", "d"]


def test_what_is_packed_too_large_is_refused() -> None:
    with pytest.raises(ValueError, match="over 67,108,864 octets when unpacked"):
        list(spans_of(gzip.compress(bytes(80 << 20))))
    assert list(spans_of(gzip.compress(b"{}"))) == []


HEAD = b"POST /v1/traces HTTP/1.1\r\nHost: h\r\nContent-Type: application/json\r\nConnection: close\r\n"
NO_SPANS = [
    ("a length below nothing", HEAD + b"Content-Length: -1\r\n\r\n{}", b"400"),
    ("a length that is no number", HEAD + b"Content-Length: abc\r\n\r\n{}", b"400"),
    ("a time without end", HEAD + _lengthy(b'{"resourceSpans":[{"scopeSpans":[{"spans":[{"traceId":"a","name":"b","startTimeUnixNano":1e999}]}]}]}'), b"400"),
    ("nested without end", HEAD + _lengthy(b'{"a":' * 100_000), b"400"),
    ("no POST", b"GET / HTTP/1.1\r\nHost: h\r\nConnection: close\r\n\r\n", b"405"),
    ("no HTTP", b"\x16\x03\x01\x00\xff\r\n\r\n", b"400"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "octets", "status"), NO_SPANS, ids=[name for name, *_ in NO_SPANS])
def test_what_is_no_span_is_refused(name: str, octets: bytes, status: bytes, capfd: pytest.CaptureFixture[str]) -> None:
    spans = Spans()
    receiver = Receiver("127.0.0.1", 0, spans)
    try:
        with socket.create_connection(("127.0.0.1", receiver.port), timeout=60) as connection:
            connection.sendall(octets)
            found = connection.recv(65536)
    finally:
        receiver.close()
    assert found.split()[1] == status
    assert capfd.readouterr() == ("", "")
