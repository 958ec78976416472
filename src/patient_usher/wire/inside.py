"""What a service says of its own stages: entries of Server-Timing, or spans (OTLP) tied by ``traceparent``.

Spans are read from files, in JSON (also a request a line, as collectors write them) or protobuf, or received over HTTP
while requests run. An entry or a span counts where it is named like a stage, or as ``names`` say.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Awaitable, Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from threading import Condition, Event, Thread
from time import monotonic, sleep
from typing import Any, NamedTuple

from patient_usher.core.http.messages import Answer
from patient_usher.core.http.server_timing import timing_names
from patient_usher.core.model.document import Json
from patient_usher.core.stages.read_body import DECODERS, BadCoding

MOST_OCTETS = 64 << 20
HANDLER = "handler"


class Span(NamedTuple):
    """One span: of which trace (in hexadecimal), its name, and when it began, in nanoseconds since the epoch."""

    trace: str
    name: str
    start: int


class Spans:
    """Spans by trace; more may come at any time."""

    def __init__(self) -> None:
        self._by_trace: dict[str, list[Span]] = {}
        self._news = Condition()

    def add(self, spans: Iterable[Span]) -> None:
        """Take some in."""
        with self._news:
            for span in spans:
                self._by_trace.setdefault(span.trace, []).append(span)
            self._news.notify_all()

    def names(self, trace: str) -> list[str] | None:
        """The names of a trace's spans as they began; None where there is none at all."""
        found = self._by_trace.get(trace)
        return None if found is None else [span.name for span in sorted(found, key=lambda span: span.start)]

    def wait(self, traces: Iterable[str], within: float) -> None:
        """Until there is something of each of these, or the time is over."""
        wanted, ends = set(traces), monotonic() + within
        with self._news:
            while not wanted <= self._by_trace.keys() and (left := ends - monotonic()) > 0:
                self._news.wait(left)


class SpansIn(Spans):
    """Spans in files that the service, or a collector, writes; they are read when they are wanted."""

    def __init__(self, paths: Sequence[Path]) -> None:
        super().__init__()
        self._paths = paths

    def wait(self, traces: Iterable[str], within: float) -> None:
        """Read until there is something of each of these, or the time is over. Raises ValueError, OSError."""
        wanted, ends = set(traces), monotonic() + within
        while True:
            self._by_trace.clear()
            for path in self._paths:
                self.add(spans_of(path.read_bytes()))
            if wanted <= self._by_trace.keys() or monotonic() > ends:
                return
            sleep(0.2)


class Inside:
    """Which stages ran, by what the service says; ``shown`` are those that it has named at least once."""

    def __init__(self, stages: Iterable[str], names: Mapping[str, str], spans: Spans | None, run: str) -> None:
        """``names``: what spans and entries that aren't named like stages stand for; ``run`` tells runs apart."""
        self._stages = {HANDLER, "router", *stages}
        self._names, self.spans, self._run = names, spans, run
        self.shown: set[str] = set()

    def trace_id(self, number: int) -> str:
        """The trace to which a request belongs, in hexadecimal."""
        return hashlib.sha256(f"{self._run} {number}".encode()).hexdigest()[:32]

    def traceparent(self, number: int) -> str:
        """The field that says so (W3C Trace Context 3.2), sampled."""
        return f"00-{self.trace_id(number)}-{hashlib.sha256(f'{self._run}/{number}'.encode()).hexdigest()[:16]}-01"

    def ran(self, answer: Answer | None) -> list[str] | None:
        """The stages that an answer says ran, in their order; None where it says nothing of any."""
        values = (
            answer.fields.values("server-timing") if answer is not None and "server-timing" in answer.fields else ()
        )
        found = self._known(timing_names(values))
        if found and HANDLER in found and found[-1] != HANDLER:
            found.reverse()  # written as they ended: the handler first
        return found or None

    def ran_in(self, number: int) -> list[str] | None:
        """The stages whose spans there are of a request, as they began; None where nothing of it is known."""
        names = self.spans.names(self.trace_id(number)) if self.spans is not None else None
        return self._known(names) if names is not None else None

    def _known(self, names: Iterable[str]) -> list[str]:
        stages = (self._names.get(name, name) for name in names)
        found = list(dict.fromkeys(stage for stage in stages if stage in self._stages))
        self.shown.update(found)
        return found


# OTLP (opentelemetry-proto, trace/v1).


def spans_of(octets: bytes) -> Iterator[Span]:
    """The spans of what OTLP sends or collectors write: JSON, JSON Lines, or protobuf. Raises ValueError."""
    if octets[:2] == b"\x1f\x8b":
        try:
            octets = DECODERS["gzip"](octets, MOST_OCTETS)
        except BadCoding:
            raise ValueError("these spans are packed wrongly; write them unpacked") from None
        if len(octets) > MOST_OCTETS:
            raise ValueError(f"these spans are over {MOST_OCTETS:,} octets when unpacked; send fewer at once")
    text = octets.lstrip()
    if text[:1] != b"{":
        yield from _of_protobuf(octets)
        return
    try:
        try:
            docs = [json.loads(text)]
        except ValueError:
            docs = [json.loads(line) for line in text.splitlines() if line.strip()]
    except RecursionError:
        raise ValueError("these spans are nested too deep; write OTLP's JSON or protobuf") from None
    for doc in docs:
        yield from _of_json(doc)


def _of_json(doc: Json) -> Iterator[Span]:
    try:
        for resource in doc.get("resourceSpans", ()):
            for scope in resource.get("scopeSpans", ()):
                for span in scope.get("spans", ()):
                    yield Span(str(span["traceId"]).lower(), str(span["name"]), int(span.get("startTimeUnixNano", 0)))
    except (AttributeError, KeyError, TypeError, ValueError, OverflowError):
        raise ValueError("these are no spans; write OTLP's JSON or protobuf") from None


def _of_protobuf(octets: bytes) -> Iterator[Span]:
    from google.protobuf.message import DecodeError
    from opentelemetry.proto.trace.v1.trace_pb2 import TracesData  # what a request of OTLP has, too

    found = TracesData()
    try:
        found.ParseFromString(octets)
    except DecodeError:
        raise ValueError("these are no spans; write OTLP's JSON or protobuf") from None
    for resource in found.resource_spans:
        for scope in resource.scope_spans:
            for span in scope.spans:
                yield Span(span.trace_id.hex(), span.name, span.start_time_unix_nano)


class Receiver:
    """Takes spans in over HTTP (OTLP 1.x: POST /v1/traces), until it is closed; by the server that serves models."""

    def __init__(self, host: str, port: int, spans: Spans) -> None:
        """Raises OSError where nobody can listen there."""
        from patient_usher.wire.server import Server, listening

        listener = listening(host, port)
        self.port: int = listener.getsockname()[1]
        ready = Event()
        self._server = Server(_taking(spans), listener, on_ready=ready.set)
        self._thread = Thread(target=self._server.work, daemon=True)
        self._thread.start()
        ready.wait(60)

    def close(self) -> None:
        """Listen no longer."""
        self._server.stop()
        self._thread.join(60)


def _taking(spans: Spans) -> Callable[..., Awaitable[None]]:
    """An ASGI application that takes spans in, in one body of bounded size."""

    async def taking(scope: dict[str, Any], receive: Callable[..., Any], send: Callable[..., Any]) -> None:
        octets, status, more = bytearray(), 200, True
        while more and status == 200:
            message = await receive()
            if message["type"] != "http.request":
                return
            octets += message.get("body", b"")
            more = message.get("more_body", False)
            status = 413 if len(octets) > MOST_OCTETS else 200
        if scope["method"] != "POST":
            status = 405
        elif status == 200:
            try:
                spans.add(list(spans_of(bytes(octets))))
            except ValueError:
                status = 400
        media = next((value for name, value in scope["headers"] if name == b"content-type"), b"")
        body, sort = (b"{}", b"application/json") if b"json" in media else (b"", b"application/x-protobuf")
        fields = [(b"Content-Type", sort), (b"Content-Length", str(len(body)).encode())]
        fields += [(b"Allow", b"POST")] * (status == 405) + [(b"Connection", b"close")] * (status == 413)
        await send({"type": "http.response.start", "status": status, "headers": fields})
        await send({"type": "http.response.body", "body": body})

    return taking
