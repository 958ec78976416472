"""Where routes stand and who may use them: ids, path templates, prefixes, access."""

import re
from collections.abc import Collection
from typing import Annotated, Any, NamedTuple
from urllib.parse import unquote

from pydantic import BeforeValidator, WithJsonSchema

from patient_usher.core.model.document import Json, did_you_mean
from patient_usher.core.model.enumerations import RESERVED
from patient_usher.core.model.text_types import METHOD, METHODS, method_name, one_or_more, show, wrong

NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9_.-]*")


def check_id(value: Json) -> str:
    """An id as files may have it. Raises ValueError in our own words."""
    if not isinstance(value, str) or not NAME.fullmatch(value):
        raise wrong(f"{show(value)} is no id", "write letters, digits, dots, dashes and underscores")
    if value in RESERVED:
        raise wrong(f"the id '{value}' is taken", f"results use {', '.join(RESERVED)} for themselves")
    return value


Id = Annotated[str, BeforeValidator(check_id), WithJsonSchema({"type": "string", "pattern": f"^{NAME.pattern}$"})]


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
            segments.append(("literal", unquote(segment)))
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


def parse_at(value: Json) -> At:
    if isinstance(value, At):
        return value
    method, space, path = value.partition(" ") if isinstance(value, str) else ("", "", "")
    if isinstance(value, str) and method_name(value) in METHODS:
        return At(method_name(value), Template("", ()))  # the group's own root
    if not space or not METHOD.fullmatch(method):
        raise wrong(f"{show(value)} says no method and path", "write METHOD /path, as in GET /tides/{station}")
    try:
        return At(method_name(method), parse_template(path.strip()))
    except ValueError as error:
        raise wrong(str(error)) from None


def parse_prefix(value: Json) -> Template:
    if isinstance(value, Template):
        return value
    if not isinstance(value, str):
        raise wrong(f"{show(value)} is no prefix", "write a path, as in /v1")
    try:
        return parse_template(value, prefix=True)
    except ValueError as error:
        raise wrong(str(error)) from None


GUARDED = ("signed-in", "role", "scope", "nobody")
"""The sorts of access that something must hold callers to."""


class Access(NamedTuple):
    """Who may use a route. ``who``: everyone, signed-in, nobody, role or scope (any of ``names``)."""

    who: str
    names: tuple[str, ...] = ()

    def admits(self, roles: Collection[str] | None, scopes: Collection[str]) -> bool:
        """Whether a caller with these roles and scopes may use the route; ``roles`` is None for an unknown caller."""
        if self.who in ("everyone", "nobody") or roles is None:
            return self.who == "everyone"
        held = roles if self.who == "role" else scopes
        return self.who == "signed-in" or any(name in self.names for name in held)

    def __str__(self) -> str:
        return f"{self.who} {' or '.join(self.names)}" if self.names else self.who


def _parse_access(value: Json) -> Access:
    if isinstance(value, Access):
        return value
    if value in ("everyone", "signed-in", "nobody"):
        return Access(value)
    if isinstance(value, dict) and len(value) == 1 and next(iter(value)) in ("role", "scope"):
        who, names = next(iter(value.items()))
        names = one_or_more(names)
        if isinstance(names, list) and names and all(isinstance(name, str) for name in names):
            return Access(who, tuple(names))
    if isinstance(value, dict) and len(value) == 1 and (key := str(next(iter(value)))) not in ("role", "scope"):
        raise wrong(f"access knows no '{key}'", did_you_mean(key, ("role", "scope")))
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
