"""Real requests, answered by the model: for curl, a browser, or a client under test."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from threading import Event, Thread
from typing import NamedTuple

from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.http.urls import Url
from patient_usher.core.model.document import Problem, Spot, Unusable
from patient_usher.core.model.enumerations import SLIPS
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.outside import drifts
from patient_usher.core.verify.record import Record, exchange_record
from patient_usher.use_cases.session import Pipeline
from patient_usher.wire.server import Certificate, Server, context_of, listening, made_certificate
from patient_usher.wire.serving import Bounds, ServedModel

HOST, PORT = "127.0.0.1", 8471
PATIENCE = 60.0
"""Seconds that callers wait, where nobody says."""
_MOST_ANSWERS = 10_000
"""How many answers are remembered, to tell which are others after a change of the file."""


class Ended(NamedTuple):
    """An exchange that is over, with its mark and the statements that it broke."""

    x: Exchange
    mark: str
    broken: tuple[str, ...]
    starts: int

    def record(self) -> Record:
        """As results write it."""
        return exchange_record(self.x, self.starts, self.mark)


class Serving:
    """A pipeline that is served. ``url`` is where; ``certificate`` by what it is known, where it speaks TLS."""

    def __init__(
        self,
        pipeline: Pipeline,
        *,
        host: str = HOST,
        port: int = PORT,
        tls: bool = False,
        origin: Url | None = None,
        faster: float = 1.0,
        patience: float = PATIENCE,
        bounds: Bounds | None = None,
        seed: int = 0,
        watched: bool = True,
        on_ended: Callable[[Ended], None] = lambda ended: None,
        aside: Callable[[str], None] = lambda words: None,
        on_ready: Callable[[], None] = lambda: None,
        look: Callable[[], None] | None = None,
    ) -> None:
        """Listen; nothing is answered before ``work``. Raises Unusable where nobody can listen there."""
        self.pipeline = pipeline.compiled
        self.run_state = RunState(self.pipeline, seed)
        self.statements = Statements(self.pipeline)
        self._on_ended = on_ended
        try:
            listener = listening(host, port)
        except OSError as error:
            what = f"nobody can listen at {host}:{port}: {error.strerror or error}"
            raise Unusable(
                [Problem(Spot("--listen", 1, 1), what, "name another HOST:PORT; port 0 takes any")]
            ) from None
        shown = f"[{host}]" if ":" in host else host
        self.url = f"{'https' if tls else 'http'}://{shown}:{listener.getsockname()[1]}"
        self.certificate: Certificate | None = None
        if tls:
            self.certificate = made_certificate(host, *([origin.host] if origin is not None else []))
        bounds = bounds or Bounds()
        self.application = ServedModel(
            self.run_state,
            on_over=self._over,
            aside=aside,
            origin=origin,
            faster=faster,
            patience=patience,
            bounds=bounds,
            watched=watched or self.statements.needs_journeys,
        )
        self.starts = self.application.clock.now
        self._server = Server(
            self.application,
            listener,
            tls=context_of(self.certificate) if self.certificate is not None else None,
            within=bounds.within,
            on_ready=on_ready,
            on_end=self.application.close,
            look=look,
        )

    def work(self) -> None:
        """Answer, until a signal or ``stop`` ends it."""
        self._server.work()

    def stop(self) -> None:
        """Answer no longer; from any thread."""
        self._server.stop()

    def go_on_as(self, pipeline: Pipeline) -> None:
        """Serve another pipeline from now on; limits, sessions, records and caches stay as they are."""
        self.pipeline = pipeline.compiled
        self.statements = Statements(self.pipeline)
        self.run_state.go_on_as(self.pipeline)

    def _over(self, x: Exchange) -> None:
        broken = self.statements.hold(x)
        mark = "failed" if broken else "slipped" if x.outcome in SLIPS else "none"
        self._on_ended(Ended(x, mark, broken, self.starts))


@contextmanager
def served(pipeline: Pipeline, *, port: int = 0, **how: object) -> Iterator[Serving]:
    """The pipeline served in a thread of its own, at a port that is free; options as of ``Serving``."""
    ready = Event()
    serving = Serving(pipeline, port=port, on_ready=ready.set, **how)  # type: ignore[arg-type]
    thread = Thread(target=serving.work, daemon=True)
    thread.start()
    ready.wait(60)
    try:
        yield serving
    finally:
        serving.stop()
        thread.join(5)


class Answers:
    """Answers by what was asked, to tell which are others since the pipeline was last changed."""

    def __init__(self) -> None:
        self._before: OrderedDict[object, Record] = OrderedDict()
        self._now: OrderedDict[object, Record] = OrderedDict()

    def change(self) -> None:
        """The pipeline is another from now on."""
        self._before.update(self._now)
        self._now.clear()
        while len(self._before) > _MOST_ANSWERS:
            self._before.popitem(last=False)

    def differs(self, record: Record) -> bool:
        """Whether the same request was answered otherwise before the change; of what is new, yes."""
        request = record.request
        key = (request.method, request.url, tuple(request.headers), request.body, request.body_size)
        self._now[key] = record
        if len(self._now) > _MOST_ANSWERS:
            self._now.popitem(last=False)
        before = self._before.get(key)
        return before is None or bool(drifts(before, record, bodies=True))
