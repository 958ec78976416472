"""What a trace may expect of a request."""

from typing import Annotated, ClassVar, Literal

from pydantic import BeforeValidator, Field, WithJsonSchema

from patient_usher.core.model.document import Json
from patient_usher.core.model.enumerations import OUTCOMES
from patient_usher.core.model.matcher import StatusMatch, TextMatch, status_test
from patient_usher.core.model.text_types import Duration, Model, Names, Or, no_items, show, wrong

_OUTCOME = {"enum": list(OUTCOMES)}


class BodyExpect(Model):
    """What the answer's content must be. ``json``: a subset; ``exact``: the whole."""

    sentences: ClassVar[dict[str, str]] = {
        "json": "JSON that holds at least this.",
        "exact": "Exactly this text.",
        "contains": "This text somewhere.",
        "lacks": "This text nowhere.",
    }

    json_: object = Field(default=None, alias="json")
    exact: object = None
    contains: Names | None = None
    lacks: Names | None = None


class LogExpect(Model):
    """What the log beside the exchange must hold."""

    sentences: ClassVar[dict[str, str]] = {
        "contains": "A line says this.",
        "lacks": "No line says this.",
        "stage": "Only lines of this stage count.",
        "level": "Only lines of this level count.",
    }

    contains: Names = Field(default_factory=no_items)
    lacks: Names = Field(default_factory=no_items)
    stage: str | None = None
    level: str | None = None


def _parse_tally(value: Json) -> object:
    if not isinstance(value, dict) or not value:
        raise wrong(f"{show(value)} is no tally", "write {STATUS: HOW MANY}, as in {200: 30, 429: 10}")
    result = {}
    for status, count in value.items():
        key = int(status) if isinstance(status, str) and status.isdecimal() else status
        try:
            status_test(key)
        except ValueError as error:
            raise wrong(str(error)) from None
        if not isinstance(count, int) or isinstance(count, bool) or count < 0:
            raise wrong(f"{show(count)} is no number of answers", "write a whole number")
        result[key] = count
    return result


BodyMatch = Annotated[
    BodyExpect,
    BeforeValidator(lambda v: {"exact": v} if isinstance(v, str) else v),
    Or({"type": "string"}),
]


class BrowserExpect(Model):
    """What a browser must say of the answer."""

    sentences: ClassVar[dict[str, str]] = {
        "verdict": "readable, blocked or opaque.",
        "why": "The code of what blocked it.",
        "reason": "Words that the reason holds.",
        "reads": "Header fields that the page can read.",
        "status": "The status that the page gets: 200 of a copy that a 304 has confirmed.",
        "body": "The content that the page gets.",
    }

    verdict: Literal["readable", "blocked", "opaque"] | None = None
    why: TextMatch = None
    reason: Names | None = None
    reads: Names | None = None
    status: StatusMatch | None = None
    body: BodyMatch | None = None


class Expect(Model):
    """What must come of a request. Keys are the result's own names."""

    sentences: ClassVar[dict[str, str]] = {
        "status": "The answer's status: a number, 4xx, or a list.",
        "outcome": "What became of the exchange.",
        "answered-by": "Who answered: a stage, handler, router, server or caller.",
        "refused-by": "Who refused.",
        "raised-by": "Who raised the last error.",
        "why": "Why it was refused.",
        "route": "The route's id.",
        "identity": "Who was calling.",
        "raised": "The type of the last error.",
        "handler": "Whether the handler was reached.",
        "order": "These were entered in this order.",
        "ran": "These were entered.",
        "skipped": "These were passed over, or never reached.",
        "headers": "Header fields of the answer.",
        "body": "The answer's content.",
        "role": "The caller has one of these roles.",
        "context": "Values that stages have left.",
        "log": "What the log says.",
        "cache": "What the cache did.",
        "encoding": "The answer's content coding.",
        "cookies": "Words on the caller's cookies: which stayed behind or weren't taken, and why.",
        "browser": "What the page gets of it.",
        "preflight": "Expectations of the preflight, or not-sent.",
        "finishes-within": "How long it may take.",
        "tally": "How many of all repetitions end with which status.",
    }

    status: StatusMatch | None = None
    outcome: (
        Annotated[Names, WithJsonSchema({"anyOf": [_OUTCOME, {"type": "array", "items": _OUTCOME, "minItems": 1}]})]
        | None
    ) = None
    answered_by: TextMatch = None
    refused_by: TextMatch = None
    raised_by: TextMatch = None
    why: TextMatch = None
    route: TextMatch = None
    handler: Literal["reached", "not-reached"] | None = None
    order: list[str] | None = None
    ran: Names | None = None
    skipped: Names | None = None
    headers: dict[str, TextMatch] | None = None
    body: BodyMatch | None = None
    identity: TextMatch = None
    role: Names | None = None
    context: dict[str, TextMatch] | None = None
    raised: TextMatch = None
    log: (
        Annotated[
            LogExpect,
            BeforeValidator(lambda v: {"contains": v} if isinstance(v, str | list) else v),
            Or({"type": "string"}, {"type": "array", "items": {"type": "string"}}),
        ]
        | None
    ) = None
    cache: TextMatch = None
    encoding: TextMatch = None
    cookies: Names | None = None
    browser: (
        Annotated[
            BrowserExpect,
            BeforeValidator(lambda v: {"verdict": v} if isinstance(v, str) else v),
            Or({"enum": ["readable", "blocked", "opaque"]}),
        ]
        | None
    ) = None
    preflight: "Expect | Literal['not-sent'] | None" = None
    finishes_within: Duration | None = None
    tally: Annotated[dict[object, int], BeforeValidator(_parse_tally), WithJsonSchema({"type": "object"})] | None = None
