"""Handlers: the stand-ins for the code at the end of the pipeline."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from patient_usher.core.engine.records import records_work
from patient_usher.core.http.messages import Answer, json_answer
from patient_usher.core.model.answers import answer_maker
from patient_usher.core.model.errors import Raised
from patient_usher.core.model.exchange import UNREAD, Exchange
from patient_usher.core.model.matcher import Test, compile_when
from patient_usher.core.model.pipeline import HandlerCase, HandlerSpec
from patient_usher.core.stages import base
from patient_usher.core.stages.gate import raiser

Work = Callable[[Exchange], base.Effect]


def _echo(x: Exchange) -> base.Effect:
    body = x.body
    if body is UNREAD:
        shown: Any = None
    elif isinstance(body, bytes):
        shown = body.decode(errors="replace")
    else:
        shown = body
    identity = x.identity
    return json_answer(
        200,
        {
            "method": x.request.method,
            "url": x.request.url.text,
            "path": x.path_values,
            "query": {name: values if len(values) > 1 else values[0] for name, values in x.request.url.params.items()},
            "headers": {name: x.request.fields.get(name.lower()) for name, _ in x.request.fields},
            "body": shown,
            "identity": {"name": identity.name, "roles": list(identity.roles), "facts": identity.facts}
            if identity
            else None,
            "context": x.context,
        },
    )


def _simple(spec: HandlerSpec | HandlerCase, setup: base.Setup) -> Work | None:
    if spec.answer is not None:
        return answer_maker(spec.answer, setup.read_file)
    if spec.raise_ is not None:
        return raiser(spec.raise_, setup)
    return None


def _cases(spec: HandlerSpec, setup: base.Setup) -> tuple[Callable[[Exchange], tuple[int, Work]], int]:
    """A chooser of the case that fits, and the longest time that any is busy."""
    rows: list[tuple[Test | None, int, Work]] = []
    for case in spec.cases or ():
        work = _simple(case, setup)
        assert work is not None
        rows.append((compile_when(case.when), case.busy_for, work))
    fallback = answer_maker(spec.answer, setup.read_file) if spec.answer else None
    no_case = lambda x: setup.errors.raised("NoCaseFits", "none of the handler's cases fits this request")  # noqa: E731

    def choose(x: Exchange) -> tuple[int, Work]:
        for fits, busy, work in rows:
            if fits is None or fits(x):
                return busy, work
        return 0, fallback or no_case

    return choose, max((busy for _, busy, _ in rows), default=0)


def _python(call: str, setup: base.Setup) -> Work:
    """A function of the user's own: it returns an answer, or a value that becomes JSON."""
    own = base.call_python(setup, call)

    def work(x: Exchange) -> base.Effect:
        try:
            value = own(x)
        except Exception as error:
            return base.raised_from(error, setup.errors)
        return value if isinstance(value, Answer | Raised) else json_answer(200, value)

    return work


class Handler(base.Stage):
    """Runs its work, after the time it is busy; effects happen at the end of that time."""

    def __init__(
        self, busy_for: int, work: Work, *, choose: Callable[[Exchange], tuple[int, Work]] | None = None
    ) -> None:
        self.busy_for, self.work, self.choose = busy_for, work, choose

    def way_in(self, x: Exchange) -> base.Effect:
        """Work at once, or be busy first."""
        x.handler_reached = True
        busy, work = self.busy_for, self.work
        if self.choose is not None:
            more, work = self.choose(x)
            busy += more
        if not busy:
            x.handler_finished = True
            return work(x)

        def finish(x: Exchange) -> base.Effect:
            x.handler_finished = True
            return work(x)

        return base.Wait(busy, finish)


def make_handler(spec: HandlerSpec, setup: base.Setup) -> Handler:
    """The handler that a route's file entry describes."""
    choose = None
    if spec.cases is not None:
        choose, _ = _cases(spec, setup)
        work: Work = lambda x: None  # noqa: E731  # chosen for each exchange
    elif spec.echo:
        work = _echo
    elif spec.records is not None:
        work = records_work(spec.records, spec.do or "", setup)
    elif spec.python is not None:
        work = _python(spec.python, setup)
    else:
        work = _simple(spec, setup) or _echo
    if spec.fails_every is not None:
        work, choose = _failing(spec, setup, work, choose), None
    return Handler(spec.busy_for, work, choose=choose)


def _failing(
    spec: HandlerSpec, setup: base.Setup, work: Work, choose: Callable[[Exchange], tuple[int, Work]] | None
) -> Work:
    every = spec.fails_every or 1
    fail = raiser(spec.raise_, setup) if spec.raise_ else None
    count = 0

    def sometimes(x: Exchange) -> base.Effect:
        nonlocal count
        count += 1
        if count % every == 0:
            return fail(x) if fail else setup.errors.raised("HandlerFailed", f"the handler fails every {every} times")
        return choose(x)[1](x) if choose else work(x)

    return sometimes
