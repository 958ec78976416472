"""The stand-ins for the code at the end of a pipeline: one module a sort."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from itertools import combinations

from patient_usher.core.handlers.answer import answer_or_raise, in_parts
from patient_usher.core.handlers.base import Choice, Failing, Handler, Work
from patient_usher.core.handlers.cases import chooser
from patient_usher.core.handlers.echo import echo
from patient_usher.core.handlers.records import records_work
from patient_usher.core.model.answer_factory import logging, raiser
from patient_usher.core.model.branches import Cases
from patient_usher.core.model.document import Json
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.handler_specs import HandlerSpec, LogLineSpec
from patient_usher.core.model.pipeline import PipelineSpec
from patient_usher.core.model.stage import Setup


def make_handler(spec: HandlerSpec, setup: Setup, key: Hashable) -> Handler:
    """The handler that a route's file entry describes; ``key`` is where its state is kept.

    Raises OSError, ValueError or NotAllowed where something that it names can't be had.
    """
    work: Work
    choose = chooser(spec, setup) if spec.cases is not None else None
    if spec.records is not None:
        work = records_work(spec.records, spec.do or "", setup)
    elif spec.python is not None:
        from patient_usher.core.handlers.python import python_work

        work = python_work(spec.python, setup)
    else:
        work = answer_or_raise(spec, setup) or echo
    if spec.ranges:
        work = in_parts(work)
    fail = _failure(spec, setup) if spec.fails_every is not None else None
    if spec.log:
        work, choose = logging("handler", spec.log, work), _logging_choice(spec.log, choose)
        fail = logging("handler", spec.log, fail) if fail is not None else None
    handler = Handler(spec.busy_for, work, choose=choose)
    if fail is not None and spec.fails_every is not None:
        handler = Failing(handler, spec.fails_every, fail)
    handler.key = key
    return handler


def branches(spec: HandlerSpec, pipeline: PipelineSpec, desk: str | None) -> list[str]:
    """The ways that a handler can go, beside being reached. ``desk``: what a desk's route does."""
    if desk is not None:
        return [_SUCCEEDS, "refuses"]
    found = [] if spec.cases is None else Cases([case.when for case in spec.cases]).names
    if spec.records is not None:
        unique = pipeline.records[spec.records].unique.values()
        fails = {"create": ["Conflict", *unique], "replace": ["NotFound", *unique], "list": []}.get(spec.do or "")
        found += [_SUCCEEDS, *(f"raises {name}" for name in dict.fromkeys(["NotFound"] if fails is None else fails))]
    return [*found, *[_SUCCEEDS, "raises"] * (spec.fails_every is not None)]


def taken(spec: HandlerSpec, desk: str | None, x: Exchange) -> list[str]:
    """Those that an exchange took; those of cases are recorded as they are tried."""
    if desk is not None:
        return ["refuses" if x.refused_by == "handler" else _SUCCEEDS]
    raised = [error.type for error in x.errors if error.raised_by == "handler"]
    if spec.records is not None:
        return [f"raises {name}" for name in raised] or [_SUCCEEDS]
    return ["raises" if raised else _SUCCEEDS] if spec.fails_every is not None else []


def classes(spec: HandlerSpec, fact: str) -> Sequence[str | None] | None:
    """As a stage's (``StageOptions.classes``): what is there under a key is state, and bodies are ``contents``."""
    return () if spec.records is not None and fact in ("path", "body.*") else None


def contents(spec: HandlerSpec, pipeline: PipelineSpec) -> list[Json]:
    """What is read of bodies that the handler tells apart: for records with and without each member that counts."""
    if spec.records is None:
        return []
    known = pipeline.records[spec.records]
    names = list(dict.fromkeys([known.key, *known.unique]))[:_MOST_MEMBERS]
    some = [dict.fromkeys(chosen, "made-up") for size in range(len(names) + 1) for chosen in combinations(names, size)]
    return [["made up"], *({"note": "made up", **one} for one in some)]


_MOST_MEMBERS = 4
_SUCCEEDS = "succeeds"


def _logging_choice(lines: Sequence[LogLineSpec], choose: Choice | None) -> Choice | None:
    """The choice of a case, whose work is logged."""
    if choose is None:
        return None

    def chosen(x: Exchange) -> tuple[int, Work]:
        busy_for, work = choose(x)
        return busy_for, logging("handler", lines, work)

    return chosen


def _failure(spec: HandlerSpec, setup: Setup) -> Work:
    """What a run that fails does."""
    if spec.raise_ is not None:
        return raiser(spec.raise_, setup.errors)

    def fail(x: Exchange) -> Effect:
        return setup.errors.raised("HandlerFailed", f"the handler fails every {spec.fails_every} times")

    return fail
