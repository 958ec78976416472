"""``when``: one matcher for decide stages, handler cases, tiers and always statements."""

from __future__ import annotations

import re
from collections.abc import Callable
from ipaddress import ip_address, ip_network
from math import isfinite
from typing import Annotated, Any, ClassVar, Literal, NamedTuple

from pydantic import BeforeValidator, Field, WithJsonSchema

from patient_usher.core.model.document import Json
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
    all_: list[When] | None = Field(default=None, alias="all")
    any_: list[When] | None = Field(default=None, alias="any")
    not_: When | None = Field(default=None, alias="not")

    def reads(self) -> set[str]:
        """What it goes by: its keys, and those of the matchers within it."""
        inner = [*(self.all_ or ()), *(self.any_ or ()), *([self.not_] if self.not_ is not None else ())]
        return (self.model_fields_set - {"all_", "any_", "not_"}).union(*(when.reads() for when in inner))


def _handler(value: Json) -> object:
    if value not in (None, "reached", "not-reached"):
        raise wrong(f"{show(value)} says nothing of the handler", "write reached or not-reached")
    return value


class Atom(NamedTuple):
    """One thing that a matcher asks of one fact.

    ``fact`` is what is read: ``method``, ``header.X``, ``body./a/b``; ``wanted`` what the file asks of it. ``read``
    takes the fact's value from an exchange, ``fits`` judges a value, ``test`` does both. ``choices``: of a list each by
    itself.
    """

    fact: str
    wanted: Json
    read: Callable[[Exchange], Any]
    fits: Callable[[Any], bool]
    test: Test
    choices: tuple[Atom, ...] = ()

    @property
    def words(self) -> str:
        """The fact and what is asked of it, as in ``header.X-Mode contains beta``."""
        return f"{self.fact} {_asked(self.wanted)}"


class Condition(NamedTuple):
    """A matcher taken apart: atoms, and conditions within it. ``how``: ``all``, ``any``, or ``not`` (of one part)."""

    how: Literal["all", "any", "not"]
    parts: tuple[Atom | Condition, ...]


def _asked(wanted: Json) -> str:
    if isinstance(wanted, dict):
        key, part = next(iter(wanted.items()))
        return f"{key} {_asked(part)}"
    return " or ".join(map(_asked, wanted)) if isinstance(wanted, list) else plain(wanted)


class _Fact(NamedTuple):
    """How a fact is read, and how a value of it is judged. ``quick``: a test without a detour, where there is one."""

    read: Callable[[Exchange], Any]
    judge: Callable[[Json], Callable[[Any], bool]]
    quick: Callable[[Json], Test | None] = lambda wanted: None


def _names(wanted: Json) -> frozenset[str]:
    return frozenset([wanted] if isinstance(wanted, str) else wanted)


def _one_of(wanted: Json) -> Callable[[Any], bool]:
    return _names(wanted).__contains__


def _any_of(wanted: Json) -> Callable[[Any], bool]:
    names = _names(wanted)
    return lambda held: held is not None and not names.isdisjoint(held)


def _paths(patterns: Json) -> Callable[[Any], bool]:
    tests = [path_pattern(pattern) for pattern in ([patterns] if isinstance(patterns, str) else patterns)]
    return lambda segments: any(test(segments) for test in tests)


def _quick_method(wanted: Json) -> Test:
    methods = _names(wanted)
    return lambda x: x.request.method in methods


def _header(name: str) -> _Fact:
    """One field of the request; the commonest forms without a detour."""
    lower = name.lower()

    def quick(wanted: Json) -> Test | None:
        if isinstance(wanted, dict) and isinstance(part := wanted.get("contains"), str):
            return lambda x: (value := x.request.fields.get(lower)) is not None and part in value
        if isinstance(wanted, str) and wanted not in ("missing", "present"):
            return lambda x: x.request.fields.get(lower) == wanted
        return None

    return _Fact(lambda x: x.request.fields.get(lower), text_test, quick)


_FACTS: dict[str, _Fact] = {
    "method": _Fact(lambda x: x.request.method, _one_of, _quick_method),
    "path": _Fact(lambda x: x.request.url.segments, _paths),
    "scheme": _Fact(lambda x: x.scheme, text_test),
    "host": _Fact(lambda x: x.host, text_test),
    "identity": _Fact(lambda x: x.identity.name if x.identity else None, text_test),
    "route": _Fact(lambda x: x.route.id if x.route else None, text_test),
    "address": _Fact(lambda x: x.address, address_test),
    "role": _Fact(lambda x: x.identity.roles if x.identity else None, _any_of),
    "scope": _Fact(lambda x: x.identity.scopes if x.identity else None, _any_of),
    "environment": _Fact(lambda x: x.environment, _any_of),
    "handler": _Fact(lambda x: "reached" if x.handler_reached else "not-reached", _one_of),
    "status": _Fact(lambda x: x.answer.status if x.answer else None, status_test),
}
"""Facts with a key of their own."""

_NAMED_FACTS: dict[str, Callable[[str], _Fact]] = {
    "header": _header,
    "query": lambda name: _Fact(lambda x: x.request.url.params.get(name), text_test),
    "cookie": lambda name: _Fact(lambda x: None if x.cookies is UNREAD else x.cookies.get(name), text_test),
    "context": lambda name: _Fact(lambda x: x.context.get(name), text_test),
    "body": lambda name: _Fact(lambda x: None if x.body is UNREAD else at_path(x.body, name), text_test),
}
"""Facts that have names of the file's."""

_LOOSE = ("scheme", "host", "identity", "route")
"""Keys whose null, where it is written, asks for the text null."""


def condition(when: When) -> Condition:
    """The matcher taken apart, in the order in which its parts are tried."""
    parts: list[Atom | Condition] = []
    for key, fact in _FACTS.items():
        wanted = getattr(when, key)
        if wanted is not None or (key in _LOOSE and key in when.model_fields_set):
            parts.append(_atom(key, wanted, fact))
    for key, named in _NAMED_FACTS.items():
        parts += [_atom(f"{key}.{name}", wanted, named(name)) for name, wanted in getattr(when, key).items()]
    if when.all_ is not None:
        parts.append(Condition("all", tuple(map(condition, when.all_))))
    if when.any_ is not None:
        parts.append(Condition("any", tuple(map(condition, when.any_))))
    if when.not_ is not None:
        parts.append(Condition("not", (condition(when.not_),)))
    return Condition("all", tuple(parts))


def _atom(name: str, wanted: Json, fact: _Fact) -> Atom:
    listed = wanted if isinstance(wanted, list) and len(wanted) > 1 else ()
    only = wanted[0] if isinstance(wanted, list) and len(wanted) == 1 else wanted
    read, fits = fact.read, fact.judge(wanted)
    test = fact.quick(wanted) or (lambda x: fits(read(x)))
    return Atom(name, only, read, fits, test, tuple(_atom(name, one, fact) for one in listed))


def compile_when(when: When | None) -> Test | None:
    """The matcher as one function; None where nothing is asked, so everything fits."""
    return _compiled(condition(when)) if when is not None else None


def _compiled(part: Atom | Condition) -> Test:
    if isinstance(part, Atom):
        return part.test
    tests = [_compiled(inner) for inner in part.parts]
    if part.how == "not":
        (inner,) = tests
        return lambda x: not inner(x)
    if len(tests) == 1:
        return tests[0]
    if part.how == "any":
        return lambda x: any(test(x) for test in tests)
    return lambda x: all(test(x) for test in tests)
