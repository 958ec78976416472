"""A trace made ready for a pipeline: its document validated, names looked up, requests built."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from ipaddress import ip_address
from typing import NamedTuple

from pydantic import ValidationError

from patient_usher.core.engine.bind.request_templates import PLAIN, Entry, RequestTemplate, url_of
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.compile.compiler import changed
from patient_usher.core.engine.compile.warnings import types_raised
from patient_usher.core.http.urls import Url
from patient_usher.core.model.answer_factory import ReadFile
from patient_usher.core.model.document import Problem, Spot, Unusable, did_you_mean, locate
from patient_usher.core.model.enumerations import CACHE_STATES, LEVELS, OUTCOMES, WHY
from patient_usher.core.model.errors import type_hint
from patient_usher.core.model.expect import Expect
from patient_usher.core.model.trace import CallerSpec, ChangeSpec, RequestSpec, SendLine, SignSpec, TraceSpec
from patient_usher.core.model.validation_messages import problems_of
from patient_usher.core.model.values import PLACEHOLDER

SCRIPT = CallerSpec.model_construct()
"""The caller of requests that name none."""


class BoundTrace(NamedTuple):
    """A trace ready to be replayed, and what there is to say about it.

    ``shown`` has for each request (of one that streams, for the first few) its label and request line,
    so that a table knows how wide it gets. ``base`` is the origin of paths.
    """

    name: str
    starts: int
    entries: Iterable[Entry]
    notes: list[str]
    ids: list[str]
    shown: list[tuple[str, str]]
    streams: bool = False
    changes: bool = False
    base: str = ""


def read_spec(doc: object) -> TraceSpec:
    """A trace document, or the header of one that streams, as its model. Raises Unusable."""
    if not isinstance(doc, dict):
        raise Unusable([Problem(locate(doc, ()), "a trace must be a mapping", "start with patient-usher: trace/1")])
    if str(doc.get("patient-usher", "")).startswith("pipeline/"):
        spot = locate(doc, ["patient-usher"])
        raise Unusable([Problem(spot, "this is a pipeline, no trace", "name the pipeline first, then the trace")])
    try:
        return TraceSpec.model_validate(doc)
    except ValidationError as error:
        raise Unusable(problems_of(error, doc, TraceSpec)) from None


def prepare(
    spec: TraceSpec,
    doc: object,
    name: str,
    compiled: CompiledPipeline,
    read_file: ReadFile,
    notes: Iterable[str] = (),
    *,
    known_only: bool = False,
) -> BoundTrace:
    """A trace in memory made ready for a pipeline; ``doc`` knows the places. Raises Unusable with every problem.

    ``known_only``: what is expected of stages, routes and environments that the pipeline lacks is left out, and noted.
    """
    problems: list[Problem] = []
    entries: list[Entry] = []
    ids: set[str] = set()
    maker = Maker(spec, compiled, read_file, known_only=known_only)
    for at, entry in enumerate(spec.requests):
        where: list[str | int] = ["requests", at]
        if isinstance(entry, RequestSpec):
            if entry.id in ids:
                spot = locate(doc, [*where, "id"])
                problems.append(Problem(spot, f"the id '{entry.id}' is taken", "give each request an id of its own"))
            ids.add(entry.id)
        try:
            entries.append(maker.make(entry, at, locate(doc, where), doc, where))
        except Unusable as error:
            problems += error.problems
    if problems:
        raise Unusable(problems)
    requests = [entry for entry in spec.requests if isinstance(entry, RequestSpec)]
    return BoundTrace(
        spec.name or name,
        spec.starts,
        entries,
        [*notes, *maker.notes],
        [request.id for request in requests],
        [(_label(request), _line(request, spec.callers)) for request in requests],
        changes=len(requests) < len(entries),
        base=spec.base.origin,
    )


def _label(request: RequestSpec) -> str:
    return request.id if request.times == 1 else f"{request.id} ×{request.times}"


def _line(request: RequestSpec, callers: Mapping[str, CallerSpec]) -> str:
    """The request line, with room for what placeholders will become, and for a preflight's method."""
    text = PLACEHOLDER.sub("x" * 24, request.send.text)
    browser = request.caller is not None and request.caller in callers and callers[request.caller].kind == "browser"
    return f"OPTIONS {request.send.target}" if browser and request.send.method != "GET" else text


_REMEMBERED = 5_000
"""How many request lines and senders of a trace in bulk are kept."""


class Maker:
    """Makes entries of one trace ready for a pipeline, one after the other, and checks that they fit it."""

    def __init__(
        self, spec: TraceSpec, compiled: CompiledPipeline, read_file: ReadFile, *, known_only: bool = False
    ) -> None:
        self.spec, self.read_file, self.known_only = spec, read_file, known_only
        self.notes: list[str] = []
        """What was left out of what is expected, since the pipeline doesn't know it: a sentence for each name."""
        self.compiled = compiled
        """As it is after the changes so far."""
        self._lines: dict[str, tuple[SendLine, Url]] = {}
        self._senders: dict[tuple[str, str | None], CallerSpec] = {}

    def make(
        self,
        entry: RequestSpec | ChangeSpec,
        order: int,
        spot: Spot,
        doc: object = None,
        where: Sequence[str | int] = (),
    ) -> Entry:
        """One entry made ready. Raises Unusable, with places in ``doc`` below ``where``, or else at ``spot``."""
        if isinstance(entry, RequestSpec):
            request_template = self.template(entry, spot, doc, where)
            return Entry(entry.id, order, entry.at, entry.after, spot, request_template, took=entry.took)
        try:
            self.compiled = changed(self.compiled, entry.change)
        except Unusable as error:
            there = locate(doc, [*where, "change"]) if doc is not None else spot
            raise Unusable(problem._replace(spot=there) for problem in error.problems) from None
        return Entry("", order, entry.at, entry.after, spot, None, entry)

    def plain(
        self, send: str, caller: str | None, headers: Mapping[str, str], address: str | None = None
    ) -> RequestTemplate | None:
        """A request with nothing but a request line and header fields; None where this takes a closer look."""
        name = caller or "script"
        known = self.spec.callers
        if name not in known and name != "script":
            return None
        try:
            line, url = self._line(send)
            return RequestTemplate(
                PLAIN, line, headers, self.spec.base, name, self._sender(name, address), self.read_file, url
            )
        except ValueError:
            return None

    def _line(self, send: str) -> tuple[SendLine, Url]:
        """A request line without placeholders, read once however often it comes. Raises ValueError."""
        found = self._lines.get(send)
        if found is None:
            if len(self._lines) >= _REMEMBERED:
                self._lines.clear()
            line = SendLine(send)
            if line.filled:
                raise ValueError(send)
            found = self._lines[send] = line, url_of(line.target, self.spec.base)
        return found

    def _sender(self, name: str, address: str | None) -> CallerSpec:
        """A caller, at another address than its own where one is given. Raises ValueError for what is none."""
        found = self._senders.get((name, address))
        if found is None:
            if len(self._senders) >= _REMEMBERED:
                self._senders.clear()
            found = self.spec.callers.get(name, SCRIPT)
            if address is not None:
                found = found.model_copy(update={"address": str(ip_address(address))})
            self._senders[name, address] = found
        return found

    def template(
        self, entry: RequestSpec, spot: Spot, doc: object = None, where: Sequence[str | int] = ()
    ) -> RequestTemplate:
        """One request made ready. Raises Unusable."""
        if self.known_only:
            entry = self._known_part(entry)
        name = entry.caller or "script"
        known = self.spec.callers
        caller = known.get(name, SCRIPT)
        problems = []
        if caller.kind == "script":
            for key in ("credentials", "mode", "redirect", "cache", "origin"):
                if getattr(entry, key) is not None:
                    there = locate(doc, [*where, key], key=True)
                    problems.append(Problem(there, f"{key} is a browser's", "name a caller of kind browser"))
        if name not in known and name != "script":
            problems.append(
                Problem(locate(doc, [*where, "caller"]), f"there is no caller '{name}'", did_you_mean(name, known))
            )
        if entry.sign is not None:
            problems += _check_sign(entry.sign, self.compiled, doc, where)
        if entry.expect is not None or entry.expect_in:
            problems += _check_expect(entry, self.compiled, doc, where)
        if problems:
            raise Unusable(problems if doc is not None else (problem._replace(spot=spot) for problem in problems))
        try:
            sender = self._sender(name, entry.address)
            return RequestTemplate(entry, entry.send, entry.headers, self.spec.base, name, sender, self.read_file)
        except OSError as error:
            what, _, mend = str(error).partition("; ")
            there = locate(doc, [*where, "file"]) if doc is not None else spot
            raise Unusable([Problem(there, what, mend)]) from None

    def _known_part(self, entry: RequestSpec) -> RequestSpec:
        """The request with what can be expected of this pipeline."""
        expects: dict[str, Expect] = {}
        given = {"expect": entry.expect, **entry.expect_in} if entry.expect is not None else dict(entry.expect_in)
        environments = {*self.compiled.spec.environments, "production"}
        for where, expect in given.items():
            if where != "expect" and where not in environments:
                self._leave_out(f"environment '{where}'")
                continue
            kept = {key: getattr(expect, key) for key in expect.model_fields_set}
            for key, sort, name in _names_of(expect):
                if not self._knows(sort, name):
                    self._leave_out(f"{sort} '{name}'")
                    kept.pop(key, None)
            expects[where] = Expect.model_construct(expect.model_fields_set & kept.keys(), **kept)
        first = expects.pop("expect", None)
        return entry.model_copy(update={"expect": first, "expect_in": expects})

    def _knows(self, sort: str, name: str) -> bool:
        if sort == "route":
            return any(item.route.id == name for item in self.compiled.placed)
        return name in self.compiled.options or name in ("router", "handler", "server", "caller")

    def _leave_out(self, what: str) -> None:
        note = f"not applicable: what is expected of the {what}, which this pipeline doesn't have"
        if note not in self.notes:
            self.notes.append(note)


def _names_of(expect: Expect) -> Iterator[tuple[str, str, str]]:
    """What an expectation names of the pipeline: its key, of which sort the name is, and the name."""
    for key in ("order", "ran", "skipped", "answered_by", "refused_by", "raised_by", "route"):
        value = getattr(expect, key)
        for name in value if isinstance(value, list) else [value]:
            if isinstance(name, str) and name not in ("missing", "present"):
                yield key, "route" if key == "route" else "stage", name
    if expect.log is not None and expect.log.stage is not None:
        yield "log", "stage", expect.log.stage


def _referrer(problems: list[Problem], doc: object, where: Sequence[str | int]) -> Callable[..., None]:
    """A function that complains of names that the pipeline doesn't have."""

    def refer(sort: str, name: str, known: Iterable[str], *path: str | int) -> None:
        if name not in (known := list(known)):
            spot = locate(doc, [*where, *path])
            problems.append(Problem(spot, f"the pipeline has no {sort} '{name}'", did_you_mean(name, known)))

    return refer


def _check_sign(sign: SignSpec, compiled: CompiledPipeline, doc: object, where: Sequence[str | int]) -> list[Problem]:
    """Whether the pipeline has what it takes to mint this credential."""
    problems: list[Problem] = []
    refer = _referrer(problems, doc, where)
    accounts, keys = compiled.spec.accounts, compiled.setup.keys
    for sort in SignSpec.SORTS:
        if (name := getattr(sign, sort)) is not None:
            refer("account", name, accounts, "sign", sort.replace("_", "-"))
    if sign.keys is not None:
        refer("signing key", sign.keys, keys, "sign", "keys")

    def lacks(what: str, mend: str) -> None:
        problems.append(Problem(locate(doc, [*where, "sign"]), what, mend))

    if sign.bearer is not None and sign.keys is None and not compiled.credential_defaults.bearer.keys:
        mend = "add one under signing-keys, with a secret or a private part"
        lacks("the pipeline has no key to sign a token with", mend)
    chosen = keys.get(sign.keys) if sign.keys else None
    if chosen is not None and chosen.sign is None:
        lacks(f"the key '{sign.keys}' has no private part", "tokens can only be checked with it")
    if sign.api_key in accounts and not accounts[sign.api_key or ""].api_keys:
        lacks(f"the account '{sign.api_key}' has no key", "add api-keys to it in the pipeline")
    if sign.basic in accounts and accounts[sign.basic or ""].password is None:
        lacks(f"the account '{sign.basic}' has no password", "add one to it in the pipeline")
    return problems


def _check_expect(
    entry: RequestSpec, compiled: CompiledPipeline, doc: object, where: Sequence[str | int]
) -> list[Problem]:
    """Names in what is expected that the pipeline must have."""
    problems: list[Problem] = []
    refer = _referrer(problems, doc, where)
    stages = [*compiled.options, "router", "handler"]
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
        for key, words in (("outcome", OUTCOMES), ("why", WHY), ("cache", CACHE_STATES)):
            value = getattr(expect, key)
            for name in value if isinstance(value, list) else [value]:
                if isinstance(name, str) and name not in words and name not in ("missing", "present"):
                    spot = locate(doc, [*where, *path, key])
                    problems.append(Problem(spot, f"'{name}' is no {key} that there is", did_you_mean(name, words)))
        for name in expect.raised if isinstance(expect.raised, list) else [expect.raised]:
            there = types_raised(compiled) if isinstance(name, str) and name not in ("missing", "present") else None
            if there is None or name in there:
                continue
            if (hint := type_hint(str(name), there)).startswith("did"):  # another trace's pipeline may raise any other
                problems.append(Problem(locate(doc, [*where, *path, "raised"]), f"nothing raises '{name}' here", hint))
        if expect.log is not None:
            if expect.log.stage is not None:
                refer("stage", expect.log.stage, [*stages, "server"], *path, "log", "stage")
            if expect.log.level is not None and expect.log.level not in LEVELS:
                spot = locate(doc, [*where, *path, "log", "level"])
                problems.append(
                    Problem(spot, f"'{expect.log.level}' is no level", did_you_mean(expect.log.level, LEVELS))
                )
        if isinstance(expect.route, str) and expect.route not in ("missing", "present"):
            refer("route", expect.route, [item.route.id for item in compiled.placed], *path, "route")
        if expect.tally is not None and entry.times == 1:
            problems.append(
                Problem(
                    locate(doc, [*where, *path, "tally"]),
                    "a tally needs repetitions",
                    "add times: N to the request",
                )
            )
    for name in entry.expect_in:
        known = [*compiled.spec.environments, "production"]
        if name not in known:
            spot = locate(doc, [*where, "expect-in", name], key=True)
            problems.append(Problem(spot, f"the pipeline has no environment '{name}'", did_you_mean(name, known)))
    return problems
