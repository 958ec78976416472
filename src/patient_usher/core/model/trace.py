"""The trace file: requests with their times, callers and expectations."""

from base64 import b64decode
from datetime import datetime
from ipaddress import ip_address
from typing import Annotated, Any, ClassVar, Literal

from pydantic import AfterValidator, BeforeValidator, Discriminator, Field, Tag, WithJsonSchema, model_validator

from patient_usher.core.http.cors import is_forbidden_request_field
from patient_usher.core.http.dates import instant
from patient_usher.core.http.messages import Answer, read_json
from patient_usher.core.http.urls import Url, parse_url
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.expect import Expect
from patient_usher.core.model.header_rules import check_sent
from patient_usher.core.model.templates import Id
from patient_usher.core.model.text_types import (
    METHOD,
    Duration,
    Model,
    Names,
    PositiveDuration,
    SignedDuration,
    exactly_one,
    no_items,
    show,
    wrong,
)
from patient_usher.core.model.values import ROOTS, Reader, checker, pointer


def _kept(part: str) -> Reader:
    def read(values: Any) -> Any:
        return values[part]

    return read


def _account(part: str) -> Reader:
    """A password of the pipeline's own, for a desk: so that it need not stand in the trace, too."""
    name, _, fact = part.rpartition(".")
    if fact != "password" or not name:
        raise ValueError("of an account there is accounts.NAME.password")

    def read(kept: Any) -> Any:
        account = kept.accounts.get(name)
        if account is None or account.password is None:
            raise LookupError(f"accounts.{name}.password, and the pipeline has none")
        return account.password

    return read


TRACE_ROOTS = {"kept": _kept, "clock": ROOTS["clock"], "accounts": _account}
"""What a placeholder in a trace may name: values kept from earlier answers, and the clock."""

_check_filled = checker(TRACE_ROOTS)
Sent = Annotated[Any, BeforeValidator(_check_filled), WithJsonSchema({})]
SentText = Annotated[str, BeforeValidator(_check_filled)]


def _parse_starts(value: Json) -> int:
    if isinstance(value, str):
        try:
            return instant(datetime.fromisoformat(value))
        except (ValueError, OverflowError):
            pass
    raise wrong(f"{show(value)} is no instant", "write it like 2031-05-01T08:00:00Z")


def _parse_base(value: Json) -> Url:
    if isinstance(value, Url):
        return value
    try:
        url = parse_url(value if isinstance(value, str) else "")
    except ValueError as error:
        raise wrong(f"{show(value)} is no base URL: {error}", "write it like https://api.ternharbour.example") from None
    if url.path != "/" or url.query:
        raise wrong(f"the base {show(value)} must be scheme and host alone", "put the path into each request")
    return url


def _parse_origin(value: Json) -> str:
    try:
        url = parse_url(value if isinstance(value, str) else "")
    except ValueError as error:
        raise wrong(f"{show(value)} is no origin: {error}", "write it like https://boaters.example") from None
    if value != url.origin:
        raise wrong(f"{show(value)} is no origin", f"write {url.origin}")
    return url.origin


def _parse_page(value: Json) -> str:
    return "none" if value == "none" else _parse_origin(value)


def _parse_address(value: Json) -> str:
    try:
        return str(ip_address(value if isinstance(value, str) else ""))
    except ValueError:
        raise wrong(f"{show(value)} is no IP address", "write one such as 192.0.2.7") from None


class CallerSpec(Model):
    """Who sends: a plain script, or a browser with a page of an origin."""

    sentences: ClassVar[dict[str, str]] = {
        "kind": "A plain script, or a browser with a page.",
        "origin": "The origin of the browser's page.",
        "address": "The caller's address.",
        "headers": "Header fields on every request.",
        "cookies": "Whether a script keeps cookies.",
        "third-party-cookies": "Whether a browser sends and takes cookies of other sites than its page's; many don't.",
        "unmarked-cookies": "What a browser makes of cookies without SameSite: Lax, or sent from any site, as some do.",
        "redirects": "Whether a script follows redirects.",
        "patience": "After how long without an answer it gives up.",
    }

    kind: Literal["script", "browser"] = "script"
    origin: Annotated[str, BeforeValidator(_parse_origin)] | None = None
    address: Annotated[str, BeforeValidator(_parse_address)] = "192.0.2.1"
    headers: Annotated[dict[str, SentText], AfterValidator(check_sent)] = Field(default_factory=dict)
    cookies: Literal["ignore", "keep"] = "ignore"
    third_party_cookies: Literal["sent", "blocked"] = "sent"
    unmarked_cookies: Literal["lax", "sent"] = "lax"
    redirects: Literal["stop", "follow"] = "stop"
    patience: PositiveDuration = 30_000_000

    @model_validator(mode="after")
    def _fits(self) -> "CallerSpec":
        given = self.model_fields_set
        if self.kind == "browser":
            if self.origin is None:
                raise wrong("a browser has no origin", "add origin: https://host, that of the page that calls")
            if given & {"cookies", "redirects"}:
                raise wrong(
                    "a browser keeps cookies and follows redirects by itself", "leave cookies and redirects out"
                )
            for name, value in self.headers.items():
                if is_forbidden_request_field(name.lower(), value):
                    raise wrong(f"no page may set the header {name}", "leave it out: the browser sets it by itself")
        elif self.origin is not None:
            raise wrong("an origin belongs to a browser", "add kind: browser")
        elif own := sorted(given & {"third_party_cookies", "unmarked_cookies"}):
            raise wrong(f"{own[0].replace('_', '-')} belongs to a browser", "add kind: browser and an origin")
        return self


class SendLine:
    """``METHOD path`` or ``METHOD URL``: checked when the file is read, filled when it is sent."""

    __slots__ = ("filled", "method", "target", "text")

    def __init__(self, text: str) -> None:
        method, space, target = text.partition(" ")
        target = target.strip()
        if not space or not METHOD.fullmatch(method) or not target:
            raise ValueError(f"{show(text)} says no method and path; write METHOD /path, as in GET /tides?day=2")
        self.text, self.method, self.target = text, method, target
        self.filled = "${" in target
        if self.filled:
            _check_filled(target)
        elif not target.startswith("/") and not (target == "*" and method == "OPTIONS"):
            parse_url(target)
        if " " in target or not target.isprintable():  # all other white space isn't printable either
            raise ValueError(f"the target {show(target)} holds white space or a control character; write %20, say")


def _parse_send(value: Json) -> SendLine:
    if isinstance(value, SendLine):
        return value
    if not isinstance(value, str):
        raise wrong(f"{show(value)} says no method and path", "write METHOD /path, as in GET /tides?day=2")
    try:
        return SendLine(value)
    except ValueError as error:
        raise wrong(str(error)) from None


class SignSpec(Model):
    """A credential minted for the request. One of bearer, basic, api-key names an account."""

    sentences: ClassVar[dict[str, str]] = {
        "bearer": "The account of a signed token.",
        "basic": "The account of a name and password.",
        "api-key": "The account of a key.",
        "keys": "The signing key, where it isn't the one that the pipeline asks for.",
        "expires-in": "How long the token counts; negative for one that is over.",
        "valid-in": "How long until the token counts.",
        "issuer": "The issuer that it names.",
        "audience": "The audience that it names.",
        "scopes": "The scopes that it names.",
        "claims": "Further claims.",
        "header": "Members of the token's header, as in {kid: old, typ: at+jwt}.",
    }

    SORTS: ClassVar[tuple[str, ...]] = ("bearer", "basic", "api_key")

    bearer: str | None = None
    basic: str | None = None
    api_key: str | None = None
    keys: str | None = None
    expires_in: SignedDuration = 15 * 60_000_000
    valid_in: Duration | None = None
    issuer: str | None = None
    audience: str | list[str] | None = None
    scopes: Names | None = None
    claims: JsonObject = Field(default_factory=dict)
    header: JsonObject = Field(default_factory=dict)

    @model_validator(mode="after")
    def _one(self) -> "SignSpec":
        exactly_one(self, self.SORTS, "sign")
        if self.bearer is None and self.model_fields_set - {"basic", "api_key"}:
            raise wrong("keys, times and claims belong to a bearer token", "leave them out")
        return self


def _parse_keep(value: Json) -> object:
    if isinstance(value, str) and (value == "" or value.startswith("/")):
        return value
    if isinstance(value, dict) and len(value) == 1 and next(iter(value)) in ("header", "cookie"):
        name = next(iter(value.values()))
        if isinstance(name, str):
            return value
    raise wrong(
        f"{show(value)} says not what to keep",
        "write a JSON Pointer such as /token, {header: NAME} or {cookie: NAME}",
    )


KeepRule = Annotated[Any, BeforeValidator(_parse_keep), WithJsonSchema({"type": ["string", "object"]})]


def _parse_base64(value: Json) -> bytes:
    try:
        return b64decode(value if isinstance(value, str) else "?", validate=True)
    except ValueError:
        raise wrong(f"{show(value)} is no base64", "write the body's octets in base64") from None


class RequestSpec(Model):
    """One entry of a trace: a request, sent once or several times."""

    sentences: ClassVar[dict[str, str]] = {
        "id": "What results call the request.",
        "send": "METHOD /path, or METHOD and a whole URL.",
        "caller": "Who sends it; a plain script, if left out.",
        "address": "The address that it comes from, where it isn't the caller's.",
        "at": "When, from the start of the trace.",
        "after": "When, from the end of the one before.",
        "times": "How often it is sent.",
        "every": "How long after each other; one after the other, if left out.",
        "took": "How long it took where it was seen: with replay --busy its handler is busy for as long.",
        "headers": "Header fields.",
        "json": "A JSON body.",
        "form": "A form body.",
        "text": "A text body.",
        "file": "A file beside the trace whose octets are the body.",
        "base64": "The body's octets in base64.",
        "credentials": "For a browser: whether cookies go along.",
        "cache": "For a browser: how its own cache is used.",
        "mode": "For a browser: whether CORS counts; navigate for a link or a form.",
        "origin": "For a browser: the page of this request, where it is another; none for what was typed.",
        "redirect": "For a browser: what becomes of redirects.",
        "sign": "A credential minted for an account.",
        "bearer": "A token of your own, ${kept.token} say.",
        "keep": "Values kept from the answer, by name: a JSON Pointer, {header: NAME} or {cookie: NAME}.",
        "expect": "What must come of it.",
        "expect-in": "What must come of it in an environment.",
    }

    BODIES: ClassVar[tuple[str, ...]] = ("json_", "form", "text", "file", "base64")

    id: Id
    send: Annotated[Any, BeforeValidator(_parse_send), WithJsonSchema({"type": "string", "pattern": "^\\S+ \\S+$"})]
    caller: str | None = None
    address: Annotated[str, BeforeValidator(_parse_address)] | None = None
    at: Duration | None = None
    after: Duration | None = None
    times: Annotated[int, Field(ge=1, le=10_000_000)] = 1
    every: Duration | None = None
    took: Duration | None = None
    headers: Annotated[dict[str, SentText | list[SentText]], AfterValidator(check_sent)] = Field(default_factory=dict)
    json_: Sent = Field(default=None, alias="json")
    form: dict[str, Sent] | None = None
    text: SentText | None = None
    file: str | None = None
    base64: Annotated[bytes, BeforeValidator(_parse_base64), WithJsonSchema({"type": "string"})] | None = None
    credentials: Literal["omit", "same-origin", "include"] | None = None
    cache: Literal["default", "no-store", "reload", "no-cache", "force-cache", "only-if-cached"] | None = None
    mode: Literal["cors", "no-cors", "same-origin", "navigate"] | None = None
    origin: Annotated[str, BeforeValidator(_parse_page)] | None = None
    redirect: Literal["follow", "error", "manual"] | None = None
    sign: SignSpec | None = None
    bearer: SentText | None = None
    keep: dict[str, KeepRule] = Field(default_factory=dict)
    expect: Expect | None = None
    expect_in: dict[str, Expect] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _fits_together(self) -> "RequestSpec":
        exactly_one(self, self.BODIES, "the request's body", at_most=True)
        if self.at is not None and self.after is not None:
            raise wrong(
                "a request has at and after at once",
                "at counts from the start, after from the end of the one before",
            )
        if self.sign is not None and self.bearer is not None:
            raise wrong("a request has sign and bearer at once", "give one credential")
        if self.mode == "navigate":
            self._navigates()
        elif self.origin == "none":
            raise wrong("origin: none belongs to a navigation", "add mode: navigate, or name the page's origin")
        if self.every is not None and self.times == 1:
            raise wrong("every needs times", "say how often, as in times: 40")
        return self

    def _navigates(self) -> None:
        """A link or a form: it can set nothing but its URL and what the form holds."""
        others = {"json_", "base64", "credentials", "redirect", "sign", "bearer"} & self.model_fields_set
        if others:
            named = min(others).rstrip("_")
            raise wrong(f"a link or a form can't say {named}", f"leave {named} out, or leave mode: navigate out")
        for name in self.headers:
            if name.lower() != "content-type":
                raise wrong(f"a link or a form sets no header {name}", "leave it out, or leave mode: navigate out")


class ChangeSpec(Model):
    """What an operator changes between two requests."""

    sentences: ClassVar[dict[str, str]] = {
        "change": "What an operator changes: an overlay of the pipeline.",
        "at": "When, from the start of the trace.",
        "after": "When, from the end of the one before.",
    }

    change: JsonObject
    at: Duration | None = None
    after: Duration | None = None


def _sort_of_entry(value: Json) -> str:
    return "change" if isinstance(value, dict) and "change" in value else "request"


Entry = Annotated[
    Annotated[RequestSpec, Tag("request")] | Annotated[ChangeSpec, Tag("change")],
    Discriminator(_sort_of_entry),
]


class TraceSpec(Model):
    """A whole trace file."""

    sentences: ClassVar[dict[str, str]] = {
        "patient-usher": "What the file is: trace/1.",
        "name": "What results call the trace.",
        "starts": "The instant at which it begins.",
        "base": "Scheme and host for paths.",
        "callers": "Who sends, by name.",
        "requests": "Requests and changes, in order.",
    }

    version: Literal["trace/1"] = Field(alias="patient-usher")
    name: str | None = None
    starts: Annotated[
        int, BeforeValidator(_parse_starts), WithJsonSchema({"type": "string", "format": "date-time"})
    ] = 1_924_992_000_000_000  # 2031-01-01T00:00:00Z
    base: Annotated[Any, BeforeValidator(_parse_base), WithJsonSchema({"type": "string", "format": "uri"})] = Field(
        default="https://service.example", validate_default=True
    )
    callers: dict[str, CallerSpec] = Field(default_factory=dict)
    requests: list[Entry] = Field(default_factory=no_items)


def find_kept(rule: Json, answer: Answer) -> object:
    """The value that a keep rule names in an answer. Raises LookupError where it isn't there."""
    if isinstance(rule, str):
        try:
            return pointer(read_json(answer.body.decode()), rule)
        except ValueError:
            raise LookupError(rule) from None
    if "header" in rule:
        value = answer.fields.get(rule["header"].lower())
    else:
        pairs = [line.partition(";")[0].partition("=") for line in answer.fields.values("set-cookie")]
        value = next((text for name, _, text in pairs if name.strip() == rule["cookie"]), None)
    if value is None:
        raise LookupError(rule)
    return value
