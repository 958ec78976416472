"""What can be seen of an exchange from outside, and in what two answers differ for whoever calls.

Field by field, by what the field means: sets as sets, seconds within one, validators by their strength, cookies by name
and attributes, JSON by value. Every field that a stage of the model writes is compared. What no caller sees (stages,
order, identity, logs) is never compared.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from typing import NamedTuple
from urllib.parse import urlsplit, urlunsplit

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.http.media import parse_media_type
from patient_usher.core.http.messages import read_json
from patient_usher.core.model.document import Json
from patient_usher.core.verify.expectations import Check
from patient_usher.core.verify.record import AnswerRecord, Record, final_of
from patient_usher.core.verify.run import Judged


class Drift(NamedTuple):
    """One thing in which the service differs: what, in the model, in the service, and the stage to look at."""

    what: str
    model: Json
    service: Json
    stage: str | None = None


class DriftResult(NamedTuple):
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


ROOTS = ("answer", "status", "request")
"""Where one of these differs, another answer came altogether: what else differs there comes of it."""
_SERVER = "server"
"""Who answers where nobody catches an error."""
Read = Callable[[list[str]], Json]
"""The values of a field, as they are compared."""


def drifts(
    model: Record, service: Record, *, fields: Mapping[str, Read] | None = None, bodies: bool = False
) -> list[Drift]:
    """In what the service's exchange differs from the model's, for whoever calls; contents where ``bodies`` says so."""
    if (model.response is None) is not (service.response is None):
        return [Drift("answer", *("given" if one.response else "none" for one in (model, service)))]
    found = list(_of_page(model, service))
    if model.response is None or service.response is None:
        return found
    other_answer = model.response.status != service.response.status
    if other_answer:
        found.insert(0, Drift("status", model.response.status, service.response.status))
    bare = model.answered_by == _SERVER
    given = by_name(model.response), by_name(service.response)
    for name, read in (fields or FIELDS).items():
        if name not in given[0] and name not in given[1]:
            continue
        if other_answer and (name in OF_STATUS or model.kind == "preflight"):
            continue  # another answer says other things: that is no further difference
        if bare and name == "content-type":
            continue  # what a server says of errors that nobody caught is its own
        values = [one.get(name, []) for one in given]
        if name == "location":
            values = [[_from_here(value, model.request.url) for value in one] for one in values]
        ours, theirs = read(values[0]), read(values[1])
        if ours != theirs and not (name in _SECONDS and _near(ours, theirs)):
            found.append(Drift(name, ours, theirs))
    if model.request.method != "HEAD" and not bare:
        found += _of_content(model, service, bodies=bodies and not other_answer)
    return found


def _of_content(model: Record, service: Record, *, bodies: bool) -> Iterator[Drift]:
    """What a content says of errors that the model's keeps to itself; all of it where ``bodies`` says so."""
    assert model.response is not None
    assert service.response is not None
    ours, theirs = model.response.body or "", service.response.body or ""
    if ours == theirs:
        return
    private = [error.message for error in model.errors if len(error.message) > _SHORT]
    shown = [text for text in private if text in theirs and text not in ours]
    stack = _STACK.search(_json_text(theirs)) and not _STACK.search(_json_text(ours))
    if shown or stack:
        yield Drift("body reveals", "nothing private", "a stack" if stack else "an error's message")
    elif bodies and (_json(ours) is None or _json(ours) != _json(theirs)):
        yield Drift("body", model.response.body, service.response.body)


def _json(text: str) -> Json:
    """The value that a text is in JSON; None where it is none."""
    try:
        found: Json = read_json(text)
    except ValueError:
        return None
    return found


def _json_text(text: str) -> str:
    """A text with the line ends and quotes of JSON strings as they are meant."""
    return text.replace("\\n", "\n").replace('\\"', '"')


_SHORT = 5
"""Shorter messages stand in a text by chance."""
_STACK = re.compile(r'Traceback \(most recent|^\s+at [\w.$<>]+ ?\(|File "[^"]+", line \d+', re.MULTILINE)
"""How languages write where an error came from."""


def _from_here(value: str, url: str) -> str:
    """A reference without the origin that was asked: a service that is asked in the clear knows no better scheme."""
    whole, asked = urlsplit(value), urlsplit(url)
    same = whole.netloc == asked.netloc and whole.scheme in (asked.scheme, "http")
    return urlunsplit(("", "", *whole[2:])) or "/" if same else value


Differs = tuple[tuple[str, Drift], ...]
"""An exchange (a preflight, a redirect, the call) with each thing in which it differs."""


def apart(
    ours: Judged,
    records: Sequence[Record],
    checks: Sequence[Check],
    ran: Mapping[str, list[str]],
    shown: Collection[str],
    *,
    fields: Mapping[str, Read],
    bodies: bool,
) -> Iterator[tuple[Record | None, str, Drift]]:
    """In what a request differs: the service's records, what came of the checks there, and which stages it says ran."""
    by_id = {record.id: record for record in records}
    own = ours.records()
    for record in own:
        other = by_id.pop(record.id, None)
        if other is None:
            yield record, record.id, Drift("request", "sent", "not sent")
            continue
        yield from ((record, record.id, one) for one in drifts(record, other, fields=fields, bodies=bodies))
        if record.id in ran and (order := other_order(record, ran[record.id], shown)) is not None:
            yield record, record.id, order
    yield from ((None, id_, Drift("request", "not sent", "sent")) for id_ in by_id)
    theirs = {check.what: check for check in checks if check.what.startswith("body")}
    for check in ours.checks:
        if (other_check := theirs.get(check.what)) is not None and other_check.ok is not check.ok:
            yield own[-1], own[-1].id, Drift(check.what, check.actual, other_check.actual)


def settled(burst: Sequence[tuple[list[Record], list[Record], Differs]]) -> list[Differs]:
    """In what the requests of a burst differ: which of them met a limit is chance where each status came as often."""
    statuses = [tuple(final_of(side).status if side else None for side in (ours, theirs)) for ours, theirs, _ in burst]
    if len(burst) < 2 or Counter(ours for ours, _ in statuses) != Counter(theirs for _, theirs in statuses):
        return [differs for _, _, differs in burst]
    return [() if ours != theirs else differs for (ours, theirs), (_, _, differs) in zip(statuses, burst, strict=True)]


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
"""The fields that stages write in general, by how they are compared."""
OF_STATUS = (
    "content-type", "www-authenticate", "allow", "retry-after", "ratelimit", "etag", "last-modified", "location",
)  # fmt: skip
"""Fields that one answer has and another hasn't, by what it is."""
_SECONDS = ("retry-after", "ratelimit", "access-control-max-age", "x-ratelimit-reset", "age")
_FIGURES = re.compile(r"(?<=t=)\d+|^\d+$")


def _near(ours: Json, theirs: Json) -> bool:
    """Whether two values are the same but for a second: real clocks run on between two requests."""
    texts = [str(value) for value in (ours, theirs)]
    figures = [[int(figure) for figure in _FIGURES.findall(text)] for text in texts]
    alike = _FIGURES.sub("", texts[0]) == _FIGURES.sub("", texts[1]) and len(figures[0]) == len(figures[1])
    return alike and all(abs(a - b) <= 1 for a, b in zip(*figures, strict=True))


def _strength(values: list[str]) -> Json:
    """A validator is strong or weak (RFC 9110 8.8.3); what it says is whoever made it's."""
    return ("weak" if values[0].startswith("W/") else "strong") if values else None


_BY_STAGE: dict[str, Read] = {"etag": _strength, "age": _number, "traceparent": _there, "server-timing": _there}
"""Fields that are compared otherwise, or at all, where a stage of the model writes them."""


def compared(compiled: CompiledPipeline, leave_out: Collection[str] = ()) -> dict[str, Read]:
    """The fields that are compared for a pipeline: those that stages generally write, and all that its own write.

    ``leave_out``: lower-case names that aren't, for whatever reason.
    """
    found = dict(FIELDS)
    for options in compiled.options.values():
        made = set(options.makes_up())
        for name in options.writes():
            found[name] = _there if name in made else _BY_STAGE.get(name, found.get(name, _number))
    return {name: read for name, read in found.items() if name not in _NEVER and name not in leave_out}


_NEVER = ("server-timing", "date", "content-length", "cache-status")
"""What says how long something took, or how it was sent."""


def stage_at(compiled: CompiledPipeline, record: Record, drift: Drift) -> str | None:
    """The stage whose work the model says it is: who answered; or, of a field, who writes such fields on the way."""
    what = drift.what
    if what in ("status", "answer", "body", "body reveals", "content-type"):
        return record.refused_by or record.answered_by
    there = dict.fromkeys(step.stage for step in record.journey if step.stage in compiled.options)
    field = "access-control-allow-origin" if what.startswith("browser") else what
    writers = [id_ for id_ in there if field in compiled.options[id_].writes()]
    if what == "vary" and len(writers) > 1:  # what is missing, or too much, says whose it is
        lists = [set(one) if isinstance(one, list) else set() for one in (drift.model, drift.service)]
        coding = "accept-encoding" in lists[0] ^ lists[1]
        writers.sort(key=lambda id_: ("content-encoding" in compiled.options[id_].writes()) is not coding)
    return writers[0] if writers else None


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
