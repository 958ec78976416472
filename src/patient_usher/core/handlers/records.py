"""``records``: a stand-in data store behind handlers."""

from __future__ import annotations

import csv
from collections.abc import Callable, Sequence
from functools import partial
from typing import Any, NamedTuple
from urllib.parse import quote

from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer, json_answer, json_bytes, read_json
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.errors import ErrorTypes, Raised
from patient_usher.core.model.exchange import UNREAD, Exchange
from patient_usher.core.model.handler_specs import RecordsSpec
from patient_usher.core.model.stage import Setup

Row = JsonObject


def read_rows(spec: RecordsSpec, read_file: Callable[[str], bytes]) -> list[Row]:
    """The rows that the file gives inline, or that its CSV or JSON file holds.

    Raises OSError where the file can't be read, ValueError where its rows are ragged or lack the key.
    """
    rows = spec.rows
    if spec.from_ is not None:
        name, text = spec.from_, read_file(spec.from_).decode("utf-8-sig", errors="replace")
        rows = _json_rows(name, text) if text.lstrip()[:1] in ("[", "{") else _csv_rows(name, text)
    for number, row in enumerate(rows, 1):
        if spec.key not in row:
            raise ValueError(f"row {number} has no '{spec.key}', the key; add it, or name another key")
    return [dict(row) for row in rows]


def _json_rows(name: str, text: str) -> list[Row]:
    try:
        rows = read_json(text)
    except ValueError as error:
        raise ValueError(f"{name} is no JSON: {error}; mend it") from None
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise ValueError(f"{name} must be a list of objects; write [{{...}}, {{...}}]")
    return rows


def _csv_rows(name: str, text: str) -> list[Row]:
    reader = csv.reader(text.splitlines(), strict=True)
    try:
        cells = list(reader)
    except csv.Error as error:
        raise ValueError(f"{name}:{reader.line_num} is no CSV: {error}; mend it") from None
    head = next(iter(cells), None)
    if not head:
        raise ValueError(f"{name} is empty; its first line must name the columns")
    rows = []
    for line, row in enumerate(cells[1:], 2):
        if row and len(row) != len(head):
            what = f"{name}:{line} has {len(row)} cells, its head {len(head)}"
            raise ValueError(f"{what}; give every row the same number")
        if row:
            rows.append(dict(zip(head, row, strict=True)))
    return rows


class Rows:
    """The state of one ``records`` entry: rows by key, in order of making, and how many ids were made."""

    def __init__(self, rows: dict[str, Row]) -> None:
        self.by_key = rows
        self.made = 0


class RecordStore:
    """One ``records`` entry, with the rows that it begins with."""

    def __init__(self, name: str, spec: RecordsSpec, rows: list[Row]) -> None:
        self.key = ("records", name)
        self.name = name
        self.spec = spec
        self.rows = rows

    def fresh(self, seed: int) -> Rows:
        """The rows that the file gives."""
        return Rows({str(row[self.spec.key]): dict(row) for row in self.rows})

    def migrate(self, old: RecordStore, state: Rows) -> Rows:
        """Rows stay."""
        return state

    def situations(self) -> Sequence[Callable[[], object]]:
        """What a request names is there or not, and what it sends clashes with another or not."""

        def made(exists: bool, clashes: bool) -> Rows:
            return Rows(_AssumedRows(exists=exists, clashes=clashes))

        both = (False, True)
        return [
            partial(made, exists, clashes) for exists in both for clashes in (both if self.spec.unique else both[:1])
        ]

    def new_id(self, rows: Rows) -> str:
        """The next id that isn't taken."""
        while True:
            rows.made += 1
            id_ = self.spec.ids.replace("{n}", str(rows.made))
            if not dict.__contains__(rows.by_key, id_):  # rows that are assumed have no ids of their own
                return id_


class _SameAsAny(str):
    """A value that equals every other: of a row that clashes with whatever is sent."""

    __slots__ = ()
    __hash__ = str.__hash__

    def __eq__(self, other: object) -> bool:
        return True


class _ClashingRow(dict[str, Any]):
    def get(self, key: str, default: Any = None) -> Any:
        """Whatever is asked for."""
        return _SameAsAny("made-up")


class _AssumedRows(dict[str, Row]):
    """Rows of which it is assumed that every key ``exists``, or none; and that one ``clashes`` with what is sent."""

    def __init__(self, *, exists: bool, clashes: bool) -> None:
        super().__init__({"made-up": _ClashingRow(made="up")} if clashes else {})
        self.exists = exists

    def __contains__(self, key: object) -> bool:
        return self.exists

    def __getitem__(self, key: str) -> Row:
        return {"id": key}

    def get(self, key: str, default: Any = None) -> Any:
        """A row, if there are any."""
        return {"id": key} if self.exists else default

    def __delitem__(self, key: str) -> None:
        """It is as if it were gone: nobody looks again."""


class Task(NamedTuple):
    """What a ``records`` handler works on: its store, the rows as they are now, the error types."""

    store: RecordStore
    rows: dict[str, Row]
    state: Rows
    errors: ErrorTypes

    @property
    def name(self) -> str:
        """The entry's name."""
        return self.store.name


def _sent(x: Exchange, task: Task) -> Row | Raised:
    """Path values and the body's members: what a record is made of."""
    body = None if x.body is UNREAD else x.body
    if body is not None and not isinstance(body, dict):
        return task.errors.raised("InvalidInput", "a record is made of an object, not of other content")
    return {**x.path_values, **(body or {})}


def _key_of(task: Task, x: Exchange) -> str:
    """The path value of the key's name, or the last one."""
    values = x.path_values
    return values.get(task.store.spec.key) or (list(values.values())[-1] if values else "")


def _clash(task: Task, row: Row, own: str | None) -> Raised | None:
    for field, type_ in task.store.spec.unique.items():
        for key, other in task.rows.items():
            if key != own and field in row and other.get(field) == row[field]:
                return task.errors.raised(type_, f"{task.name} has {field} {row[field]} already, as {key}")
    return None


def _precondition(x: Exchange, target: Json) -> Effect:
    """Ask a conditional stage in front, before anything is done to the target (RFC 9110 13.2.1)."""
    if x.precondition is None:
        return None
    failed: Effect = x.precondition(json_bytes(target))
    return failed


def _list(task: Task, x: Exchange) -> Effect:
    return json_answer(200, list(task.rows.values()))


def _read(task: Task, x: Exchange) -> Effect:
    key = _key_of(task, x)
    row = task.rows.get(key)
    return json_answer(200, row) if row is not None else _not_found(task, key)


def _not_found(task: Task, key: str) -> Raised:
    return task.errors.raised("NotFound", f"{task.name} has no {key or 'such record'}")


def _create(task: Task, x: Exchange) -> Effect:
    sent = _sent(x, task)
    if not isinstance(sent, dict):
        return sent
    key = sent.get(task.store.spec.key)
    if key is not None and str(key) in task.rows:
        return task.errors.raised("Conflict", f"{task.name} has {key} already")
    if (clash := _clash(task, sent, None)) is not None:
        return clash
    if (failed := _precondition(x, list(task.rows.values()))) is not None:
        return failed
    id_ = str(key) if key is not None else task.store.new_id(task.state)
    row = task.rows[id_] = {task.store.spec.key: id_ if key is None else key, **sent}
    answer = json_answer(201, row)
    answer.fields.put("Location", f"{x.request.url.path.rstrip('/')}/{quote(id_, safe='')}")
    return answer


def _replace(task: Task, x: Exchange) -> Effect:
    key = _key_of(task, x)
    if key not in task.rows:  # RFC 9110 13.2.1: conditions count where the plain answer is a success
        return _not_found(task, key)
    if (failed := _precondition(x, task.rows[key])) is not None:
        return failed
    sent = _sent(x, task)
    if not isinstance(sent, dict):
        return sent
    if (clash := _clash(task, sent, key)) is not None:
        return clash
    row = task.rows[key] = {**sent, task.store.spec.key: task.rows[key].get(task.store.spec.key, key)}
    return json_answer(200, row)


def _remove(task: Task, x: Exchange) -> Effect:
    key = _key_of(task, x)
    if key not in task.rows:
        return _not_found(task, key)
    if (failed := _precondition(x, task.rows[key])) is not None:
        return failed
    del task.rows[key]
    return Answer(204, Fields())


_WORK: dict[str, Callable[[Task, Exchange], Effect]] = {
    "list": _list,
    "read": _read,
    "create": _create,
    "replace": _replace,
    "remove": _remove,
}


def records_work(name: str, do: str, setup: Setup) -> Callable[[Exchange], Effect]:
    """What a ``records`` handler does. Its store is found by name, since another may take its place."""
    key, work = ("records", name), _WORK[do]
    store = RecordStore(name, setup.spec.records[name], [])

    def on(x: Exchange) -> Effect:
        state: Rows = x.memory[key]
        return work(Task(store, state.by_key, state, setup.errors), x)

    return on
