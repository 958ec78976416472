"""Requests and answers (RFC 9110 section 3)."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from typing import Any

from patient_usher.core.http.fields import Fields
from patient_usher.core.http.urls import Url

TEXT = "text/plain; charset=utf-8"
JSON = "application/json"

SAFE_METHODS = frozenset({"GET", "HEAD", "OPTIONS", "TRACE"})
"""RFC 9110 9.2.1."""

# RFC 9110 15, 9111, 6585: phrases that problem titles and plain views use.
PHRASES = {
    200: "OK", 201: "Created", 202: "Accepted", 203: "Non-Authoritative Information", 204: "No Content",
    205: "Reset Content", 206: "Partial Content", 300: "Multiple Choices", 301: "Moved Permanently",
    302: "Found", 303: "See Other", 304: "Not Modified", 307: "Temporary Redirect", 308: "Permanent Redirect",
    400: "Bad Request", 401: "Unauthorized", 402: "Payment Required", 403: "Forbidden", 404: "Not Found",
    405: "Method Not Allowed", 406: "Not Acceptable", 407: "Proxy Authentication Required",
    408: "Request Timeout", 409: "Conflict", 410: "Gone", 411: "Length Required",
    412: "Precondition Failed", 413: "Content Too Large", 414: "URI Too Long",
    415: "Unsupported Media Type", 416: "Range Not Satisfiable", 417: "Expectation Failed", 418: "(Unused)",
    421: "Misdirected Request", 422: "Unprocessable Content", 423: "Locked", 424: "Failed Dependency",
    425: "Too Early", 426: "Upgrade Required", 428: "Precondition Required", 429: "Too Many Requests",
    431: "Request Header Fields Too Large", 451: "Unavailable For Legal Reasons",
    500: "Internal Server Error", 501: "Not Implemented", 502: "Bad Gateway", 503: "Service Unavailable",
    504: "Gateway Timeout", 505: "HTTP Version Not Supported", 507: "Insufficient Storage",
    508: "Loop Detected", 511: "Network Authentication Required",
}  # fmt: skip


_BRACKETS = re.compile(r'"[^"\\]*+(?:\\.[^"\\]*+)*+"?|[\[\]{}]', re.DOTALL)
"""Brackets of JSON, and strings whole (RFC 8259 7): what stands in them nests nothing."""
json_string: Callable[[str], str] = json.encoder.encode_basestring
"""Text as a JSON string (RFC 8259 7), escaping no more than has to be."""
json_text: Callable[[object], str] = json.JSONEncoder(ensure_ascii=False).encode
"""A JSON value as text (RFC 8259)."""
if (_make := getattr(json.encoder, "c_make_encoder", None)) is not None:  # what ``encode`` makes anew each time
    _chunks = _make(
        None, json.JSONEncoder().default, json.encoder.encode_basestring, None, ": ", ", ", False, False, False
    )

    def json_text(value: object) -> str:
        return "".join(_chunks(value, 0))


class Request:
    """One request as it arrives. ``peer`` is the address of the connection's other end."""

    __slots__ = ("body", "fields", "method", "peer", "url")

    def __init__(self, method: str, url: Url, fields: Fields, body: bytes = b"", peer: str = "192.0.2.1") -> None:
        self.method = method
        self.url = url
        self.fields = fields
        self.body = body
        self.peer = peer

    def with_fields(self, fields: Fields) -> Request:
        """The same request with other header fields."""
        return Request(self.method, self.url, fields, self.body, self.peer)

    def apart(self) -> Request:
        """An equal request with nothing in common: for those who may change it."""
        url = self.url
        return Request(
            self.method,
            Url(url.scheme, url.host, url.port, url.path, url.query),
            self.fields.copy(),
            self.body,
            self.peer,
        )


class Answer:
    """A response: status, header fields, and content before any framing.

    ``stands_for``: of a 304, the answer that it says the caller has; of a part, the whole. ``uncoded``: the
    content before it was coded. In sequential flow ``draft`` is what stages had put before anybody answered, ``said``
    what the answer itself said of that.
    """

    __slots__ = ("body", "draft", "fields", "said", "stands_for", "status", "uncoded")

    def __init__(self, status: int, fields: Fields, body: bytes = b"") -> None:
        self.status = status
        self.fields = fields
        self.body = body
        self.stands_for: Answer | None = None
        self.uncoded: bytes | None = None
        self.draft: Fields | None = None
        self.said: Fields | None = None

    @property
    def content(self) -> bytes:
        """The body before any content coding was applied here."""
        return self.body if self.uncoded is None else self.uncoded

    def copy(self) -> Answer:
        """An answer of its own: stages write on the way out."""
        twin = Answer(self.status, self.fields.copy(), self.body)
        twin.uncoded, twin.stands_for = self.uncoded, self.stands_for
        twin.draft, twin.said = self.draft, self.said
        return twin


def json_bytes(value: object) -> bytes:
    """A JSON value as UTF-8 octets (RFC 8259)."""
    return json_text(value).encode()


_DEEPER = {"[": 1, "{": 1, "]": -1, "}": -1}
MAX_NESTING = 60
"""How deep JSON may nest here; parsers differ in what they survive (RFC 8259 section 9 allows a limit)."""


def nests_too_deep(text: str) -> bool:
    """Whether brackets of JSON nest deeper than ``MAX_NESTING``, as far as a reader would come."""
    if text.count("[") + text.count("{") <= MAX_NESTING:
        return False
    depth = 0
    for match in _BRACKETS.finditer(text):
        depth += _DEEPER.get(match[0], 0)
        if depth > MAX_NESTING:
            return True
    return False


def no_constant(name: str) -> object:
    """For reading JSON: NaN and infinities are none."""
    raise ValueError(f"{name} is no JSON value")


def finite(text: str) -> float:
    """For reading JSON: a number that is finite. Raises ValueError."""
    value = float(text)
    if value in (float("inf"), float("-inf")):
        raise ValueError(f"the number {text[:20]} is too large")
    return value


def whole(text: str) -> int:
    """For reading JSON: a whole number of some length. Raises ValueError."""
    if len(text) > 400:
        raise ValueError("a number of over 400 digits is too large")
    return int(text)


_decode = json.JSONDecoder(parse_constant=no_constant, parse_float=finite, parse_int=whole).decode


def read_json(text: str) -> Any:
    """A JSON text as a value (RFC 8259). Raises ValueError, in words, for anything else.

    That goes for what other readers let through: NaN and infinities, numbers that no one holds, halves of
    characters, and nesting deeper than ``MAX_NESTING``.
    """
    if nests_too_deep(text):
        raise ValueError("it is nested too deep")
    value = _decode(text)
    if "\\ud" in text.lower():
        json_bytes(value)  # half a character can't be written again (8.2): a ValueError
    return value


def text_answer(status: int, text: str) -> Answer:
    """A plain-text answer."""
    fields = Fields()
    if text:
        fields.put("Content-Type", TEXT)
    return Answer(status, fields, text.encode())


def json_answer(status: int, value: object) -> Answer:
    """A JSON answer."""
    fields = Fields()
    fields.put("Content-Type", JSON)
    return Answer(status, fields, json_bytes(value))


def phrase(status: int) -> str:
    """The status's reason phrase, or ``Status N`` where the registry has none."""
    return PHRASES.get(status) or f"Status {status}"


_NO_CONTENT = frozenset({204, 205, 304})
OF_ALL_CONTENT = ("content-digest", "content-md5")
"""Fields about the content of one message (RFC 9530 2): of a part, of coded content, of none they would be wrong."""


def finish(method: str, answer: Answer, date: str, *, of_head_route: bool = False) -> Answer:
    """Frame the answer as a server with a clock sends it (Date: RFC 9110 6.6.1).

    Content-Length says how much content a GET would get (RFC 9110 8.6); HEAD, 204 and 304 carry
    none (9.3.2, 15.3.5, 15.4.5), nor has 205 any; 204 and 304 say no length here. ``of_head_route``: what is made
    for HEAD alone doesn't know what a GET would get, unless it has that content.
    """
    fields = answer.fields
    fields.frame(str(len(answer.body)), date)
    if answer.status in _NO_CONTENT:
        answer.body = b""
        if answer.status == 205:  # 15.3.6: no content, and it says so
            fields.put("Content-Length", "0")
            fields.drop("content-type")
        else:
            for name in ("content-length", *OF_ALL_CONTENT):
                fields.drop(name)
    if method == "HEAD":
        if of_head_route and not answer.body:
            fields.drop("content-length")
        elif not of_head_route:  # RFC 9530 B.2: the representation's digest stays, that of a GET's content doesn't
            for name in OF_ALL_CONTENT:
                fields.drop(name)
        answer.body = b""
    return answer
