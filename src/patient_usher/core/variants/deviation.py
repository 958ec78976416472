"""What a service does that no option of its model says: a field left out, a status in the place of another.

A deviation is described by the differences alone: what is otherwise, and on which exchanges: the simplest scope that
takes in those that differ so and none that could have and didn't.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import combinations
from typing import NamedTuple

from patient_usher.core.model.document import Json
from patient_usher.core.variants.seen import Pair, asked_path
from patient_usher.core.verify.outside import ROOTS, Drift, by_name
from patient_usher.core.verify.record import Record

COST = 6
"""What a deviation costs; each part of its scope costs one more."""
_WIDEST = 2
"""Of so many parts a scope consists at most."""


class Deviation(NamedTuple):
    """What is otherwise (``effect``), where (``scope``), and the differences that this says."""

    effect: str
    scope: str
    says: frozenset[tuple[str, str]]
    cost: int

    @property
    def words(self) -> str:
        """Both, in words."""
        return f"{self.effect}{f' {self.scope}' if self.scope else ''}"


Could = Callable[[Pair], bool]
Features = dict[tuple[str, str], None]
"""What an exchange is told apart by, with the words for each, in order."""


def deviations(pairs: Sequence[Pair], left: frozenset[tuple[str, str]]) -> list[Deviation]:
    """What says the differences that are left: the effects that say the most of them, each with its scope."""
    of = {pair.id: pair for pair in pairs}
    at = {pair.id: number for number, pair in enumerate(pairs)}
    follows = {pair.id: pair.model.caller for pair in pairs if pair.drifts and _was_sent_otherwise(pair)}
    cookies = {of[id_].model.caller for id_, what in left if what == "set-cookie"}
    after = {one for one in left if follows.get(one[0], "") in cookies and one[0] in follows}
    left -= after
    shifted = _shifted(pairs, left)
    differing = {
        id_: [one for one in of[id_].drifts if (id_, one.what) in left] for id_, _ in sorted(left) if id_ in of
    }
    effects: dict[tuple[str, str], tuple[Could, list[str]]] = {}
    for id_, drifts in differing.items():
        roots = [one for one in drifts if one.what in ROOTS] or [one for one in drifts if one.what == "body reveals"]
        for drift in roots or drifts:
            for effect, could in _effects(of[id_], drift, pairs[: at[id_]], shift=drift.what in shifted):
                effects.setdefault((drift.what, effect), (could, []))[1].append(id_)
    features: dict[str, Features] = {pair.id: dict.fromkeys(_features(pair.model)) for pair in pairs}
    found = []
    for (what, effect), (could, ids) in effects.items():
        inside = set(ids)
        outside = [
            pair for pair in pairs if pair.id not in inside and (what in ROOTS or not _other(pair)) and could(pair)
        ]
        scope = _scope([features[id_] for id_ in ids], [features[one.id] for one in outside], _FIRST.get(what, ()))
        if scope is not None:
            whole = what in ROOTS or effect.startswith(_KEPT)  # what else differs there comes of it
            says = {(id_, one.what) for id_ in ids for one in differing[id_] if whole or _same(one.what, what)}
            if what == "set-cookie":  # its callers send other cookies from then on
                callers = {of[id_].model.caller for id_ in ids}
                says |= {one for one in after if follows[one[0]] in callers}
            if whole:
                sends = {id_.partition("/")[0] for id_ in ids}
                says |= {one for one in left if one[1] == "request" and one[0].partition("/")[0] in sends}
            found.append(Deviation(_named(effect, scope[0]), scope[0], frozenset(says), COST + scope[1]))
    chosen: list[Deviation] = []
    rest = set(left)
    while rest and (best := max(found, key=lambda one: (len(one.says & rest), -one.cost), default=None)) is not None:
        if not best.says & rest:
            break
        chosen.append(best)
        rest -= best.says
    return chosen


_KEPT = "an answer kept for"


def _same(what: str, other: str) -> bool:
    """Whether one thing says the other: what a content reveals, of what is expected of it."""
    return what == other or (other == "body reveals" and what.startswith("body"))


def _was_sent_otherwise(pair: Pair) -> bool:
    """Whether the service was sent other fields than the model: what it answered before is the cause."""
    if pair.service is None:
        return False
    sent = [{name.lower() for name, _ in one.request.headers} for one in (pair.model, pair.service)]
    return "cookie" in sent[0] ^ sent[1]


def _other(pair: Pair) -> bool:
    """Whether another answer came altogether: what it would have said isn't known."""
    return any(one.what in ROOTS for one in pair.drifts)


def _shifted(pairs: Sequence[Pair], left: frozenset[tuple[str, str]]) -> set[str]:
    """Numbers that differ by the same wherever they differ, and aren't the same themselves."""
    values: dict[str, list[tuple[Json, Json]]] = {}
    for pair in pairs:
        for one in pair.drifts:
            if (pair.id, one.what) in left and isinstance(one.model, int) and isinstance(one.service, int):
                values.setdefault(one.what, []).append((one.model, one.service))
    return {
        what
        for what, found in values.items()
        if len({theirs for _, theirs in found}) > 1 and len({theirs - ours for ours, theirs in found}) == 1
    }


def _effects(pair: Pair, drift: Drift, earlier: Sequence[Pair], *, shift: bool) -> Iterator[tuple[str, Could]]:
    """What is otherwise, in words, each with whether an exchange could show it: the narrowest first."""
    what, ours, theirs = drift.what, drift.model, drift.service
    name = _spelled(what)
    if what == "status":
        yield f"{theirs} comes in the place of {ours}", lambda one: one.model.status == ours
        yield f"{theirs} comes in the place of any other status", lambda one: one.model.status not in (None, theirs)
    elif what == "answer":
        yield ("no answer comes" if theirs == "none" else "an answer comes where none is due"), lambda one: True
    elif what == "body reveals":
        yield f"the content shows {theirs}", lambda one: bool(one.model.errors)
    elif what.startswith("body"):
        copied = next((one for one in reversed(earlier) if _same_content(one, pair)), None)
        if copied is not None:
            other = "query" if copied.model.request.url != pair.model.request.url else "caller"
            yield f"{_KEPT} another {other} comes", lambda one: False
        yield f"another content comes ({what})", lambda one: any(check.what == what for check in one.model.checks)
    elif what in ("request", "order", "browser", "browser reads"):
        yield f"{what}: {_short(theirs)} in the place of {_short(ours)}", lambda one: True
    elif what == "set-cookie":
        for effect in _of_cookies(ours, theirs):
            yield effect, lambda one: what in _fields(one)
    elif theirs is None:
        yield f"{name} is missing", lambda one: what in _fields(one)
    elif isinstance(ours, list) and isinstance(theirs, list):
        gone, more = [one for one in ours if one not in theirs], [one for one in theirs if one not in ours]
        parts = [f"{name} lacks {', '.join(map(str, gone))}"] if gone else []
        parts += [f"{name} has {', '.join(map(str, more))} besides"] if more else []
        yield " and ".join(parts), lambda one: what in _fields(one) and all(_has(one, what, item) for item in gone)
    elif ours is None:
        yield f"{name} {_short(theirs)} is there", lambda one: what not in _fields(one)
    elif shift and isinstance(ours, int) and isinstance(theirs, int):
        apart = theirs - ours
        yield f"{name} is {abs(apart)} {'more' if apart > 0 else 'less'}", lambda one: what in _fields(one)
    else:
        yield f"{name} is always {_short(theirs)}", lambda one: what in _fields(one)


def _same_content(one: Pair, other: Pair) -> bool:
    """Whether the service answered alike to the same URL, where the model doesn't."""
    answers = [pair.service.response if pair.service is not None else None for pair in (one, other)]
    paths = [pair.model.request.url.partition("?")[0] for pair in (one, other)]
    if answers[0] is None or answers[1] is None or paths[0] != paths[1]:
        return False
    bodies = [pair.model.response.body if pair.model.response is not None else None for pair in (one, other)]
    return bool(answers[0].body) and answers[0].body == answers[1].body and bodies[0] != bodies[1]


def _of_cookies(ours: Json, theirs: Json) -> Iterator[str]:
    """Cookies by their attributes."""
    sets = [
        {one.partition(";")[0]: set(one.split("; ")[1:]) for one in side} if isinstance(side, list) else {}
        for side in (ours, theirs)
    ]
    for name in sorted({*sets[0], *sets[1]}):
        if name not in sets[1] or name not in sets[0]:
            yield f"the cookie {name} is {'missing' if name in sets[0] else 'there'}"
            continue
        gone, more = (sorted(sets[a][name] - sets[1 - a][name]) for a in (0, 1))
        named = {one.partition("=")[0] for one in more}
        lacks = [one for one in gone if one.partition("=")[0] not in named]
        parts = [f"lacks {', '.join(one.partition('=')[0] for one in lacks)}"] if lacks else []
        parts += [f"has {', '.join(more)}"] if more else []
        yield f"the cookie {name} {' and '.join(parts)}"


def _spelled(name: str) -> str:
    words = {
        "etag": "ETag",
        "www-authenticate": "WWW-Authenticate",
        "ratelimit": "RateLimit",
        "ratelimit-policy": "RateLimit-Policy",
    }
    found = words.get(name, "-".join(part.capitalize() for part in name.split("-")))
    return found.replace("Ratelimit", "RateLimit")


def _short(value: Json) -> str:
    text = value if isinstance(value, str) else ", ".join(map(str, value)) if isinstance(value, list) else str(value)
    return text if len(text) <= 60 else f"{text[:57]}…"


def _fields(pair: Pair) -> Mapping[str, list[str]]:
    return by_name(pair.model.response) if pair.model.response is not None else {}


def _has(pair: Pair, name: str, item: Json) -> bool:
    return str(item).lower() in ", ".join(_fields(pair).get(name, [])).lower()


_NAMES = {
    "401 comes in the place of 200": "a caller who should come in is asked to sign in",
    "404 comes in the place of 405": "404 comes in the place of 405: another method is told as nothing there",
    "200 comes in the place of 304": "200 comes in the place of 304: conditions are ignored",
}


def _named(effect: str, scope: str) -> str:
    """What the trade calls it, where it has a name."""
    status = effect.partition(" comes in the place of ")
    refused, came = status[2] in ("401", "403"), status[0].isdigit() and int(status[0]) < 300
    if refused and came:
        for why, words in _PASSES.items():
            if why in scope:
                return f"{words} ({effect})"
    due = effect.endswith(" comes in the place of any other status")
    if (came and status[2].isdigit() and int(status[2]) >= 400) or (due and effect < "3" and "on errors" in scope):
        return f"what is refused or fails is told as a success ({effect})"
    return _NAMES.get(effect, effect)


_PASSES = {
    "expired": "an expired credential passes",
    "not-yet-valid": "a credential passes before its time",
    "wrong-audience": "a credential for another audience passes",
    "wrong-issuer": "a credential of another issuer passes",
    "insufficient-role": "the role isn't checked",
    "insufficient-scope": "the scope isn't checked",
    "absent": "nobody asks for a credential",
    "wrong": "a wrong credential passes: the signature or the password isn't checked",
}
"""What it means that a refusal doesn't come, by why the model refuses."""


def _features(record: Record) -> Iterator[tuple[str, str]]:
    """By what exchanges are told apart, the words for it; those that say the most first."""
    if record.why is not None:
        yield "why", f"where {record.refused_by or record.answered_by} says {record.why}"
    if record.refused_by is not None:
        yield "refused", f"where {record.refused_by} refuses"
    if record.response is not None:
        yield "status", f"on {record.response.status}"
        yield "failed", "on errors" if record.response.status >= 400 else "on answers that are no errors"
        yield "class", f"on {record.response.status // 100}xx"
    if record.errors:
        yield "error", f"on {record.errors[-1].type}"
    yield "kind", f"on {record.kind}s"
    yield "method", f"on {record.request.method}"
    yield "route", f"on route {record.route}" if record.route else "where no route fits"
    yield "by", f"where {record.answered_by} answers"
    fields = {name.lower(): value for name, value in record.request.headers}
    yield "origin", "where an Origin is sent" if "origin" in fields else "where no Origin is sent"
    given = by_name(record.response) if record.response is not None else {}
    if "origin" in fields:
        listed = "access-control-allow-origin" in given
        yield "listed", f"where the origin is {'' if listed else 'not '}listed"
    yield (
        "granted",
        "where an origin is granted" if "access-control-allow-origin" in given else "where no origin is granted",
    )
    wanted = fields.get("accept-encoding")
    if wanted is not None:
        yield (
            "codings",
            "where the caller refuses a coding (q=0)"
            if "q=0" in wanted.replace(" ", "")
            else "where the caller asks for a coding",
        )
    else:
        yield "codings", "where nobody asked for a coding"
    if "authorization" in fields or "cookie" in fields:
        yield "credential", "where a credential is sent"
    else:
        yield "credential", "where no credential is sent"
    yield (
        "path",
        f"on {record.request.method} {asked_path(record)}",
    )


_FIRST = {
    "content-encoding": ("codings",),
    "vary": ("granted", "codings"),
    "access-control-allow-origin": ("listed", "granted"),
}
"""By which features a field is told apart before others."""


def _scope(inside: Sequence[Features], outside: Sequence[Features], first: Sequence[str]) -> tuple[str, int] | None:
    """The simplest words that take in all of these and none of those, and of how many parts; None where none do."""
    if not outside:
        return "", 0
    common = [feature for feature in inside[0] if all(feature in one for one in inside[1:])]
    common.sort(key=lambda feature: feature[0] not in first)
    for count in range(1, _WIDEST + 1):
        for parts in combinations(common, count):
            if not any(all(part in one for part in parts) for one in outside):
                return " ".join(words for _, words in parts), count
    return None
