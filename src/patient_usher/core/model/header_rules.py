"""Header fields as files write them: names that are tokens, values that can be sent (RFC 9110 5.1, 5.5)."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Annotated
from urllib.parse import quote

from pydantic import AfterValidator, WithJsonSchema

from patient_usher.core.http.fields import TOKEN
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.errors import Fault, Raised
from patient_usher.core.model.text_types import show, wrong
from patient_usher.core.model.values import FilledText

_UNSENDABLE = re.compile(r"[\x00-\x08\x0a-\x1f\x7f\ud800-\udfff]")
_FRAMING = frozenset({"transfer-encoding", "content-length"})
"""Fields that frame a message: the server's own, never a stage's or handler's (RFC 9112 6)."""


def unsendable(value: str) -> str:
    """What of a field value no message can carry, or nothing."""
    found = _UNSENDABLE.search(value)
    return f"the character {found[0].encode('unicode_escape').decode()}" if found else ""


def check_name(name: Json) -> str:
    """A field name. Raises ValueError in our own words."""
    if not isinstance(name, str) or not TOKEN.fullmatch(name):
        raise wrong(f"{show(name)} is no header field name", "write letters, digits and dashes (RFC 9110 5.1)")
    return name


def _check_value(name: str, value: str) -> None:
    if bad := unsendable(value):
        raise wrong(f"the field {name} holds {bad}, which no message can carry", "leave it out (RFC 9110 5.5)")


def _check_fields(fields: JsonObject, *, framing: bool) -> JsonObject:
    for name, values in fields.items():
        check_name(name)
        if not framing and name.lower() in _FRAMING:
            raise wrong(f"the server itself writes {name}", "leave it out (RFC 9112 6)")
        for value in values if isinstance(values, list) else [values]:
            _check_value(name, value)
    return fields


def check_sent(fields: JsonObject) -> JsonObject:
    """Header fields of a request: sent as they are written, as long as a message can carry them."""
    if "transfer-encoding" in (name.lower() for name in fields):
        raise wrong("a request's Content-Length is written already; it has no Transfer-Encoding", "leave it out")
    return _check_fields(fields, framing=True)


FieldValues = FilledText | list[FilledText]
AnswerFields = Annotated[dict[str, FieldValues], AfterValidator(lambda v: _check_fields(v, framing=False))]
"""Header fields of an answer, values one or several."""
PutFields = Annotated[dict[str, FilledText], AfterValidator(lambda v: _check_fields(v, framing=False))]
"""Header fields that a stage puts."""


def _check_names(names: Iterable[str]) -> object:
    for name in names:
        check_name(name)
    return names


FieldNames = AfterValidator(_check_names)
CookieName = Annotated[
    str,
    AfterValidator(lambda value: _cookie_name(value)),
    WithJsonSchema({"type": "string", "pattern": f"^{TOKEN.pattern}$"}),
]


def _cookie_name(value: str) -> str:
    if not TOKEN.fullmatch(value):
        raise wrong(f"{show(value)} is no cookie name", "write letters, digits and dashes (RFC 6265 4.1.1)")
    return value


def safe(name: str, value: str) -> str:
    """A field value made from data, as it may be sent: a Location percent-encoded. Raises Fault for any other."""
    if name.lower() == "location":
        return quote(value, safe="!#$%&'()*+,/:;=?@[]~-._")
    if bad := unsendable(value):
        raise Fault(Raised("IllegalField", f"the field {name} would hold {bad}, which no message can carry"))
    return value
