"""Records as they may be put out: with credentials shortened. Every output goes through here."""

from __future__ import annotations

from typing import Any

from patient_usher.core.http.secrets import carries, shortened_body, shortened_field, shortened_url

Record = dict[str, Any]


def without_secrets(records: list[Record]) -> list[Record]:
    """The records with the credentials of their messages shortened; they themselves stay as they are."""
    return [_told(record) for record in records]


def _told(record: Record) -> Record:
    told = {**record, "request": _message(record["request"])}
    for part in ("response", "second_answer"):
        if record[part] is not None:
            told[part] = _message(record[part])
    return told


def _message(message: Record) -> Record:
    told = message
    if any(carries(name) for name, _ in message["headers"]):
        headers = [[name, shortened_field(name, value)] for name, value in message["headers"]]
        told = {**message, "headers": headers}
    body = message["body"]
    if not (body or "?" in message.get("url", "")):
        return told
    told = {**told}
    if "url" in message:
        told["url"] = shortened_url(message["url"])
    if body:
        told["body"] = shortened_body(body)
    return told
