"""The other documents that commands print, typed: what programs read. A contract; the JSON Schemas are made of these.

A trace, or one of its requests, inside a document is as a trace file says it.
"""

from __future__ import annotations

from typing import Annotated

from msgspec import Meta, Struct

from patient_usher.core.model.document import Json
from patient_usher.core.verify.expectations import Check
from patient_usher.core.verify.record import Count

TraceDocument = Annotated[dict[str, Json], Meta(description="a trace, as a trace file says it")]
RequestDocument = Annotated[dict[str, Json], Meta(description="a request, as a trace file says it")]


def _version(name: str) -> Meta:
    return Meta(extra_json_schema={"const": name})


class Document(Struct, rename={"patient_usher": "patient-usher"}, kw_only=True):
    """What every document has."""


class Place(Struct):
    """A place in a file."""

    file: str
    line: Count
    column: Count


class Differs(Struct):
    """One thing in which a witness comes out otherwise when mended."""

    id: str
    what: str
    now: Json
    mended: Json


class Choice(Struct):
    """One mend that is offered, and the variant that has it."""

    mend: str
    change: dict[str, Json]


class FindingRecord(Struct):
    """Something that is wrong, with the requests that prove it."""

    code: str
    level: Annotated[str, Meta(extra_json_schema={"enum": ["error", "warning", "advice"]})]
    environment: str | None
    stage: str | None
    route: str | None
    at: Place
    notices: str
    happens: str
    matters: str
    mend: str
    change: dict[str, Json] | None
    choices: list[Choice]
    known: str | None
    withheld: str | None
    witness: TraceDocument | None
    differs: list[Differs]


class Findings(Document, kw_only=True):
    """What a check came to."""

    patient_usher: Annotated[str, _version("findings/1")] = "findings/1"
    pipeline: str
    tried: Count
    whole: bool
    left: list[str]
    findings: list[FindingRecord]
    unmet: ExplanationRecord | None = None


class GroupRecord(Struct):
    """Exchanges whose gravest change is of one kind. Of a long trace ``ids`` names the first, ``count`` counts all."""

    kind: str
    ids: list[str]
    example: str
    count: Count


class DifferenceRecord(Struct):
    """One thing in which two exchanges of an id differ."""

    id: str
    kind: str
    what: str
    a: Json
    b: Json


class Compare(Document, kw_only=True):
    """What changes between two results."""

    patient_usher: Annotated[str, _version("compare/1")] = "compare/1"
    requests: Count
    changed: Count
    groups: list[GroupRecord]
    differs: list[DifferenceRecord]


class PairRecord(Struct):
    """Two stages, and what swapping them does."""

    a: str
    b: str
    verdict: Annotated[str, Meta(extra_json_schema={"enum": ["free", "fields", "must-not", "mends"]})]
    changed: Count
    broken: Count
    mended: Count
    notices: str | None
    example: str | None


class FoundOrder(Struct):
    """An order that has what is wished for."""

    order: list[str]
    moves: Count
    exact: bool


class OrderClass(Struct):
    """Orders that answer alike: how many, an example, pairs that stand so in all, and what each request is answered."""

    orders: Count
    example: list[str]
    before: list[tuple[str, str]]
    answers: list[str]


class ApartRecord(Struct):
    """Requests that tell orders apart; ``equal``: neighbours whose swap none of what was tried shows."""

    orders: Count
    exact: bool
    notes: list[str]
    equal: list[tuple[str, str]]
    classes: list[OrderClass]
    requests: list[RequestDocument]


class Reorder(Document, kw_only=True):
    """Which stages may swap, and which order was found."""

    patient_usher: Annotated[str, _version("reorder/1")] = "reorder/1"
    replays: Count
    pairs: list[PairRecord]
    found: FoundOrder | None
    conflict: list[str]
    never: list[str]
    apart: ApartRecord | None = None
    whole: bool = True
    """Whether the budget was enough for the search."""


class CoverageRecord(Document, kw_only=True):
    """How often each of the things that can happen has."""

    patient_usher: Annotated[str, _version("coverage/1")] = "coverage/1"
    hit: Count
    of: Count
    stages: dict[str, dict[str, Count]]
    routes: dict[str, dict[str, Count]]
    impossible: list[tuple[str, str, str]]
    missing: list[RequestDocument]


class UnnoticedChange(Struct):
    """A change of one option that nothing notices: the requests that answer otherwise, and what would notice."""

    change: str
    ids: list[str]
    expectation: Annotated[dict[str, Json], Meta(description="by request, expectations as a trace file says them")]


class UnnoticedRecord(Document, kw_only=True):
    """Which changes of one option change an answer without any expectation noticing."""

    patient_usher: Annotated[str, _version("unnoticed/1")] = "unnoticed/1"
    tried: Count
    changes: Annotated[Count, Meta(description="those of the tried that change an answer")]
    noticed: Count
    whole: bool
    unnoticed: list[UnnoticedChange]


class ShownOption(Struct):
    """An option of a learned stage, its value, and the request that showed it."""

    option: str
    value: Json
    by: str


class LearnedRecord(Document, kw_only=True):
    """What was learned of a service."""

    patient_usher: Annotated[str, _version("learned/1")] = "learned/1"
    pipeline: str
    asked: Count
    stages: list[str]
    shown: list[ShownOption]
    not_shown: list[str]
    alike: Annotated[list[list[str]], Meta(description="orders that answer alike")]
    mended: Annotated[list[str], Meta(description="changes that what differed at first asked for")]
    differing: Annotated[list[str], Meta(description="questions that the model answers otherwise")]


class CaseRecord(Struct):
    """One distinct way in which a request can end, and how often it did."""

    route: str | None
    status: int | None
    outcome: str
    answered_by: str | None
    refused_by: str | None
    why: str | None
    handler: bool
    cache: str | None
    times: Count


class StatementSeen(Struct):
    """What became of a statement; ``witness`` breaks it, ``open`` says why it isn't proved."""

    id: str
    verdict: Annotated[str, Meta(extra_json_schema={"enum": ["proved", "held", "broken", "never-tried"]})]
    tried: Count
    open: list[str]
    notices: str | None
    why: str | None
    witness: TraceDocument | None


class Explore(Document, kw_only=True):
    """What can happen at all."""

    patient_usher: Annotated[str, _version("explore/1")] = "explore/1"
    pipeline: str
    tried: Count
    seed: int
    endings: list[CaseRecord]
    coverage: CoverageRecord
    never: list[tuple[str, str, str]]
    impossible: list[tuple[str, str, str]]
    classes: Count
    states: Count
    left_out: list[str]
    statements: list[StatementSeen]


class TrialRecord(Struct):
    """One combination of settings, and the figures that came of it."""

    settings: dict[str, Json]
    requests: Count
    refused: float
    over_quota: float
    timed_out: float
    statuses: dict[str, Count]
    refused_by_address: dict[str, float]
    refused_by_caller: dict[str, float]
    hits: float
    age: float
    handler: Count
    latency: float
    broken: Count
    always_broken: Count
    best: bool


class GoalRecord(Struct):
    """The combination that meets a goal with the least change, or comes nearest; ``short``: by how much it misses."""

    goal: str
    met: bool
    short: float
    settings: dict[str, Json]


class Sweep(Document, kw_only=True):
    """A trace under every combination of settings."""

    patient_usher: Annotated[str, _version("sweep/1")] = "sweep/1"
    trials: list[TrialRecord]
    found: GoalRecord | None = None


class DriftRecord(Struct):
    """One thing in which the service differs from its model. ``stage``: whose work the model says it is."""

    id: str
    what: str
    model: Json
    service: Json
    stage: str | None


class DriftRow(Struct):
    """One request, asked of the model and of the service: the status of each, what differs, what isn't as expected.

    ``ran``: by exchange the stages that the service says ran.
    """

    id: str
    model: int | None
    service: int | None
    same: bool
    differs: list[DriftRecord]
    failed: list[Check]
    unseen: Count
    trouble: str | None
    ran: dict[str, list[str]] = {}


class OrderFound(Document, kw_only=True):
    """The orders of a pipeline's stages that answer as a service did."""

    patient_usher: Annotated[str, _version("order-found/1")] = "order-found/1"
    pipeline: str
    service: str
    requests: list[dict[str, Json]]
    answers: list[str]
    orders: Count
    exact: bool
    present: bool
    fitting: list[list[str]]
    before: list[list[str]]
    trouble: str | None


class ChangeRecord(Struct):
    """A change of the model with which it answers as the service did: which requests, and what else would do so.

    ``others``: how many that are in all. ``deviation``: no option says it; it is described from the answers alone.
    """

    where: str
    change: str
    explains: list[str]
    alike: list[str]
    others: Count = 0
    deviation: bool = False


class ExplanationRecord(Struct):
    """The fewest changes that explain the most. ``leaves``: requests that still differ."""

    changes: list[ChangeRecord]
    leaves: list[str]
    tried: Count
    whole: bool


class Drifted(Document, kw_only=True):
    """What a real service does, against what its model says."""

    patient_usher: Annotated[str, _version("drift/1")] = "drift/1"
    pipeline: str
    service: str
    requests: Count
    differing: Count
    unseen: Count
    rows: list[DriftRow]
    explanation: ExplanationRecord | None = None
