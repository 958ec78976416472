"""The pipeline file: stages, groups, routes, accounts, errors, environments."""

import re
from collections.abc import Iterable
from ipaddress import ip_address, ip_network
from typing import Annotated, Any, ClassVar, Literal, NamedTuple

from pydantic import AfterValidator, BeforeValidator, Field, WithJsonSchema, model_validator
from pydantic.json_schema import SkipJsonSchema

from patient_usher.core.model.document import Map, Path, Seq
from patient_usher.core.model.matcher import When
from patient_usher.core.model.scalars import (
    METHOD,
    Duration,
    Model,
    Names,
    Or,
    RequestPattern,
    Size,
    Status,
    one_or_more,
    show,
    wrong,
)
from patient_usher.core.model.values import Filled, FilledText

RESERVED = ("handler", "router", "server", "caller", "routes")
"""Words that results use beside stage ids."""

_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9_.-]*")


def _check_id(value: Any) -> str:
    if not isinstance(value, str) or not _NAME.fullmatch(value):
        raise wrong(f"{show(value)} is no id", "write letters, digits, dots, dashes and underscores")
    if value in RESERVED:
        raise wrong(f"the id '{value}' is taken", f"results use {', '.join(RESERVED)} for themselves")
    return value


Id = Annotated[str, BeforeValidator(_check_id), WithJsonSchema({"type": "string", "pattern": f"^{_NAME.pattern}$"})]


class Template(NamedTuple):
    """A path template (OpenAPI 3.1 4.8.8.1): segments, each literal or ``{name}``; ``{+rest}`` takes the tail."""

    text: str
    segments: tuple[tuple[str, str], ...]

    @property
    def names(self) -> list[str]:
        """The parameters, in order."""
        return [name for what, name in self.segments if what != "literal"]


def parse_template(text: str, *, prefix: bool = False) -> Template:
    """Parse a path template, or a group's prefix. Raises ValueError saying what is wrong."""
    if prefix and text in ("", "/"):
        return Template("", ())
    if not text.startswith("/"):
        raise ValueError(f"the path {show(text)} must start with /")
    if any(char in text for char in "?# \t"):
        raise ValueError(f"the path {show(text)} must hold no query, fragment or space")
    if prefix and text.endswith("/"):
        raise ValueError(f"the prefix {show(text)} must not end with /")
    segments: list[tuple[str, str]] = []
    raw = text[1:].split("/")
    for at, segment in enumerate(raw):
        if "{" not in segment and "}" not in segment:
            segments.append(("literal", segment))
            continue
        match = re.fullmatch(r"\{(\+?)([A-Za-z_][A-Za-z0-9_-]*)\}", segment)
        if match is None:
            raise ValueError(f"in {show(text)} the segment {show(segment)} must be a literal, {{name}} or {{+rest}}")
        if match.group(1) and (prefix or at != len(raw) - 1):
            raise ValueError(f"in {show(text)} {show(segment)} takes the whole tail, so it must come last")
        segments.append(("tail" if match.group(1) else "parameter", match.group(2)))
    names = [name for what, name in segments if what != "literal"]
    if len(set(names)) != len(names):
        raise ValueError(f"in {show(text)} a parameter is named twice")
    return Template(text, tuple(segments))


class At(NamedTuple):
    """Where a route stands: method and path template."""

    method: str
    template: Template


def _parse_at(value: Any) -> At:
    if isinstance(value, At):
        return value
    method, space, path = value.partition(" ") if isinstance(value, str) else ("", "", "")
    if not space or not METHOD.fullmatch(method):
        raise wrong(f"{show(value)} says no method and path", "write METHOD /path, as in GET /tides/{station}")
    try:
        return At(method, parse_template(path.strip()))
    except ValueError as error:
        raise wrong(str(error)) from None


def _parse_prefix(value: Any) -> Template:
    if isinstance(value, Template):
        return value
    if not isinstance(value, str):
        raise wrong(f"{show(value)} is no prefix", "write a path, as in /v1")
    try:
        return parse_template(value, prefix=True)
    except ValueError as error:
        raise wrong(str(error)) from None


class Access(NamedTuple):
    """Who may use a route. ``who``: everyone, signed-in, nobody, role or scope (any of ``names``)."""

    who: str
    names: tuple[str, ...] = ()

    def __str__(self) -> str:
        return f"{self.who} {' or '.join(self.names)}" if self.names else self.who


def _parse_access(value: Any) -> Access:
    if isinstance(value, Access):
        return value
    if value in ("everyone", "signed-in", "nobody"):
        return Access(value)
    if isinstance(value, dict) and len(value) == 1 and next(iter(value)) in ("role", "scope"):
        who, names = next(iter(value.items()))
        names = one_or_more(names)
        if isinstance(names, list) and names and all(isinstance(name, str) for name in names):
            return Access(who, tuple(names))
    raise wrong(f"{show(value)} says not who may", "write everyone, signed-in, nobody, {role: NAME} or {scope: NAME}")


AccessRule = Annotated[
    Any,
    BeforeValidator(_parse_access),
    WithJsonSchema(
        {
            "anyOf": [
                {"enum": ["everyone", "signed-in", "nobody"]},
                *(
                    {
                        "type": "object",
                        "required": [key],
                        "additionalProperties": False,
                        "properties": {key: {"type": ["string", "array"], "items": {"type": "string"}}},
                    }
                    for key in ("role", "scope")
                ),
            ]
        }
    ),
]


def _check_per(value: Any) -> str:
    if isinstance(value, str) and (value == "identity" or re.fullmatch(r"(query|header)\..+", value)):
        return value
    raise wrong(f"{show(value)} makes no copy of its own", "write query.NAME, header.NAME or identity")


def exactly_one(model: Model, names: Iterable[str], what: str, *, at_most: bool = False) -> None:
    """Raise unless one (or at most one) of these keys is given."""
    keys = list(names)
    if len(model.model_fields_set.intersection(keys)) == 1:
        return
    given = [name.rstrip("_").replace("_", "-") for name in keys if name in model.model_fields_set]
    listed = ", ".join(name.rstrip("_").replace("_", "-") for name in keys)
    if len(given) > 1:
        raise wrong(f"{what} has {' and '.join(given)} at once", f"give one of {listed}")
    if not given and not at_most:
        raise wrong(f"{what} is empty", f"give one of {listed}")


class AnswerSpec(Model):
    """A made-up answer. At most one of json, text, file, size is its content."""

    BODIES: ClassVar[tuple[str, ...]] = ("json_", "text", "file", "size")

    status: Status | None = None
    headers: dict[str, FilledText | list[FilledText]] = Field(default_factory=dict)
    json_: Filled = Field(default=None, alias="json")
    text: FilledText | None = None
    file: str | None = None
    size: Size | None = None

    @model_validator(mode="after")
    def _one_body(self) -> "AnswerSpec":
        exactly_one(self, self.BODIES, "the answer's content", at_most=True)
        return self

    @property
    def has_body(self) -> bool:
        """Whether any content is given."""
        return any(name in self.model_fields_set for name in self.BODIES)


class RaiseSpec(Model):
    """An error to raise. ``message``, ``where`` and ``cause`` are its private part."""

    type: str
    message: FilledText = ""
    where: str = ""
    cause: str = ""


RaiseOf = Annotated[
    RaiseSpec,
    BeforeValidator(lambda value: {"type": value} if isinstance(value, str) else value),
    Or({"type": "string"}),
]


class HandlerCase(Model):
    """What a handler does where ``when`` fits."""

    when: When | None = None
    answer: AnswerSpec | None = None
    raise_: RaiseOf | None = None
    busy_for: Duration = 0

    @model_validator(mode="after")
    def _one(self) -> "HandlerCase":
        exactly_one(self, ("answer", "raise_"), "the case")
        return self


class HandlerSpec(Model):
    """The stand-in for the code at the end of the pipeline."""

    DOES: ClassVar[tuple[str, ...]] = ("answer", "raise_", "cases", "echo", "python", "records")

    answer: AnswerSpec | None = None
    raise_: RaiseOf | None = None
    cases: list[HandlerCase] | None = None
    echo: Literal[True] | None = None
    python: str | None = None
    records: str | None = None
    do: Literal["list", "read", "create", "replace", "remove"] | None = None
    busy_for: Duration = 0
    fails_every: Annotated[int, Field(ge=1)] | None = None

    @model_validator(mode="after")
    def _one(self) -> "HandlerSpec":
        names = self.DOES
        if self.cases is not None or self.fails_every is not None:  # answer is then what else happens
            others = ("raise_",) if self.cases is not None else ("answer", "cases", "echo", "python", "records")
            exactly_one(self, ("cases", *others) if self.cases is not None else others, "the handler")
        else:
            exactly_one(self, names, "the handler")
        if (self.records is None) != (self.do is None):
            raise wrong("records and do belong together", "write {records: NAME, do: list}, say")
        return self


class CacheRule(Model):
    """How a route's answers may be kept: at the server, at the client, and what makes a copy of its own."""

    shared: Duration | None = None
    private: Duration | None = None
    per: list[Annotated[str, BeforeValidator(_check_per)]] | None = None
    same_for: Literal["everyone"] | None = None
    never: SkipJsonSchema[bool] = False  # what cache: never stands for; no key of its own

    @model_validator(mode="after")
    def _lives(self) -> "CacheRule":
        if self.shared is None and self.private is None and not self.never:
            raise wrong("the rule says no lifetime", "give shared, private or both, or write cache: never")
        return self


def _spell_out_cache(value: Any) -> Any:
    if value == "never":
        return CacheRule.model_construct(never=True)
    if isinstance(value, str):
        return {"shared": value, "private": value}
    if isinstance(value, dict) and "never" in value:
        raise wrong("never stands alone", "write cache: never")
    return value


class InputSpec(Model):
    """JSON Schemas for what a request brings, and messages of the developer's own by pointer."""

    query: dict[str, Any] | None = None
    headers: dict[str, Any] | None = None
    json_: dict[str, Any] | None = Field(default=None, alias="json")
    form: dict[str, Any] | None = None
    messages: dict[str, str] = Field(default_factory=dict)

    def schemas(self) -> dict[str, dict[str, Any]]:
        """The schemas that are given, by the part of the request that they are for."""
        parts = {"query": self.query, "headers": self.headers, "json": self.json_, "form": self.form}
        return {name: schema for name, schema in parts.items() if schema is not None}


class RouteSpec(Model):
    """A method and path template with its handler."""

    id: Id
    at: Annotated[Any, BeforeValidator(_parse_at), WithJsonSchema({"type": "string", "pattern": "^[A-Z]+ /.*$"})]
    access: AccessRule | None = None
    stages: list[Any] = Field(default_factory=list)
    body_limit: Size | None = None
    cost: Annotated[int, Field(ge=1)] | None = None
    cache: Annotated[CacheRule, BeforeValidator(_spell_out_cache), Or({"type": "string"})] | None = None
    clears: Names = Field(default_factory=list)
    input: InputSpec | None = None
    handler: HandlerSpec


class DeskSpec(Model):
    """Sign-up, sign-in, refresh and sign-out under a group's prefix."""

    at: Annotated[Any, BeforeValidator(_parse_prefix), WithJsonSchema({"type": "string"})]
    gives: Literal["token", "cookie"] = "token"
    keys: str | None = None
    lasts: Duration = 15 * 60_000_000
    renewable_for: Duration = 7 * 86_400_000_000
    cookie: str = "session"
    max_age: Duration | None = None
    signed_up_as: Names = Field(default_factory=list)

    @model_validator(mode="after")
    def _has_keys(self) -> "DeskSpec":
        if self.gives == "token" and self.keys is None:
            raise wrong(
                "the desk gives tokens but names no keys to sign them with",
                "add keys: NAME, from signing-keys",
            )
        return self


class GroupSpec(Model):
    """Routes that share a prefix, access and stages."""

    id: Id
    prefix: Annotated[Any, BeforeValidator(_parse_prefix), WithJsonSchema({"type": "string"})] = Template("", ())
    access: AccessRule | None = None
    stages: list[Any] = Field(default_factory=list)
    desk: DeskSpec | None = None
    groups: list["GroupSpec"] = Field(default_factory=list)
    routes: list[RouteSpec] = Field(default_factory=list)


class ErrorSpec(Model):
    """A declared error type."""

    is_a: str | None = None
    status: Status | None = None
    message: str | None = None


class AccountSpec(Model):
    """Somebody who can sign in. Passwords are plain and made up, or argon2 hashes."""

    password: str | None = None
    api_keys: Names = Field(default_factory=list)
    roles: Names = Field(default_factory=list)
    scopes: Names = Field(default_factory=list)
    facts: dict[str, Any] = Field(default_factory=dict)


class SigningKeySpec(Model):
    """A key that tokens and cookies are signed with: a secret (HS256) or a PEM pair."""

    algorithm: Literal["HS256", "RS256", "ES256"]
    secret: str | None = None
    private: str | None = None
    public: str | None = None

    @model_validator(mode="after")
    def _fits(self) -> "SigningKeySpec":
        if self.algorithm == "HS256":
            if not self.secret or self.private or self.public:
                raise wrong("an HS256 key is a secret", "write secret: TEXT and neither private nor public")
        elif self.secret or not (self.private or self.public):
            raise wrong(
                f"an {self.algorithm} key is a PEM pair",
                "write private: (to sign and verify) or public: (to verify)",
            )
        return self


class RecordsSpec(Model):
    """A stand-in data store."""

    key: str = "id"
    ids: str = "{n}"
    unique: dict[str, str] = Field(default_factory=dict)
    rows: list[dict[str, Any]] = Field(default_factory=list)
    from_: str | None = Field(default=None, alias="from")

    @model_validator(mode="after")
    def _shape(self) -> "RecordsSpec":
        if "{n}" not in self.ids:
            raise wrong(
                f"the id pattern {show(self.ids)} gives every record the same id",
                "put {n} where the number goes",
            )
        return self


def _check_address(value: str) -> str:
    try:
        return str(ip_address(value))
    except ValueError:
        raise wrong(f"{show(value)} is no IP address", "write one such as 192.0.2.10") from None


def _check_networks(values: list[str]) -> list[str]:
    for value in values:
        try:
            ip_network(value, strict=False)
        except ValueError:
            raise wrong(f"{show(value)} is no address or network", "write 192.0.2.10 or 192.0.2.0/24, say") from None
    return values


class FrontSpec(Model):
    """What stands in front of the service."""

    ends_tls: bool = False
    sends: Literal["nothing", "forwarded", "x-forwarded"] = "nothing"
    address: Annotated[str, AfterValidator(_check_address)] = "192.0.2.10"


class DeploymentSpec(Model):
    """How many instances run, and what they share."""

    instances: Annotated[int, Field(ge=1, le=1000)] = 1
    spread: Literal["round-robin", "by-address", "random"] = "round-robin"
    shared_state: list[str] = Field(default_factory=list)
    in_front: FrontSpec = Field(default_factory=FrontSpec)
    trusts_forwarded: Annotated[Names, AfterValidator(_check_networks)] = Field(default_factory=list)


class PipelineSpec(Model):
    """A whole pipeline file, overlays applied. Stage entries are read by their kinds."""

    version: Literal["pipeline/1"] = Field(alias="patient-usher")
    name: str = "pipeline"
    flow: Literal["nested", "sequential"] = "nested"
    listed: Literal["outermost-first", "innermost-first"] = "outermost-first"
    environment: Names = Field(default_factory=list)
    refuse: Literal["answer", "raise"] = "answer"
    stages: list[Any] = Field(default_factory=list)
    groups: list[GroupSpec] = Field(default_factory=list)
    routes: list[RouteSpec] = Field(default_factory=list)
    errors: dict[Annotated[str, AfterValidator(lambda v: v)], ErrorSpec] = Field(default_factory=dict)
    records: dict[str, RecordsSpec] = Field(default_factory=dict)
    accounts: dict[str, AccountSpec] = Field(default_factory=dict)
    signing_keys: dict[str, SigningKeySpec] = Field(default_factory=dict)
    environments: dict[str, dict[str, Any]] = Field(default_factory=dict)
    deployment: DeploymentSpec = Field(default_factory=DeploymentSpec)


class Reference(NamedTuple):
    """A name that must exist: what sort of thing, which, and where in the stage it stands."""

    sort: str
    name: str
    path: Path


class StageOptions(Model):
    """What every stage has; each kind adds its own options."""

    id: Id
    kind: str
    enabled: bool = True
    refuse: Literal["answer", "raise"] | None = None
    only: list[RequestPattern] | None = None
    except_: list[RequestPattern] | None = None

    def references(self) -> Iterable[Reference]:
        """Names in the options that must exist elsewhere in the pipeline."""
        return ()

    def sets(self) -> Iterable[str]:
        """Context values that the stage may leave for those behind it."""
        return ()


def stage_lists(doc: Any) -> Iterable[tuple[list[Any], Path]]:
    """Every list of stages in a pipeline document, with its path."""
    if not isinstance(doc, dict):
        return
    pending: list[tuple[dict[str, Any], Path]] = [(doc, ())]
    while pending:
        node, path = pending.pop(0)
        if isinstance(node.get("stages"), list):
            yield node["stages"], (*path, "stages")
        for part in ("groups", "routes"):
            items = node.get(part)
            if isinstance(items, list):
                pending += [(item, (*path, part, at)) for at, item in enumerate(items) if isinstance(item, dict)]


def spell_out(doc: Any) -> None:
    """Write bare kinds as mappings and fill in ids left out, in place."""
    for stages, _ in stage_lists(doc):
        for at, entry in enumerate(stages):
            if isinstance(entry, str) and entry != "routes":
                if isinstance(stages, Seq) and at < len(stages.spots):
                    full: dict[str, Any] = Map(stages.spots[at])
                    full.spots = {"kind": (stages.spots[at],) * 2, "id": (stages.spots[at],) * 2}  # type: ignore[attr-defined]
                else:
                    full = {}
                full.update(id=entry, kind=entry)
                stages[at] = full
            elif isinstance(entry, dict) and "id" not in entry and isinstance(entry.get("kind"), str):
                entry["id"] = entry["kind"]
                if isinstance(entry, Map):
                    entry.spots["id"] = entry.spots["kind"]
