"""Records as they may be put out: with credentials shortened. Every output goes through here."""

from __future__ import annotations

from typing import Any

from patient_usher.core.http.secrets import carries, shortened_body, shortened_field, shortened_url

Record = dict[str, Any]
_MESSAGES = ("request", "response", "second_answer")


def without_secrets(records: list[Record]) -> list[Record]:
    """The records with the credentials of their messages shortened; they themselves stay as they are."""
    return [_told(record) for record in records]


def _told(record: Record) -> Record:
    parts = {part: _message(record[part]) for part in _MESSAGES if record[part] is not None}
    if all(parts[part] is record[part] for part in parts):
        return record
    return {**record, **parts}


def _message(message: Record) -> Record:
    told = message
    for name, _ in message["headers"]:
        if carries(name):
            headers = [[name, shortened_field(name, value)] for name, value in message["headers"]]
            told = {**message, "headers": headers}
            break
    for key, shorten in (("url", shortened_url), ("body", shortened_body)):
        text = message.get(key)
        if text and (short := shorten(text)) is not text:
            told = {**told, key: short}
    return told
