"""The model as an ASGI application: a service that does what its model says, for tests."""

from __future__ import annotations

from typing import Any

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.run.clock import Clock
from patient_usher.core.engine.run.model_service import ModelService
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Request
from patient_usher.core.http.urls import Url
from patient_usher.core.model.exchange import Exchange

PATIENCE = 30_000_000


class Served:
    """A run state that lives on between requests; its clock is turned by whoever calls ``wait``."""

    def __init__(self, compiled: CompiledPipeline) -> None:
        self.run_state = RunState(compiled, 0)
        self.at = 0

    def wait(self, at: int) -> None:
        """It is this late."""
        self.at = at

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        """ASGI 3; an exchange without an answer raises, as a broken application does."""
        if scope["type"] != "http":
            return
        body = (await receive())["body"]
        host, port = scope["server"]
        query = scope["query_string"].decode()
        url = Url(scope["scheme"], host, port, scope["raw_path"].decode(), query)
        fields = Fields((name.decode("latin-1"), value.decode("latin-1")) for name, value in scope["headers"])
        clock, done = Clock(self.at), list[Exchange]()
        service = ModelService(self.run_state, clock, done.append, lambda x: None)
        request = Request(scope["method"], url, fields, body, scope["client"][0])
        x = service.arrive("one", request, clock.now, watched=True)
        service.start(x, PATIENCE)
        while not done and clock.step():
            pass
        if x.answer is None:
            raise RuntimeError(x.outcome)
        headers = [
            (name.lower().encode(), value.encode("latin-1", "replace")) for name, value in x.answer.fields.pairs()
        ]
        await send({"type": "http.response.start", "status": x.answer.status, "headers": headers})
        await send({"type": "http.response.body", "body": x.answer.body})
