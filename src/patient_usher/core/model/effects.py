"""What a stage may do with an exchange, and where.

The first three methods of a stage (``way_in``, ``way_out``, ``way_error``) return an effect:

- ``None``: pass the request, the answer or the error on;
- an ``Answer``: answer, so that nothing behind this stage runs;
- a ``Refused``: the same, as a refusal;
- a ``Raised``: raise it (a refusal, where it carries a ``why``);
- ``NOTHING``: neither pass on nor answer, so that the caller waits for ever;
- ``AnswerAndPass``: answer, and yet let what is behind run;
- a ``Hold``: wait for another exchange;
- a ``Deadline``: pass on, with a time in which what is behind must be done;
- ``Wait``: go on after a time, with what its function then returns.

``LEGAL`` says which of them count on which way; nothing else does.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from patient_usher.core.http.messages import Answer, Request
from patient_usher.core.model.document import Json
from patient_usher.core.model.errors import Raised
from patient_usher.core.model.exchange import Exchange


class Nothing:
    """The slip in which a stage neither passes on nor answers."""


NOTHING = Nothing()


class AnswerAndPass:
    """A stage answers and yet passes the request on: a slip, unless it ``background_refresh`` what it keeps.

    Then what is behind runs for the stage itself, with a ``request`` of its own, and its ``way_out`` sees
    what comes of it.
    """

    __slots__ = ("answer", "background_refresh", "request")

    def __init__(self, answer: Answer, *, background_refresh: bool = False, request: Request | None = None) -> None:
        self.answer = answer
        self.background_refresh = background_refresh
        self.request = request


class Hold:
    """Wait for another exchange: the engine adds to ``waiting`` a function that lets this one go on."""

    __slots__ = ("then", "waiting")

    def __init__(self, waiting: list[Callable[[], None]], then: Callable[[Exchange], Effect]) -> None:
        self.waiting = waiting
        self.then = then


class Refused:
    """A refusal with an answer of the stage's own, whatever ``refuse`` says."""

    __slots__ = ("answer", "by", "why")

    def __init__(self, answer: Answer, why: str, by: str | None = None) -> None:
        self.answer = answer
        self.why = why
        self.by = by


class Wait:
    """Go on after ``time`` microseconds, with the effect that ``then`` returns."""

    __slots__ = ("then", "time")

    def __init__(self, time: int, then: Callable[[Exchange], Effect]) -> None:
        self.time = time
        self.then = then


class Deadline:
    """Pass on, but raise Timeout here if what is behind takes more than ``after`` microseconds.

    ``runs_on``: whether the work behind then goes on for nobody, or is cancelled.
    """

    __slots__ = ("after", "runs_on")

    def __init__(self, after: int, runs_on: bool) -> None:
        self.after = after
        self.runs_on = runs_on


Effect = None | Answer | Refused | Raised | Nothing | AnswerAndPass | Wait | Hold | Deadline

Precondition = Callable[[bytes | None], Effect]
"""What a conditional stage asks of a handler that writes: content there now, None for none."""

_ANYWHERE = frozenset({type(None), Answer, Refused, Raised, Nothing})
LEGAL: dict[str, frozenset[type]] = {
    "in": _ANYWHERE | {AnswerAndPass, Wait, Hold, Deadline},
    "out": _ANYWHERE,
    "error": _ANYWHERE,
    "handler": frozenset({Answer, Raised, object}),
}
"""Which effects are legal on which way."""

_NAMES = {type(None): "None", Nothing: "NOTHING", object: "something that JSON can say"}


class IllegalEffect(Exception):
    """A stage returned what has no meaning where it stands: ``who`` (a stage or a class), ``way``, the value."""

    def __init__(self, who: str, way: str, value: Json) -> None:
        words = sorted(_NAMES.get(kind, kind.__name__) for kind in LEGAL[way])
        where = "" if way == "handler" else f" on the way {way}"
        kind = _NAMES.get(type(value), f"a value of type {type(value).__name__}")
        self.what = f"{who} returned {kind}{where}, where that means nothing"
        self.mend = f"return {', '.join(words[:-1])} or {words[-1]}"
        super().__init__(f"{self.what}; {self.mend}")


def checked(value: Json, who: str, way: str) -> Any:
    """The value, if it is an effect that is legal on this way. Raises IllegalEffect."""
    if value.__class__ not in LEGAL[way]:
        raise IllegalEffect(who, way, value)
    return value
