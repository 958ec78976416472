"""What a service has shown that values of options may be: numbers, texts and fields of answers that differ."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from itertools import groupby
from typing import Any, NamedTuple
from urllib.parse import urlsplit

from patient_usher.core.http.fields import list_items
from patient_usher.core.model.document import Json
from patient_usher.core.verify.outside import Drift, by_name
from patient_usher.core.verify.record import Record

NOBODY = "https://nobody.example"
"""Stands in a list of origins for whatever a service lists in the place of what it doesn't."""
_FIGURES = re.compile(r"\d+")
_ATTRIBUTE = re.compile(r";\s*(?:domain|path)=([^;]+)", re.IGNORECASE)
_QUOTED = re.compile(r'"([^"]*)"')


class Seen(NamedTuple):
    """What was seen, by the field that showed it; of routes, by route."""

    numbers: frozenset[int] = frozenset()
    statuses: tuple[int, ...] = ()
    texts: tuple[str, ...] = ()
    lists: tuple[tuple[str, ...], ...] = ()
    fields: tuple[tuple[str, str | None], ...] = ()
    """Whole fields that differ, by name in lower case; None where the service has none."""
    new_fields: tuple[str, ...] = ()
    """Names of fields that the service's answers have and the model's haven't."""
    paths: tuple[str, ...] = ()
    """Paths of what was answered otherwise."""
    errors: tuple[tuple[str, int], ...] = ()
    """Types of errors, each with the status that the service answers in the place of the model's."""
    places: tuple[str, ...] = ()
    """Where the service's redirects lead."""
    routes: Mapping[str, tuple[tuple[tuple[str, ...], Json], ...]] = {}
    """By route: what its own answers have at places of its handler's answer."""


class Pair(NamedTuple):
    """An exchange of the model's, the service's, and in what they differ."""

    id: str
    model: Record
    service: Record | None
    drifts: tuple[Drift, ...]


def asked_path(record: Record) -> str:
    """The path that an exchange asked for."""
    return urlsplit(record.request.url).path or "/"


def seen_in(pairs: Sequence[Pair]) -> Seen:
    """What the exchanges that differ have shown; the most frequent first."""
    numbers, statuses, texts, lists = Counter[int](), Counter[int](), Counter[str](), Counter[tuple[str, ...]]()
    fields, new, paths = Counter[tuple[str, str | None]](), Counter[str](), Counter[str]()
    errors, places = Counter[tuple[str, int]](), Counter[str]()
    routes: dict[str, Counter[tuple[tuple[str, ...], str]]] = {}
    texts[NOBODY] = 0
    kept: dict[tuple[str, tuple[tuple[str, ...], str]], Json] = {}
    for pair in pairs:
        answer = pair.service.response if pair.service is not None else None
        if answer is None or not pair.drifts:
            continue
        whats = {one.what for one in pair.drifts}
        values, ours = by_name(answer), by_name(pair.model.response) if pair.model.response else {}
        paths[asked_path(pair.model)] += 1
        if "status" in whats:
            numbers[answer.status] += 1
            statuses[answer.status] += 1
            for error in pair.model.errors:
                errors[error.type, answer.status] += 1
        places.update(values.get("location", []))
        new.update(name for name in values if name not in ours)
        for name in whats & values.keys() | {name for name in values if name.startswith(_COUNTING)}:
            for value in values[name]:
                numbers.update(int(one) for one in _FIGURES.findall(value) if len(one) < 10)
                items = list_items(value)
                lists[tuple(items)] += 1
                texts.update(items)
                texts.update(_QUOTED.findall(value))
                texts.update(_ATTRIBUTE.findall(value) if name == "set-cookie" else ())
        for what in whats - _NO_FIELDS:
            fields[what, ", ".join(values[what]) if what in values else None] += 1
        if pair.model.route is not None and pair.model.handler_finished:
            for path, value in _of_route(whats, answer.status, values):
                key = path, repr(value)
                routes.setdefault(pair.model.route, Counter())[key] += 1
                kept[pair.model.route, key] = value
    return Seen(
        frozenset(numbers) | frozenset(_runs(pairs)),
        _most(statuses),
        _most(texts),
        _most(lists),
        _most(fields),
        _most(new),
        _most(paths),
        _most(errors),
        _most(places),
        {id_: tuple((key[0], kept[id_, key]) for key, _ in found.most_common()) for id_, found in routes.items()},
    )


def seen_in_expectations(pairs: Sequence[Pair]) -> Seen:
    """What values of options may be, by what a trace expects and doesn't get."""
    numbers, statuses, texts = set[int](), list[int](), [NOBODY]
    fields, errors, paths = list[tuple[str, str | None]](), list[tuple[str, int]](), list[str]()
    routes: dict[str, list[tuple[tuple[str, ...], Json]]] = {}
    for pair in pairs:
        if not pair.drifts:
            continue
        paths.append(asked_path(pair.model))
        texts += [value for name, value in pair.model.request.headers if name.lower() == "origin"]
        for drift in pair.drifts:
            expected, name = drift.service, drift.what.partition("header ")[2].lower()
            numbers |= {int(one) for one in _FIGURES.findall(str(expected)) if len(one) < 10}
            if drift.what == "status" and isinstance(expected, int):
                statuses.append(expected)
                errors += [(error.type, expected) for error in pair.model.errors]
                if pair.model.route is not None:
                    routes.setdefault(pair.model.route, []).append((("status",), expected))
            if name and (expected is None or isinstance(expected, str)):
                fields.append((name, expected))
                texts += [*list_items(expected or ""), *_QUOTED.findall(expected or "")]
                if pair.model.route is not None:
                    routes.setdefault(pair.model.route, []).append((("headers", name.title()), expected))
    return Seen(
        numbers=frozenset(numbers),
        statuses=tuple(dict.fromkeys(statuses)),
        texts=tuple(dict.fromkeys(texts)),
        lists=tuple(dict.fromkeys(tuple(list_items(value)) for _, value in fields if value)),
        fields=tuple(dict.fromkeys(fields)),
        paths=tuple(dict.fromkeys(paths)),
        errors=tuple(dict.fromkeys(errors)),
        routes={id_: tuple(found) for id_, found in routes.items()},
    )


_COUNTING = ("retry-after", "ratelimit", "x-ratelimit")
_NO_FIELDS = {"status", "answer", "body", "body reveals", "browser", "browser reads", "order", "request"}


def _most(counted: Counter[Any]) -> tuple[Any, ...]:
    return tuple(one for one, _ in counted.most_common())


def _of_route(whats: set[str], status: int, values: Mapping[str, list[str]]) -> Iterable[tuple[tuple[str, ...], Json]]:
    """What the route's handler would have to answer."""
    if "status" in whats:
        yield ("status",), status
    for what in sorted(whats - _NO_FIELDS):
        yield ("headers", what.title()), ", ".join(values[what]) if what in values else None


def _runs(pairs: Sequence[Pair]) -> set[int]:
    """How many times in a row the service answered alike, and how often at all: what a quota may be."""
    answers = [(pair.id.partition("[")[0], pair.service.status if pair.service else None) for pair in pairs]
    found = {len(list(group)) for _, group in groupby(status for _, status in answers)}
    by_request: dict[str, list[int | None]] = {}
    for id_, status in answers:
        by_request.setdefault(id_, []).append(status)
    for statuses in by_request.values():
        found |= {len(list(group)) for _, group in groupby(statuses)}
    return found | {sum(status is not None and status < 400 for _, status in answers)}
