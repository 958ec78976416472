"""One exchange whole, for people: its way in and out, notes and log lines beside it, the answer."""

from __future__ import annotations

import json
import textwrap
from collections.abc import Iterator, Sequence

from patient_usher.core.http.messages import phrase, read_json
from patient_usher.core.model.document import JsonObject
from patient_usher.core.model.enumerations import DID
from patient_usher.core.model.words import counted
from patient_usher.core.verify.record import AnswerRecord, Headers, LogRecord, Record, RequestRecord
from patient_usher.output.replay_view import SIGN_OF, clock, failures, status_style, value_text
from patient_usher.output.terminal import Line, Piece, chopped, fit, line, line_width, wrapped


def journeys(records: Sequence[Record], *, whole: bool = False) -> Iterator[Line]:
    """Every exchange of a request. Of many redirects that go the same way the first and the last are shown."""
    folded = 0
    for before, record, after in zip([None, *records], records, [*records[1:], None], strict=False):
        if record.kind == "redirect" and _way(before) == _way(record) == _way(after):
            folded += 1
            continue
        if folded:
            yield line((f"… {counted(folded, 'redirect')} more that went the same way", "dim"))
            yield []
            folded = 0
        yield from journey(record, whole=whole)


def _way(record: Record | None) -> object:
    if record is None:
        return None
    steps = [(step.stage, step.way, step.did) for step in record.journey]
    return steps, record.route, record.response and record.response.status


def journey(record: Record, *, whole: bool = False) -> Iterator[Line]:
    """One exchange: its way in and out, notes and log lines beside it, the answer.

    ``whole``: header fields and content to their last character, as far as anybody reads them.
    """
    head = f"── {record.id} "
    yield line((head + "─" * (line_width() - len(head)), "dim"))
    request = record.request
    took = record.finished - record.at
    yield line((f"{request.method} {request.url}", "title"))
    route = f"route {record.route}" if record.route else "no route"
    yield line((f"{route}, caller {record.caller}, at {clock(record.at)}, took {clock(round(took, 6))}", "dim"))
    for part in wrapped(record.forwarded or ""):
        yield line((part, "dim"))
    yield from _headers(request.headers, whole=whole)
    yield from _content(request, WHOLE if whole else PART)
    yield []
    yield from _steps(record)
    yield []
    yield from _answer(record, whole=whole)
    bad = [check for check in record.checks if not check.ok]
    good = len(record.checks) - len(bad)
    if record.checks:
        yield []
        if good:
            yield line(("✓ ", "good"), f"{good} expectation{'s' if good > 1 else ''} held")
        for pieces in failures(record):
            yield [Piece("  " if pieces[1].text.startswith(" ") else "✗ ", "bad"), *pieces[1:]]
    yield []


def _steps(record: Record) -> Iterator[Line]:
    """The journey, indented as the stages nest; what each did stands in one column."""
    logs: dict[int | None, list[LogRecord]] = {}
    for log in record.log:
        logs.setdefault(log.step, []).append(log)
    errors = list(record.errors)
    depths = _depths(record)
    times = {*(step.at for step in record.journey), *(log.at for log in record.log)}
    waits = bool(times - {record.at})
    label_at = 18 if waits else 8
    words_at = label_at + max([len(step.stage) + 2 * depths[step.stage] for step in record.journey] + [10]) + 2
    shown_at = record.at
    for number, step in enumerate(record.journey):
        stage, way, did, note = step.stage, step.way, step.did, dict(step.note)
        time = clock(step.at) if step.at != shown_at else ""
        shown_at = step.at
        words, style = DID[did], "dim" if did in ("continued", "skipped") else SIGN_OF.get(did, ("", ""))[1]
        if did == "skipped":
            words = (
                f"passed over ({note.pop('why', '')})" if way == "in" else "dropped: its work on the way out is lost"
            )
        if did == "raised" and errors:
            error = errors.pop(0)
            words = f"raised {error.type}" + (f": {error.message}" if error.message else "")
        if did == "answered" and stage == record.refused_by:
            words = f"refused: {record.why}"
        head = f"{time:>10}  {way:<5} " if waits else f"  {way:<5} "
        name = fit("  " * depths[stage] + stage, words_at - label_at)
        for at, part in enumerate(_wrapped(words, words_at)):
            if at == 0:
                yield line((head, "dim"), (name, "name"), (part, style))
            else:
                yield line(" " * words_at, (part, style))
        for part in _wrapped(_note(note), words_at):
            yield line(" " * words_at, (part, "field"))
        for log in logs.get(number, ()):
            yield from _log_line(log, words_at)
    for log in logs.get(None, ()):  # written when all was over, or by nobody on the way
        time = clock(log.at) if log.at != shown_at else ""
        shown_at = log.at
        yield line((f"{time:>10}  after " if waits else "  after ", "dim"), (log.stage, "name"))
        yield from _log_line(log, words_at)


def _depths(record: Record) -> dict[str, int]:
    """How deep each stage stands: behind how many that passed on."""
    depths: dict[str, int] = {}
    level = 0
    for step in record.journey:
        if step.way == "in":
            depths[step.stage] = min(level, 14)
            level += step.did in ("continued", "answered-and-continued")
        depths.setdefault(step.stage, 0)
    return depths


def _wrapped(text: str, at: int) -> list[str]:
    return textwrap.wrap(text, max(line_width() - at, 30), break_on_hyphens=False)


def _log_line(log: LogRecord, indent: int) -> Iterator[Line]:
    text = f"log {log.level}: {log.message}"
    for part in _wrapped(text, indent):
        yield line(" " * indent, (part, "log"))
    for key, value in (log.detail or {}).items():
        for at, part in enumerate(value_text(value).splitlines()):
            text = f"{key + ': ' if at == 0 else '  '}{part}"
            yield line(" " * (indent + 2), (fit(text, line_width() - indent - 2).rstrip(), "dim"))


def _note(note: JsonObject) -> str:
    return ", ".join(f"{key.replace('_', '-')} {value_text(value)}" for key, value in note.items())


_QUIET = {"host", "date", "content-length"}


PART, WHOLE = 10, 2_000
"""How many lines of content are shown."""


def _headers(headers: Headers, *, whole: bool) -> Iterator[Line]:
    for name, value in headers:
        if name.lower() in _QUIET:
            continue
        room = line_width() - 4 - len(name)
        parts = chopped(value, room) if whole else [fit(value, room).rstrip()]
        for at, part in enumerate(parts or [""]):
            yield line("  ", (f"{name}: " if at == 0 else " " * (len(name) + 2), "field"), part)


def _content(message: RequestRecord | AnswerRecord, limit: int) -> Iterator[Line]:
    text = message.body
    if text is None:
        if message.body_base64:
            yield line("  ", (f"({message.body_size} octets that are no text)", "dim"))
        return
    try:
        value = read_json(text)
    except ValueError:
        pass
    else:
        if isinstance(value, dict | list) and len(text) > line_width() - 4:
            text = json.dumps(value, ensure_ascii=False, indent=2)
    lines = text.splitlines()
    if limit == WHOLE:
        lines = [part for one in lines for part in chopped(one, line_width() - 2) or [""]]
    for part in lines[:limit]:
        yield line("  ", fit(part, line_width() - 2).rstrip())
    if len(lines) > limit:
        yield line("  ", (f"… {message.body_size:,} octets, {len(lines) - limit:,} more lines", "dim"))


def _no_answer(record: Record) -> str:
    """Why there is none, and what became of the work."""
    outcome, patience = record.outcome, clock(round(record.finished - record.at, 6))
    if outcome == "stalled":
        stage = next((step.stage for step in record.journey if step.did == "nothing"), "a stage")
        return f"No answer: {stage} neither passed it on nor answered; the caller gave up after {patience}"
    if outcome == "abandoned":
        last = max((step.at for step in record.journey), default=0)
        went_on = (
            f"the work went on for nobody until {clock(last)}" if last > record.finished else "the work ended there"
        )
        return f"No answer: the caller gave up after {patience}; {went_on}"
    return f"No answer: {outcome}"


def _answer(record: Record, *, whole: bool) -> Iterator[Line]:
    response = record.response
    if response is None:
        yield line((_no_answer(record), "bad"))
    else:
        status = f"{response.status} {phrase(response.status)}"
        for at, part in enumerate(textwrap.wrap(_by(record), line_width() - len(status) - 2)):
            yield line((status if at == 0 else " " * len(status), status_style(record)), f"  {part}")
        yield from _headers(response.headers, whole=whole)
        yield from _content(response, WHOLE if whole else PART)
    second = record.second_answer
    if second is not None:
        yield line((f"and then, to nobody: {second.status} {phrase(second.status)}", "bad"))
        yield from _content(second, 4)
    browser = record.browser
    if browser is not None:
        names = ", ".join(browser.readable_headers) or "none"
        copy = "" if browser.got is None else f"{browser.got.status} from its own copy; "
        told = {"readable": f"{copy}readable; header fields it can read: {names}"}
        text = told.get(browser.verdict, f"{browser.verdict} ({browser.why}): {browser.reason}")
        for part in wrapped(f"to the page: {text}", 0, "  "):
            yield line((part, "good" if browser.verdict == "readable" else "raised"))
    if record.cookies:
        yield from (line((part, "raised")) for part in wrapped(f"cookies: {'; '.join(record.cookies)}", 0, "  "))
    raised = next((error.type for error in record.errors if error.raised_by == "handler"), None)
    handler = (
        f"raised {raised}"
        if raised is not None and not record.handler_finished
        else "ran to its end"
        if record.handler_finished
        else "was reached, but did not finish"
        if record.handler_reached
        else "was not reached"
    )
    yield line((f"the handler {handler}", "dim"))


def _by(record: Record) -> str:
    by, refused = record.answered_by, record.refused_by
    if by == "server" and record.errors:
        error = record.errors[-1]
        why = f": {error.because}" if error.because else ""
        whose = f"refused by {refused} ({record.why}); " if refused else ""
        return f"answered by server; {whose}nobody caught {error.type}{why}"
    if refused and refused != by:
        return f"answered by {by}; refused by {refused} ({record.why})"
    if refused:
        return f"refused by {refused} ({record.why})"
    if record.outcome == "errored":
        return f"answered by {by}, which caught {record.errors[-1].type}"
    return f"answered by {by}"
