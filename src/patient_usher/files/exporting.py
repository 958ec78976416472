"""Results as HAR 1.2 recordings, which browsers' developer tools open."""

from __future__ import annotations

from base64 import b64decode
from collections.abc import Iterable, Iterator
from datetime import datetime
from urllib.parse import parse_qsl

from patient_usher.core.http.dates import http_instant, instant, timestamp
from patient_usher.core.http.messages import phrase
from patient_usher.core.model.document import JsonObject
from patient_usher.core.verify.record import AnswerRecord, Headers, Record, RequestRecord

SECOND = 1_000_000


def har_of(records: Iterable[Record], version: str, starts: str = "2031-01-01T00:00:00Z") -> JsonObject:
    """A recording of the exchanges that were sent. ``starts`` is the time from which theirs count.

    Raises ValueError where that is no time.
    """
    start = instant(datetime.fromisoformat(starts))
    entries = [_entry(record, start) for record in records if record.outcome != "not-sent"]
    creator = {"name": "usher export", "version": version}
    return {"log": {"version": "1.2", "creator": creator, "pages": [], "entries": entries}}


def _entry(record: Record, start: int) -> JsonObject:
    took = round((record.finished - record.at) * 1000, 3)
    request, response = record.request, record.response
    return {
        "startedDateTime": timestamp(start + round(record.at * SECOND)),
        "time": took,
        "request": {
            "method": request.method,
            "url": request.url,
            "httpVersion": "HTTP/1.1",
            "headers": _pairs(request.headers),
            "queryString": [
                {"name": name, "value": value}
                for name, value in parse_qsl(request.url.partition("?")[2], keep_blank_values=True)
            ],
            "cookies": [{"name": name, "value": value} for name, value in _cookies(request.headers)],
            "headersSize": -1,
            "bodySize": request.body_size,
            **_posted(request),
        },
        "response": _response(response),
        "cache": {},
        "timings": {"send": 0, "wait": took, "receive": 0},
        "comment": f"{record.id}: {record.outcome}"
        + (f", refused by {record.refused_by} ({record.why})" if record.refused_by else ""),
    }


def _pairs(headers: Headers) -> list[dict[str, str]]:
    return [{"name": name, "value": value} for name, value in headers]


def _cookies(headers: Headers) -> Iterator[tuple[str, str]]:
    for name, value in headers:
        if name.lower() == "cookie":
            for part in value.split(";"):
                first, _, rest = part.strip().partition("=")
                yield first, rest


def _set_cookie(value: str) -> JsonObject:
    """A cookie that an answer sets (HAR 1.2, cookies)."""
    pair, *attributes = value.split(";")
    name, _, text = pair.strip().partition("=")
    given = {key.strip().lower(): said.strip() for key, _, said in (one.partition("=") for one in attributes)}
    told: JsonObject = {"name": name, "value": text, "httpOnly": "httponly" in given, "secure": "secure" in given}
    told |= {key: given[key] for key in ("path", "domain") if key in given}
    if (at := http_instant(given.get("expires", ""))) is not None:
        told["expires"] = timestamp(at)
    return told


def _decoded_size(response: AnswerRecord) -> int:
    """How many octets the content has before any coding, which is what ``text`` holds."""
    if response.body is not None:
        return len(response.body.encode(errors="surrogatepass"))
    if isinstance(response.body_base64, str):
        return len(b64decode(response.body_base64))
    return 0 if response.encoding else response.body_size


def _field(headers: Headers, lower: str) -> str:
    return next((value for name, value in headers if name.lower() == lower), "")


def _posted(request: RequestRecord) -> JsonObject:
    if not request.body_size:
        return {}
    media = _field(request.headers, "content-type")
    if request.body is None:
        return {"postData": {"mimeType": media, "text": request.body_base64 or "", "encoding": "base64"}}
    return {"postData": {"mimeType": media, "text": request.body}}  # params and text exclude each other (HAR 1.2)


def _response(response: AnswerRecord | None) -> JsonObject:
    if response is None:
        empty = {"size": 0, "mimeType": "x-unknown"}
        base = {"status": 0, "statusText": "", "httpVersion": "HTTP/1.1", "headers": [], "cookies": []}
        return {**base, "content": empty, "redirectURL": "", "headersSize": -1, "bodySize": -1}
    content: JsonObject = {
        "size": _decoded_size(response),
        "mimeType": _field(response.headers, "content-type") or "x-unknown",
    }
    if response.body is not None:
        content["text"] = response.body
    elif response.body_base64:
        content |= {"text": response.body_base64, "encoding": "base64"}
    return {
        "status": response.status,
        "statusText": phrase(response.status),
        "httpVersion": "HTTP/1.1",
        "headers": _pairs(response.headers),
        "cookies": [_set_cookie(value) for name, value in response.headers if name.lower() == "set-cookie"],
        "content": content,
        "redirectURL": _field(response.headers, "location"),
        "headersSize": -1,
        "bodySize": response.body_size,
    }
