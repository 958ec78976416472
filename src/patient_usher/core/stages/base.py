"""What a stage is, what it may do, and what it knows of the pipeline around it.

A stage has up to four methods: ``way_in(x)``, ``way_out(x)``, ``way_error(x, error)`` and
``done(x, how)``. The first three return an effect:

- ``None``: pass the request, the answer or the error on;
- an ``Answer``: answer, so that nothing behind this stage runs;
- a ``Refused``: the same, as a refusal;
- a ``Raised``: raise it (a refusal, where it carries a ``why``);
- ``NOTHING``: neither pass on nor answer, so that the caller waits for ever;
- ``AnswerAndPass``: answer, and yet let what is behind run;
- a ``Hold``: wait for another exchange;
- a ``Deadline``: pass on, with a time in which what is behind must be done;
- ``Wait``: go on after a time, with what its function then returns.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal, NamedTuple

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
    """A stage answers and yet passes the request on: a slip, unless it ``refreshes`` what it keeps.

    Then what is behind runs for the stage itself, whose ``way_out`` sees what comes of it.
    """

    __slots__ = ("answer", "refreshes")

    def __init__(self, answer: Answer, *, refreshes: bool = False) -> None:
        self.answer = answer
        self.refreshes = refreshes


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


class Session(NamedTuple):
    """A session that a desk keeps; times are microseconds since the epoch."""

    name: str
    expires: int
    renewable_until: int


@dataclass(frozen=True)
class Setup:
    """What stages and handlers know of the pipeline when they are made."""

    spec: PipelineSpec
    environment: tuple[str, ...]
    errors: ErrorTypes
    keys: Mapping[str, SigningKey]
    read_file: ReadFile
    accounts: dict[str, AccountSpec]
    by_api_key: dict[str, str]
    seed: int = 0
    load_python: Callable[[str], Any] | None = None
    sessions: dict[str, Session] = field(default_factory=dict)
    signed_out: set[str] = field(default_factory=set)
    stores: dict[str, Any] = field(default_factory=dict)

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

    unused: frozenset[str] = frozenset()
    """Methods that this stage's options leave without work: they are not called."""

    out_work: ClassVar[Literal["fields", "registered"]] = "fields"
    """In sequential flow: whether ``way_out`` only marks header fields, so that it is done on the
    draft answer at once, or is work registered for when the answer is sent."""

    always_raises = False
    """Whether the stage's refusals are raised whatever the pipeline's ``refuse`` says."""

    keeps_state: ClassVar[bool] = False
    """Whether the stage remembers anything from one exchange to the next, so that instances may differ."""

    keeps_fields = True
    """In sequential flow: whether answers to errors start from the draft's header fields."""

    def adopt(self, old: Any) -> None:
        """Go on with the state of the stage that this one takes the place of, after a change."""


class NotAllowed(Exception):
    """The pipeline wants what the command line doesn't allow."""


def call_python(setup: Setup, call: str) -> Any:
    """The object that ``module:Name`` names. Raises NotAllowed without --allow-python, ValueError otherwise."""
    if setup.load_python is None:
        raise NotAllowed(f"'{call}' would run Python code of this pipeline; if you trust it, give --allow-python")
    return setup.load_python(call)


def guarded(made: Any, **options: Any) -> Any:
    """An object of the user's class. Raises ValueError with the place where making it failed."""
    try:
        return made(**options)
    except Exception as error:
        raised = raised_from(error, None)
        raise ValueError(f"making it failed: {raised.type}: {raised.message}, {raised.where}; mend the class") from None


def raised_from(error: Exception, errors: ErrorTypes | None) -> Raised:
    """A Python exception as a raised error, with file, line and stack."""
    from traceback import extract_tb, format_exception

    frames = extract_tb(error.__traceback__)
    where = f"{frames[-1].filename}:{frames[-1].lineno} in {frames[-1].name}" if frames else ""
    stack = "".join(format_exception(error)).rstrip()
    cause = repr(error.__cause__) if error.__cause__ is not None else ""
    type_ = type(error).__name__
    parts: dict[str, Any] = {"where": where, "stack": stack, "cause": cause}
    return errors.raised(type_, str(error), **parts) if errors is not None else Raised(type_, str(error), **parts)


def effect_of(value: Any) -> Effect:
    """What a user's method returned, as an effect. Raises TypeError for anything else."""
    if value is None or value is NOTHING or isinstance(value, Answer | Refused | Raised | AnswerAndPass | Wait):
        return value
    raise TypeError(f"a stage returns None, an Answer or an error, not {type(value).__name__}")
