"""``records``: a stand-in data store behind handlers."""

from __future__ import annotations

import csv
import json
from collections.abc import Callable
from typing import Any

from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer, json_answer, json_bytes, nests_too_deep
from patient_usher.core.model.errors import Raised
from patient_usher.core.model.exchange import UNREAD, Exchange
from patient_usher.core.model.pipeline import RecordsSpec
from patient_usher.core.stages import base

Row = dict[str, Any]


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
    if nests_too_deep(text):
        raise ValueError(f"{name} is nested too deep; flatten it")
    try:
        rows = json.loads(text)
    except ValueError as error:
        raise ValueError(f"{name} is no JSON: {error}; mend it") from None
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise ValueError(f"{name} must be a list of objects; write [{{...}}, {{...}}]")
    return rows


def _csv_rows(name: str, text: str) -> list[Row]:
    reader = csv.reader(text.splitlines())
    head = next(reader, None)
    if not head:
        raise ValueError(f"{name} is empty; its first line must name the columns")
    rows = []
    for cells in reader:
        if not cells:
            continue
        if len(cells) != len(head):
            raise ValueError(
                f"{name}:{reader.line_num} has {len(cells)} cells, its head {len(head)}; give every row the same number"
            )
        rows.append(dict(zip(head, cells, strict=True)))
    return rows


class Store:
    """The rows of one ``records`` entry by key, in order of making."""

    def __init__(self, name: str, spec: RecordsSpec, rows: list[Row]) -> None:
        self.name = name
        self.spec = spec
        self.rows: dict[str, Row] = {str(row[spec.key]): row for row in rows}
        self._made = 0

    def new_id(self) -> str:
        """The next id that isn't taken."""
        while True:
            self._made += 1
            id_ = self.spec.ids.replace("{n}", str(self._made))
            if id_ not in self.rows:
                return id_


def _sent(x: Exchange, setup: base.Setup) -> Row | Raised:
    """Path values and the body's members: what a record is made of."""
    body = None if x.body is UNREAD else x.body
    if body is not None and not isinstance(body, dict):
        return setup.errors.raised("InvalidInput", "a record is made of an object, not of other content")
    return {**x.path_values, **(body or {})}


def _key_of(store: Store, x: Exchange) -> str:
    """The path value of the key's name, or the last one."""
    values = x.path_values
    return values.get(store.spec.key) or (list(values.values())[-1] if values else "")


def _clash(store: Store, row: Row, own: str | None, setup: base.Setup) -> Raised | None:
    for field, type_ in store.spec.unique.items():
        for key, other in store.rows.items():
            if key != own and field in row and other.get(field) == row[field]:
                return setup.errors.raised(type_, f"{store.name} has {field} {row[field]} already, as {key}")
    return None


def _precondition(store: Store, x: Exchange, key: str) -> base.Effect:
    """Ask a conditional stage in front, before anything is done (RFC 9110 13.2.1)."""
    if x.precondition is None:
        return None
    row = store.rows.get(key)
    failed: base.Effect = x.precondition(json_bytes(row) if row is not None else None)
    return failed


def _list(store: Store, x: Exchange, setup: base.Setup) -> base.Effect:
    return json_answer(200, list(store.rows.values()))


def _read(store: Store, x: Exchange, setup: base.Setup) -> base.Effect:
    key = _key_of(store, x)
    row = store.rows.get(key)
    return json_answer(200, row) if row is not None else _not_found(store, key, setup)


def _not_found(store: Store, key: str, setup: base.Setup) -> Raised:
    return setup.errors.raised("NotFound", f"{store.name} has no {key or 'such record'}")


def _create(store: Store, x: Exchange, setup: base.Setup) -> base.Effect:
    sent = _sent(x, setup)
    if not isinstance(sent, dict):
        return sent
    key = sent.get(store.spec.key)
    if key is not None and str(key) in store.rows:
        return setup.errors.raised("Conflict", f"{store.name} has {key} already")
    if (clash := _clash(store, sent, None, setup)) is not None:
        return clash
    id_ = str(key) if key is not None else store.new_id()
    row = store.rows[id_] = {store.spec.key: id_ if key is None else key, **sent}
    answer = json_answer(201, row)
    answer.fields.put("Location", f"{x.request.url.path.rstrip('/')}/{id_}")
    return answer


def _replace(store: Store, x: Exchange, setup: base.Setup) -> base.Effect:
    key = _key_of(store, x)
    if (failed := _precondition(store, x, key)) is not None:
        return failed
    if key not in store.rows:
        return _not_found(store, key, setup)
    sent = _sent(x, setup)
    if not isinstance(sent, dict):
        return sent
    if (clash := _clash(store, sent, key, setup)) is not None:
        return clash
    row = store.rows[key] = {**sent, store.spec.key: store.rows[key][store.spec.key]}
    return json_answer(200, row)


def _remove(store: Store, x: Exchange, setup: base.Setup) -> base.Effect:
    key = _key_of(store, x)
    if (failed := _precondition(store, x, key)) is not None:
        return failed
    if store.rows.pop(key, None) is None:
        return _not_found(store, key, setup)
    return Answer(204, Fields())


_WORK: dict[str, Callable[[Store, Exchange, base.Setup], base.Effect]] = {
    "list": _list,
    "read": _read,
    "create": _create,
    "replace": _replace,
    "remove": _remove,
}


def records_work(name: str, do: str, setup: base.Setup) -> Callable[[Exchange], base.Effect]:
    """What a ``records`` handler does."""
    store, work = setup.stores[name], _WORK[do]
    return lambda x: work(store, x, setup)
