"""May I have a model of the service that I run? Ask it, and write the pipeline that answers as it did."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import TimeoutError as TooLate
from typing import Any

from patient_usher.core.decisions.request_factory import RequestFactory
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.http.dates import timestamp
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Request
from patient_usher.core.http.urls import parse_url
from patient_usher.core.model.document import JsonObject, Unusable, unusable
from patient_usher.core.questions.learn.document import learned
from patient_usher.core.questions.learn.interview import (
    MOST,
    Account,
    Interview,
    Known,
    Question,
    Send,
    ServiceAnswer,
    recording_of,
    trace_of,
)
from patient_usher.core.questions.learn.result import LearnedService
from patient_usher.core.variants.change import changed_by
from patient_usher.core.verify.outside import DriftResult
from patient_usher.files.trace import Trace
from patient_usher.use_cases.drift import WAIT_AT_MOST, drift, explain
from patient_usher.use_cases.real_service import ServiceAddress
from patient_usher.use_cases.session import Pipeline, load
from patient_usher.wire.application import Asks, NoAnswer

PATIENCE = 30.0
"""Seconds in which a question is answered."""
_ROUNDS = 3
"""How often what differs is looked into, at most."""


def learn(
    routes: Sequence[Known],
    *,
    app: Callable[..., object] | None = None,
    at: str | None = None,
    certificates: bytes | None = None,
    accounts: Sequence[Account] = (),
    origins: Sequence[str] = (),
    base: str = "https://service.example",
    name: str = "learned",
    most: int = MOST,
    bursts: int = 0,
    wait_at_most: float = WAIT_AT_MOST,
    clock: Callable[[], int] = lambda: time.time_ns() // 1000,
    wait: Callable[[float], None] = time.sleep,
    watch: Callable[[Question], None] = lambda question: None,
) -> LearnedService:
    """Ask a service by reads alone, at most ``most`` of them, and make the pipeline that answers as it did.

    The service is an ASGI or WSGI application (``app``) or whoever answers at an origin (``at``). ``bursts``: how many
    requests are sent at once to find a limit that nothing announces. Where a limit is met it waits as long as it is
    asked to, ``wait_at_most`` seconds in all. ``clock`` gives microseconds since the epoch.
    Raises Unusable where nobody answers.
    """
    if not any(route.method == "GET" for route in routes):
        raise unusable("no route is known that may be read", "name one: --path 'GET /path', or --from a description")
    service = ServiceAddress(app, at, None, certificates)
    with service.open() as ask:
        how: dict[str, Any] = {"most": most, "bursts": bursts, "wait": _waiter(wait, wait_at_most), "watch": watch}
        interview = Interview(_sender(ask(base), base, clock), routes, accounts, origins, **how)
        interview.run()
    if not any(question.reply is not None for question in interview.asked):
        raise unusable("the service answered nothing", "is it there? see usher drift --help for --at and --app")
    made = learned(interview, name)
    known = [account.name for account in made.found.accounts()]
    questions = [one for one in interview.asked if one.account is None or one.account in known]
    trace = trace_of(questions, made.found.accounts(), base, timestamp)
    recording = recording_of(questions, base, timestamp)
    pipeline, mended = load(made.document), list[str]()
    held = _held(pipeline, trace, recording)
    for _ in range(_ROUNDS):
        found = _mended(pipeline, trace, held)
        if found is None:
            break
        words, better = found
        again = _held(better, trace, recording)
        if sum(bool(one.differs) for one in again) >= sum(bool(one.differs) for one in held):
            break
        pipeline, held, mended = better, again, [*mended, *words]
    made = made._replace(document=pipeline.compiled.source.doc)
    return LearnedService(pipeline.compiled, made, interview, trace, held, mended)


def _held(pipeline: Pipeline, trace: JsonObject, recording: JsonObject) -> list[DriftResult]:
    return list(drift(pipeline, _traced(trace), recorded=recording))


def _traced(trace: JsonObject) -> Trace:
    return Trace.of(*trace["requests"], base=trace["base"], starts=trace["starts"])


def _mended(pipeline: Pipeline, trace: JsonObject, held: Sequence[DriftResult]) -> tuple[list[str], Pipeline] | None:
    """The pipeline with the changes that what differs asks for, in words; None where none is found."""
    if not any(one.differs for one in held):
        return None
    why = explain(pipeline, [_traced(trace)], held)
    changed: CompiledPipeline | None = changed_by(pipeline.compiled, why.all_changes) if why.all_changes else None
    return ([one.words for one in why.all_changes], Pipeline(changed)) if changed is not None else None


def _waiter(wait: Callable[[float], None], at_most: float) -> Callable[[int], bool]:
    """Who waits where a limit asks for it, so long in all."""
    left = [at_most]

    def waited(seconds: int) -> bool:
        if seconds > left[0]:
            return False
        left[0] -= seconds
        wait(seconds)
        return True

    return waited


def _sender(ask: Asks, base: str, clock: Callable[[], int]) -> Send:
    """Who sends a question, and waits for its answer."""
    url = parse_url(base)

    def send(method: str, target: str, headers: dict[str, str]) -> tuple[ServiceAnswer | None, int]:
        at = clock()
        request = Request(method, url.at(target), Fields([("Host", url.authority), *headers.items()]))
        try:
            status, pairs, content = ask.ask(request, PATIENCE).result(PATIENCE + 1)
        except (NoAnswer, TooLate):
            return None, at
        return ServiceAnswer(status, Fields(pairs), content), at

    return send


# What is known beforehand.


def routes_of(compiled: CompiledPipeline) -> list[Known]:
    """The routes of a pipeline, each with a path and query that fit it."""
    words = RequestFactory(compiled)
    found = []
    for item in compiled.placed:
        if item.desk is None:
            target = words.plain(item)["send"].partition(" ")[2]
            handler = item.spec.handler.model_dump(by_alias=True, exclude_unset=True, mode="json")
            spec = {"handler": handler} if handler.keys() == {"answer"} else {}
            found.append(Known(item.route.id, item.route.method, item.route.template.text, target, spec))
    return found


def routes_at(paths: Iterable[str]) -> list[Known]:
    """The routes that texts such as ``GET /berths/{berth}`` name. Raises Unusable."""
    found: list[Known] = []
    for text in paths:
        method, _, path = text.strip().rpartition(" ")
        if not path.startswith("/"):
            raise unusable(f"'{text}' is no method and path", "write it as in 'GET /tides'", "--path")
        target = re.sub(r"\{\+?[^}]*\}", "1", path)
        template = path.partition("?")[0]
        words = "-".join(re.findall(r"[A-Za-z0-9]+", template)).lower() or "root"
        taken = {one.id for one in found}
        id_ = next(one for one in (words, *(f"{words}-{n}" for n in range(2, 999))) if one not in taken)
        found.append(Known(id_, (method or "GET").upper(), template, target, {}))
    if len({(one.method, one.template) for one in found}) < len(found):
        raise unusable("a route is named twice", "name each once", "--path")
    return found


def account_of(text: str, number: int, variables: Callable[[str], str | None], field: str = "X-Api-Key") -> Account:
    """The account that ``[NAME:]SCHEME=VALUE`` names; VALUE may be ``${env:NAME}``. Raises Unusable."""
    import base64

    head, equals, value = text.partition("=")
    name, _, scheme = head.rpartition(":")
    name = name or f"caller-{number}"
    if not equals or not value or scheme not in ("api-key", "bearer", "basic"):
        raise unusable(
            f"'{text.partition('=')[0]}' names no credential",
            "write api-key=${env:NAME}, bearer=${env:NAME} or basic=${env:NAME}, or with a name, as in ada:api-key=...",
            "--credential",
        )
    variable = re.fullmatch(r"\$\{env:([A-Za-z_]\w*)\}", value)
    if variable is not None:
        known = variables(variable[1])
        if known is None:
            raise unusable(f"the variable {variable[1]} isn't set", "set it in the environment", "--credential")
        value, kept = known, variable[1]
    else:
        kept = f"{re.sub(r'[^A-Za-z0-9]', '_', name).upper()}_CREDENTIAL"
    if scheme == "basic":
        user, colon, _ = value.partition(":")
        if not colon:
            raise unusable(
                "a basic credential is NAME:PASSWORD", "write basic=${env:NAME} with both in it", "--credential"
            )
        shown = f"${{env:{kept}_PASSWORD|made-up-until-it-is-set}}"
        header = "Basic " + base64.b64encode(value.encode()).decode()
        return Account(user, scheme, "Authorization", header, shown)
    if scheme == "bearer":
        return Account(
            name, scheme, "Authorization", f"Bearer {value}", f"Bearer ${{env:{kept}|made-up-until-it-is-set}}"
        )
    return Account(name, scheme, field, value, f"${{env:{kept}|made-up-until-it-is-set}}")


__all__ = ["LearnedService", "Unusable", "account_of", "learn", "routes_at", "routes_of"]
