"""``when``: one matcher for decide stages, handler cases, tiers and always statements."""

import re
from collections.abc import Callable
from ipaddress import ip_address, ip_network
from math import isfinite
from typing import Annotated, Any, ClassVar

from pydantic import BeforeValidator, Field, WithJsonSchema

from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.exchange import UNREAD, Exchange
from patient_usher.core.model.patterns import path_pattern
from patient_usher.core.model.regex import searcher
from patient_usher.core.model.text_types import METHOD, Model, Names, method_name, show, wrong
from patient_usher.core.model.values import at_path, plain

Test = Callable[[Exchange], bool]
TextTest = Callable[[Any], bool]

_TEXT_KEYS = ("pattern", "contains", "not")


def text_test(spec: Json) -> TextTest:
    """A test for one value, from exact text, ``missing``, ``present``, a form or a list of these.

    Raises ValueError for anything else. A value that is a list (a repeated parameter) fits where
    one of its items does.
    """
    if isinstance(spec, list):
        if not spec:
            raise ValueError("an empty list fits nothing")
        tests = [text_test(item) for item in spec]
        return lambda value: any(test(value) for test in tests)
    if isinstance(spec, dict):
        if len(spec) != 1 or next(iter(spec)) not in _TEXT_KEYS:
            forms = "exact text, missing, present, {pattern: ...}, {contains: ...} or {not: ...}"
            raise ValueError(f"a text matcher is {forms}")
        key, part = next(iter(spec.items()))
        if key == "not":
            inner = text_test(part)
            return lambda value: not inner(value)
        if not isinstance(part, str):
            raise ValueError(f"{key} takes text, not {show(part)}")
        if key == "contains":
            return _each(lambda text: part in text)
        return _each(searcher(part))
    if spec == "missing":
        return lambda value: value is None
    if spec == "present":
        return lambda value: value is not None
    if isinstance(spec, float) and not isfinite(spec):
        raise ValueError(f"{show(spec)} is no number that JSON knows; write text")
    if spec is None or isinstance(spec, str | int | float):
        exact = plain(spec)
        return _each(lambda text: text == exact)
    raise ValueError(f"{show(spec)} is no text matcher")


def _each(test: Callable[[str], bool]) -> TextTest:
    def fits(value: Json) -> bool:
        if value.__class__ is str:
            return test(value)
        if value is None:
            return False
        if isinstance(value, list | tuple):
            return any(test(plain(item)) for item in value)
        return test(plain(value))

    return fits


def _check_text(value: Json) -> object:
    try:
        text_test(value)
    except ValueError as error:
        raise wrong(str(error)) from None
    return value


TextMatch = Annotated[
    object,
    BeforeValidator(_check_text),
    WithJsonSchema(
        {
            "description": "exact text, missing, present, {pattern}, {contains}, {not}, or a list of these",
            "anyOf": [
                {"type": ["string", "number", "boolean"]},
                {"type": "array", "items": {}},
                *(
                    {"type": "object", "required": [key], "additionalProperties": False, "properties": {key: {}}}
                    for key in _TEXT_KEYS
                ),
            ],
        }
    ),
]


def _lowered(spec: Json) -> object:
    """A matcher of text that has no case: exact texts in small letters."""
    if isinstance(spec, list):
        return [_lowered(item) for item in spec]
    if isinstance(spec, dict):
        return {key: _lowered(part) if key in ("not", "contains") else part for key, part in spec.items()}
    return spec.lower() if isinstance(spec, str) else spec


Lowered = Annotated[TextMatch, BeforeValidator(_lowered)]
"""A text matcher for schemes and hosts, which have no case (RFC 9110 4.2.3)."""


def _address_form(spec: Json) -> object:
    """A matcher of addresses: exact ones in the one form that they have here (RFC 5952), networks as they are."""
    if isinstance(spec, list):
        return [_address_form(item) for item in spec]
    if isinstance(spec, dict) and set(spec) == {"not"}:
        return {"not": _address_form(spec["not"])}
    if not isinstance(spec, str) or spec in ("missing", "present"):
        return spec
    try:
        return str(ip_network(spec, strict=False)) if "/" in spec else str(ip_address(spec))
    except ValueError:
        raise wrong(
            f"{show(spec)} is not an address", "write an address, as in 192.0.2.7, or a network, as in 192.0.2.0/24"
        ) from None


AddressMatch = Annotated[TextMatch, BeforeValidator(_address_form)]
"""A matcher for addresses: exact ones, networks (``192.0.2.0/24``), ``{pattern}``, ``{contains}``, ``{not}``."""


def address_test(spec: Json) -> TextTest:
    """A test for an address, from a matcher of addresses."""
    if isinstance(spec, list):
        tests = [address_test(item) for item in spec]
        return lambda value: any(test(value) for test in tests)
    if isinstance(spec, dict) and "not" in spec:
        inner = address_test(spec["not"])
        return lambda value: not inner(value)
    if not isinstance(spec, str) or "/" not in spec:
        return text_test(spec)
    network = ip_network(spec)
    known: dict[str, bool] = {}

    def within(value: Any) -> bool:
        if (found := known.get(value)) is None:
            if len(known) > 4096:
                known.clear()
            try:
                found = known[value] = ip_address(value) in network
            except ValueError:
                found = False
        return found

    return within


def status_test(spec: Json) -> Callable[[Any], bool]:
    """A test for a status from a number, a class such as ``4xx``, a list of these, or ``{not: …}`` of any of these."""
    if isinstance(spec, dict) and spec.keys() == {"not"}:
        other = status_test(spec["not"])
        return lambda status: status is not None and not other(status)
    if isinstance(spec, list):
        tests = [status_test(item) for item in spec]
        return lambda status: any(test(status) for test in tests)
    if isinstance(spec, str) and re.fullmatch("[1-5]xx", spec):
        leading = int(spec[0])
        return lambda status: status is not None and status // 100 == leading
    if isinstance(spec, int) and not isinstance(spec, bool) and 100 <= spec <= 599:
        return lambda status: bool(status == spec)
    raise ValueError(f"{show(spec)} is no status; write a number such as 404, a class such as 4xx, or a list of these")


def _check_status(value: Json) -> object:
    try:
        status_test(value)
    except ValueError as error:
        raise wrong(str(error)) from None
    return value


StatusMatch = Annotated[
    object,
    BeforeValidator(_check_status),
    WithJsonSchema(
        {
            "anyOf": [
                {"type": "integer"},
                {"type": "string", "pattern": "^[1-5]xx$"},
                {"type": "array", "items": {}},
                {"type": "object", "required": ["not"], "properties": {"not": {}}, "additionalProperties": False},
            ]
        }
    ),
]


def _check_methods(value: Json) -> object:
    names = [value] if isinstance(value, str) else value
    if not isinstance(names, list) or not names or not all(isinstance(n, str) and METHOD.fullmatch(n) for n in names):
        raise wrong(f"{show(value)} is no method", "write GET, say, or a list of methods")
    return [method_name(name) for name in names]


Methods = Annotated[list[str], BeforeValidator(_check_methods), WithJsonSchema({"type": ["string", "array"]})]


def _check_paths(value: Json) -> object:
    patterns = [value] if isinstance(value, str) else value
    if not isinstance(patterns, list) or not all(isinstance(pattern, str) for pattern in patterns):
        raise wrong(f"{show(value)} is no path pattern", "write a path, * for one segment and ** for any number")
    try:
        for pattern in patterns:
            path_pattern(pattern)
    except ValueError as error:
        raise wrong(str(error)) from None
    return patterns


Paths = Annotated[list[str], BeforeValidator(_check_paths), WithJsonSchema({"type": ["string", "array"]})]


class When(Model):
    """Every key that is given must hold."""

    sentences: ClassVar[dict[str, str]] = {
        "method": "One of these methods.",
        "path": "One of these paths: * for one segment, ** for any number.",
        "scheme": "http or https, as the service sees it.",
        "host": "The host, without its port.",
        "header": "Header fields by name.",
        "query": "Query parameters by name.",
        "cookie": "Cookies by name.",
        "address": "The caller's address or network, as the service believes it.",
        "identity": "The caller's name; missing where nobody is known.",
        "role": "The caller has one of these roles.",
        "scope": "The caller has one of these scopes.",
        "context": "Values that stages have left, by name.",
        "body": "Members of the body by name, where a stage has read it.",
        "environment": "One of these environments is laid on.",
        "route": "The route's id.",
        "handler": "Whether the handler was reached.",
        "status": "The answer's status: a number, 4xx, or a list.",
        "all": "All of these hold.",
        "any": "One of these holds.",
        "not": "This doesn't hold.",
    }

    method: Methods | None = None
    path: Paths | None = None
    scheme: Lowered = None
    host: Lowered = None
    header: dict[str, TextMatch] = Field(default_factory=dict)
    query: dict[str, TextMatch] = Field(default_factory=dict)
    cookie: dict[str, TextMatch] = Field(default_factory=dict)
    address: AddressMatch = None
    identity: TextMatch = None
    role: Names | None = None
    scope: Names | None = None
    context: dict[str, TextMatch] = Field(default_factory=dict)
    body: dict[str, TextMatch] = Field(default_factory=dict)
    environment: Names | None = None
    route: TextMatch = None
    handler: Annotated[
        str | None,
        BeforeValidator(lambda v: _handler(v)),
        WithJsonSchema({"enum": ["reached", "not-reached"]}),
    ] = None
    status: StatusMatch | None = None
    all_: list["When"] | None = Field(default=None, alias="all")
    any_: list["When"] | None = Field(default=None, alias="any")
    not_: "When | None" = Field(default=None, alias="not")

    def reads(self) -> set[str]:
        """What it goes by: its keys, and those of the matchers within it."""
        inner = [*(self.all_ or ()), *(self.any_ or ()), *([self.not_] if self.not_ is not None else ())]
        return (self.model_fields_set - {"all_", "any_", "not_"}).union(*(when.reads() for when in inner))


def _handler(value: Json) -> object:
    if value not in (None, "reached", "not-reached"):
        raise wrong(f"{show(value)} says nothing of the handler", "write reached or not-reached")
    return value


def _one(spec: Json, read: Callable[[Exchange], object]) -> Test:
    test = text_test(spec)
    return lambda x: test(read(x))


def _header_value(name: str) -> Callable[[Exchange], object]:
    lower = name.lower()
    return lambda x: x.request.fields.get(lower)


def _header_test(name: str, spec: Json) -> Test:
    """A test for one field of the request; the commonest forms without a detour."""
    lower = name.lower()
    if isinstance(spec, dict) and isinstance(part := spec.get("contains"), str):
        return lambda x: (value := x.request.fields.get(lower)) is not None and part in value
    if isinstance(spec, str) and spec not in ("missing", "present"):
        return lambda x: x.request.fields.get(lower) == spec
    return _one(spec, _header_value(name))


def _paths(patterns: list[str]) -> Test:
    tests = [path_pattern(pattern) for pattern in patterns]
    return lambda x: any(test(x.request.url.segments) for test in tests)


def compile_when(when: When | None) -> Test | None:
    """The matcher as one function; None where nothing is asked, so everything fits."""
    if when is None:
        return None
    tests: list[Test] = []
    add = tests.append
    given = when.model_fields_set
    if when.method is not None:
        methods = frozenset(when.method)
        add(lambda x: x.request.method in methods)
    if when.path is not None:
        add(_paths(when.path))
    simple: dict[str, Callable[[Exchange], object]] = {
        "scheme": lambda x: x.scheme,
        "host": lambda x: x.host,
        "identity": lambda x: x.identity.name if x.identity else None,
        "route": lambda x: x.route.id if x.route else None,
    }
    for key, read in simple.items():
        if key in given:
            add(_one(getattr(when, key), read))
    if when.address is not None:
        from_there = address_test(when.address)
        add(lambda x: from_there(x.address))
    for name, spec in when.header.items():
        add(_header_test(name, spec))
    readers: list[tuple[JsonObject, Callable[[str], Callable[[Exchange], object]]]] = [
        (when.query, lambda name: lambda x: x.request.url.params.get(name)),
        (when.cookie, lambda name: lambda x: None if x.cookies is UNREAD else x.cookies.get(name)),
        (when.context, lambda name: lambda x: x.context.get(name)),
        (when.body, lambda name: lambda x: None if x.body is UNREAD else at_path(x.body, name)),
    ]
    for specs, reader in readers:
        for name, spec in specs.items():
            add(_one(spec, reader(name)))
    if when.role is not None:
        roles = frozenset(when.role)
        add(lambda x: x.identity is not None and not roles.isdisjoint(x.identity.roles))
    if when.scope is not None:
        scopes = frozenset(when.scope)
        add(lambda x: x.identity is not None and not scopes.isdisjoint(x.identity.scopes))
    if when.environment is not None:
        environments = frozenset(when.environment)
        add(lambda x: not environments.isdisjoint(x.environment))
    if when.handler is not None:
        reached = when.handler == "reached"
        add(lambda x: x.handler_reached is reached)
    if when.status is not None:
        fits = status_test(when.status)
        add(lambda x: fits(x.answer.status if x.answer else None))
    if when.all_ is not None:
        add(_combined(when.all_, all))
    if when.any_ is not None:
        add(_combined(when.any_, any))
    if when.not_ is not None:
        inner = compile_when(when.not_)
        add(lambda x: inner is not None and not inner(x))
    if len(tests) == 1:
        return tests[0]
    return lambda x: all(test(x) for test in tests)


def _combined(parts: list[When], how: Callable[[Any], bool]) -> Test:
    tests = [compile_when(part) for part in parts]
    return lambda x: how(test is None or test(x) for test in tests)
