"""What whoever calls notices, in one sentence, before anything is said of stages: of two exchanges, or of one alone."""

from __future__ import annotations

from http import HTTPStatus

from patient_usher.core.verify.record import Record


def noticed(was: Record, other: Record, otherwise: str = "mended") -> str:
    """What is seen from outside of the one, against the other, which is called ``otherwise``."""
    who, request = _who(was, other), _request(was)
    here, there = was.browser, other.browser
    if here is not None and there is not None and here.verdict != there.verdict:
        told = {
            "readable": "can read the answer",
            "opaque": "can't look into the answer",
            "blocked": "gets nothing to read",
        }
        return f"The page that calls {request} {told[here.verdict]}; {otherwise}, it {told[there.verdict]}."
    if was.response is None:
        return f"{who} that sends {request} never gets an answer{_then(other, otherwise)}."
    if other.response is None:
        return f"{who} that sends {request} gets {_status(was)}; {otherwise}, no answer at all."
    if was.response.status != other.response.status:
        return f"{who} that sends {request} gets {_status(was)}; {otherwise}, {_status(other)}."
    if was.response.body != other.response.body:
        return f"{who} that sends {request} gets {_status(was)} as well, with another content."
    ours, theirs = ({n.lower(): value for n, value in one.headers} for one in (was.response, other.response))
    lost = [name for name in theirs if name not in ours]
    more = [name for name in ours if name not in theirs]
    changed = [name for name in ours if name in theirs and ours[name] != theirs[name] and name != "date"]
    if lost or more or changed:
        parts = [f"without {_names(lost, other)}"] if lost else []
        parts += [f"with {_names(more, was)}"] if more else []
        parts += [f"with another {_names(changed, was)}"] if changed else []
        return f"{who} that sends {request} gets the same answer {', '.join(parts)}."
    waits = [round(one.finished - one.at, 6) for one in (was, other)]
    if waits[0] != waits[1]:
        return f"{who} that sends {request} waits {waits[0]:g} s for it; {otherwise}, {waits[1]:g} s."
    return f"Nobody who sends {request} notices anything: it shows inside only."


def met(was: Record) -> str:
    """What is seen from outside of one exchange."""
    who, request = _who(was, was), _request(was)
    if was.browser is not None and was.browser.verdict == "blocked":
        return f"The page that calls {request} gets nothing to read."
    return f"{who} that sends {request} gets {_status(was) if was.response is not None else 'no answer at all'}."


def _who(was: Record, other: Record) -> str:
    name = was.identity or other.identity
    return f"A caller known as {name}" if name else "A caller"


def _request(was: Record) -> str:
    path = was.request.url.partition("://")[2].partition("/")[2]
    return f"{was.request.method} /{path if len(path) < 60 else path[:59] + '…'}"


def _status(record: Record) -> str:
    assert record.response is not None
    status = record.response.status
    try:
        return f"{status} {HTTPStatus(status).phrase}"
    except ValueError:
        return str(status)


def _then(other: Record, otherwise: str) -> str:
    return f"; {otherwise}, {_status(other)}" if other.response is not None else ""


def _names(names: list[str], record: Record) -> str:
    written = {name.lower(): name for name, _ in record.response.headers} if record.response is not None else {}
    shown = [written.get(name, name) for name in names]
    return " and ".join(shown[:2]) + (f" and {len(shown) - 2} more" if len(shown) > 2 else "")
