"""Requests of a trace, made ready: what never changes is built once, the rest when it is sent."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from types import MappingProxyType
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import urlencode

from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import JSON, TEXT, Request, json_bytes
from patient_usher.core.http.urls import Url, parse_url
from patient_usher.core.model.accounts import AccountSpec
from patient_usher.core.model.answer_factory import ReadFile
from patient_usher.core.model.document import JsonObject, Spot
from patient_usher.core.model.trace import TRACE_ROOTS, CallerSpec, ChangeSpec, RequestSpec, SendLine
from patient_usher.core.model.values import Reader, fill, filler, plain

if TYPE_CHECKING:
    from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline


class Kept(JsonObject):
    """Values kept from answers, the time, and the pipeline's accounts: what a trace's placeholders read."""

    now = 0
    accounts: Mapping[str, AccountSpec] = MappingProxyType({})


def url_of(target: str, base: Url) -> Url:
    """Where a request goes: a path on the base's origin, ``*`` for all of it, or a whole URL. Raises ValueError."""
    return base.at(target) if target.startswith("/") or target == "*" else parse_url(target)


OWS = " \t"
"""What around a field's value is no part of it (RFC 9110 5.5)."""
PLAIN = RequestSpec.model_construct(id="", send=None)
"""What a request says that has nothing but a request line and header fields."""


class RequestTemplate:
    """How to make a request. Those that differ only in id and time share one.

    ``ready`` is the request, where nothing of it is filled in or signed; ``rules`` what is expected of it, once a
    verifier has made that ready.
    """

    __slots__ = (
        "_body", "_fields", "_live_fields", "_target", "base", "caller", "caller_name", "expects", "method", "ready",
        "rules", "spec", "written",
    )  # fmt: skip

    def __init__(
        self,
        spec: RequestSpec,
        send: SendLine,
        headers: Mapping[str, str | list[str]],
        base: Url,
        caller_name: str,
        caller: CallerSpec,
        read_file: ReadFile,
        url: Url | None = None,
    ) -> None:
        """``spec`` says all but the request line and the header fields; ``url`` is the target's, where it is known.

        Raises OSError where the body's file can't be read.
        """
        self.spec, self.base = spec, base
        self.method, self.written = send.method, send.target
        self.caller_name, self.caller = caller_name, caller
        self.expects = spec.expect is not None or bool(spec.expect_in)
        self.rules: Any = None
        self.ready: Request | None = None
        if spec is PLAIN and url is not None and not caller.headers:
            stripped = {name: value.strip(OWS) if isinstance(value, str) else value for name, value in headers.items()}
            fields = Fields((("Host", url.authority), *stripped.items()))  # type: ignore[arg-type]
            if len(fields) == len(headers) + 1:  # each name once: nothing to be laid over anything
                self.ready = Request(self.method, url, fields, b"", caller.address)
                return
        self._fields = Fields()
        self._live_fields: list[tuple[str, Reader]] = []
        self._body: bytes | Reader = b""
        if spec is not PLAIN:
            self._read_content(spec, read_file)
        for source in (caller.headers, headers):
            for name, value in source.items():
                self._fields.drop(name.lower())
                for item in value if isinstance(value, list) else (value,):
                    self._field(name, item)
        if spec.bearer is not None:
            self._field("Authorization", "Bearer " + spec.bearer)
        target = filler(send.target, TRACE_ROOTS) if send.filled else url or url_of(send.target, base)
        self._target: Reader | Url = target
        if not (send.filled or self._live_fields or callable(self._body) or spec.sign):
            self.ready = self._made(self._target, Kept())

    def _read_content(self, spec: RequestSpec, read_file: ReadFile) -> None:
        if "json_" in spec.model_fields_set:
            self._content(JSON, spec.json_, json_bytes)
        elif spec.form is not None:
            self._content("application/x-www-form-urlencoded", spec.form, _form_bytes)
        elif spec.text is not None:
            self._content(TEXT, spec.text, lambda text: plain(text).encode())
        elif spec.file is not None:
            self._body = read_file(spec.file)
        elif spec.base64 is not None:
            self._body = spec.base64

    def _content(self, media: str, value: Any, write: Callable[[Any], bytes]) -> None:
        self._fields.put("Content-Type", media)
        live, prepared = fill(value, TRACE_ROOTS)
        self._body = (lambda kept: write(prepared(kept))) if live else write(prepared)

    def _field(self, name: str, value: str) -> None:
        value = value.strip(OWS)
        if "${" in value and (live := fill(value, TRACE_ROOTS)) and not live[0]:
            self._fields.add(name, live[1])
        elif "${" in value:
            self._live_fields.append((name, filler(value, TRACE_ROOTS)))
        else:
            self._fields.add(name, value)

    def request(self, kept: Kept, compiled: CompiledPipeline) -> Request:
        """The request at this moment, with credentials as the pipeline now asks for them.

        Raises LookupError for a value that was never kept, ValueError for a bad URL.
        """
        if self.ready is not None:
            return self.ready
        url = self._target if isinstance(self._target, Url) else self._filled_url(plain(self._target(kept)))
        return self._made(url, kept, compiled)

    def _filled_url(self, target: str) -> Url:
        return parse_url(self.base.origin + target if target.startswith("/") else target)

    def _made(self, url: Any, kept: Kept, compiled: CompiledPipeline | None = None) -> Request:
        fields = Fields([("Host", url.authority)])
        fields.update(self._fields)
        for name, read in self._live_fields:
            fields.put(name, plain(read(kept)).strip(OWS))
        if self.spec.sign is not None and compiled is not None:
            from patient_usher.core.engine.compile.signing import signed  # most traces sign nothing

            url = signed(compiled, self.spec.sign, fields, url, kept.now)
        body = self._body(kept) if callable(self._body) else self._body
        if body:
            fields.put("Content-Length", str(len(body)))
        return Request(self.method, url, fields, body, self.caller.address)


def _form_bytes(form: JsonObject) -> bytes:
    pairs = [
        (name, plain(item)) for name, value in form.items() for item in (value if isinstance(value, list) else [value])
    ]
    return urlencode(pairs).encode()


class Entry(NamedTuple):
    """One entry of a trace: a request, or a change of the pipeline, and when it comes.

    ``order`` is its number in the file: entries count from 0 without a gap. With neither ``at`` nor
    ``after`` it comes when the one before has finished.
    """

    id: str
    order: int
    at: int | None
    after: int | None
    spot: Spot
    request_template: RequestTemplate | None
    change: ChangeSpec | None = None
    took: int | None = None
    """How long it took where it was seen, in microseconds."""
    address: str | None = None
    """From where it comes, where that isn't the request template's: lines that say the same else share one."""
