"""Trace files: YAML and JSON that people write, and HAR recordings."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path
from typing import Any, NamedTuple

from pydantic import ValidationError

from patient_usher.core.engine.replay import SCRIPT, Change, Recipe, Track, tracks_of
from patient_usher.core.engine.service import Service
from patient_usher.core.model.document import Problem, Spot, Unusable, fill_from_environment, locate, near
from patient_usher.core.model.invalid import problems_of
from patient_usher.core.model.trace import CallerSpec, Expect, RequestSpec, TraceSpec
from patient_usher.traces.har import HarOptions, is_har, trace_of_har
from patient_usher.traces.pipeline_file import beside
from patient_usher.traces.text import parse, read_text


class Loaded(NamedTuple):
    """A trace ready to be replayed, and what there is to say about it."""

    name: str
    starts: int
    tracks: Iterable[Track]
    notes: list[str]
    ids: list[str]
    lines: list[str]


def load_trace(path: Path, service: Service, *, har: HarOptions, allow_files: bool = False) -> Loaded:
    """The trace in a file, made ready for a service. The format is told from the content. Raises Unusable."""
    try:
        return _load(path, service, har, allow_files, places=False)
    except Unusable:
        return _load(path, service, har, allow_files, places=True)


def _load(path: Path, service: Service, har: HarOptions, allow_files: bool, *, places: bool) -> Loaded:
    name = str(path)
    doc = parse(read_text(path), name, places=places)
    notes: list[str] = []
    if is_har(doc):
        doc, notes = trace_of_har(doc, service, har)
    if not isinstance(doc, dict):
        raise Unusable([Problem(locate(doc, ()), "a trace must be a mapping", "start with patient-usher: trace/1")])
    if problems := fill_from_environment(doc, os.environ):
        raise Unusable(problems)
    return ready(doc, name, service, beside(path.parent, allow_files), notes)


def ready(doc: Any, name: str, service: Service, read_file: Any, notes: list[str]) -> Loaded:
    """A trace document validated and made ready. Raises Unusable with every problem."""
    try:
        spec = TraceSpec.model_validate(doc)
    except ValidationError as error:
        raise Unusable(problems_of(error, doc, TraceSpec)) from None
    problems: list[Problem] = []
    entries: list[Recipe | Change] = []
    ids: list[str] = []
    for at, entry in enumerate(spec.requests):
        where: list[str | int] = ["requests", at]
        spot = locate(doc, where)
        if not isinstance(entry, RequestSpec):
            try:
                service.changed(entry.change)
            except Unusable as error:
                problems += [problem._replace(spot=locate(doc, [*where, "change"])) for problem in error.problems]
            entries.append(Change(entry, spot))
            continue
        if entry.id in ids:
            problems.append(
                Problem(
                    locate(doc, [*where, "id"]),
                    f"the id '{entry.id}' is taken",
                    "give each request an id of its own",
                )
            )
        ids.append(entry.id)
        caller = SCRIPT
        if entry.caller is not None and entry.caller != "script":
            if entry.caller not in spec.callers:
                problems.append(
                    Problem(
                        locate(doc, [*where, "caller"]),
                        f"there is no caller '{entry.caller}'",
                        near(entry.caller, spec.callers),
                    )
                )
            caller = spec.callers.get(entry.caller, SCRIPT)
        elif entry.caller == "script" or entry.caller is None:
            caller = spec.callers.get("script", SCRIPT)
        problems += check_request(entry, service, doc, where)
        if not problems:
            try:
                entries.append(_recipe(entry, spot, spec, caller, service, read_file))
            except OSError as error:
                what, _, mend = str(error).partition("; ")
                problems.append(Problem(locate(doc, [*where, "file"]), what, mend))
    if problems:
        raise Unusable(problems)
    lines = [entry.spec.send.text for entry in entries if isinstance(entry, Recipe)]
    return Loaded(spec.name or Path(name).name, spec.starts, tracks_of(entries), notes, ids, lines)


def _recipe(
    entry: RequestSpec, spot: Spot, spec: TraceSpec, caller: CallerSpec, service: Service, read_file: Any
) -> Recipe:
    return Recipe(entry, spot, spec.base, entry.caller or "script", caller, service, read_file)


def check_request(entry: RequestSpec, service: Service, doc: Any, where: list[str | int]) -> list[Problem]:
    """Names in a request that the pipeline must have."""
    problems: list[Problem] = []

    def refer(sort: str, name: str, known: Iterable[str], *path: str | int) -> None:
        if name not in (known := list(known)):
            problems.append(
                Problem(locate(doc, [*where, *path]), f"the pipeline has no {sort} '{name}'", near(name, known))
            )

    accounts, keys = service.setup.accounts, service.setup.keys
    sign = entry.sign
    if sign is not None:
        for sort in ("bearer", "basic", "api_key"):
            if (name := getattr(sign, sort)) is not None:
                refer("account", name, accounts, "sign", sort.replace("_", "-"))
        if sign.keys is not None:
            refer("signing key", sign.keys, keys, "sign", "keys")
        spot = locate(doc, [*where, "sign"])
        if sign.bearer is not None and sign.keys is None and not service.wallet.bearer.keys:
            problems.append(
                Problem(
                    spot,
                    "the pipeline has no key to sign a token with",
                    "add one under signing-keys, with a secret or a private part",
                )
            )
        chosen = keys.get(sign.keys) if sign.keys else None
        if chosen is not None and chosen.sign is None:
            problems.append(
                Problem(spot, f"the key '{sign.keys}' has no private part", "tokens can only be checked with it")
            )
        if sign.api_key in accounts and not accounts[sign.api_key or ""].api_keys:
            problems.append(
                Problem(spot, f"the account '{sign.api_key}' has no key", "add api-keys to it in the pipeline")
            )
        if sign.basic in accounts and accounts[sign.basic or ""].password is None:
            problems.append(
                Problem(spot, f"the account '{sign.basic}' has no password", "add one to it in the pipeline")
            )
    stages = [*service.options, "router", "handler"]
    expects: list[tuple[Expect, tuple[str, ...]]] = [(entry.expect, ("expect",))] if entry.expect else []
    expects += [(expect, ("expect-in", name)) for name, expect in entry.expect_in.items()]
    for expect, path in expects:
        for key in ("order", "ran", "skipped"):
            for name in getattr(expect, key) or ():
                refer("stage", name, stages, *path, key)
        for key, extra in (("answered_by", ["server", "caller"]), ("refused_by", [])):
            value = getattr(expect, key)
            for name in value if isinstance(value, list) else [value]:
                if isinstance(name, str) and name not in ("missing", "present"):
                    refer("stage", name, [*stages, *extra], *path, key.replace("_", "-"))
        if isinstance(expect.route, str) and expect.route not in ("missing", "present"):
            refer("route", expect.route, [item.route.id for item in service.placed], *path, "route")
        if expect.tally is not None and entry.times == 1:
            problems.append(
                Problem(
                    locate(doc, [*where, *path, "tally"]),
                    "a tally needs repetitions",
                    "add times: N to the request",
                )
            )
    for name in entry.expect_in:
        refer("environment", name, {**service.spec.environments, "production": {}}, "expect-in", name)
    return problems
