"""The record of an exchange: what the result says of it, made once, when all of it is over. A contract."""

from __future__ import annotations

import base64
from collections.abc import Iterable, Sequence
from typing import Any

from patient_usher.core.engine.replay import Send
from patient_usher.core.http.dates import in_seconds
from patient_usher.core.http.messages import Answer
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.verify.expectations import Check

Record = dict[str, Any]


def _text_or_octets(body: bytes) -> Record:
    if not body:
        return {"body": None}
    try:
        return {"body": body.decode()}
    except UnicodeDecodeError:
        return {"body": None, "body_base64": base64.b64encode(body).decode()}


def answer_record(answer: Answer | None) -> Record | None:
    """An answer as the result writes it; ``body_size`` is octets on the wire."""
    if answer is None:
        return None
    return {
        "status": answer.status,
        "headers": answer.fields.pairs(),
        **_text_or_octets(answer.body),
        "body_size": len(answer.body),
        "encoding": answer.fields.get("content-encoding"),
    }


def exchange_record(x: Exchange, starts: int, checks: Iterable[Check] = ()) -> Record:
    """One exchange as the result writes it; times are seconds since ``starts``."""
    request, identity = x.sent, x.identity
    return {
        "id": x.id,
        "request_id": x.send.entry.id if x.send is not None else x.id,
        "kind": x.kind,
        "parent": x.parent,
        "caller": x.caller,
        "instance": x.instance,
        "at": in_seconds(x.at - starts),
        "finished": in_seconds(x.finished - starts),
        "request": {
            "method": request.method,
            "url": request.url.text,
            "headers": request.fields.pairs(),
            **_text_or_octets(request.body),
            "body_size": len(request.body),
        },
        "forwarded": x.plan.sight.forwarded(x) if x.plan is not None and x.plan.sight is not None else None,
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
        **_happened(x, starts),
        "checks": [check._asdict() for check in checks],
    }


def _happened(x: Exchange, starts: int) -> Record:
    """What came of it on the way."""
    journey, last, seconds = [], -1, in_seconds(0)
    missing = x.plan.sight.missing(x) if x.journey and x.plan is not None and x.plan.sight is not None else {}
    for stage, way, did, at, note in x.journey or ():
        if at != last:  # most steps of an exchange come at one time
            last, seconds = at, in_seconds(at - starts)
        if missing and way == "in" and stage in missing:
            note = {**(note or {}), "sees": missing[stage]}
        journey.append({"stage": stage, "way": way, "did": did, "at": seconds, "note": note or {}})
    return {
        "journey": journey,
        "errors": [
            {
                "type": error.type,
                "message": error.message,
                "raised_by": error.raised_by,
                "caught_by": error.caught_by,
                "because": error.because,
            }
            for error in x.errors
        ],
        "second_answer": answer_record(x.second_answer),
        "log": [
            {"at": in_seconds(at - starts), "stage": stage, "level": level, "message": message, "detail": detail}
            for at, stage, level, message, detail in x.log or ()
        ],
        "caches": [
            {
                "stage": use.stage,
                "state": use.state,
                "stored": use.stored,
                "why": use.why,
                "age": in_seconds(use.age) if use.age is not None else None,
            }
            for use in x.caches
        ],
        "rates": [
            {
                "stage": use.stage,
                "for": use.for_,
                "quota": use.quota,
                "remaining": use.remaining,
                "reset": in_seconds(use.reset),
            }
            for use in x.rates
        ],
        "browser": {**x.browser._asdict(), "readable_headers": list(x.browser.readable_headers)} if x.browser else None,
    }


def send_records(send: Send, starts: int, checks: list[Check]) -> list[Record]:
    """Every exchange of a send; the checks stand with the last one that the caller saw."""
    return [exchange_record(x, starts, checks if x is send.final else ()) for x in send.exchanges]


def final_of(records: Sequence[Record]) -> Record:
    """The exchange that ended a send for its caller: not one that made a copy fresh meanwhile."""
    return next(record for record in reversed(records) if not record["id"].endswith("/revalidation"))
