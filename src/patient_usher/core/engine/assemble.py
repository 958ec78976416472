"""From a pipeline document to a service, or to everything that is wrong with it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any

from pydantic import ValidationError

from patient_usher.core.engine.desk import Desk
from patient_usher.core.engine.handlers import Handler, make_handler
from patient_usher.core.engine.records import Store, read_rows
from patient_usher.core.engine.service import MARKER, PlacedRoute, Service, place_routes
from patient_usher.core.model.answers import ReadFile
from patient_usher.core.model.document import Path, Problem, Unusable, locate, near, twin
from patient_usher.core.model.errors import ErrorTypes
from patient_usher.core.model.invalid import problems_of
from patient_usher.core.model.overlays import apply_environments, apply_overlay
from patient_usher.core.model.pipeline import (
    Access,
    GroupSpec,
    HandlerSpec,
    PipelineSpec,
    RouteSpec,
    StageOptions,
    spell_out,
    stage_lists,
)
from patient_usher.core.model.tokens import SigningKey, load_key
from patient_usher.core.stages import base, kind, kinds


class _Findings:
    """Problems of one document, each at its place."""

    def __init__(self, doc: Any) -> None:
        self.doc = doc
        self.problems: list[Problem] = []

    def add(self, path: Iterable[str | int], what: str, mend: str = "", *, key: bool = False) -> None:
        self.problems.append(Problem(locate(self.doc, path, key=key), what, mend))

    def add_error(self, path: Iterable[str | int], error: Exception) -> None:
        """An error whose words are ``what; mend``."""
        what, _, mend = str(error).partition("; ")
        self.add(path, what, mend)

    def stop(self) -> None:
        if self.problems:
            raise Unusable(self.problems)


def assemble(
    doc: Any,
    *,
    environments: Iterable[str] | None = None,
    overlays: Iterable[tuple[Any, str]] = (),
    read_file: ReadFile,
    load_python: Callable[[str], Any] | None = None,
    seed: int = 0,
    previous: Service | None = None,
) -> Service:
    """Make a service of a pipeline document.

    ``environments``: names laid on, in order; None for those that the file names itself.
    ``overlays``: further overlays, each with what to call it in messages. ``load_python`` finds
    the user's own code, None where it isn't allowed. ``previous``: the service whose state goes on.
    Raises Unusable with every problem that could be found.
    """
    doc = twin(doc)
    found = _Findings(doc)
    if not isinstance(doc, dict):
        found.add((), "a pipeline must be a mapping", "start with patient-usher: pipeline/1")
        found.stop()
    chosen = _lay_on(doc, found, environments, overlays)
    found.stop()
    options, places = _read_stages(found)
    try:
        spec = PipelineSpec.model_validate(doc)
    except ValidationError as error:
        found.problems += problems_of(error, doc, PipelineSpec)
        raise Unusable(found.problems) from None
    keys = _load_keys(spec, found)
    _check_stages(spec, options, places, found)
    routes = _check_routes(spec, found)
    _check_errors(spec, found)
    _check_accounts(spec, found)
    found.stop()

    setup = _set_up(spec, chosen, keys, read_file, load_python, seed, previous)
    for name, records in spec.records.items():
        if name in setup.stores:
            continue
        try:
            setup.stores[name] = Store(name, records, read_rows(records, read_file))
        except (OSError, ValueError) as error:
            found.add_error(["records", name, *(["from"] if records.from_ else ["rows"])], error)
    found.stop()
    placed = place_routes(spec)
    stages = _make_stages(spec, options, setup, places, found, previous)
    handlers = _make_handlers(placed, setup, routes, found, previous)
    found.stop()

    def change(service: Service, overlay: Any, keeps_state: bool) -> Service:
        return assemble(
            doc,
            environments=chosen,
            overlays=[(overlay, "a change")],
            read_file=read_file,
            load_python=load_python,
            seed=seed,
            previous=service if keeps_state else None,
        )

    # What was laid on is part of the document now; a later change must not lay it on again.
    doc.pop("environments", None)
    service = Service(spec, options, setup, placed, stages, handlers, change)
    service.warnings = _warnings(service, routes, doc)
    return service


def _warnings(service: Service, places: Mapping[str, Path], doc: Any) -> list[Problem]:
    """What can be used, but will hardly be meant."""
    found = _Findings(doc)
    spec = service.spec
    held = {"role": set[str](), "scope": set[str]()}
    for account in spec.accounts.values():
        held["role"].update(account.roles)
        held["scope"].update(account.scopes)
    for group in _groups(spec.groups):
        if group.desk is not None:
            held["role"].update(group.desk.signed_up_as)
    for item in service.placed if spec.accounts else ():
        access: Access | None = item.spec.access
        if access is None or item.desk is not None:
            continue
        for name in access.names:
            if name not in held[access.who]:
                mend = near(name, sorted(held[access.who]))
                where = (*places[item.route.id], "access", access.who)
                found.add(where, f"warning: no account has the {access.who} '{name}'", mend)
    for name, key in spec.signing_keys.items():
        octets = len((key.secret or "").encode())
        if key.algorithm == "HS256" and octets < 32:
            what = f"warning: the secret of '{name}' has {octets} octets; HS256 asks for 32 (RFC 7518 3.2)"
            found.add(["signing-keys", name, "secret"], what, "write a longer one")
    for item in service.placed:
        cost = item.spec.cost
        for id_ in service.order(item) if cost is not None else ():
            quota = getattr(service.options.get(id_), "quota", None)
            if (
                quota is not None
                and cost is not None
                and cost > max(quota, getattr(service.options[id_], "burst", 0) or 0)
            ):
                what = f"warning: the cost {cost} is over the quota {quota} of '{id_}': the route can never pass"
                found.add((*places[item.route.id], "cost"), what, "lower the cost or raise the quota")
    return found.problems


def _groups(groups: list[GroupSpec]) -> Iterable[GroupSpec]:
    for group in groups:
        yield group
        yield from _groups(group.groups)


def _lay_on(
    doc: dict[str, Any], found: _Findings, environments: Iterable[str] | None, overlays: Iterable[tuple[Any, str]]
) -> list[str]:
    """Lay environments and overlays on the document. Returns the environments' names."""
    spell_out(doc)
    named = doc.get("environment", [])
    chosen = list(environments) if environments is not None else [named] if isinstance(named, str) else named
    if not isinstance(chosen, list) or not all(isinstance(name, str) for name in chosen):
        chosen = []  # the model says what is wrong with it
    if "environments" in doc:
        found.problems += apply_environments(doc, chosen)
    elif environments is not None and (unknown := [name for name in chosen if name != "production"]):
        found.add((), f"there is no environment '{unknown[0]}'", "add it under environments")
    for overlay, what in overlays:
        found.problems += apply_overlay(doc, overlay, what)
    spell_out(doc)
    return chosen


def _read_stages(found: _Findings) -> tuple[dict[str, StageOptions], dict[str, Path]]:
    """Every stage's options and place by id, each read by its kind."""
    options: dict[str, StageOptions] = {}
    places: dict[str, Path] = {}
    for stages, path in stage_lists(found.doc):
        for at, entry in enumerate(stages):
            where = (*path, at)
            if entry == MARKER:
                continue
            if not isinstance(entry, dict):
                found.add(where, "a stage is a kind or a mapping", "write - access-log, or - {id: NAME, kind: KIND}")
                continue
            name = entry.get("kind")
            if not isinstance(name, str) or name not in kinds():
                what = f"there is no kind '{name}'" if name is not None else "the stage has no kind"
                found.add((*where, "kind") if "kind" in entry else where, what, near(str(name), kinds()))
                continue
            try:
                option = kind(name).options.model_validate(entry)
            except ValidationError as error:
                found.problems += problems_of(error, found.doc, kind(name).options, where)
                continue
            if option.id in options:
                found.add((*where, "id"), f"the stage id '{option.id}' is taken", "give each stage an id of its own")
            options[option.id], places[option.id] = option, where
    return options, places


def _load_keys(spec: PipelineSpec, found: _Findings) -> dict[str, SigningKey]:
    keys: dict[str, SigningKey] = {}
    for id_, key in spec.signing_keys.items():
        try:
            keys[id_] = load_key(id_, key)
        except ValueError as error:
            what = f"the key '{id_}' can't be used: {str(error).splitlines()[0]}"
            found.add(["signing-keys", id_], what, f"give a PEM key that fits {key.algorithm}")
    return keys


def _check_stages(
    spec: PipelineSpec, options: Mapping[str, StageOptions], places: Mapping[str, Path], found: _Findings
) -> None:
    """References from stages, and the routes marker."""
    known: dict[str, Iterable[str]] = {"signing key": spec.signing_keys, "account": spec.accounts, "stage": options}
    for id_, option in options.items():
        for sort, name, path in option.references():
            if name not in known[sort]:
                found.add((*places[id_], *path), f"there is no {sort} '{name}'", near(name, known[sort]))
    for at, name in enumerate(spec.deployment.shared_state):
        if name not in options:
            found.add(["deployment", "shared-state", at], f"there is no stage '{name}'", near(name, options))
        elif not kind(options[name].kind).stage.keeps_state:
            what = f"'{name}' keeps no state that could be shared"
            found.add(["deployment", "shared-state", at], what, "name a stage that counts or stores")
    markers = sum(entry == MARKER for stages, _ in stage_lists(found.doc) for entry in stages)
    top = sum(entry == MARKER for entry in spec.stages)
    where = ["stages"]
    if spec.flow == "sequential" and top != 1:
        what = "a sequential flow has no routes marker" if top == 0 else f"the routes marker stands here {top} times"
        found.add(where, what, "put - routes once into the server-wide stages, where the routes stand")
    elif (spec.flow == "nested" and markers) or markers > top:
        mend = "it belongs once into the server-wide stages of a sequential flow"
        found.add(where, "a routes marker stands where none belongs", mend)
    if spec.flow == "sequential" and spec.listed == "innermost-first":
        found.add(
            ["listed"], "listed belongs to the nested flow", "a sequential flow runs as it is listed; leave it out"
        )


def _check_routes(spec: PipelineSpec, found: _Findings) -> dict[str, Path]:
    """Ids and paths that are taken, and names that routes refer to. Returns each route's place."""
    ids: dict[str, str] = {}
    taken: dict[tuple[str, Any], str] = {}
    places: dict[str, Path] = {}

    def claim(id_: str, sort: str, path: Path) -> None:
        if id_ in ids:
            found.add((*path, "id"), f"the id '{id_}' is taken by another {ids[id_]}", "give it an id of its own")
        ids[id_] = sort

    def walk(node: GroupSpec | PipelineSpec, path: Path, prefix: tuple[Any, ...]) -> None:
        for at, route in enumerate(node.routes):
            where = (*path, "routes", at)
            places[route.id] = where
            claim(route.id, "route", where)
            place = (route.at.method, prefix + _shape(route.at.template.segments))
            if place in taken:
                found.add((*where, "at"), f"'{taken[place]}' has this method and path already", "give one another path")
            taken[place] = route.id
            _check_route(spec, route, where, found)
        for at, group in enumerate(node.groups):
            where = (*path, "groups", at)
            claim(group.id, "group", where)
            if group.desk is not None:
                desk, at_desk = group.desk, (*where, "desk")
                if desk.keys is not None and desk.keys not in spec.signing_keys:
                    mend = near(desk.keys, spec.signing_keys)
                    found.add((*at_desk, "keys"), f"there is no signing key '{desk.keys}'", mend)
                elif (
                    desk.keys is not None
                    and spec.signing_keys[desk.keys].algorithm != "HS256"
                    and desk.gives == "cookie"
                ):
                    found.add((*at_desk, "keys"), "a cookie is signed with a secret", "name an HS256 key")
                for action in ("sign-in", "sign-up", "refresh", "sign-out"):
                    places[f"{group.id}.{action}"] = at_desk
            walk(group, where, prefix + _shape(group.prefix.segments))

    walk(spec, (), ())
    return places


def _shape(segments: Iterable[tuple[str, str]]) -> tuple[Any, ...]:
    """Segments with parameters' names left out: what makes two templates the same."""
    return tuple((what, text if what == "literal" else "") for what, text in segments)


def _check_route(spec: PipelineSpec, route: RouteSpec, where: Path, found: _Findings) -> None:
    handler: HandlerSpec = route.handler
    known = [item.route.id for item in place_routes(spec)] if route.clears else []
    for at, name in enumerate(route.clears):
        if name not in known:
            found.add((*where, "clears", at), f"there is no route '{name}' to clear", near(name, known))
    if handler.records is not None and handler.records not in spec.records:
        mend = near(handler.records, spec.records)
        found.add((*where, "handler", "records"), f"there are no records '{handler.records}'", mend)
    if route.input is None or not route.input.schemas():
        return
    from jsonschema import Draft202012Validator
    from jsonschema.exceptions import SchemaError

    for name, schema in route.input.schemas().items():
        try:
            Draft202012Validator.check_schema(schema)
        except SchemaError as error:
            found.add((*where, "input", name, *error.absolute_path), f"this is no JSON Schema: {error.message}")


def _check_errors(spec: PipelineSpec, found: _Findings) -> None:
    errors = ErrorTypes(spec.errors)
    for name, error in spec.errors.items():
        path = ["errors", name, "is-a"]
        if error.is_a is not None and error.is_a not in errors:
            found.add(path, f"there is no error type '{error.is_a}'", near(error.is_a, errors.names()))
        elif error.is_a is not None and (last := spec.errors.get(errors.lineage(name)[-1])) and last.is_a:
            found.add(path, f"'{name}' is a kind of itself", "end the chain at a built-in type")
    for name, records in spec.records.items():
        for field, type_ in records.unique.items():
            if type_ not in errors:
                mend = near(type_, errors.names())
                found.add(["records", name, "unique", field], f"there is no error type '{type_}'", mend)


def _check_accounts(spec: PipelineSpec, found: _Findings) -> None:
    seen: dict[str, str] = {}
    for name, account in spec.accounts.items():
        for key in account.api_keys:
            if key in seen:
                what = f"{name} and {seen[key]} have the same key"
                found.add(["accounts", name, "api-keys"], what, "give each account keys of its own")
            seen[key] = name


def _set_up(
    spec: PipelineSpec,
    chosen: list[str],
    keys: dict[str, SigningKey],
    read_file: ReadFile,
    load_python: Callable[[str], Any] | None,
    seed: int,
    previous: Service | None,
) -> base.Setup:
    old = previous.setup if previous is not None else None
    accounts = old.accounts if old is not None else {}
    accounts.update(spec.accounts)
    by_key = old.by_api_key if old is not None else {}
    by_key.clear()
    by_key.update({key: name for name, account in accounts.items() for key in account.api_keys})
    return base.Setup(
        spec=spec,
        environment=tuple(chosen) or ("production",),
        errors=ErrorTypes(spec.errors),
        keys=keys,
        read_file=read_file,
        accounts=accounts,
        by_api_key=by_key,
        seed=seed,
        load_python=load_python,
        sessions=old.sessions if old is not None else {},
        signed_out=old.signed_out if old is not None else set(),
        stores=old.stores if old is not None else {},
    )


def _make_stages(
    spec: PipelineSpec,
    options: Mapping[str, StageOptions],
    setup: base.Setup,
    places: Mapping[str, Path],
    found: _Findings,
    previous: Service | None,
) -> list[dict[str, base.Stage]]:
    """Each instance's stages. One that is as before goes on with its state; a changed one adopts it."""
    shared = set(spec.deployment.shared_state)
    instances: list[dict[str, base.Stage]] = []
    for number in range(spec.deployment.instances):
        own: dict[str, base.Stage] = {}
        for id_, option in options.items():
            old = previous.stages[number].get(id_) if previous and number < len(previous.stages) else None
            if number and (id_ in shared or id_ not in instances[0]):
                if id_ in instances[0]:
                    own[id_] = instances[0][id_]
                continue
            if old is not None and previous is not None and previous.options[id_] == option:
                own[id_] = old
                continue
            try:
                own[id_] = kind(option.kind).stage(option, setup)
            except (OSError, ValueError, base.NotAllowed) as error:
                found.add_error(places[id_], error)
                continue
            if old is not None and type(old) is type(own[id_]):
                own[id_].adopt(old)
        instances.append(own)
    return instances


def _make_handlers(
    placed: list[PlacedRoute], setup: base.Setup, places: Mapping[str, Path], found: _Findings, previous: Service | None
) -> dict[str, base.Stage]:
    handlers: dict[str, base.Stage] = {}
    desks: dict[str, Desk] = {}
    before = {item.route.id: item.spec for item in previous.placed} if previous is not None else {}
    for item in placed:
        id_ = item.route.id
        if previous is not None and item.desk is None and before.get(id_) == item.spec:
            handlers[id_] = previous.handlers[id_]
            continue
        try:
            if item.desk is not None:
                group = item.groups[-1]
                assert group.desk is not None
                desk = desks.setdefault(group.id, Desk(group.id, group.desk, setup))
                handlers[id_] = Handler(0, desk.work(item.desk))
            else:
                handlers[id_] = make_handler(item.spec.handler, setup)
        except (OSError, ValueError, base.NotAllowed) as error:
            found.add_error((*places[id_], "handler"), error)
    return handlers
