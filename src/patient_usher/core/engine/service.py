"""From a pipeline document to a service that exchanges can be walked through."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any, NamedTuple

from pydantic import ValidationError

from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Request
from patient_usher.core.model.answers import ReadFile
from patient_usher.core.model.document import Problem, Unusable, locate, near, twin
from patient_usher.core.model.errors import ErrorTypes, refusal
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.invalid import problems_of
from patient_usher.core.model.overlays import apply_environments, apply_overlay
from patient_usher.core.model.pipeline import (
    Access,

    GroupSpec,
    HandlerSpec,
    PipelineSpec,
    RouteSpec,
    StageOptions,
    Template,
    spell_out,
    stage_lists,
)
from patient_usher.core.model.scalars import request_pattern
from patient_usher.core.model.tokens import SigningKey, load_key
from patient_usher.core.stages import base, kind, kinds
from patient_usher.core.engine.handlers import make_handler
from patient_usher.core.engine.router import Route, Router
from patient_usher.core.engine.run import Plan, PlanStep

MARKER = "routes"


class PlacedRoute(NamedTuple):
    """A route with everything that its place gives it: ids of groups, outermost first."""

    route: Route
    spec: RouteSpec
    groups: tuple[GroupSpec, ...]


class Bearer(NamedTuple):
    """What a token must say to count: for minting some that do."""

    keys: tuple[str, ...] = ()
    issuer: str | None = None
    audience: str | None = None


class Wallet(NamedTuple):
    """How the pipeline's callers show who they are, as its stages ask for it."""

    bearer: Bearer
    key_place: tuple[str, str] | None


class _RouterStage(base.Stage):
    """The routing position. The route was looked up on arrival; here it is acted on."""

    def way_in(self, x: Exchange) -> base.Effect:  # type: ignore[override]
        if x.route is not None:
            x.note = {"route": x.route.id}
            return None
        allowed: tuple[str, ...] = x.path_values.get("", ())  # type: ignore[assignment]
        if not allowed:
            return refusal("NotFound", "no-route", f"no route has the path {x.request.url.path}")
        # RFC 9110 15.5.6: 405 says what is allowed.
        names = ", ".join(allowed)
        message = f"{x.request.url.path} has no route for {x.request.method}, only for {names}"
        return refusal("MethodNotAllowed", "method-not-allowed", message, fields=Fields([("Allow", names)]))


class Service:
    """A pipeline ready to run: routes, plans, and what callers may ask of it."""

    def __init__(self, spec: PipelineSpec, options: Mapping[str, StageOptions], setup: base.Setup) -> None:
        self.spec = spec
        self.options = options
        self.setup = setup
        self.name = spec.name
        self.environment = setup.environment
        self.sequential = spec.flow == "sequential"
        self.placed = list(_placed(spec))
        self.router = Router(item.route for item in self.placed)
        self.wallet = self._wallet()
        self.sets = {name: id_ for id_, o in options.items() if o.enabled for name in o.sets()}
        self.stages = {id_: kind(o.kind).stage(o, setup) for id_, o in options.items()}
        self._steps = {id_: self._step(o) for id_, o in options.items()}
        self._router_step = PlanStep(
            "router", _RouterStage(), raises=spec.refuse == "raise" and not self.sequential, sequential=self.sequential, framed=False
        )
        self.handlers = {item.route.id: make_handler(item.spec.handler, setup) for item in self.placed}
        self._plans = {item.route.id: self._plan(item) for item in self.placed}
        self._unrouted = self._plan(None)

    def _step(self, options: StageOptions) -> PlanStep:
        stage = self.stages[options.id]
        refuse = options.refuse or ("raise" if getattr(stage, "always_raises", False) else self.spec.refuse)
        return PlanStep(
            options.id, stage, raises=refuse == "raise", sequential=self.sequential, passes_over=_passes_over(options)
        )

    def _listed(self, entries: Iterable[Any]) -> list[str]:
        """Stage ids of one list, outermost first."""
        ids = [entry if entry == MARKER else entry["id"] for entry in entries]
        return ids[::-1] if self.spec.listed == "innermost-first" and not self.sequential else ids

    def order(self, item: PlacedRoute | None) -> list[str]:
        """The ids of everything on a route's way, in running order, switched-off stages included."""
        before, after = self._listed(self.spec.stages), []
        if self.sequential:
            at = before.index(MARKER)
            before, after = before[:at], before[at + 1 :]
        if item is None:
            return [*before, *after, "router"] if self.sequential else [*before, "router"]
        inside = [id_ for group in item.groups for id_ in self._listed(group.stages)]
        return [*before, "router", *inside, *self._listed(item.spec.stages), "handler", *after]

    def _plan(self, item: PlacedRoute | None) -> Plan:
        steps = []
        for id_ in self.order(item):
            if id_ == "router":
                steps.append(self._router_step)
            elif id_ == "handler":
                assert item is not None
                handler = self.handlers[item.route.id]
                steps.append(PlanStep("handler", handler, raises=True, sequential=self.sequential, framed=False))
            elif self.options[id_].enabled:
                steps.append(self._steps[id_])
        return Plan(tuple(steps), self.sequential)

    def columns(self) -> list[str]:
        """Every stage that is switched on, the router and the handler, in an order that fits all routes."""
        ids: dict[str, None] = {}
        tail: dict[str, None] = {}
        for item in [*self.placed, None]:
            order = self.order(item)
            cut = order.index("handler") if "handler" in order else len(order)
            for part, target in ((order[:cut], ids), (order[cut:], tail)):
                for id_ in part:
                    if id_ in ("router", "handler") or self.options[id_].enabled:
                        target[id_] = None
        return [*(id_ for id_ in ids if id_ not in tail), *tail]

    def _wallet(self) -> Wallet:
        signing = [id_ for id_, key in self.setup.keys.items() if key.sign is not None]
        bearer, key_place = Bearer(tuple(signing)), None
        for options in reversed(self.options.values()):
            for scheme in getattr(options, "schemes", ()):
                if scheme.scheme == "bearer":
                    keys = tuple(name for name in scheme.keys if name in signing)
                    bearer = Bearer(keys or bearer.keys, scheme.issuer, scheme.audience)
                elif scheme.scheme == "api-key":
                    key_place = (scheme.in_, scheme.name)
        return Wallet(bearer, key_place)

    def changed(self, overlay: Any) -> Service:
        """The service after a change: later exchanges walk the new plans, stage state stays."""
        raise NotImplementedError

    def exchange(self, number: int, id_: str, request: Request, at: int) -> Exchange:
        """A new exchange at its place in front of the first stage."""
        x = Exchange(number, id_, request, at)
        route, values, allowed = self.router.find(request.method, request.url)
        if route is not None:
            x.route = route
            x.path_values = values
            x.plan = self._plans[route.id]
        else:
            x.plan = self._unrouted
            if allowed:
                x.path_values = {"": allowed}  # type: ignore[dict-item]
        x.environment = self.environment
        return x

    def missing(self, name: str, x: Exchange) -> str:
        """Words for a value that was never set: who should have set it."""
        text = f"{name} was never set"
        root, _, value = name.partition(".")
        if root != "context":
            return text
        setter = self.sets.get(value)
        if setter is None:
            return f"{text}, and no stage of the pipeline sets it"
        if any(step.id == setter for step in x.plan.steps):
            return f"{text}; {setter} sets it, but had not run, or its case did not fit"
        return f"{text}; {setter} sets it, but doesn't stand before this route"


def _passes_over(options: StageOptions) -> Callable[[Exchange], str | None] | None:
    """Why the stage does not meet an exchange: ``only``, ``except``, or None where it does."""
    only = [request_pattern(text) for text in options.only] if options.only is not None else None
    excepted = [request_pattern(text) for text in options.except_ or ()]
    if only is None and not excepted:
        return None

    def fits(patterns: list[Any], x: Exchange) -> bool:
        method, path = x.request.method, x.request.url.decoded_path
        return any((not methods or method in methods) and test(path) for methods, test in patterns)

    def reason(x: Exchange) -> str | None:
        if only is not None and not fits(only, x):
            return "only"
        return "except" if excepted and fits(excepted, x) else None

    return reason


def _placed(spec: PipelineSpec) -> Iterable[PlacedRoute]:
    """Every route with its groups, in the order of the file."""

    def walk(groups: list[GroupSpec], around: tuple[GroupSpec, ...], prefix: Template, access: Access | None) -> Iterable[PlacedRoute]:
        for group in groups:
            inner = (*around, group)
            longer = Template(prefix.text + group.prefix.text, prefix.segments + group.prefix.segments)
            held = group.access or access
            for route in group.routes:
                yield place(route, inner, longer, held)
            yield from walk(group.groups, inner, longer, held)

    def place(route: RouteSpec, groups: tuple[GroupSpec, ...], prefix: Template, access: Access | None) -> PlacedRoute:
        own: Template = route.at.template
        segments = own.segments if prefix.segments == () or own.text != "/" else (("literal", ""),)
        template = Template(prefix.text + own.text, prefix.segments + segments)
        ids = tuple(group.id for group in groups)
        return PlacedRoute(Route(route.id, route.at.method, template, route.access or access, route, ids), route, groups)

    for route in spec.routes:
        yield place(route, (), Template("", ()), None)
    yield from walk(spec.groups, (), Template("", ()), None)


def assemble(
    doc: Any,
    *,
    environments: Iterable[str] | None = None,
    overlays: Iterable[tuple[Any, str]] = (),
    read_file: ReadFile,
) -> Service:
    """Make a service of a pipeline document.

    ``environments``: names laid on, in order; None for those that the file names itself.
    ``overlays``: further overlays with what to call each in messages.
    Raises Unusable with every problem that could be found.
    """
    doc = twin(doc)
    if not isinstance(doc, dict):
        raise Unusable([Problem(locate(doc, ()), "a pipeline must be a mapping", "start with patient-usher: pipeline/1")])
    spell_out(doc)
    named = doc.get("environment", [])
    chosen = list(environments) if environments is not None else [named] if isinstance(named, str) else named
    problems: list[Problem] = []
    if isinstance(chosen, list) and all(isinstance(name, str) for name in chosen):
        problems += apply_environments(doc, chosen)
    else:
        chosen = []
    for overlay, what in overlays:
        problems += apply_overlay(doc, overlay, what)
    spell_out(doc)
    if problems:
        raise Unusable(problems)

    options, stage_problems = _read_stages(doc)
    problems += stage_problems
    spec: PipelineSpec | None = None
    try:
        spec = PipelineSpec.model_validate(doc)
    except ValidationError as error:
        problems += problems_of(error, doc, PipelineSpec)
    if spec is None:
        raise Unusable(problems)
    keys: dict[str, SigningKey] = {}
    for id_, key in spec.signing_keys.items():
        try:
            keys[id_] = load_key(id_, key)
        except ValueError as error:
            problems.append(Problem(locate(doc, ["signing-keys", id_]), f"the key '{id_}' can't be used: {error}", "give a PEM key that fits the algorithm"))
    problems += _check_references(doc, spec, options)
    if problems:
        raise Unusable(problems)
    by_api_key = {key: name for name, account in spec.accounts.items() for key in account.api_keys}
    setup = base.Setup(
        spec=spec,
        environment=tuple(chosen) or ("production",),
        errors=ErrorTypes(spec.errors),
        keys=keys,
        read_file=read_file,
        accounts=dict(spec.accounts),
        by_api_key=by_api_key,
    )
    try:
        return Service(spec, options, setup)
    except OSError as error:
        raise Unusable([Problem(locate(doc, ()), str(error), "name a file that can be read")]) from None


def _read_stages(doc: Any) -> tuple[dict[str, StageOptions], list[Problem]]:
    """Every stage's options by id, each read by its kind."""
    options: dict[str, StageOptions] = {}
    problems: list[Problem] = []
    for stages, path in stage_lists(doc):
        for at, entry in enumerate(stages):
            where = [*path, at]
            if entry == MARKER:
                continue
            if not isinstance(entry, dict):
                problems.append(Problem(locate(doc, where), "a stage is a kind or a mapping", "write - access-log, or - {id: NAME, kind: KIND}"))
                continue
            name = entry.get("kind")
            if not isinstance(name, str) or name not in kinds():
                spot = locate(doc, [*where, "kind"] if "kind" in entry else where)
                what = f"there is no kind '{name}'" if name is not None else "the stage has no kind"
                problems.append(Problem(spot, what, near(str(name), kinds())))
                continue
            try:
                option = kind(name).options.model_validate(entry)
            except ValidationError as error:
                problems += problems_of(error, doc, kind(name).options, where)
                continue
            if option.id in options:
                problems.append(Problem(locate(doc, [*where, "id"]), f"the stage id '{option.id}' is taken", "give each stage an id of its own"))
            options[option.id] = option
    return options, problems


def _check_references(doc: Any, spec: PipelineSpec, options: Mapping[str, StageOptions]) -> list[Problem]:
    """Duplicate and dangling ids, and what must fit together across the file."""
    problems: list[Problem] = []
    known: dict[str, Iterable[str]] = {
        "signing key": spec.signing_keys,
        "account": spec.accounts,
        "records": spec.records,
        "stage": options,
    }

    def refer(sort: str, name: str, path: Iterable[str | int]) -> None:
        if name not in known[sort]:
            problems.append(Problem(locate(doc, path), f"there is no {sort} '{name}'", near(name, known[sort])))

    for stages, path in stage_lists(doc):
        for at, entry in enumerate(stages):
            if isinstance(entry, dict) and entry.get("id") in options:
                for reference in options[entry["id"]].references():
                    refer(reference.sort, reference.name, (*path, at, *reference.path))
    problems += _check_routes(doc, spec)
    errors = ErrorTypes(spec.errors)
    for name, error in spec.errors.items():
        if error.is_a is not None and error.is_a not in errors:
            problems.append(Problem(locate(doc, ["errors", name, "is-a"]), f"there is no error type '{error.is_a}'", near(error.is_a, errors.names())))
        elif error.is_a is not None and errors.lineage(name)[-1] in spec.errors and spec.errors[errors.lineage(name)[-1]].is_a:
            problems.append(Problem(locate(doc, ["errors", name, "is-a"]), f"'{name}' is a kind of itself", "end the chain at a built-in type"))
    seen: dict[str, str] = {}
    for name, account in spec.accounts.items():
        for key in account.api_keys:
            if key in seen:
                problems.append(Problem(locate(doc, ["accounts", name, "api-keys"]), f"{name} and {seen[key]} have the same key", "give each account keys of its own"))
            seen[key] = name
    markers = sum(1 for stages, _ in stage_lists(doc) for entry in stages if entry == MARKER)
    top = sum(1 for entry in spec.stages if entry == MARKER)
    spot = locate(doc, ["stages"])
    if spec.flow == "sequential" and top != 1:
        what = "the sequential flow has no routes marker" if top == 0 else "the routes marker stands here twice"
        problems.append(Problem(spot, what, "put - routes once into the server-wide stages, where the routes stand"))
    elif spec.flow == "nested" and markers or markers > top:
        problems.append(Problem(spot, "a routes marker stands where none belongs", "it belongs into the server-wide stages of a sequential flow"))
    if spec.flow == "sequential" and spec.listed == "innermost-first":
        problems.append(Problem(locate(doc, ["listed"]), "listed belongs to the nested flow", "a sequential flow runs as it is listed; leave listed out"))
    return problems


def _check_routes(doc: Any, spec: PipelineSpec) -> list[Problem]:
    problems: list[Problem] = []
    ids: dict[str, str] = {}
    places: dict[tuple[str, Any], str] = {}

    def claim(id_: str, sort: str, path: list[str | int]) -> None:
        if id_ in ids:
            problems.append(Problem(locate(doc, [*path, "id"]), f"the id '{id_}' is taken by another {ids[id_]}", "give it an id of its own"))
        ids[id_] = sort

    def walk(node: GroupSpec | PipelineSpec, path: list[str | int], prefix: tuple[Any, ...]) -> None:
        for at, route in enumerate(node.routes):
            where = [*path, "routes", at]
            claim(route.id, "route", where)
            full = prefix + tuple(("literal", text) if what == "literal" else (what, "") for what, text in route.at.template.segments)
            place = (route.at.method, full)
            if place in places:
                problems.append(Problem(locate(doc, [*where, "at"]), f"'{places[place]}' has this method and path already", "give one of the two another path"))
            places[place] = route.id
            _check_handler(doc, spec, route.handler, [*where, "handler"], problems)
        for at, group in enumerate(node.groups):
            where = [*path, "groups", at]
            claim(group.id, "group", where)
            walk(group, where, prefix + tuple((what, text if what == "literal" else "") for what, text in group.prefix.segments))

    walk(spec, [], ())
    return problems


def _check_handler(doc: Any, spec: PipelineSpec, handler: HandlerSpec, path: list[str | int], problems: list[Problem]) -> None:
    if handler.records is not None and handler.records not in spec.records:
        problems.append(Problem(locate(doc, [*path, "records"]), f"there are no records '{handler.records}'", near(handler.records, spec.records)))


