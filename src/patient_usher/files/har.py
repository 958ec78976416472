"""HAR 1.2 recordings as traces.

Recorded secrets mean nothing to a model: credentials are left out, or minted anew on request.
"""

from __future__ import annotations

import base64
from collections import Counter
from datetime import datetime
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import parse_qsl

from patient_usher.core.engine.blueprint import Blueprint
from patient_usher.core.http.authentication import credentials
from patient_usher.core.http.dates import instant, timestamp
from patient_usher.core.http.media import is_json, parse_media_type
from patient_usher.core.http.urls import Url, parse_url
from patient_usher.core.model.document import Map, Problem, Seq, Spot, Unusable, locate, near

if TYPE_CHECKING:
    from patient_usher.files.trace import HarOptions

_NOT_SENT_BY_US = {"host", "content-length", "connection", "cookie", "authorization", "accept-encoding"} - {
    "accept-encoding"
}
_HIDDEN = "hidden-by-the-import"


class _Entry(NamedTuple):
    at: int
    method: str
    url: Url
    headers: dict[str, list[str]]
    content: dict[str, Any]
    status: int
    from_cache: bool
    spot: Spot


def trace_of_har(doc: Any, blueprint: Blueprint, options: HarOptions) -> tuple[Map, list[str]]:
    """The recording as a trace document, and what was left out. Raises Unusable."""
    if options.account is not None and options.account not in blueprint.spec.accounts:
        known = near(options.account, blueprint.spec.accounts)
        raise Unusable([Problem(Spot("--as", 1, 1), f"the pipeline has no account '{options.account}'", known)])
    entries = _read_entries(doc)
    host = options.host or _commonest_host(entries)
    kept = [entry for entry in entries if entry.url.host == host]
    notes = []
    if left := len(entries) - len(kept):
        notes.append(f"{left} request{'s' if left > 1 else ''} to hosts other than {host} left out")
    if cached := sum(entry.from_cache for entry in kept):
        notes.append(f"{cached} came from the browser's own cache: sent here too, but nothing is expected of that")
    if not kept:
        spot = locate(doc, ["log", "entries"])
        hosts = sorted({entry.url.host for entry in entries})
        raise Unusable(
            [
                Problem(
                    spot,
                    f"no request went to {host}" if host else "the recording has no requests",
                    near(host or "", hosts),
                )
            ]
        )
    first = min(entry.at for entry in kept)
    spot = getattr(doc, "spot", Spot("", 1, 1))
    requests = Seq(spot)
    ids: Counter[str] = Counter()
    for entry in kept:
        request = _request(entry, first, ids, blueprint, options)
        requests.append(request)
        requests.spots.append(entry.spot)
    trace = Map(
        spot,
        [
            ("patient-usher", "trace/1"),
            ("starts", timestamp(first)),
            ("base", kept[0].url.origin),
            ("requests", requests),
        ],
    )
    trace.spots = dict.fromkeys(trace, (spot, spot))
    return trace, notes


def _read_entries(doc: Any) -> list[_Entry]:
    problems: list[Problem] = []
    found: list[_Entry] = []
    raw = doc["log"]["entries"]
    if not isinstance(raw, list):
        raise Unusable(
            [Problem(locate(doc, ["log", "entries"]), "entries must be a list", "record it again as HAR 1.2")]
        )
    for at, item in enumerate(raw):
        path: list[str | int] = ["log", "entries", at]
        try:
            found.append(_read_entry(item, locate(doc, path)))
        except KeyError as error:
            problems.append(Problem(locate(doc, path), f"the entry has no {error.args[0]}", "HAR 1.2 requires it"))
        except (TypeError, AttributeError):
            problems.append(Problem(locate(doc, path), "the entry isn't shaped as HAR 1.2 says", "record it again"))
        except ValueError as error:
            problems.append(Problem(locate(doc, path), f"the entry can't be read: {error}", "mend or remove it"))
    if problems:
        raise Unusable(problems)
    return found


def _read_entry(item: Any, spot: Spot) -> _Entry:
    request, response = item["request"], item["response"]
    headers: dict[str, list[str]] = {}
    for header in request["headers"]:
        name, value = str(header["name"]), str(header["value"])
        if not name.startswith(":"):
            headers.setdefault(name, []).append(value)
    moved = response.get("_transferSize")
    from_cache = moved == 0 if moved is not None else response.get("bodySize") == 0 and response["status"] == 304
    text = item["startedDateTime"].replace("Z", "+00:00")
    status = response["status"]
    if not isinstance(status, int):
        raise TypeError
    return _Entry(
        instant(datetime.fromisoformat(text)),
        str(request["method"]).upper(),
        parse_url(request["url"].partition("#")[0]),
        headers,
        request.get("postData") or {},
        status,
        bool(from_cache),
        spot,
    )


def _commonest_host(entries: list[_Entry]) -> str | None:
    """The host that pages of other origins call most; else the one that is called most."""
    crossing = Counter(entry.url.host for entry in entries if _origin(entry) not in (None, entry.url.origin))
    counts = crossing or Counter(entry.url.host for entry in entries)
    return counts.most_common(1)[0][0] if counts else None


def _origin(entry: _Entry) -> str | None:
    return next((values[0] for name, values in entry.headers.items() if name.lower() == "origin"), None)


def _request(entry: _Entry, first: int, ids: Counter[str], blueprint: Blueprint, options: HarOptions) -> Map:
    last = next((segment for segment in reversed(entry.url.segments) if segment), "root")
    stem = "".join(char if char.isalnum() or char in "-_." else "-" for char in f"{entry.method.lower()}-{last}")
    ids[stem] += 1
    request = Map(entry.spot)
    request["id"] = stem if ids[stem] == 1 else f"{stem}-{ids[stem]}"
    request["send"] = f"{entry.method} {entry.url.text.replace('${', '%24%7B')}"
    request["at"] = f"{entry.at - first}us"
    headers = {
        name: values if len(values) > 1 else values[0]
        for name, values in entry.headers.items()
        if name.lower() not in _NOT_SENT_BY_US
    }
    headers = {name: value for name, value in headers.items() if "${" not in str(value)}
    _put_content(request, headers, entry)
    _put_credential(request, headers, entry, blueprint, options)
    if headers:
        request["headers"] = headers
    if options.as_recorded and not entry.from_cache:
        conditional = any(name.lower() in ("if-none-match", "if-modified-since") for name in entry.headers)
        expected: Any = [entry.status, 304] if conditional and entry.status == 200 else entry.status
        request["expect"] = {"status": expected}
    request.spots = dict.fromkeys(request, (entry.spot, entry.spot))
    return request


def _put_content(request: Map, headers: dict[str, Any], entry: _Entry) -> None:
    content = entry.content
    text = content.get("text")
    if not isinstance(text, str) or text == "":
        return
    if content.get("encoding") == "base64":
        text = base64.b64decode(text).decode(errors="replace")
    media = parse_media_type(str(content.get("mimeType", "")))[0]
    if "${" in text:
        text = text.replace("${", "$ {")
    if is_json(media):
        import json

        try:
            request["json"] = json.loads(text)
        except ValueError:
            request["text"] = text
        else:
            return
    elif media == "application/x-www-form-urlencoded":
        form: dict[str, Any] = {}
        for name, value in parse_qsl(text, keep_blank_values=True):
            form.setdefault(name, []).append(value)
        request["form"] = form
    else:
        request["text"] = text


def _put_credential(
    request: Map, headers: dict[str, Any], entry: _Entry, blueprint: Blueprint, options: HarOptions
) -> None:
    """A credential that counted gets a fresh one; one that was refused stays without meaning."""
    value = next((values[0] for name, values in entry.headers.items() if name.lower() == "authorization"), None)
    given = credentials(value)
    key_place = blueprint.wallet.key_place
    key_header = key_place[1] if key_place and key_place[0] == "header" else None
    key = next((name for name in headers if key_header and name.lower() == key_header.lower()), None)
    if key is not None:
        headers.pop(key)
    if given is None and key is None:
        return
    if options.account is None or entry.status == 401:
        if key is not None:
            headers[key] = _HIDDEN
        if given is not None:
            headers["Authorization"] = f"{given[0].capitalize()} {_HIDDEN}"
        return
    sort = "api-key" if given is None else {"basic": "basic"}.get(given[0], "bearer")
    sign = Map(entry.spot, [(sort, options.account)])
    sign.spots = {sort: (entry.spot, entry.spot)}
    request["sign"] = sign
