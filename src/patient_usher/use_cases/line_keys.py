"""By which part of its request a line of a trace is told apart from others: into which bucket it falls.

Lines whose requests have the same part fall into the same bucket, however they say it; read off the octets where that
can't be mistaken, else by making the request.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from functools import lru_cache
from zlib import crc32

import msgspec
from pydantic import ValidationError

from patient_usher.core.engine.bind.request_templates import Kept
from patient_usher.core.engine.bind.trace import Maker, read_spec
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.partition import identity_reader
from patient_usher.core.http.messages import Request
from patient_usher.core.model.document import JsonMapping, JsonObject, Spot, Unusable
from patient_usher.core.model.trace import RequestSpec
from patient_usher.files.lines import canonical_address

BUCKETS = 4096
"""Into so many the keys of requests fall; parts are made of whole buckets, by their weight."""
_ADDRESS = re.compile(rb'"address"\s*:\s*"([^"\\]*)"')
_CALLER = re.compile(rb'"caller"\s*:\s*"([^"\\]*)"')
_SOMEWHERE = b"192.0.2.1"
"""Where a caller is who says nothing of it."""
_REMEMBERED = 10_000


class _Said(msgspec.Struct):
    """What of a line may matter for a part of its request."""

    send: str
    caller: str | None = None
    headers: dict[str, str] = {}
    sign: msgspec.Raw | msgspec.UnsetType = msgspec.UNSET
    bearer: msgspec.Raw | msgspec.UnsetType = msgspec.UNSET


_said = msgspec.json.Decoder(_Said).decode


def key_reader(by: str, header: JsonObject, compiled: CompiledPipeline) -> Callable[[bytes], int]:
    """A function from a line to a number, the same where this part of its request is. Raises Unusable."""
    reader = by_address(header.get("callers") or {}) if by == "address" else _by_request(by, header, compiled)
    return lambda raw: crc32(reader(raw))


def by_address(callers: JsonMapping) -> Callable[[bytes], bytes]:
    """The address from which a line's request comes."""
    known = {
        name.encode(): str(spec.get("address", _SOMEWHERE.decode())).encode()
        for name, spec in callers.items()
        if isinstance(spec, dict)
    }

    def read(raw: bytes) -> bytes:
        address = _ADDRESS.search(raw)
        if (
            address is not None
            and b'"caller"' not in raw
            and b"\\" not in raw
            and raw.find(b"{", 1, address.start()) < 0
            and raw.find(b'"address"', address.end()) < 0
        ):
            return one_spelling(address[1])  # as most lines say it
        caller = _CALLER.search(raw)
        if address is None and caller is None:
            return _SOMEWHERE
        inside = [found.start() for found in (address, caller) if found is not None]
        if b"\\" in raw or raw.count(b"{", 0, max(inside)) > 1 or raw.count(b'"address"') + raw.count(b'"caller"') > 2:
            return one_spelling(carefully(raw))  # they may stand in a body
        if address is not None:
            return one_spelling(address[1])
        return one_spelling(known.get(caller[1], _SOMEWHERE)) if caller is not None else _SOMEWHERE

    @lru_cache(maxsize=_REMEMBERED)
    def one_spelling(address: bytes) -> bytes:
        return (canonical_address(address) or "").encode()

    def carefully(raw: bytes) -> bytes:
        try:
            said = json.loads(raw)
        except ValueError:
            return _SOMEWHERE  # whoever replays it says so
        if isinstance(said.get("address"), str):
            return str(said["address"]).encode()
        return known.get(str(said.get("caller")).encode(), _SOMEWHERE)

    return read


def _by_request(by: str, header: JsonObject, compiled: CompiledPipeline) -> Callable[[bytes], bytes]:
    """The route of a line's request, who sends it, or the value of a header field or a query parameter of it."""
    root, _, name = by.partition(".")
    spec = read_spec(header)
    maker = Maker(spec, compiled, lambda path: b"")
    nowhere = Spot("", 1, 1)
    identity = identity_reader(compiled)

    def part(request: Request) -> bytes:
        if root == "identity":
            return identity(request).encode()
        if root == "route":
            route, *_ = compiled.router.find(request.method, request.url)
            return route.id.encode() if route is not None else b""
        found = request.fields.get(name) if root == "header" else next(iter(request.url.params.get(name) or ()), "")
        return (found or "").encode()

    def made(raw: bytes) -> bytes:
        try:
            request_template = maker.make(RequestSpec.model_validate(json.loads(raw)), 0, nowhere).request_template
            return part(request_template.request(Kept(), compiled)) if request_template is not None else b""
        except (ValueError, ValidationError, Unusable, LookupError):
            return b""  # whoever replays it says so

    @lru_cache(maxsize=_REMEMBERED)
    def of_line(send: str) -> bytes:
        request_template = maker.plain(send, None, {})
        return part(request_template.request(Kept(), compiled)) if request_template is not None else b""

    defaults = {
        caller: made(json.dumps({"id": "x", "send": "GET /", "caller": caller}).encode()).decode()
        for caller in spec.callers
        if root == "header"
    }

    def read(raw: bytes) -> bytes:
        try:
            line = _said(raw)
        except (msgspec.MsgspecError, ValueError):
            return made(raw)
        if line.sign is not msgspec.UNSET or line.bearer is not msgspec.UNSET:
            return made(raw)  # it may stand where the key does
        if root == "identity":
            request_template = maker.plain(line.send, line.caller, line.headers)
            return part(request_template.request(Kept(), compiled)) if request_template is not None else b""
        if root != "header":
            return of_line(line.send)
        value = defaults.get(line.caller or "script")
        for field, said in line.headers.items():  # of one that is named twice, the last counts
            if field.lower() == name:
                value = said
        return (value or "").encode()

    return read
