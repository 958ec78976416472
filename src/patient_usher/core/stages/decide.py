"""``decide``: the developer's own logic, as cases; and the two classic slips."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from typing import Annotated, ClassVar

from pydantic import BeforeValidator, Field, model_validator

from patient_usher.core.model import stage as base
from patient_usher.core.model.answer_factory import answer_maker, raiser, writer
from patient_usher.core.model.branches import Cases
from patient_usher.core.model.document import Json, JsonMapping
from patient_usher.core.model.effects import NOTHING, AnswerAndPass, Effect, Refused
from patient_usher.core.model.errors import BUILT_IN
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.handler_specs import AnswerSpec, LogLines, RaiseOf
from patient_usher.core.model.header_rules import PutFields
from patient_usher.core.model.matcher import When, compile_when
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.routes import RouteSpec
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.templates import GUARDED
from patient_usher.core.model.text_types import BuiltModel, Model, Names, Or, exactly_one, no_items, wrong
from patient_usher.core.model.values import Filled, fill
from patient_usher.core.stages.header_fields import field_worker


class Then(BuiltModel):
    """What a case does with the exchange."""

    sentences: ClassVar[dict[str, str]] = {
        "continue": "The request goes on.",
        "nothing": "A slip: it neither answers nor goes on.",
        "answer": "It is answered, and nothing behind runs.",
        "raise": "An error is raised.",
        "answer-and-continue": "A slip: it is answered, and goes on all the same.",
    }
    WAYS: ClassVar[tuple[str, ...]] = ("continue_", "nothing", "answer", "raise_", "answer_and_continue")

    continue_: bool | None = None
    nothing: bool | None = None
    answer: AnswerSpec | None = None
    raise_: RaiseOf | None = None
    answer_and_continue: AnswerSpec | None = None

    @model_validator(mode="after")
    def _one(self) -> Then:
        exactly_one(self, self.WAYS, "then")
        return self


def _spell_out(value: Json) -> object:
    if isinstance(value, str) and value not in ("continue", "nothing"):
        words = "write continue, nothing, {answer: ...}, {raise: ...} or {answer-and-continue: ...}"
        raise wrong(f"a case can't do '{value}'", words)
    return {value: True} if value in ("continue", "nothing") else value


ThenOf = Annotated[Then, BeforeValidator(_spell_out), Or({"enum": ["continue", "nothing"]})]


class Case(Model):
    """Where ``when`` fits: leave values, rewrite fields, then go on or not."""

    sentences: ClassVar[dict[str, str]] = {
        "when": "When this case fits; always, if left out.",
        "set": "Values left for those behind, as context.NAME.",
        "put": "Header fields to put.",
        "drop": "Header fields to drop.",
        "log": "Lines for the log.",
        "then": "What comes of it: continue, an answer, an error, or one of the two slips.",
    }

    when: When | None = None
    set_: dict[str, Filled] = Field(default_factory=dict)
    put: PutFields = Field(default_factory=dict)
    drop: Names = Field(default_factory=no_items)
    log: LogLines = Field(default_factory=no_items)
    then: ThenOf = Then.model_construct(continue_=True, _fields_set={"continue_"})


class Options(StageOptions):
    """Cases for the request and for the answer, tried in order."""

    trade_names: ClassVar[tuple[str, ...]] = ("condition", "custom", "logic", "rules")
    sentences: ClassVar[dict[str, str]] = {
        "cases": "Cases for the request; the first that fits decides.",
        "way-out": "Cases for the answer; the first that fits decides.",
    }

    cases: list[Case] = Field(default_factory=no_items)
    way_out: list[Case] = Field(default_factory=no_items)

    @model_validator(mode="after")
    def _useful(self) -> Options:
        if not self.cases and not self.way_out:
            raise wrong("the stage has no cases", "give cases, way-out or both")
        if any(case.then.answer_and_continue for case in self.way_out):
            raise wrong("on the way out there is nothing left to continue to", "write then: {answer: ...}")
        return self

    def changes_on_request(self) -> Collection[str]:
        """What any case for the request puts or drops."""
        return [name.lower() for case in self.cases for name in (*case.put, *case.drop)]

    def copies(self) -> Iterable[tuple[str, str, str]]:
        """What cases set and put."""
        for number, case in enumerate(self.cases, 1):
            own = f"case {number}"
            yield from ((f"header.{name.lower()}", text, own) for name, text in case.put.items())
            yield from ((f"context.{name}", str(value), own) for name, value in case.set_.items())

    def drops_on_answer(self) -> Iterable[str]:
        """What any case for the answer drops."""
        return [name.lower() for case in self.way_out for name in case.drop]

    def guards(self) -> Collection[str]:
        """All, where any case goes by who is calling."""
        asked = set[str]().union(*(case.when.reads() for case in self.cases if case.when is not None))
        return GUARDED if asked & {"identity", "role", "scope"} else ()

    def sets(self) -> Iterable[str]:
        """Context values that cases leave."""
        return [name for case in self.cases for name in case.set_]

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """Every case, and none of them where that can be, for the request and for the answer."""
        lists = (_branches(self.cases), _branches(self.way_out, out=True))
        return [name for cases in lists if cases.parts for name in cases.names]

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """Recorded while the cases are tried."""
        return ()


def _branches(cases: Sequence[Case], *, out: bool = False) -> Cases:
    whens = [case.when for case in cases]
    return Cases(whens, "way out", "no way out") if out else Cases(whens)


Bound = tuple[Callable[[Exchange], bool] | None, Callable[[Exchange], Effect]]
"""A case, ready for exchanges: whether it fits (None: always), and what it then does."""


class Stage(base.Stage):
    """The first case that fits decides; where none does, the exchange goes on."""

    always_raises = True
    """``raise`` in a case means raise, whatever ``refuse`` says of refusals."""
    out_work = "registered"

    def __init__(self, options: Options, setup: Setup) -> None:
        self.cases = [_prepare(at, case, setup, options.id) for at, case in enumerate(options.cases, 1)]
        self.out_cases = [_prepare(at, case, setup, options.id, out=True) for at, case in enumerate(options.way_out, 1)]
        self.id = options.id
        self.branches, self.out_branches = _branches(options.cases), _branches(options.way_out, out=True)
        unused = {"way_in": self.cases, "way_out": self.out_cases}
        self.unused = frozenset(name for name, cases in unused.items() if not cases)

    def way_in(self, x: Exchange) -> Effect:
        """Try the cases on the request."""
        if x.journey is not None:
            self.branches.decide(x, "stages", self.id)
        for fits, act in self.cases:
            if fits is None or fits(x):
                return act(x)
        return None

    def way_out(self, x: Exchange) -> Effect:
        """Try the way-out cases on the answer."""
        if x.journey is not None:
            self.out_branches.decide(x, "stages", self.id)
        for fits, act in self.out_cases:
            if fits is None or fits(x):
                return act(x)
        return None


def _prepare(number: int, case: Case, setup: Setup, id_: str, *, out: bool = False) -> Bound:
    live, values = fill(dict(case.set_))
    fields = field_worker(case.put, case.drop) if case.put or case.drop else None
    write = writer(id_, case.log) if case.log else None
    then = _then(case.then, setup, refuses=not out)

    def act(x: Exchange) -> Effect:
        if values:
            left = values(x) if live else values
            x.context.update(left)
        if fields is not None:
            if out:
                assert x.answer is not None
                fields(x.answer.fields, x)
            else:
                copy = x.request.fields.copy()
                fields(copy, x)
                x.request = x.request.with_fields(copy)
        if x.journey is not None:
            x.note = {"case": number, "set": left} if values and not out else {"case": number}
        if write is not None:
            write(x)
        return then(x) if then is not None else None

    return compile_when(case.when), act


def _then(then: Then, setup: Setup, *, refuses: bool) -> Callable[[Exchange], Effect] | None:
    if then.nothing:
        return lambda x: NOTHING
    if then.raise_ is not None:
        return raiser(then.raise_, setup.errors, refuses=refuses or then.raise_.type in BUILT_IN)
    if then.answer_and_continue is not None:
        make = answer_maker(then.answer_and_continue, setup.read_file)
        return lambda x: AnswerAndPass(make(x))
    if then.answer is not None:
        make = answer_maker(then.answer, setup.read_file)
        if (then.answer.status or 200) >= 400:
            return lambda x: Refused(make(x), "decided")
        return make
    return None
