"""``header-fields``: puts or drops header fields of the request or the answer."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from types import MappingProxyType
from typing import ClassVar

from pydantic import Field

from patient_usher.core.http.fields import Fields, add_vary, list_items
from patient_usher.core.model import stage as base
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.header_rules import PutFields, safe
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.text_types import Model, Names, no_items, wrong
from patient_usher.core.model.values import fill, plain


class FieldWork(Model):
    """Fields to put (replacing), to add to, and to drop."""

    sentences: ClassVar[dict[str, str]] = {
        "put": "Header fields to put.",
        "add": "Header fields to add a line to; a list such as Vary gets one member more.",
        "drop": "Header fields to drop.",
    }

    put: PutFields = Field(default_factory=dict)
    add: PutFields = Field(default_factory=dict)
    drop: Names = Field(default_factory=no_items)


class Options(StageOptions):
    """What to do with the request's fields, and with the answer's."""

    trade_names: ClassVar[tuple[str, ...]] = ("headers", "response-headers", "security-headers", "set-headers")
    sentences: ClassVar[dict[str, str]] = {
        "on-request": "What is done to requests.",
        "on-answer": "What is done to answers.",
    }

    on_request: FieldWork | None = None
    on_answer: FieldWork | None = None

    def model_post_init(self, context: object) -> None:
        """Refuse a stage that would do nothing."""
        if self.on_request is None and self.on_answer is None:
            raise wrong("the stage does nothing", "give on-request or on-answer, each with put, add or drop")

    def changes_on_request(self) -> Collection[str]:
        """What it is told to put or drop."""
        work = self.on_request
        return [name.lower() for name in (*work.put, *work.add, *work.drop)] if work is not None else ()

    def writes(self) -> Collection[str]:
        """What it is told to put, to add to and to drop on answers."""
        work = self.on_answer
        return [name.lower() for name in (*work.put, *work.add, *work.drop)] if work is not None else ()

    def copies(self) -> Iterable[tuple[str, str, str]]:
        """What it puts on requests."""
        puts = self.on_request.put.items() if self.on_request is not None else ()
        return [(f"header.{name.lower()}", text, "") for name, text in puts]

    def drops_on_answer(self) -> Iterable[str]:
        """What it is told to drop."""
        return [name.lower() for name in self.on_answer.drop] if self.on_answer is not None else ()


FieldWorker = Callable[[Fields, Exchange], None]


def field_worker(
    put: Mapping[str, str], drop: Sequence[str], add: Mapping[str, str] = MappingProxyType({})
) -> FieldWorker:
    """Dropping, then putting, then adding, as one function."""
    fixed, puts = Fields(), []
    for name, value in put.items():
        live, prepared = fill(value)
        if live:
            puts.append((name, prepared))
        else:
            fixed.put(name, plain(prepared))
    drops = [name.lower() for name in drop]
    adds = [(name, fill(value)) for name, value in add.items()]
    if not drops and not puts and not adds:
        return lambda fields, x: fields.update(fixed)

    def work(fields: Fields, x: Exchange) -> None:
        for lower in drops:
            fields.drop(lower)
        fields.update(fixed)
        for name, read in puts:
            fields.put(name, safe(name, plain(read(x))))
        for name, (live, made) in adds:
            value = safe(name, plain(made(x) if live else made))
            if name.lower() == "vary":
                for member in list_items(value):
                    add_vary(fields, member)
            else:
                fields.add(name, value)

    return work


class Stage(base.Stage):
    """Rewrites fields on the way in, on the way out, or both."""

    def __init__(self, options: Options, setup: Setup) -> None:
        self.rewrites = options.on_request is not None
        request, answer = options.on_request or FieldWork(), options.on_answer or FieldWork()
        self._request = field_worker(request.put, request.drop, request.add)
        self._answer = field_worker(answer.put, answer.drop, answer.add)
        unused = {"way_in": options.on_request, "way_out": options.on_answer}
        self.unused = frozenset(name for name, work in unused.items() if work is None)

    def way_in(self, x: Exchange) -> Effect:
        """Rewrite a copy: the trace's own request stays as it was sent."""
        fields = x.request.fields.copy()
        self._request(fields, x)
        self.rewrite(x, x.request.with_fields(fields))
        return None

    def way_out(self, x: Exchange) -> Effect:
        """Rewrite the answer's fields."""
        assert x.answer is not None
        self._answer(x.answer.fields, x)
        return None
