"""Error types: the refusals that the standards name, a pipeline's own, and one raised error."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

from msgspec import Struct

from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer, phrase, text_answer
from patient_usher.core.model.document import JsonMapping, did_you_mean
from patient_usher.core.model.enumerations import WHY

# Type -> (status, public message). RFC 9110 15.5 and 15.6; 429 is RFC 6585 4.
BUILT_IN: dict[str, tuple[int, str]] = {
    "Unauthenticated": (401, "Sign in first"),
    "Forbidden": (403, "You may not do this"),
    "NotFound": (404, "Nothing is here"),
    "MethodNotAllowed": (405, "This can't be done here"),
    "NotAcceptable": (406, "No form of this that you accept"),
    "Conflict": (409, "This conflicts with what is here"),
    "PreconditionFailed": (412, "This has changed meanwhile"),
    "TooLarge": (413, "The body is too large"),
    "UnsupportedMedia": (415, "This media type isn't understood here"),
    "MalformedBody": (400, "The body can't be read"),
    "InvalidInput": (422, "The input isn't valid"),
    "TooManyRequests": (429, "Too many requests"),
    "Unavailable": (503, "Out of service for a while"),
    "Timeout": (504, "This took too long"),
}


BY_THE_ENGINE = ("MissingValue", "IllegalField", "HandlerFailed", "NoCaseFits")
"""Types that nothing declares and that are raised where a pipeline asks for what can't be done."""

_FORMER_PHRASES = {"unprocessableentity": 422, "payloadtoolarge": 413, "requestentitytoolarge": 413}
"""Reason phrases that RFC 9110 has renamed, squeezed."""


def type_hint(name: str, known: Iterable[str]) -> str:
    """Which error type was meant: that of a status by whose phrase it is called, or the one spelt nearly so."""
    squeezed = re.sub(r"(Error|Exception|[^A-Za-z])+", "", name).lower()
    by_phrase = {phrase(status).replace(" ", "").lower(): status for status, _ in BUILT_IN.values()} | _FORMER_PHRASES
    if (status := by_phrase.get(squeezed)) is not None:
        return f"did you mean '{next(type_ for type_, (code, _) in BUILT_IN.items() if code == status)}'?"
    return did_you_mean(name, known)


ANY = "any"
"""In what an error handler answers: every type that no other entry is for."""


class Raised(Struct, eq=False):
    """An error on its way: public part, private part, and where it came from.

    ``status`` and ``public`` are what the type or its raiser declares for the outside; None where
    nothing is declared, so an error handler falls back on ``otherwise``. ``fields`` are header
    fields that the standard demands of the answer, ``invalid`` the field errors as
    ``{"pointer", "message"}``. A refusal (``why`` is set) comes from a stage or the router.
    """

    type: str
    message: str = ""
    status: int | None = None
    public: str | None = None
    fields: Fields | None = None
    invalid: tuple[dict[str, str], ...] = ()
    why: str | None = None
    where: str = ""
    cause: str = ""
    stack: str = ""
    raised_by: str = ""
    by: str | None = None
    """The stage that refuses, where another raises in its name."""
    caught_by: str | None = None
    because: str | None = None
    """Why nobody caught it."""

    def plainly(self) -> Answer:
        """The refusal as an answer at once: status, demanded fields, public message as text."""
        answer = text_answer(self.status or 500, self.public or "")
        if self.fields is not None:
            answer.fields.update(self.fields)
        return answer


def refusal(
    type_: str,
    why: str,
    message: str = "",
    *,
    public: str | None = None,
    status: int | None = None,
    fields: Fields | None = None,
    invalid: tuple[dict[str, str], ...] = (),
) -> Raised:
    """A refusal of a built-in type, with the status and message that the type declares."""
    own_status, own_public = BUILT_IN[type_]
    return Raised(type_, message or WHY[why], status or own_status, public or own_public, fields, invalid, why)


class Fault(Exception):
    """Stops a stage or handler half-way with an error to raise in its name."""

    def __init__(self, error: Raised) -> None:
        self.error = error
        super().__init__(error.message)


class MissingValue(LookupError):
    """A placeholder or matcher reads a value that nobody has set."""


class ErrorTypes:
    """The pipeline's catalogue: which type is a kind of which, and what each shows outside."""

    def __init__(self, declared: JsonMapping) -> None:
        """``declared`` maps a type to an object with ``is_a``, ``status`` and ``message``."""
        self._declared = declared
        self._lineage: dict[str, tuple[str, ...]] = {}

    def __contains__(self, type_: str) -> bool:
        return type_ in self._declared or type_ in BUILT_IN

    def names(self) -> list[str]:
        """Every type that is known by name."""
        return [*self._declared, *BUILT_IN]

    def lineage(self, type_: str) -> tuple[str, ...]:
        """The type itself, then its ``is-a`` ancestors, nearest first."""
        known = self._lineage.get(type_)
        if known is None:
            chain = [type_]
            while (declared := self._declared.get(chain[-1])) and declared.is_a and declared.is_a not in chain:
                chain.append(declared.is_a)
            known = self._lineage[type_] = tuple(chain)
        return known

    def outside(self, type_: str) -> tuple[int | None, str | None]:
        """Status and public message, each from the nearest ancestor that declares one."""
        status: int | None = None
        public: str | None = None
        for name in self.lineage(type_):
            declared = self._declared.get(name)
            built_in = BUILT_IN.get(name)
            if declared is not None:
                status = status or declared.status
                public = public or declared.message
            elif built_in is not None:
                status = status or built_in[0]
                public = public or built_in[1]
        return status, public

    def raised(self, type_: str, message: str = "", **parts: Any) -> Raised:
        """An error of this type, with what the catalogue shows of it outside."""
        status, public = self.outside(type_)
        return Raised(type_, message, status=status, public=public, **parts)
