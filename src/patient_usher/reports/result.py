"""The result of a replay as data: one document, or one exchange a line. This is a contract."""

from __future__ import annotations

import base64
import json
from collections import Counter
from collections.abc import Iterable, Iterator
from typing import Any

from patient_usher.core.engine.replay import Send
from patient_usher.core.engine.service import Service
from patient_usher.core.http.dates import in_seconds
from patient_usher.core.http.messages import Answer
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.verify.expectations import Check

VERSION = "result/1"


def dump(value: Any) -> str:
    """JSON as results write it."""
    return json.dumps(value, ensure_ascii=False)


def _text_or_octets(body: bytes) -> dict[str, Any]:
    if not body:
        return {"body": None}
    try:
        return {"body": body.decode()}
    except UnicodeDecodeError:
        return {"body": None, "body_base64": base64.b64encode(body).decode()}


def answer_record(answer: Answer | None) -> dict[str, Any] | None:
    """An answer as the result writes it; ``body_size`` is octets on the wire."""
    if answer is None:
        return None
    return {
        "status": answer.status,
        "headers": [list(pair) for pair in answer.fields],
        **_text_or_octets(answer.body),
        "body_size": len(answer.body),
        "encoding": answer.fields.get("content-encoding"),
    }


def exchange_record(x: Exchange, starts: int, checks: Iterable[Check] = ()) -> dict[str, Any]:
    """One exchange as the result writes it; times are seconds since ``starts``."""
    request = x.sent
    identity = x.identity
    return {
        "id": x.id,
        "request_id": x.send.recipe.spec.id if x.send is not None else x.id,
        "kind": x.kind,
        "parent": x.parent,
        "caller": x.caller,
        "instance": x.instance,
        "at": in_seconds(x.at - starts),
        "finished": in_seconds(x.finished - starts),
        "request": {
            "method": request.method,
            "url": request.url.text,
            "headers": [list(pair) for pair in request.fields],
            **_text_or_octets(request.body),
            "body_size": len(request.body),
        },
        "route": x.route.id if x.route is not None else None,
        "response": answer_record(x.answer),
        "outcome": x.outcome,
        "answered_by": x.answered_by if x.answer is not None else None,
        "refused_by": x.refused_by,
        "why": x.why,
        "handler_reached": x.handler_reached,
        "handler_finished": x.handler_finished,
        "identity": identity.name if identity is not None else None,
        "roles": list(identity.roles) if identity is not None else [],
        "context": x.context,
        "journey": [
            {"stage": stage, "way": way, "did": did, "at": in_seconds(at - starts), "note": note or {}}
            for stage, way, did, at, note in x.journey
        ],
        "errors": [
            {
                "type": error.type,
                "message": error.message,
                "raised_by": error.raised_by,
                "caught_by": error.caught_by,
            }
            for error in x.errors
        ],
        "second_answer": answer_record(x.second_answer),
        "log": [
            {"at": in_seconds(at - starts), "stage": stage, "level": level, "message": message, "detail": detail}
            for at, stage, level, message, detail in x.log
        ],
        "caches": list(x.caches),
        "rates": list(x.rates),
        "browser": x.browser,
        "checks": [check._asdict() for check in checks],
    }


class Summary:
    """Counts, while a replay streams by."""

    def __init__(self) -> None:
        self.requests = self.exchanges = self.failed = 0
        self.by_status: Counter[str] = Counter()
        self.by_answerer: Counter[str] = Counter()
        self.cache_states: Counter[str] = Counter()
        self.before = self.after = 0

    def add(self, records: list[dict[str, Any]]) -> None:
        """Count one send's exchanges."""
        self.requests += 1
        self.exchanges += len(records)
        self.failed += any(not check["ok"] for record in records for check in record["checks"])
        for record in records:
            if record["response"] is not None:
                self.by_status[str(record["response"]["status"])] += 1
            self.cache_states.update(cache["state"] for cache in record["caches"])
            for step in record["journey"]:
                if "coding" in step["note"]:
                    self.before += step["note"]["before"]
                    self.after += step["note"]["after"]
            if record["answered_by"] is not None:
                self.by_answerer[record["answered_by"]] += 1

    def savings(self) -> list[str]:
        """What caches and compression saved, in a line each."""
        lines = []
        hits, states = self.cache_states["hit"], self.cache_states
        asked = hits + states["miss"] + states["stale"] + states["revalidated"]
        if asked:
            ratio = 100 * hits // asked
            lines.append(f"cache: {hits} of {asked} look-ups were hits ({ratio}%), as many handler runs saved")
        if self.before:
            saved = self.before - self.after
            lines.append(f"compression: {self.before:,} octets became {self.after:,}, {saved:,} saved")
        return lines

    def record(self) -> dict[str, Any]:
        """The counts as the result writes them."""
        return {
            "requests": self.requests,
            "exchanges": self.exchanges,
            "failed": self.failed,
            "by_status": dict(sorted(self.by_status.items())),
            "by_answerer": dict(sorted(self.by_answerer.items(), key=lambda item: (-item[1], item[0]))),
        }


def send_records(send: Send, starts: int, checks: list[Check]) -> list[dict[str, Any]]:
    """Every exchange of a send; the checks stand with the last one that the caller saw."""
    return [exchange_record(x, starts, checks if x is send.final else ()) for x in send.exchanges]


def document(
    service: Service, traces: list[str], seed: int, summary: Summary, exchanges: list[dict[str, Any]]
) -> dict[str, Any]:
    """The whole result."""
    return {
        "patient-usher": VERSION,
        "pipeline": service.name,
        "trace": ", ".join(traces),
        "environment": list(service.environment),
        "seed": seed,
        "summary": summary.record(),
        "always": [],
        "exchanges": exchanges,
    }


def write_json(result: dict[str, Any]) -> Iterator[str]:
    """The document with one exchange a line, so that it can be read and compared by line."""
    head = {key: value for key, value in result.items() if key != "exchanges"}
    yield dump(head)[:-1] + ', "exchanges": ['
    rows = result["exchanges"]
    for at, row in enumerate(rows):
        yield ("\n" if at == 0 else ",\n") + dump(row)
    yield "\n]}\n" if rows else "]}\n"
