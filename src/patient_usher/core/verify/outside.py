"""What can be seen of an exchange from outside, and in what two answers differ for whoever calls.

Field by field, by what the field means: sets as sets, seconds within one, validators by being there, cookies by name
and attributes. What no caller sees (stages, order, identity, logs) is never compared.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from typing import NamedTuple

from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.http.media import parse_media_type
from patient_usher.core.model.document import Json
from patient_usher.core.verify.expectations import Check
from patient_usher.core.verify.record import AnswerRecord, Record
from patient_usher.core.verify.run import Judged


class Drift(NamedTuple):
    """One thing in which the service differs: what, in the model, in the service, and the stage to look at."""

    what: str
    model: Json
    service: Json
    stage: str | None = None


class Held(NamedTuple):
    """One request, asked of the model and of the service.

    ``differs`` names the exchange (a preflight, a redirect, the call) with each difference. ``checks`` are what the
    trace expects and callers can see, held against the service; ``unseen`` counts what they can't.
    """

    id: str
    model: Judged
    service: list[Record]
    differs: tuple[tuple[str, Drift], ...]
    checks: tuple[Check, ...]
    unseen: int
    trouble: str | None = None
    ran: Mapping[str, list[str]] = {}
    """By exchange the stages that the service says ran, where it says so."""

    @property
    def same(self) -> bool:
        """Whether the service does what the model says, and what the trace expects of both."""
        return not self.differs and all(check.ok for check in self.checks)


def other_order(model: Record, ran: Sequence[str], shown: Collection[str]) -> Drift | None:
    """Where other stages ran in the service, or in another order: of those that it ever shows."""
    ours = [step.stage for step in model.journey if step.way == "in" and step.did != "skipped" and step.stage in shown]
    theirs = [stage for stage in ran if stage in shown]
    if ours == theirs:
        return None
    at = next((at for at, (a, b) in enumerate(zip(ours, theirs, strict=False)) if a != b), min(len(ours), len(theirs)))
    return Drift("order", ours, theirs, ours[at] if at < len(ours) else theirs[at])


def drifts(model: Record, service: Record, *, bodies: bool = False) -> list[Drift]:
    """In what the service's exchange differs from the model's, for whoever calls; contents where ``bodies`` says so."""
    if (model.response is None) is not (service.response is None):
        return [Drift("answer", *("given" if one.response else "none" for one in (model, service)))]
    found = list(_of_page(model, service))
    if model.response is None or service.response is None:
        return found
    if model.response.status != service.response.status:
        found.insert(0, Drift("status", model.response.status, service.response.status))
    other_answer = bool(found) and found[0].what == "status"
    given = by_name(model.response), by_name(service.response)
    for name, read in FIELDS.items():
        if name not in given[0] and name not in given[1]:
            continue
        if other_answer and (name in _OF_STATUS or model.kind == "preflight"):
            continue  # another answer says other things: that is no further difference
        ours, theirs = read(given[0].get(name, [])), read(given[1].get(name, []))
        if ours != theirs and not (name in _SECONDS and _near(ours, theirs)):
            found.append(Drift(name, ours, theirs))
    if bodies and not other_answer and model.response.body != service.response.body and model.request.method != "HEAD":
        found.append(Drift("body", model.response.body, service.response.body))
    return found


def _of_page(model: Record, service: Record) -> Iterator[Drift]:
    ours, theirs = model.browser, service.browser
    if ours is None or theirs is None:
        return
    if ours.verdict != theirs.verdict:
        yield Drift("browser", ours.verdict, theirs.verdict)
    elif [*ours.readable_headers] != [*theirs.readable_headers]:
        lists = [[n for n in one.readable_headers if n in FIELDS] for one in (ours, theirs)]
        if lists[0] != lists[1]:
            yield Drift("browser reads", lists[0], lists[1])


def by_name(answer: AnswerRecord) -> dict[str, list[str]]:
    """An answer's fields, every line of each by its name in small letters."""
    found: dict[str, list[str]] = {}
    for name, value in answer.headers:
        found.setdefault(name.lower(), []).append(value)
    return found


Read = Callable[[list[str]], Json]


def _exact(values: list[str]) -> Json:
    return ", ".join(values) or None


def _list(values: list[str]) -> Json:
    """A list in which neither order nor case matters (RFC 9110 5.6.1)."""
    return sorted({part.strip().lower() for value in values for part in value.split(",") if part.strip()}) or None


def _there(values: list[str]) -> Json:
    return "there" if values else None


def _media(values: list[str]) -> Json:
    return parse_media_type(values[0])[0] if values else None


def _number(values: list[str]) -> Json:
    return int(values[0]) if values and values[0].strip().isdigit() else _exact(values)


_CHALLENGE = re.compile(r'(?:^|,\s*)([A-Za-z][\w-]*)(?=\s|$|,)(?!\s*=)(?:[^,]*?realm="([^"]*)")?')


def _challenges(values: list[str]) -> Json:
    """Schemes with their realms (RFC 9110 11.6.1); further parameters are the scheme's own affair."""
    found = [f"{m[1]} {m[2]}".strip() if m[2] else m[1] for value in values for m in _CHALLENGE.finditer(value)]
    return sorted(found, key=str.lower) or None


def _cookies(values: list[str]) -> Json:
    """Each cookie by name and attributes, without its value and its dates (RFC 6265 4.1)."""
    found = []
    for value in values:
        pair, *attributes = [part.strip() for part in value.split(";")]
        kept = sorted(one for one in attributes if not one.lower().startswith("expires"))
        found.append("; ".join([pair.partition("=")[0], *kept]))
    return sorted(found) or None


FIELDS: dict[str, Read] = {
    "access-control-allow-origin": _exact,
    "access-control-allow-credentials": _exact,
    "access-control-allow-methods": _list,
    "access-control-allow-headers": _list,
    "access-control-expose-headers": _list,
    "access-control-max-age": _number,
    "vary": _list,
    "cache-control": _list,
    "www-authenticate": _challenges,
    "allow": _list,
    "retry-after": _number,
    "ratelimit": _exact,
    "ratelimit-policy": _exact,
    "location": _exact,
    "content-encoding": _exact,
    "content-type": _media,
    "strict-transport-security": _list,
    "etag": _there,
    "last-modified": _there,
    "set-cookie": _cookies,
}
"""The fields that stages write, by how they are compared. What else an answer says is the service's own."""
_OF_STATUS = (
    "content-type", "www-authenticate", "allow", "retry-after", "ratelimit", "etag", "last-modified", "location",
)  # fmt: skip
"""Fields that one answer has and another hasn't, by what it is."""
_SECONDS = ("retry-after", "ratelimit", "access-control-max-age")
_FIGURES = re.compile(r"(?<=t=)\d+|^\d+$")


def _near(ours: Json, theirs: Json) -> bool:
    """Whether two values are the same but for a second: real clocks run on between two requests."""
    texts = [str(value) for value in (ours, theirs)]
    figures = [[int(figure) for figure in _FIGURES.findall(text)] for text in texts]
    alike = _FIGURES.sub("", texts[0]) == _FIGURES.sub("", texts[1]) and len(figures[0]) == len(figures[1])
    return alike and all(abs(a - b) <= 1 for a, b in zip(*figures, strict=True))


_WRITERS = {
    "access-control": "cors",
    "browser": "cors",
    "vary": "cors",
    "www-authenticate": "authenticate",
    "retry-after": "rate-limit",
    "ratelimit": "rate-limit",
    "content-encoding": "compress",
    "etag": "conditional",
    "last-modified": "conditional",
    "strict-transport-security": "https-only",
}
"""Which kind of stage writes a field, by how it begins."""


def stage_at(blueprint: Blueprint, record: Record, what: str) -> str | None:
    """The stage whose work the model says it is: who answered; or, of a field, who writes such fields on the way."""
    if what in ("status", "answer", "body", "content-type"):
        return record.refused_by or record.answered_by
    there = dict.fromkeys(step.stage for step in record.journey if step.stage in blueprint.options)
    for id_ in there:
        work = getattr(blueprint.options[id_], "on_answer", None)
        if work is not None and what in [name.lower() for name in work.put]:
            return id_
    kind = next((kind for begins, kind in _WRITERS.items() if what.startswith(begins)), None)
    return next((id_ for id_ in there if blueprint.options[id_].kind == kind), None)


# What a trace expects.

_SEEN = ("status", "header ", "body", "encoding", "tally", "finishes-within", "keep ", "send", "cookies", "browser")
_UNSEEN = ("browser why", "browser reason")


_INSIDE = ("order", "ran", "skipped", "handler")


def is_visible(check: Check, shown: Collection[str] = ()) -> bool:
    """Whether an expectation speaks of what callers see, or of stages that the service shows (``shown``)."""
    what = check.what.removeprefix("preflight ")
    if what in _INSIDE and shown:
        names = check.expected if isinstance(check.expected, list) else []
        return all(name in shown for name in (["handler"] if what == "handler" else names))
    return what == "preflight" or (what.startswith(_SEEN) and not what.startswith(_UNSEEN))
