"""What a stage is, what it may do, and what it knows of the pipeline around it.

A stage has up to four methods: ``way_in(x)``, ``way_out(x)``, ``way_error(x, error)`` and
``done(x, how)``. The first three return an effect:

- ``None``: pass the request, the answer or the error on;
- an ``Answer``: answer, so that nothing behind this stage runs;
- a ``Refused``: the same, as a refusal;
- a ``Raised``: raise it (a refusal, where it carries a ``why``);
- ``NOTHING``: neither pass on nor answer, so that the caller waits for ever;
- ``AnswerAndPass``: answer, and yet let what is behind run;
- ``Wait``: go on after a time, with what its function then returns.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

from patient_usher.core.http.messages import Answer
from patient_usher.core.model.answers import ReadFile
from patient_usher.core.model.errors import ErrorTypes, Raised
from patient_usher.core.model.exchange import Exchange, Identity
from patient_usher.core.model.pipeline import AccountSpec, PipelineSpec
from patient_usher.core.model.tokens import SigningKey


class Nothing:
    """The slip in which a stage neither passes on nor answers."""


NOTHING = Nothing()


class AnswerAndPass:
    """The slip in which a stage answers and yet passes the request on."""

    __slots__ = ("answer",)

    def __init__(self, answer: Answer) -> None:
        self.answer = answer


class Refused:
    """A refusal with an answer of the stage's own, whatever ``refuse`` says."""

    __slots__ = ("answer", "why")

    def __init__(self, answer: Answer, why: str) -> None:
        self.answer = answer
        self.why = why


class Wait:
    """Go on after ``time`` microseconds, with the effect that ``then`` returns."""

    __slots__ = ("then", "time")

    def __init__(self, time: int, then: Callable[[Exchange], Effect]) -> None:
        self.time = time
        self.then = then


Effect = None | Answer | Refused | Raised | Nothing | AnswerAndPass | Wait


@dataclass(frozen=True)
class Setup:
    """What stages and handlers know of the pipeline when they are made."""

    spec: PipelineSpec
    environment: tuple[str, ...]
    errors: ErrorTypes
    keys: Mapping[str, SigningKey]
    read_file: ReadFile
    accounts: dict[str, AccountSpec]
    by_api_key: Mapping[str, str]

    def identity(self, name: str) -> Identity:
        """A known account as an identity."""
        account = self.accounts[name]
        return Identity(name, tuple(account.roles), tuple(account.scopes), account.facts)


class Stage:
    """The base of every kind. A kind defines the methods that it needs."""

    way_in: Callable[[Exchange], Effect] | None = None
    way_out: Callable[[Exchange], Effect] | None = None
    way_error: Callable[[Exchange, Raised], Effect] | None = None
    done: Callable[[Exchange, str], None] | None = None

    out_work: ClassVar[Literal["fields", "registered"]] = "fields"
    """In sequential flow: whether ``way_out`` only marks header fields, so that it is done on the
    draft answer at once, or is work registered for when the answer is sent."""

    keeps_fields = True
    """In sequential flow: whether answers to errors start from the draft's header fields."""
