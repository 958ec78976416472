"""HAR 1.2 recordings as traces.

Recorded secrets mean nothing to a model: credentials are left out, or minted anew on request. What can't
be replayed (other hosts, other schemes, requests that got no answer) is left out and counted.
"""

from __future__ import annotations

import base64
import binascii
import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple
from urllib.parse import parse_qsl, quote, urlencode, urlsplit

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.http.authentication import credentials
from patient_usher.core.http.dates import instant, timestamp
from patient_usher.core.http.media import parse_media_type
from patient_usher.core.http.secrets import PARAMETERS
from patient_usher.core.http.urls import Url, parse_url, sendable
from patient_usher.core.model.document import Json, JsonObject, Map, Problem, Seq, Spot, Unusable, did_you_mean, locate
from patient_usher.core.model.header_rules import check_sent
from patient_usher.core.model.templates import NAME
from patient_usher.core.model.text_types import METHOD, show
from patient_usher.core.model.values import literal
from patient_usher.files.body_member import body_member
from patient_usher.files.curl_form import BOUNDARY, FormPart, written

if TYPE_CHECKING:
    from patient_usher.files.secret_keeper import SecretKeeper

_NOT_SENT_BY_US = frozenset({"host", "content-length", "connection", "cookie", "authorization"})
_CODED = re.compile("%[0-9A-Fa-f]{2}")
_USERINFO = re.compile(r"^([a-z]+://)[^/?#@]*@")
_ASSETS = re.compile(r"text/(html|css|javascript)|(application|text)/(x-)?javascript|image/|font/|audio/|video/")
_ASSET_ENDINGS = re.compile(r"\.(html?|css|m?js|map|png|jpe?g|gif|svg|ico|webp|woff2?|ttf)$", re.IGNORECASE)


SCHEMES = ("bearer", "basic", "api-key", "cookie", "same")
"""How a fresh credential is given; ``same``: by the scheme that the request had."""


class HarOptions(NamedTuple):
    """How to read a recording: its host, whose fresh credentials (``SCHEME:ACCOUNT``), and what to expect."""

    host: str | None = None
    sign: str | None = None
    expect_recorded: bool = False
    keeper: SecretKeeper | None = None
    """Who hides secrets where the recording becomes a file; without, only credentials are left out."""


AS_IT_IS = HarOptions()
"""Nothing said of recordings."""


def is_har(doc: Json) -> bool:
    """Whether a document is a HAR recording."""
    return isinstance(doc, dict) and isinstance(doc.get("log"), dict) and "entries" in doc["log"]


class _Entry(NamedTuple):
    at: int
    method: str
    url: Url
    headers: dict[str, list[str]]
    media: str | None
    status: int
    body: bytes | None
    from_cache: bool
    asset: bool
    spot: Spot

    def field(self, lower: str) -> str | None:
        return next((values[0] for name, values in self.headers.items() if name.lower() == lower), None)


class _Signing(NamedTuple):
    """Whose fresh credential a request gets; ``scheme`` is None for the one that it had."""

    scheme: str | None
    account: str


def trace_of_har(doc: Json, compiled: CompiledPipeline, options: HarOptions) -> tuple[Map, list[str]]:
    """The recording as a trace document, and what was left out. Raises Unusable."""
    signing = _signing(options.sign, compiled)
    entries, left = _read_entries(doc)
    host = options.host.lower() if options.host else _host_called_most(entries)
    kept = [entry for entry in entries if host in (entry.url.authority, entry.url.host)]
    notes = [f"{count} {what} left out" for what, count in left.items()]
    if others := len(entries) - len(kept):
        notes.append(f"{others} request{'s' if others > 1 else ''} to hosts other than {host} left out")
    if cached := sum(entry.from_cache for entry in kept):
        notes.append(f"{cached} came from the browser's own cache: sent here too, but nothing is expected of that")
    if not kept:
        hosts = sorted({entry.url.authority for entry in entries})
        what = f"no request went to {host}" if host else "the recording has no request that could be replayed"
        raise Unusable([Problem(locate(doc, ["log", "entries"]), what, did_you_mean(host or "", hosts))])
    base = kept[0].url.origin
    maker = _Maker(min(entry.at for entry in kept), base, compiled, signing, options)
    spot = getattr(doc, "spot", Spot("", 1, 1))
    requests = Seq(spot)
    for request, place in maker.requests(kept):
        requests.append(request)
        requests.spots.append(place)
    parts: list[tuple[str, object]] = [
        ("patient-usher", "trace/1"),
        ("starts", timestamp(maker.first)),
        ("base", base),
        ("requests", requests),
    ]
    if signing is not None and signing.scheme == "cookie":
        parts.insert(3, ("callers", _map(spot, {"signed-in": _map(spot, {"cookies": "keep"})})))
    if maker.cookies and not maker.keeper.keeps:
        notes.append(f"cookies of {maker.cookies} request{'s' if maker.cookies > 1 else ''} left out: they are secrets")
    if options.keeper is not None:
        notes += options.keeper.told()
    return _map(spot, dict(parts)), notes


def _map(spot: Spot, items: JsonObject) -> Map:
    made = Map(spot, items.items())
    made.spots = dict.fromkeys(items, (spot, spot))
    return made


def _signing(text: str | None, compiled: CompiledPipeline) -> _Signing | None:
    if text is None:
        return None
    scheme, colon, account = text.partition(":")
    accounts, nowhere = compiled.spec.accounts, Spot("--sign", 1, 1)
    if not colon or scheme not in SCHEMES:
        what = f"there is no scheme '{scheme}'" if colon else f"'{text}' says not how to sign"
        mend = did_you_mean(scheme, SCHEMES) if colon else f"write SCHEME:ACCOUNT, as in same:{text}"
        raise Unusable([Problem(nowhere, what, mend)])
    if account not in accounts:
        raise Unusable([Problem(nowhere, f"the pipeline has no account '{account}'", did_you_mean(account, accounts))])
    if scheme == "cookie" and (not accounts[account].password or _desk(compiled) is None):
        what = f"no desk of the pipeline gives cookies, or '{account}' has no password to sign in with"
        raise Unusable([Problem(nowhere, what, "add one, or name another scheme")])
    return _Signing(None if scheme == "same" else scheme, account)


def _desk(compiled: CompiledPipeline) -> str | None:
    """Where a session is opened."""
    for item in compiled.placed:
        desk = item.groups[-1].desk if item.groups else None
        if item.desk == "sign-in" and desk is not None and "cookie" in desk.gives:
            return item.route.template.text
    return None


# Reading.


def _read_entries(doc: Json) -> tuple[list[_Entry], Counter[str]]:
    """Every entry that can be replayed, and how many of which sort can't."""
    problems: list[Problem] = []
    found: list[_Entry] = []
    left: Counter[str] = Counter()
    log = doc.get("log") if isinstance(doc, dict) else None
    raw = log.get("entries") if isinstance(log, dict) else None
    if not isinstance(raw, list):
        what = "a recording has log, and in it entries, a list"
        raise Unusable([Problem(locate(doc, ["log", "entries"]), what, "record it again as HAR 1.2")])
    for at, item in enumerate(raw):
        path: list[str | int] = ["log", "entries", at]
        try:
            sort = _unplayable(item)
            if sort:
                left[sort] += 1
            else:
                found.append(_read_entry(item, locate(doc, path)))
        except KeyError as error:
            problems.append(Problem(locate(doc, path), f"the entry has no {error.args[0]}", "HAR 1.2 requires it"))
        except (TypeError, AttributeError):
            problems.append(Problem(locate(doc, path), "the entry isn't shaped as HAR 1.2 says", "record it again"))
        except (ValueError, OverflowError) as error:
            problems.append(Problem(locate(doc, path), f"the entry can't be read: {error}", "mend or remove it"))
    if problems:
        raise Unusable(problems)
    return found, left


def _unplayable(item: Json) -> str:
    """The sort of entry that no HTTP service answers, or nothing."""
    scheme = urlsplit(str(item["request"]["url"])).scheme.lower()
    if scheme not in ("http", "https"):
        return f"of {scheme or 'no scheme'}:"
    return "without an answer (status 0)" if item["response"]["status"] == 0 else ""


def _read_entry(item: Json, spot: Spot) -> _Entry:
    request, response = item["request"], item["response"]
    headers: dict[str, list[str]] = {}
    for header in request["headers"]:
        name, value = str(header["name"]), str(header["value"])
        if not name.startswith(":"):
            headers.setdefault(name, []).append(value)
    check_sent({name: values for name, values in headers.items() if name.lower() not in _NOT_SENT_BY_US})
    moved = response.get("_transferSize")
    from_cache = moved == 0 if moved is not None else _untransferred(request, response)
    status = response["status"]
    content = request.get("postData") or {}
    if not isinstance(status, int) or isinstance(status, bool) or not isinstance(content, dict):
        raise TypeError
    method = str(request["method"]).upper()
    if not METHOD.fullmatch(method):
        raise ValueError(f"{show(method)} is no method")
    octets, declared = _posted(content, _declared(headers))
    cookies = [f"{name}={value}" for name, value in _named(request.get("cookies"))]
    if cookies and not any(name.lower() == "cookie" for name in headers):
        headers["Cookie"] = ["; ".join(cookies)]
    url = _url(str(request["url"]), _named(request.get("queryString")))
    media = str((response.get("content") or {}).get("mimeType", ""))
    return _Entry(
        instant(datetime.fromisoformat(item["startedDateTime"].replace("Z", "+00:00"))),
        method,
        url,
        headers,
        declared,
        status,
        octets,
        bool(from_cache),
        bool(_ASSETS.match(media) or _ASSET_ENDINGS.search(url.path)),
        spot,
    )


def _untransferred(request: JsonObject, response: JsonObject) -> bool:
    """Whether an answer came out of the browser's cache, of one that doesn't count what it transferred: it tells of no
    content, or of heads without a single octet (what isn't known is -1).
    """
    if response.get("bodySize") == 0 and response["status"] == 304:
        return True
    return request.get("headersSize") == response.get("headersSize") == 0


def _declared(headers: Mapping[str, list[str]]) -> int | None:
    """How many octets a request's body had. (What recordings call its size counts characters in some browsers.)"""
    said = next((values[0] for name, values in headers.items() if name.lower() == "content-length"), "")
    return int(said) if said.isascii() and said.isdecimal() and len(said) < 20 else None


def _named(items: Json) -> list[tuple[str, str]]:
    """Names and values of a list, as far as they are any: of what stands elsewhere too nothing is demanded."""
    found = [item for item in items if isinstance(item, dict)] if isinstance(items, list) else []
    return [(str(item["name"]), str(item["value"])) for item in found if "name" in item and "value" in item]


def _url(text: str, query: Sequence[tuple[str, str]]) -> Url:
    """A URL as it was sent: what a browser would have encoded is, and a name and password became a field.

    ``query``: its parameters, of a recorder that leaves them out of the URL.
    """
    plain = _USERINFO.sub(r"\1", text.partition("#")[0], count=1)
    pairs = [f"{_encoded(name)}={_encoded(value)}" for name, value in query] if "?" not in plain else []
    return parse_url(sendable(f"{plain}?{'&'.join(pairs)}" if pairs else plain))


def _encoded(text: str) -> str:
    """A part of a query; some recorders have it percent-encoded already."""
    return text if _CODED.search(text) else quote(text)


def _host_called_most(entries: list[_Entry]) -> str | None:
    """The host that most of the pages' own calls go to; where none is told from a page's parts, the commonest."""
    calls = Counter(entry.url.authority for entry in entries if not entry.asset)
    counts = calls or Counter(entry.url.authority for entry in entries)
    return counts.most_common(1)[0][0] if counts else None


# Making.


class _Maker:
    """Makes requests of a trace from entries. ``base``: what their URLs are told from; ``cookies`` counts those that
    had some.
    """

    def __init__(
        self, first: int, base: str, compiled: CompiledPipeline, signing: _Signing | None, options: HarOptions
    ) -> None:
        self.first, self.base, self.compiled, self.signing = first, base, compiled, signing
        self.expect = options.expect_recorded
        from patient_usher.files.secret_keeper import SecretKeeper

        self.keeper = options.keeper or SecretKeeper()
        self.hides_all = options.keeper is not None and not options.keeper.keeps
        self.key_place = compiled.credential_defaults.key_place or ("", "")
        self.session_cookies = {
            credential.place[1] for options in compiled.options.values() for credential in options.credentials()
            if credential.scheme == "session-cookie" and credential.place is not None
        }  # fmt: skip
        self.ids: set[str] = set()
        self.taken: Counter[str] = Counter()
        self.cookies = 0

    def requests(self, entries: Iterable[_Entry]) -> Iterable[tuple[Map, Spot]]:
        """Each entry as a request, at its time; a sign-in first where a session is wanted."""
        if self.signing is not None and self.signing.scheme == "cookie":
            account = self.signing.account
            nowhere = Spot("--sign", 1, 1)
            password = self.compiled.spec.accounts[account].password
            body = {"name": literal(account), "password": literal(password or "")}
            self.ids.add("sign-in")
            sign_in = {"id": "sign-in", "caller": "signed-in", "send": f"POST {_desk(self.compiled)}", "at": "0s"}
            yield _map(nowhere, {**sign_in, "json": body}), nowhere
        for entry in entries:
            yield self._request(entry), entry.spot

    def _id(self, entry: _Entry) -> str:
        """A legal id of its own, made of the method and the path's last segment."""
        last = next((segment for segment in reversed(entry.url.segments) if segment), "root")
        last = self.keeper.text(last) if self.hides_all else last
        stem = re.sub(r"[^A-Za-z0-9_.-]+", "-", f"{entry.method.lower()}-{last}").strip("-")
        stem = stem if NAME.fullmatch(stem) else "request"
        id_ = stem
        while id_ in self.ids:
            self.taken[stem] += 1
            id_ = f"{stem}-{self.taken[stem] + 1}"
        self.ids.add(id_)
        return id_

    def _request(self, entry: _Entry) -> Map:
        headers = {name: values for name, values in entry.headers.items() if name.lower() not in _NOT_SENT_BY_US}
        request: JsonObject = {"id": self._id(entry), "at": f"{entry.at - self.first}us"}
        _put_content(request, headers, entry, self.keeper if self.hides_all else None)
        if self.hides_all:
            headers = {name: [self.keeper.field(name, value) for value in values] for name, values in headers.items()}
        url = self._put_credential(request, headers, entry)
        url = self.keeper.url(url) if self.hides_all else url
        request["send"] = f"{entry.method} {literal(url.removeprefix(self.base))}"
        if headers:
            told = {name: [literal(value) for value in values] for name, values in headers.items()}
            request["headers"] = {name: values if len(values) > 1 else values[0] for name, values in told.items()}
        if self.expect and not entry.from_cache:
            conditional = any(entry.field(name) is not None for name in ("if-none-match", "if-modified-since"))
            either = entry.status == 304 or (conditional and entry.status == 200)
            request["expect"] = {"status": [200, 304] if either else entry.status}
        return _map(entry.spot, request)

    def _put_credential(self, request: JsonObject, headers: dict[str, list[str]], entry: _Entry) -> str:
        """A credential that counted gets a fresh one; one that was refused stays without meaning. Returns the URL."""
        given = credentials(entry.field("authorization"))
        where, name = self.key_place
        own_field = next((key for key in headers if where == "header" and key.lower() == name.lower()), None)
        cookies = {part.partition("=")[0].strip() for part in (entry.field("cookie") or "").split(";")} - {""}
        in_query = name if where == "query" else None
        has_key = own_field is not None or (where == "cookie" and name in cookies) or in_query in entry.url.params
        session = bool(cookies & self.session_cookies)
        signing = self.signing
        fresh = (
            signing is not None
            and entry.status != 401
            and (given is not None or has_key or session or (signing.scheme == "cookie" and bool(cookies)))
        )
        if own_field is not None:
            headers.pop(own_field)
        if not fresh or signing is None:
            for lower in ("authorization", "cookie") if self.keeper.keeps else ("authorization",):
                if (value := entry.field(lower)) is not None:
                    headers[lower.capitalize()] = [self.keeper.field(lower, value)]
            if own_field is not None:
                headers[own_field] = [self.keeper.hidden("key", entry.field(own_field.lower()) or "")]
            self.cookies += bool(cookies)
            return self._hidden(entry.url, in_query, drop=False)
        had = "api-key" if has_key and given is None else "basic" if given and given[0] == "basic" else "bearer"
        scheme = signing.scheme or ("cookie" if session and given is None and not has_key else had)
        if scheme == "cookie":
            request["caller"] = "signed-in"
        else:
            request["sign"] = {scheme: signing.account}
        return self._hidden(entry.url, in_query, drop=True)

    def _hidden(self, url: Url, key: str | None, *, drop: bool) -> str:
        """The URL with secrets of its query hidden; ``drop`` leaves the pipeline's own key out."""
        names = url.params.keys()
        if self.keeper.keeps or (key not in names and not any(name.lower() in PARAMETERS for name in names)):
            return url.text
        pairs = [
            (name, self.keeper.hidden("key", value) if name == key else self.keeper.value(name, value))
            for name, value in parse_qsl(url.query, keep_blank_values=True)
            if not (drop and name == key)
        ]
        return url.origin + url.path + (f"?{urlencode(pairs)}" if pairs else "")


def _put_content(
    request: JsonObject, headers: dict[str, list[str]], entry: _Entry, keeper: SecretKeeper | None
) -> None:
    """The body as it was sent: its octets, and the media type that a field or the recording says."""
    octets, media = entry.body, entry.media
    if octets is None:
        return
    name = next((name for name in headers if name.lower() == "content-type"), None)
    said = headers[name][0] if name is not None else None
    if media and (said is None or (media.startswith("multipart/") and "boundary=" not in said)):
        headers[name or "Content-Type"] = [said := media]
    request |= body_member(keeper.body(octets, said or "") if keeper is not None else octets, said or "")


def _posted(content: JsonObject, size: int | None) -> tuple[bytes | None, str | None]:
    """The octets of a recorded body, None for none, and its media type; ``size``: how many there were.

    Raises ValueError.
    """
    text, params, media = content.get("text"), content.get("params"), content.get("mimeType")
    media = media if isinstance(media, str) else ""
    if isinstance(text, str) and text:
        return _octets(text, str(content.get("encoding", "")), media, size), media
    items = [item for item in params if isinstance(item, dict)] if isinstance(params, list) else []
    if not items:
        return None, media
    if not media.lower().startswith("multipart/"):
        return urlencode([(str(item.get("name", "")), str(item.get("value", ""))) for item in items]).encode(), media
    boundary = dict(parse_media_type(media)[1]).get("boundary", "")
    media = media if boundary else f"{media}; boundary={BOUNDARY}"
    return written(map(_part, items), boundary or BOUNDARY), media


def _part(item: JsonObject) -> FormPart:
    """A parameter of a form with files, whose content few recordings have."""
    filename, kind = item.get("fileName"), item.get("contentType")
    octets = str(item.get("value") or "").encode(errors="replace")
    return FormPart(str(item.get("name", "")), str(filename) if filename else None, octets, str(kind) if kind else None)


def _octets(text: str, encoding: str, media: str, size: int | None) -> bytes:
    if encoding == "base64":
        try:
            return base64.b64decode(text, validate=True)
        except (binascii.Error, ValueError):
            raise ValueError("its body is no base64") from None
    charset = dict(parse_media_type(media)[1]).get("charset", "utf-8")
    if size == len(text) != len(text.encode(errors="replace")):
        charset = "latin-1"  # an octet for a character: so some browsers write what they have as octets
    try:
        return text.encode(charset)
    except (LookupError, UnicodeError):
        return text.encode("utf-8", "replace")
