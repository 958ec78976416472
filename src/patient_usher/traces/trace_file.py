"""Trace files: YAML and JSON that people write, and HAR recordings."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any, NamedTuple

from pydantic import ValidationError

from patient_usher.core.engine.replay import SCRIPT, Change, Recipe, Track, tracks_of
from patient_usher.core.engine.service import Service
from patient_usher.core.model.answers import ReadFile
from patient_usher.core.model.document import Problem, Spot, Unusable, fill_from_environment, locate, near
from patient_usher.core.model.invalid import problems_of
from patient_usher.core.model.trace import CallerSpec, ChangeSpec, Expect, RequestSpec, TraceSpec
from patient_usher.core.model.values import PLACEHOLDER
from patient_usher.traces.lines import MAX_PROBLEMS, header_of, raw_lines, read_header, read_line
from patient_usher.traces.pipeline_file import beside
from patient_usher.traces.text import parse, read_text


class HarOptions(NamedTuple):
    """How to read a recording: its host, whose fresh credentials, whether to expect what was recorded."""

    host: str | None = None
    account: str | None = None
    as_recorded: bool = False


def is_har(doc: Any) -> bool:
    """Whether a document is a HAR recording."""
    return isinstance(doc, dict) and isinstance(doc.get("log"), dict) and "entries" in doc["log"]


class Loaded(NamedTuple):
    """A trace ready to be replayed, and what there is to say about it."""

    name: str
    starts: int
    tracks: Iterable[Track]
    notes: list[str]
    ids: list[str]
    labels: list[str]
    lines: list[str]
    streams: bool = False
    changes: bool = False


def load_trace(path: Path, service: Service, *, har: HarOptions, allow_files: bool = False) -> Loaded:
    """The trace in a file, made ready for a service. The format is told from the content. Raises Unusable."""
    try:
        return _load(path, service, har, allow_files, places=False)
    except Unusable:
        return _load(path, service, har, allow_files, places=True)


def _load(path: Path, service: Service, har: HarOptions, allow_files: bool, *, places: bool) -> Loaded:
    name = str(path)
    read_file = beside(path.parent, allow_files)
    if (header := header_of(path)) is not None:
        return _stream(path, header, service, read_file)
    doc = parse(read_text(path), name, places=places)
    notes: list[str] = []
    if is_har(doc):
        from patient_usher.traces.har import trace_of_har

        doc, notes = trace_of_har(doc, service, har)
    if not isinstance(doc, dict):
        raise Unusable([Problem(locate(doc, ()), "a trace must be a mapping", "start with patient-usher: trace/1")])
    if problems := fill_from_environment(doc, os.environ):
        raise Unusable(problems)
    return ready(doc, name, service, read_file, notes)


def ready(doc: Any, name: str, service: Service, read_file: ReadFile, notes: list[str]) -> Loaded:
    """A trace document validated and made ready. Raises Unusable with every problem."""
    try:
        spec = TraceSpec.model_validate(doc)
    except ValidationError as error:
        raise Unusable(problems_of(error, doc, TraceSpec)) from None
    problems: list[Problem] = []
    entries: list[Recipe | Change] = []
    ids: set[str] = set()
    maker = _Maker(spec, service, read_file)
    for at, entry in enumerate(spec.requests):
        where: list[str | int] = ["requests", at]
        if isinstance(entry, RequestSpec) and entry.id in ids:
            problems.append(
                Problem(
                    locate(doc, [*where, "id"]), f"the id '{entry.id}' is taken", "give each request an id of its own"
                )
            )
        if isinstance(entry, RequestSpec):
            ids.add(entry.id)
        try:
            entries.append(maker.make(entry, locate(doc, where), doc, where))
        except Unusable as error:
            problems += error.problems
    if problems:
        raise Unusable(problems)
    requests = [entry.spec for entry in entries if isinstance(entry, Recipe)]
    return Loaded(
        spec.name or Path(name).name,
        spec.starts,
        tracks_of(entries),
        notes,
        [request.id for request in requests],
        [_label(request) for request in requests],
        [_shown(request, spec.callers) for request in requests],
        changes=len(requests) < len(entries),
    )


def _label(request: RequestSpec) -> str:
    return request.id if request.times == 1 else f"{request.id} ×{request.times}"


def _shown(request: RequestSpec, callers: Mapping[str, CallerSpec]) -> str:
    """The request line, with room for what placeholders will become, and for a preflight's method."""
    text = PLACEHOLDER.sub("x" * 24, request.send.text)
    browser = request.caller is not None and request.caller in callers and callers[request.caller].kind == "browser"
    return f"OPTIONS {request.send.target}" if browser and request.send.method != "GET" else text


def _stream(path: Path, header: dict[str, Any], service: Service, read_file: ReadFile) -> Loaded:
    """A JSON Lines trace: every line is checked before the first is sent, then read again as it is needed."""
    spec = read_header(path, header)
    problems: list[Problem] = []
    ids: list[str] = []
    lines: list[str] = []
    checker = _Maker(spec, service, read_file)

    def check(entry: RequestSpec | ChangeSpec, spot: Spot) -> Recipe | Change:
        made = checker.make(entry, spot, None, [])
        if isinstance(entry, RequestSpec) and len(ids) < 1000:  # enough to set the columns' widths
            ids.append(entry.id)
            lines.append(_shown(entry, spec.callers))
        return made

    for number, raw in raw_lines(path):
        try:
            read_line(path, number, raw, check)
        except Unusable as error:
            problems += error.problems
            if len(problems) >= MAX_PROBLEMS:
                break
    if problems:
        raise Unusable(problems)
    maker = _Maker(spec, service, read_file)
    entries = (
        read_line(path, number, raw, lambda entry, spot: maker.make(entry, spot, None, []))
        for number, raw in raw_lines(path)
    )
    return Loaded(spec.name or path.name, spec.starts, [Track(0, entries)], [], ids, ids, lines, streams=True)


class _Maker:
    """Makes entries of one trace ready for a service, and checks that they fit it."""

    def __init__(self, spec: TraceSpec, service: Service, read_file: ReadFile) -> None:
        self.spec, self.service, self.read_file = spec, service, read_file
        self.changed = service

    def make(self, entry: RequestSpec | ChangeSpec, spot: Spot, doc: Any, where: list[str | int]) -> Recipe | Change:
        """One entry made ready. Raises Unusable."""
        if not isinstance(entry, RequestSpec):
            try:
                self.changed = self.changed.tried(entry.change)
            except Unusable as error:
                there = locate(doc, [*where, "change"]) if doc is not None else spot
                raise Unusable(problem._replace(spot=there) for problem in error.problems) from None
            return Change(entry, spot)
        name = entry.caller or "script"
        problems = []
        if (name in self.spec.callers and self.spec.callers[name].kind == "script") or name not in self.spec.callers:
            for key in ("credentials", "mode", "redirect", "cache"):
                if getattr(entry, key) is not None:
                    there = locate(doc, [*where, key], key=True) if doc is not None else spot
                    problems.append(Problem(there, f"{key} is a browser's", "name a caller of kind browser"))
        if name not in self.spec.callers and name != "script":
            there = locate(doc, [*where, "caller"]) if doc is not None else spot
            problems.append(Problem(there, f"there is no caller '{name}'", near(name, self.spec.callers)))
        caller = self.spec.callers.get(name, SCRIPT)
        if entry.sign is not None or entry.expect is not None or entry.expect_in:
            found = check_request(entry, self.service, doc, where)
            problems += found if doc is not None else [problem._replace(spot=spot) for problem in found]
        if problems:
            raise Unusable(problems)
        try:
            return Recipe(entry, spot, self.spec.base, name, caller, self.service, self.read_file)
        except OSError as error:
            what, _, mend = str(error).partition("; ")
            there = locate(doc, [*where, "file"]) if doc is not None else spot
            raise Unusable([Problem(there, what, mend)]) from None


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
        known = [*service.spec.environments, "production"]
        if name not in known:
            spot = locate(doc, [*where, "expect-in", name], key=True)
            problems.append(Problem(spot, f"the pipeline has no environment '{name}'", near(name, known)))
    return problems
