"""The service held against its model: the staircase with the service's column, and journeys of what differs."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

from msgspec import structs

from patient_usher.core.model.words import counted
from patient_usher.core.questions.reorder.fitting import FittingOrder
from patient_usher.core.variants.search import Explanation
from patient_usher.core.verify.document_types import (
    Drifted,
    DriftRecord,
    DriftRow,
    OrderFound,
)
from patient_usher.core.verify.expectations import Check
from patient_usher.core.verify.outside import Drift, DriftResult
from patient_usher.core.verify.record import Record, SummaryRecord, final_of
from patient_usher.output.explanation import explanation_record, indented
from patient_usher.output.journey import journey
from patient_usher.output.outcome import Outcome, Scene, Shown, shown
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.replay_view import ReplayTable, value_text
from patient_usher.output.terminal import Line, Piece, fit, line, line_width, wrapped

MOST_JOURNEYS = 1
_ROWS = 5
"""Of a request with more exchanges the table leaves some out, and so does the column."""


def rows(table: ReplayTable, held: DriftResult) -> Iterator[Line]:
    """One request as the model has it, with what the service answered beside the model's status."""
    theirs = {record.id: record for record in held.service}
    ours = shown(held.model)
    drawn = [*table.rows(ours._replace(mark="held" if held.same else "failed"))]
    own = [record.id for record in held.model.records()]
    for at, row in enumerate(drawn):
        other = theirs.get(own[at]) if at < len(own) else None
        differs = any(id_ == own[at] for id_, _ in held.differs) if at < len(own) else False
        yield _beside(row, other, differs=differs) if at < len(own) <= _ROWS else row
    yield from complaints(held)


def complaints(held: DriftResult) -> Iterator[Line]:
    """In what the service differs, with the stage to look at, and what else the trace expects of it: sentences."""
    for id_, one in held.differs:
        hop = id_.partition("/")[2]
        what = f"{f'{hop}: ' if hop else ''}{one.what}"
        look = f"  → {REDACTOR.redacted(one.stage)}" if one.stage else ""
        told = REDACTOR.redacted(f"{what}: {_words(one)}")
        beside = len(look) if len(look) < line_width() // 2 else 0
        parts = wrapped(told, 4 + beside, "  ")
        for number, part in enumerate(parts):
            cut = len(what) + 1 if number == 0 else 0
            end = (look if number == len(parts) - 1 else "", "name")
            yield line("    ", (part[:cut], "bad"), part[cut:], end)
    told_already = {one.what for _, one in held.differs}
    for check in held.checks:
        if not check.ok and check.what not in told_already:
            words = f"{check.what}: expected {value_text(check.expected)}, the service has {value_text(check.actual)}"
            for part in wrapped(REDACTOR.redacted(words), 4, "  "):
                yield line("    ", (part, "bad"))
    if held.trouble is not None:
        yield line("    ", (REDACTOR.redacted(f"the service {held.trouble}"), "bad"))


def _beside(row: Line, service: Record | None, *, differs: bool) -> Line:
    """The row with the service's status put behind the model's, in the room of who answered."""
    status = str(service.response.status) if service is not None and service.response is not None else "---"
    sign, style = ("≠", "bad") if differs else ("=", "good")
    who = row[-1]
    rest = Piece(fit(who.text.strip(), max(len(who.text), 14)).rstrip(), who.style)
    return [*row[:-1], Piece(f"  {sign} {status} ", style), rest]


def _words(one: Drift) -> str:
    ours, theirs = (value_text(value) if value is not None else "nothing" for value in (one.model, one.service))
    return f"model {ours}, service {theirs}"


def summary(held: Sequence[DriftResult]) -> Iterator[Line]:
    """How many differ, and what nobody outside can see."""
    differing = [one for one in held if one.differs or one.trouble is not None]
    unmet = [one for one in held if not one.same and one not in differing]
    unseen = sum(one.unseen for one in held)
    count = counted(len(held), "request")
    yield []
    if unseen:
        words = f"{counted(unseen, 'expectation')} of stages, order or logs"
        yield line((f"  {words}: of a service nobody outside sees those", "dim"))
    if unmet:
        yield from _told(f"{len(unmet)} of {count} not as the trace expects; the model answers them alike", unmet)
    if differing:
        stages = Counter(stage for one in held for stage in {found.stage for _, found in one.differs} if stage)
        named = ", ".join(f"{REDACTOR.redacted(stage)} ({times})" for stage, times in stages.most_common())
        if named:
            yield line(f"  stages to look at, by requests: {named}")
        yield from _told(f"the service differs from its model in {len(differing)} of {count}", differing)
    elif not unmet:
        yield line(("✓ ", "good"), f"{count}: the service does what the model says")


def _told(what: str, held: Sequence[DriftResult]) -> Iterator[Line]:
    ids = ", ".join(REDACTOR.redacted(one.id) for one in held[:8])
    more = f" and {len(held) - 8} more" if len(held) > 8 else ""
    first, *rest = wrapped(f"{what}: {ids}{more}", 2)
    yield line(("✗ ", "bad"), first)
    yield from (line(f"  {part}") for part in rest)


def journeys(held: Sequence[DriftResult]) -> Iterator[Line]:
    """The model's journeys of what differs, the first of them."""
    differing = [one for one in held if one.differs]
    for one in differing[:MOST_JOURNEYS]:
        id_ = one.differs[0][0]
        record = next((record for record in one.model.records() if record.id == id_), None)
        if record is not None:
            yield []
            yield line(("the model's way of the first that differs", "title"))
            yield from journey(REDACTOR.record(_in_tenths(record)), whole=False)
    if len(differing) > MOST_JOURNEYS:
        yield line((f"and {len(differing) - MOST_JOURNEYS} more that differ; --format json has them all", "dim"))


def _in_tenths(record: Record) -> Record:
    """At the nearest tenth of a second: by how much a service is late is nothing that its model says."""
    late = record.at - round(record.at, 1)

    def back(time: float) -> float:
        return round(time - late, 6)

    return structs.replace(
        record, at=back(record.at), finished=back(record.finished),
        journey=[structs.replace(step, at=back(step.at)) for step in record.journey],
        log=[structs.replace(said, at=back(said.at)) for said in record.log],
    )  # fmt: skip


def outcome(scene: Scene, held: Sequence[DriftResult]) -> Outcome:
    """As reports draw it: the model's exchanges, with what the service does otherwise as what doesn't hold."""
    sends, statuses = [], Counter[str]()
    for one in held:
        mark = "held" if one.same else "failed"
        checks: dict[str, list[Check]] = {}
        for id_, found in one.differs:
            checks.setdefault(id_, []).append(Check(f"service: {found.what}", found.model, found.service, False))
        records = one.model.records()
        own = checks.setdefault(final_of(records).id, [])
        told = {found.what for _, found in one.differs}
        own += [structs.replace(check, what=f"service: {check.what}") for check in one.checks if check.what not in told]
        if one.trouble is not None:
            own.append(Check("service: answer", "an answer", one.trouble, False))
        records = [structs.replace(record, mark=mark, checks=checks.get(record.id, [])) for record in records]
        sends.append(
            Shown(
                REDACTOR.redacted(one.id),
                REDACTOR.redacted(one.id),
                [REDACTOR.record(record) for record in records],
                mark,
            )
        )
        final = final_of(one.service) if one.service else None
        statuses[str(final.status) if final is not None and final.status is not None else "no answer"] += 1
    failed = sum(not one.same for one in held)
    exchanges = sum(len(one.service) for one in held)
    summary = SummaryRecord(len(held), exchanges, failed, dict(statuses), {"the service": len(held)})
    return Outcome(scene, summary, len(held), {}, [], [], sends, False)


def order_lines(pipeline: str, service: str, found: FittingOrder) -> Iterator[Line]:
    """In which order a service runs its stages, as far as its answers tell."""
    yield line((REDACTOR.redacted(pipeline), "title"), (f" against {REDACTOR.redacted(service)}", "dim"))
    answers = iter(found.answers)
    for entry in found.apart.trace.requests:
        got = [next(answers, "") for _ in range(entry.get("times", 1))]
        times = f" ×{len(got)}" if len(got) > 1 else ""
        told = ", ".join(f"{status}{f' ×{got.count(status)}' if len(got) > 1 else ''}" for status in dict.fromkeys(got))
        yield line(f"  {REDACTOR.redacted(str(entry['send']))}{times}  ", (told, "dim"))
    yield []
    if found.trouble is not None:
        yield line((f"  the service {REDACTOR.redacted(found.trouble)}", "bad"))
    every = f"{found.apart.orders:,} orders" + ("" if found.exact else ", which aren't all there are")
    if found.example is None:
        what = f"none of {every} answers so: it differs in more than the order (usher drift with a trace says in what)"
        first, *rest = wrapped(what, 2)
        yield line(("✗ ", "bad"), first)
        yield from (line(f"  {part}") for part in rest)
        return
    count = len(found.fitting)
    if found.present:
        others = f", and {count - 1} more of {every}" if count > 1 else f", alone of {every}"
        yield line(("✓ ", "good"), f"the model's order answers so{others}")
    else:
        does = "does" if count == 1 else "do"
        yield line(("✗ ", "bad"), f"the model's order doesn't answer so; {count} of {every} {does}")
    example = ", ".join(REDACTOR.redacted(list(found.example)))
    yield from indented(f"{'such as' if count > 1 else 'it is'}: {example}", "name", 2)
    if count > 1 and found.before:
        pairs = ", ".join(f"{a} before {b}" for a, b in found.before)
        yield from indented(f"all of them have {REDACTOR.redacted(pairs)}", "dim", 2)


def order_document(pipeline: str, service: str, found: FittingOrder) -> OrderFound:
    """As JSON says it."""
    return OrderFound(
        pipeline=pipeline,
        service=service,
        requests=list(found.apart.trace.requests),
        answers=list(found.answers),
        orders=found.apart.orders,
        exact=found.exact,
        present=found.present,
        fitting=[list(order) for order in found.fitting],
        before=[list(pair) for pair in found.before],
        trouble=found.trouble,
    )


def document(pipeline: str, service: str, held: Sequence[DriftResult], why: Explanation | None = None) -> Drifted:
    """As JSON says it."""
    return Drifted(
        pipeline=pipeline,
        service=service,
        requests=len(held),
        differing=sum(not one.same for one in held),
        unseen=sum(one.unseen for one in held),
        rows=[_row(one) for one in held],
        explanation=explanation_record(why) if why is not None else None,
    )


def _row(held: DriftResult) -> DriftRow:
    statuses = [
        one.response.status if one.response is not None else None
        for one in (final_of(held.model.records()), final_of(held.service))
    ]
    return DriftRow(
        id=held.id,
        model=statuses[0],
        service=statuses[1],
        same=held.same,
        differs=[DriftRecord(id_, one.what, one.model, one.service, one.stage) for id_, one in held.differs],
        failed=[check for check in held.checks if not check.ok],
        unseen=held.unseen,
        trouble=held.trouble,
        ran=dict(held.ran),
    )
