"""The record of an exchange, and the result of a replay: what programs read. A contract.

Every type here is what one document, or a part of one, says; the JSON Schemas are made of them. Times are seconds since
the start of the trace, exact to the microsecond.
"""

from __future__ import annotations

import base64
from collections.abc import Iterable, Sequence
from typing import Annotated

from msgspec import UNSET, Meta, Struct, UnsetType

from patient_usher.core.engine.replay import Send
from patient_usher.core.http.dates import in_seconds
from patient_usher.core.http.messages import Answer
from patient_usher.core.model.document import Json
from patient_usher.core.model.enumerations import CACHE_STATES, DID, KINDS, OUTCOMES, VERDICTS, WAYS
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.verify.expectations import Check
from patient_usher.core.verify.verdict import MARKS

Headers = list[tuple[str, str]]
Count = Annotated[int, Meta(ge=0, le=2**53 - 1)]
"""What every reader of JSON holds exactly (RFC 8259 section 6)."""
Seconds = Annotated[float, Meta(ge=0, le=1e10)]
"""Some three hundred years: a trace lasts a hundred at most."""
StatusCode = Annotated[int, Meta(ge=100, le=999)]
"""Three digits (RFC 9110 15)."""


def _word(words: Iterable[str]) -> Meta:
    return Meta(extra_json_schema={"enum": list(words)})


class MessageRecord(Struct):
    """A request or an answer. ``body`` is text; ``body_base64`` stands where the octets are none."""

    headers: Headers
    body: str | None
    body_size: Count


class RequestRecord(MessageRecord, kw_only=True):
    """A request as it was sent."""

    method: str
    url: str
    body_base64: str | UnsetType = UNSET


class AnswerRecord(MessageRecord, kw_only=True):
    """An answer as it was received; ``body`` is what it decodes to, ``body_size`` octets on the wire."""

    status: StatusCode
    encoding: str | None
    body_base64: str | UnsetType = UNSET


class StepRecord(Struct):
    """One step of the journey."""

    stage: str
    way: Annotated[str, _word(WAYS)]
    did: Annotated[str, _word(DID)]
    at: Seconds
    note: dict[str, Json]


class ErrorRecord(Struct):
    """An error that was raised; ``because`` says why nobody caught it."""

    type: str
    message: str
    raised_by: str
    caught_by: str | None
    because: str | None


class LogRecord(Struct):
    """One line of the log; ``step`` is the number of the step beside which it was written, where there is one."""

    at: Seconds
    stage: str
    level: str
    message: str
    detail: dict[str, Json] | None
    step: Count | None = None


class CacheRecord(Struct):
    """What a cache did with the exchange."""

    stage: str
    state: Annotated[str, _word(CACHE_STATES)]
    stored: bool
    why: str | None
    age: Seconds | None


class RateRecord(Struct, rename={"for_": "for"}):
    """What a limit made of the exchange; ``for`` whom it counts."""

    stage: str
    for_: str
    quota: Count
    remaining: Count
    reset: Seconds


class PageRecord(Struct):
    """What a browser lets the page have."""

    verdict: Annotated[str, _word(VERDICTS)]
    why: str | None
    reason: str | None
    readable_headers: list[str]
    got: AnswerRecord | None = None


class Record(Struct):
    """One exchange: on the wire, on its way through the stages, and what was expected of it."""

    id: str
    request_id: str
    kind: Annotated[str, _word(KINDS)]
    parent: str | None
    caller: str
    instance: Count
    at: Seconds
    finished: Seconds
    request: RequestRecord
    forwarded: str | None
    route: str | None
    response: AnswerRecord | None
    outcome: Annotated[str, _word(OUTCOMES)]
    answered_by: str | None
    refused_by: str | None
    why: str | None
    handler_reached: bool
    handler_finished: bool
    identity: str | None
    roles: list[str]
    context: dict[str, Json]
    journey: list[StepRecord]
    errors: list[ErrorRecord]
    second_answer: AnswerRecord | None
    log: list[LogRecord]
    caches: list[CacheRecord]
    rates: list[RateRecord]
    cookies: list[str]
    browser: PageRecord | None
    mark: Annotated[str, _word(MARKS)]
    checks: list[Check]

    @property
    def failed(self) -> bool:
        """Whether what was expected of it, or a statement, did not hold."""
        return self.mark == "failed"

    @property
    def status(self) -> int | None:
        """The answer's status; None where there is none."""
        return self.response.status if self.response is not None else None


class SummaryRecord(Struct):
    """Counts of a replay: sends, exchanges, and sends that were not as expected."""

    requests: Count
    exchanges: Count
    failed: Count
    by_status: dict[str, Count]
    by_answerer: dict[str, Count]


class StatementRecord(Struct):
    """What became of a statement that must always hold: ``broken`` names the exchanges that broke it."""

    id: str
    held: Count
    broken: list[str]
    tried: Count


class Result(Struct, rename={"patient_usher": "patient-usher"}, kw_only=True):
    """A whole replay."""

    patient_usher: Annotated[str, Meta(extra_json_schema={"const": "result/1"})] = "result/1"
    pipeline: str
    trace: str
    environment: list[str]
    seed: int
    starts: str | None = None
    """From when the times of the first trace count (RFC 3339)."""
    summary: SummaryRecord
    always: list[StatementRecord]
    exchanges: list[Record]


def _text_or_octets(body: bytes) -> tuple[str | None, str | UnsetType]:
    if not body:
        return None, UNSET
    try:
        return body.decode(), UNSET
    except UnicodeDecodeError:
        return None, base64.b64encode(body).decode()


def answer_record(answer: Answer | None) -> AnswerRecord | None:
    """An answer as the result writes it."""
    if answer is None:
        return None
    body, octets = _text_or_octets(answer.content if answer.body else b"")
    return AnswerRecord(
        status=answer.status,
        headers=answer.fields.pairs(),
        body=body,
        body_base64=octets,
        body_size=len(answer.body),
        encoding=answer.fields.get("content-encoding"),
    )


def exchange_record(x: Exchange, starts: int, mark: str = "none", checks: Iterable[Check] = ()) -> Record:
    """One exchange as the result writes it; its times count from ``starts``."""
    request, identity, sight = x.sent, x.identity, x.plan.sight if x.plan is not None else None
    body, octets = _text_or_octets(request.body)
    at = in_seconds(x.at - starts)
    return Record(
        id=x.id,
        request_id=x.send.entry.id if x.send is not None else x.id,
        kind=x.kind,
        parent=x.parent,
        caller=x.caller,
        instance=x.instance,
        at=at,
        finished=at if x.finished == x.at else in_seconds(x.finished - starts),
        request=RequestRecord(
            headers=request.fields.pairs(),
            body=body,
            body_size=len(request.body),
            method=request.method,
            url=request.url.text,
            body_base64=octets,
        ),
        forwarded=sight.forwarded(x) if sight is not None else None,
        route=x.route.id if x.route is not None else None,
        response=answer_record(x.answer),
        outcome=x.outcome,
        answered_by=x.answered_by if x.answer is not None else None,
        refused_by=x.refused_by,
        why=x.why,
        handler_reached=x.handler_reached,
        handler_finished=x.handler_finished,
        identity=identity.name if identity is not None else None,
        roles=list(identity.roles) if identity is not None else [],
        context=x.context,
        journey=_journey(x, starts),
        errors=[
            ErrorRecord(error.type, error.message, error.raised_by, error.caught_by, error.because)
            for error in x.errors
        ],
        second_answer=answer_record(x.second_answer),
        log=[
            LogRecord(
                at if when == x.at else in_seconds(when - starts), who, level, message, detail, _beside(x, who, step)
            )
            for when, who, level, message, detail, step in x.log or ()
        ],
        caches=[
            CacheRecord(use.stage, use.state, use.stored, use.why, in_seconds(use.age) if use.age is not None else None)
            for use in x.caches
        ],
        rates=[RateRecord(use.stage, use.for_, use.quota, use.remaining, in_seconds(use.reset)) for use in x.rates],
        cookies=list(x.cookies_told),
        browser=PageRecord(*x.browser[:3], list(x.browser.readable_headers), answer_record(x.browser.got))
        if x.browser
        else None,
        mark=mark,
        checks=list(checks),
    )


def _beside(x: Exchange, stage: str, step: int) -> int | None:
    journey = x.journey or ()
    return step if step < len(journey) and journey[step][0] == stage else None


def _journey(x: Exchange, starts: int) -> list[StepRecord]:
    journey, last, seconds = [], -1, in_seconds(0)
    missing = x.plan.sight.missing(x) if x.journey and x.plan is not None and x.plan.sight is not None else {}
    for stage, way, did, at, note in x.journey or ():
        if at != last:  # most steps of an exchange come at one time
            last, seconds = at, in_seconds(at - starts)
        if missing and way == "in" and stage in missing:
            note = {**(note or {}), "sees": missing[stage]}
        journey.append(StepRecord(stage, way, did, seconds, note or {}))
    return journey


def send_records(send: Send, starts: int, checks: list[Check], mark: str = "none") -> list[Record]:
    """Every exchange of a send, each with the send's mark; the checks stand with the last one that the caller saw."""
    return [exchange_record(x, starts, mark, checks if x is send.final else ()) for x in send.exchanges]


def final_of(records: Sequence[Record]) -> Record:
    """The exchange that ended a send for its caller: not one that made a copy fresh meanwhile."""
    return next(record for record in reversed(records) if not record.id.endswith("/revalidation"))


def content_size(answer: AnswerRecord) -> int:
    """How many octets the content of an answer has before any coding that was applied here."""
    if answer.body is not None:
        return len(answer.body.encode(errors="surrogatepass"))
    return len(base64.b64decode(answer.body_base64)) if answer.body_base64 else answer.body_size
