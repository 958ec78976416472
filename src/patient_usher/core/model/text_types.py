"""The small types that files write as text: durations, sizes, names, statuses."""

from __future__ import annotations

import re
from collections.abc import Iterable
from fractions import Fraction
from typing import Annotated, Any, ClassVar

from pydantic import BaseModel, BeforeValidator, ConfigDict, GetJsonSchemaHandler, WithJsonSchema
from pydantic_core import CoreSchema, PydanticCustomError

from patient_usher.core.http.fields import TOKEN
from patient_usher.core.model.document import Json, JsonObject

UNITS = {"us": 1, "ms": 1_000, "s": 1_000_000, "m": 60_000_000, "h": 3_600_000_000, "d": 86_400_000_000}
MAX_TIME = 36_525 * UNITS["d"]
_DURATION = re.compile(r"(\d{1,18}(?:\.\d{1,18})?)(us|ms|s|m|h|d)")
_DURATIONS = re.compile(f"(?:{_DURATION.pattern})+")
_SIZE = re.compile(r"(\d{1,12})(KiB|MiB|GiB)?")
SIZES = {"": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30}
DURATION_PATTERN = r"^(\d+(\.\d+)?(us|ms|s|m|h|d))+$"
SIGNED_PATTERN = DURATION_PATTERN.replace("^", "^-?")
SIZE_PATTERN = r"^\d+(KiB|MiB|GiB)?$"
"""For JSON Schemas, which read no further than the form."""
METHOD = TOKEN
"""A method is one (RFC 9110 9.1)."""
METHODS = frozenset({"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "TRACE", "CONNECT"})


def method_name(written: str) -> str:
    """A method as it is compared: the standard's in capitals, however a file writes them; others have case (9.1)."""
    return upper if (upper := written.upper()) in METHODS else written


class Model(BaseModel):
    """A part of a file: kebab-case keys, none unknown, no silent conversions.

    ``sentences`` say what each key is for: editors show them beside it.
    """

    sentences: ClassVar[dict[str, str]] = {}

    model_config = ConfigDict(
        extra="forbid",
        frozen=True,
        strict=True,
        arbitrary_types_allowed=True,
        defer_build=True,
        alias_generator=lambda name: name.rstrip("_").replace("_", "-"),
    )

    @classmethod
    def __get_pydantic_json_schema__(cls, core_schema: CoreSchema, handler: GetJsonSchemaHandler) -> JsonObject:
        """The schema, with a sentence on every key."""
        schema: JsonObject = handler(core_schema)
        inner = handler.resolve_ref_schema(schema)
        known = {key: text for base in reversed(cls.__mro__) for key, text in getattr(base, "sentences", {}).items()}
        for key, node in inner.get("properties", {}).items():
            if key in known:
                inner["properties"][key] = {**node, "description": known[key]}
        return schema


class BuiltModel(Model, defer_build=False):
    """A part of which one is a default: schemas write it out, for which older releases of pydantic need it built."""


def no_items() -> list[Any]:
    """The default of a list; of ``list`` itself pydantic would parse the signature, for every field at every start."""
    return []


def wrong(what: str, mend: str = "") -> PydanticCustomError:
    """A validation error in our own words; braces in the text stay as they are."""
    return PydanticCustomError("usher", "{what}{sep}{mend}", {"what": what, "sep": "; " if mend else "", "mend": mend})


def parse_duration(value: Json) -> int:
    """``250ms 5s 15m 2h 30d``, and sums such as ``2m30s``, as whole microseconds."""
    if not isinstance(value, str) or len(value) > 200 or not _DURATIONS.fullmatch(value):
        if value == 0 and value is not False:
            return 0
        raise wrong(f"{show(value)} is no duration", "write a number and us, ms, s, m, h or d, as in 250ms or 15m")
    exact = sum((Fraction(number) * UNITS[unit] for number, unit in _DURATION.findall(value)), Fraction(0))
    if exact.denominator != 1:
        raise wrong(f"{show(value)} is finer than a microsecond", "write 1us or more")
    micros = int(exact)
    if micros > MAX_TIME:
        raise wrong(f"{show(value)} is more than a hundred years", "write a shorter time")
    return micros


def parse_positive_duration(value: Json) -> int:
    """A duration above zero, in microseconds."""
    micros = parse_duration(value)
    if micros <= 0:
        raise wrong("this must be longer than nothing", "write 1s, say")
    return micros


def parse_size(value: Json) -> int:
    """``512 2KiB 5MiB`` as octets."""
    if isinstance(value, int) and not isinstance(value, bool) and 0 <= value < 1 << 60:
        return value
    match = _SIZE.fullmatch(value) if isinstance(value, str) else None
    if match is None:
        raise wrong(f"{show(value)} is no size", "write octets, or a number with KiB, MiB or GiB, as in 512 or 2KiB")
    return int(match.group(1)) * SIZES[match.group(2) or ""]


def show(value: Json) -> str:
    """A value as an error message quotes it: short, on one line."""
    text = (
        {None: "nothing", True: "true", False: "false"}.get(value)
        if value is None or value is True or value is False
        else None
    )
    if text is None:
        if isinstance(value, dict):
            return "a mapping"
        if isinstance(value, list):
            return "a list"
        text = f"'{value[:100]}'" if isinstance(value, str) else _number(value)
    text = " ".join(text[:200].split())
    return text if len(text) <= 60 else text[:57] + "..."


def _number(value: Json) -> str:
    return "a number of very many digits" if isinstance(value, int) and abs(value) >= 10**100 else str(value)


Duration = Annotated[
    int,
    BeforeValidator(parse_duration),
    WithJsonSchema({"type": "string", "pattern": DURATION_PATTERN, "examples": ["250ms", "15m"]}),
]
SignedDuration = Annotated[
    int,
    BeforeValidator(
        lambda value: (
            -parse_duration(value[1:]) if isinstance(value, str) and value.startswith("-") else parse_duration(value)
        )
    ),
    WithJsonSchema({"type": "string", "pattern": SIGNED_PATTERN, "examples": ["15m", "-5m"]}),
]
PositiveDuration = Annotated[
    int,
    BeforeValidator(parse_positive_duration),
    WithJsonSchema({"type": "string", "pattern": DURATION_PATTERN, "examples": ["5s", "1h"]}),
]
Size = Annotated[
    int,
    BeforeValidator(parse_size),
    WithJsonSchema({"anyOf": [{"type": "integer", "minimum": 0}, {"type": "string", "pattern": SIZE_PATTERN}]}),
]


class Or:
    """In a JSON Schema: these short forms stand beside the whole one."""

    def __init__(self, *forms: JsonObject) -> None:
        self.forms = forms

    def __get_pydantic_json_schema__(self, core_schema: Any, handler: Any) -> JsonObject:
        return {"anyOf": [*self.forms, handler(core_schema)]}


def one_or_more(value: Json) -> object:
    """A single text stands for a list of one."""
    return [value] if isinstance(value, str) else value


Names = Annotated[
    list[str],
    BeforeValidator(one_or_more),
    WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]}),
]


def parse_status(value: Json) -> int:
    """A final status code (RFC 9110 15)."""
    if isinstance(value, int) and not isinstance(value, bool) and 200 <= value <= 599:
        return value
    raise wrong(f"{show(value)} is no final status", "write a number from 200 to 599")


Status = Annotated[
    int, BeforeValidator(parse_status), WithJsonSchema({"type": "integer", "minimum": 200, "maximum": 599})
]


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
