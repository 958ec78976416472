"""What was learned of a service: each question as it is answered, and the sum."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.words import counted
from patient_usher.core.questions.learn.interview import Question
from patient_usher.core.questions.learn.result import LearnedService
from patient_usher.core.verify.document_types import LearnedRecord, ShownOption
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.terminal import Line, line, wrapped

WANTS = {
    "plain": "what anybody gets",
    "nowhere": "who answers where nothing is",
    "nowhere-known": "the same, by somebody who is known",
    "head": "whether HEAD is as GET",
    "no-method": "who refuses a method",
    "again": "what varies by itself",
    "known": "whom the route lets in",
    "wrong": "how a wrong credential is refused",
    "wrong-where-open": "whether one matters where all may",
    "origin": "which origins may read",
    "origin-nowhere": "whether cors is outside the router",
    "preflight": "who answers preflights",
    "coding": "which codings there are",
    "condition": "whether validators count",
    "kept": "whether a copy is given",
    "burst": "how many may come",
    "limited": "met a limit",
}
"""What each sort of question wants to know."""


def asked(question: Question) -> Line:
    """A question, and its answer."""
    reply = question.reply
    status = str(reply.status) if reply is not None else "none"
    style = "good" if reply is not None and reply.status < 400 else "raised"
    by = f" as {question.account}" if question.account is not None else ""
    what = REDACTOR.redacted(f"{question.method} {question.target}")
    most = 36 - len(by)
    what = (what if len(what) <= most else f"{what[: most - 1]}…") + by
    return line((f"{question.id:<20}", "name"), f"{what:<37} ", (f"{status:<6}", style), (WANTS[question.sort], "dim"))


def told(found: LearnedService) -> Iterator[Line]:
    """The stages that were found, what showed them, and what is unknown."""
    made = found.learned
    yield []
    yield line(("stages found", "title"))
    shown = found.shown
    for one in made.found.stages:
        place = "on the routes" if one.group else "in front of the router"
        yield line("  ", (f"{one.stage['id']:<16}", "name"), f"{one.stage['kind']:<15}", (place, "dim"))
        options = [option for option in shown if option.option.startswith(f"{one.stage['id']}.")]
        for option in options:
            value = _short(option.value)
            yield line(f"    {option.option.partition('.')[2]:<18}", f"{value:<40} ", (f"shown by {option.by}", "dim"))
        if not options:
            yield line(("    shown by ", "dim"), (one.by, "dim"))
    if not made.found.stages:
        yield line("  none: no answer shows any")
    if found.mended:
        yield line(("changed, since the model answered otherwise at first", "title"))
        yield from (line("  ", part) for text in found.mended for part in wrapped(REDACTOR.redacted(text), 2))
    unknown = [*made.found.unknown, *dict.fromkeys(found.interview.left_out)]
    if unknown:
        yield line(("not known", "title"))
        yield from (line("  ", part) for text in unknown[:12] for part in wrapped(REDACTOR.redacted(text), 2, "  "))
        if len(unknown) > 12:
            yield line((f"  and {len(unknown) - 12} more; --format json has them all", "dim"))
    yield []
    asked_, differ = len(found.held), len(found.differing)
    mark, style = ("✗ ", "bad") if differ else ("✓ ", "good")
    yield line(
        (mark, style), f"the model answers {asked_ - differ} of {counted(asked_, 'question')} as the service did"
    )
    for held in found.differing[:6]:
        what = ", ".join(dict.fromkeys(difference.what for _, difference in held.differs))
        yield line(f"  {held.id}: ", (what, "raised"))


def _short(value: object) -> str:
    text = str(value)
    if isinstance(value, list):
        text = ", ".join(map(str, value))
    elif isinstance(value, dict):
        text = ", ".join(f"{name}: {one}" for name, one in value.items())
    return REDACTOR.text(text if len(text) <= 40 else f"{text[:39]}…")


def document(found: LearnedService) -> LearnedRecord:
    """As JSON says it."""
    made = found.learned
    return LearnedRecord(
        pipeline=made.document["name"],
        asked=len(found.interview.asked),
        stages=[str(one.stage["id"]) for one in made.found.stages],
        shown=[ShownOption(one.option, one.value, one.by) for one in found.shown],
        not_shown=[*made.found.unknown, *found.interview.left_out],
        alike=[],
        mended=found.mended,
        differing=[one.id for one in found.differing],
    )
