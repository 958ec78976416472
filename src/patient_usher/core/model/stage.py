"""What a stage is, and what it knows of the pipeline around it.

A stage has up to four methods: ``way_in(x)``, ``way_out(x)``, ``way_error(x, error)`` and
``done(x, how)``. What they may return stands in ``effects``. A stage is made once, with the
pipeline, and never changes: what one exchange leaves for the next is its *state*, made by ``fresh``
for every replay and instance, and found as ``x.memory[self.key]``.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any, ClassVar, Literal, Protocol

from patient_usher.core.http.messages import Request
from patient_usher.core.model.accounts import AccountSpec
from patient_usher.core.model.answer_factory import ReadFile
from patient_usher.core.model.document import Json, JsonMapping, JsonObject
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.errors import ErrorTypes, Raised
from patient_usher.core.model.exchange import Exchange, Identity
from patient_usher.core.model.pipeline import PipelineSpec, StageOptions
from patient_usher.core.model.tokens import SigningKey, password_fits


class Stateful(Protocol):
    """Whatever has state: a stage, a handler, a desk, a store of records."""

    @property
    def key(self) -> Hashable:
        """Under which its state stands in an exchange's ``memory``."""

    def fresh(self, seed: int) -> object:
        """The state with which a replay begins."""

    def migrate(self, old: Any, state: Any) -> Any:
        """The state with which to go on, where a change put this one into the place of ``old``."""


class Signed(Protocol):
    """A desk's state: who has signed up, the sessions that are open, the tokens that are over."""

    accounts: dict[str, AccountSpec]
    sessions: JsonObject
    ended: set[str]

    def judge(self, claims: JsonMapping) -> str:
        """Why a token counts no more, or nothing."""


@dataclass(frozen=True, eq=False)
class Setup:
    """What stages and handlers know of the pipeline when they are made."""

    spec: PipelineSpec
    environment: tuple[str, ...]
    errors: ErrorTypes
    keys: Mapping[str, SigningKey]
    read_file: ReadFile
    load_python: Callable[[str], object] | None = None
    options: Mapping[str, StageOptions] = field(default_factory=dict)
    """Every stage's, by id."""
    desks: tuple[Hashable, ...] = ()
    """The keys under which desks keep their state."""
    by_api_key: Mapping[str, str] = field(default_factory=dict)
    password_fits: Callable[[str, str], bool] = field(default_factory=lambda: lru_cache(maxsize=4096)(password_fits))
    _identities: dict[str, Identity] = field(default_factory=dict)

    def account(self, x: Exchange, name: str) -> AccountSpec | None:
        """The account of this name: declared, or signed up at a desk."""
        found = self.spec.accounts.get(name)
        if found is None and self.desks:
            for desk in self.signed(x):
                found = found or desk.accounts.get(name)
        return found

    def signed(self, x: Exchange) -> Sequence[Signed]:
        """What the desks remember."""
        return [x.memory[key] for key in self.desks]

    def identity(self, x: Exchange, name: str) -> Identity:
        """A known account as an identity."""
        known = self._identities.get(name)
        if known is None:
            account = self.account(x, name)
            assert account is not None
            known = Identity(name, tuple(account.roles), tuple(account.scopes), account.facts)
            if name in self.spec.accounts:
                self._identities[name] = known
        return known


class Stage:
    """The base of every kind. A kind defines the methods that it needs."""

    way_in: Callable[[Exchange], Effect] | None = None
    way_out: Callable[[Exchange], Effect] | None = None
    way_error: Callable[[Exchange, Raised], Effect] | None = None
    done: Callable[[Exchange, str], None] | None = None

    unused: frozenset[str] = frozenset()
    """Methods that this stage's options leave without work: they are not called."""

    out_work: Literal["fields", "registered"] = "fields"
    """In sequential flow: whether ``way_out`` only marks header fields, so that it is done on the
    draft answer at once, or is work registered for when the answer is sent."""

    always_raises = False
    """Whether the stage's refusals are raised whatever the pipeline's ``refuse`` says."""

    keeps_fields = True
    """In sequential flow: whether answers to errors start from the draft's header fields."""

    catches_errors: ClassVar[bool] = False
    """Whether the stage is there to answer errors: why it didn't is worth a sentence."""

    covers_errors: ClassVar[bool] = False
    """Whether what the stage answers an error with is the answer that there would have been without it."""

    only_watches = False
    """Whether the stage does nothing but write into the log."""

    rewrites: bool = False
    """Whether what is behind may get another request than reached the stage: it calls ``rewrite`` for that."""

    def rewrite(self, x: Exchange, request: Request) -> None:
        """Pass this request on; whoever stands in front goes on judging the one that reached the stage."""
        x.work.setdefault(self, x.request)
        x.request = request

    keeps_state: ClassVar[bool] = False
    """Whether what the stage remembers may make instances differ, so that sharing it means something."""

    @property
    def partition_keys(self) -> Sequence[str]:
        """The parts of a request on any one of which what it remembers hangs; empty where that shows nowhere."""
        return ("everything",) if self.remembers else ()

    key: Hashable = ""
    """Under which its state stands in an exchange's ``memory``: for a stage its id."""

    @property
    def remembers(self) -> bool:
        """Whether there is any state."""
        return type(self).fresh is not Stage.fresh

    def fresh(self, seed: int) -> object:
        """The state with which a replay begins. Randomness comes from ``seed`` only."""
        return None

    def migrate(self, old: Any, state: Any) -> Any:
        """The state after a change that put this stage into the place of ``old``, of the same kind."""
        return state

    def situations(self) -> Sequence[Callable[[], object]] | None:
        """What makes states that stand, beside a fresh one, for all that there may be; None where none do.

        Whatever the stage does to a request in any state, it does in one of these, but for counts and times.
        """
        return None if self.remembers else ()


class NotAllowed(Exception):
    """The pipeline wants what the command line doesn't allow."""


def call_python(setup: Setup, call: str) -> Any:
    """The object that ``module:Name`` names. Raises NotAllowed without --trust python, ValueError otherwise."""
    if setup.load_python is None:
        raise NotAllowed(f"'{call}' would run Python code of this pipeline; if you trust it, give --trust python")
    return setup.load_python(call)


def guarded(made: Any, **options: Json) -> Any:
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
    parts: JsonObject = {"where": where, "stack": stack, "cause": cause}
    return errors.raised(type_, str(error), **parts) if errors is not None else Raised(type_, str(error), **parts)
