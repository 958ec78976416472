"""Routes and groups, and what they ask of the stages on their way."""

import re
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator
from pydantic.json_schema import SkipJsonSchema

from patient_usher.core.http.dates import MICROSECONDS
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.handler_specs import DeskSpec, HandlerSpec
from patient_usher.core.model.templates import AccessRule, Id, Template, parse_at, parse_prefix
from patient_usher.core.model.text_types import Duration, Model, Names, Or, Size, no_items, show, wrong


def _check_per(value: Json) -> str:
    if isinstance(value, str) and (value in ("identity", "no-query") or re.fullmatch(r"(query|header)\..+", value)):
        return value
    raise wrong(f"{show(value)} makes no copy of its own", "write query.NAME, header.NAME, identity or no-query")


class CacheRule(Model):
    """How a route's answers may be kept: at the server, at the client, and what makes a copy of its own."""

    sentences: ClassVar[dict[str, str]] = {
        "shared": "How long the cache stage keeps a copy for everybody.",
        "private": "How long the client may keep its own copy.",
        "per": "What makes a copy of its own: query.NAME, header.NAME, identity; no-query leaves the query out.",
        "same-for": "everyone: the answer is the same for all callers, so one copy serves them.",
    }

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

    def control(self, *, personal: bool) -> str:
        """Cache-Control as the two lifetimes ask for it, in whole seconds."""
        shared = self.shared // MICROSECONDS if self.shared is not None else None
        private = self.private // MICROSECONDS if self.private is not None else None
        if self.never:
            return "no-store"
        if personal or shared is None:
            return f"private, max-age={private or 0}"
        if private is None:
            return f"max-age=0, s-maxage={shared}"
        return f"max-age={private}" if private == shared else f"max-age={private}, s-maxage={shared}"


def _spell_out_cache(value: Json) -> object:
    if value == "never":
        return CacheRule.model_construct(never=True)
    if isinstance(value, str):
        return {"shared": value, "private": value}
    if isinstance(value, dict) and "never" in value:
        raise wrong("never stands alone", "write cache: never")
    return value


class InputSpec(Model):
    """JSON Schemas for what a request brings, and messages of the developer's own by pointer."""

    sentences: ClassVar[dict[str, str]] = {
        "path": "A JSON Schema for what the template's names stand for.",
        "query": "A JSON Schema for the query parameters.",
        "headers": "A JSON Schema for the header fields.",
        "json": "A JSON Schema for the JSON body.",
        "form": "A JSON Schema for the form.",
        "body": "Whether there must be one.",
        "messages": "Messages of your own, by JSON Pointer.",
    }

    path: JsonObject | None = None
    query: JsonObject | None = None
    headers: JsonObject | None = None
    json_: JsonObject | None = Field(default=None, alias="json")
    form: JsonObject | None = None
    body: Literal["required", "optional"] = "required"
    messages: dict[str, str] = Field(default_factory=dict)

    def schemas(self) -> dict[str, JsonObject]:
        """The schemas that are given, by the part of the request that they are for."""
        parts = {
            "path": self.path, "query": self.query, "headers": self.headers, "json": self.json_, "form": self.form,
        }  # fmt: skip
        return {name: schema for name, schema in parts.items() if schema is not None}


Cost = Annotated[int, Field(ge=1)]


class RouteSpec(Model):
    """A method and path template with its handler."""

    sentences: ClassVar[dict[str, str]] = {
        "id": "What results, expectations and overlays call the route.",
        "at": "METHOD /path; {name} takes one segment, {+rest} the whole tail.",
        "access": "Who may use it: everyone, signed-in, nobody, a role or a scope.",
        "stages": "What requests for this route meet, behind the group's stages.",
        "body-limit": "How large a body may be here; read-body reads this.",
        "cost": "How much of a quota a request takes, or of which limit's how much; rate-limit reads this.",
        "cache": "How long answers may be kept, and what makes a copy of its own; cache reads this.",
        "clears": "Routes whose copies go when this one succeeds; cache reads this.",
        "input": "JSON Schemas for what a request brings; validate reads this.",
        "handler": "The stand-in for the code behind the route.",
    }

    id: Id
    at: Annotated[Any, BeforeValidator(parse_at), WithJsonSchema({"type": "string", "pattern": "^[A-Za-z]+( /.*)?$"})]
    access: AccessRule | None = None
    stages: list[Json] = Field(default_factory=no_items)
    body_limit: Size | None = None
    cost: Cost | dict[str, Cost] | None = None
    cache: Annotated[CacheRule, BeforeValidator(_spell_out_cache), Or({"type": "string"})] | None = None
    clears: Names = Field(default_factory=no_items)
    input: InputSpec | None = None
    handler: HandlerSpec

    def cost_for(self, limit: str) -> int | None:
        """How much of this limit a request takes, where the route says so."""
        return self.cost.get(limit) if isinstance(self.cost, dict) else self.cost


class GroupSpec(Model):
    """Routes that share a prefix, access and stages."""

    sentences: ClassVar[dict[str, str]] = {
        "id": "What reports and overlays call the group.",
        "prefix": "The path in front of all its routes.",
        "access": "Who may use its routes, unless one says otherwise.",
        "stages": "What requests for its routes meet, after the server-wide stages.",
        "desk": "Routes for signing up, in and out, and for refreshing.",
        "groups": "Groups within this one.",
        "routes": "The group's routes.",
    }

    id: Id
    prefix: Annotated[Any, BeforeValidator(parse_prefix), WithJsonSchema({"type": "string"})] = Template("", ())
    access: AccessRule | None = None
    stages: list[Json] = Field(default_factory=no_items)
    desk: DeskSpec | None = None
    groups: list["GroupSpec"] = Field(default_factory=no_items)
    routes: list[RouteSpec] = Field(default_factory=no_items)
