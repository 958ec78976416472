"""Everything that can be wrong with a pipeline beyond its shape: names, paths and places that don't fit."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from patient_usher.core.engine.plan.route_table import PlacedRoute, place_routes
from patient_usher.core.handlers.desk import desk_routes
from patient_usher.core.model.document import Path, Problem, Unusable, did_you_mean, locate
from patient_usher.core.model.errors import ErrorTypes, type_hint
from patient_usher.core.model.handler_specs import HandlerSpec
from patient_usher.core.model.pipeline import MARKER, PipelineSpec, StageOptions, stage_lists
from patient_usher.core.model.routes import GroupSpec, RouteSpec
from patient_usher.core.model.schemas import schema_problems
from patient_usher.core.stages import kind


class Problems:
    """Problems of one document, each at its place."""

    def __init__(self, doc: object) -> None:
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


def check_stages(
    spec: PipelineSpec, options: Mapping[str, StageOptions], places: Mapping[str, Path], found: Problems
) -> None:
    """References from stages, and the routes marker."""
    known: dict[str, Iterable[str]] = {"signing key": spec.signing_keys, "account": spec.accounts, "stage": options}
    for id_, option in options.items():
        for sort, name, path in option.references():
            if name not in known[sort]:
                found.add((*places[id_], *path), f"there is no {sort} '{name}'", did_you_mean(name, known[sort]))
    for at, name in enumerate(spec.deployment.shared_state):
        if name not in options:
            found.add(["deployment", "shared-state", at], f"there is no stage '{name}'", did_you_mean(name, options))
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


def check_costs(
    placed: Iterable[PlacedRoute], options: Mapping[str, StageOptions], routes: Mapping[str, Path], found: Problems
) -> None:
    """Limits that a route's cost names."""
    limits = [id_ for id_, option in options.items() if option.limit() is not None]
    for item in placed:
        for name in item.spec.cost if isinstance(item.spec.cost, dict) else ():
            if name not in limits:
                what = f"there is no limit '{name}'"
                found.add((*routes[item.route.id], "cost", name), what, did_you_mean(name, limits))


def check_routes(spec: PipelineSpec, found: Problems, checked_schemas: dict[str, str]) -> dict[str, Path]:
    """Ids and paths that are taken, names that routes refer to, and their schemas. Returns each route's place.

    ``checked_schemas`` have been looked through before; those that are found to be in order join them.
    """
    ids: dict[str, str] = {}
    taken: dict[tuple[str, object], str] = {}
    places: dict[str, Path] = {}
    known = [item.route.id for item in place_routes(spec)]

    def claim(id_: str, sort: str, path: Path) -> None:
        if id_ in ids:
            found.add((*path, "id"), f"the id '{id_}' is taken by another {ids[id_]}", "give it an id of its own")
        ids[id_] = sort

    def occupy(route: RouteSpec, place: tuple[object, ...], path: Path, what: str = "this method and path") -> None:
        if (route.at.method, place) in taken:
            told = f"'{taken[route.at.method, place]}' has {what} already"
            found.add((*path, "at"), told, "give one another path")
        taken[route.at.method, place] = route.id

    def walk(node: GroupSpec | PipelineSpec, path: Path, prefix: tuple[object, ...]) -> None:
        for at, route in enumerate(node.routes):
            where = (*path, "routes", at)
            places[route.id] = where
            claim(route.id, "route", where)
            occupy(route, prefix + _shape(route.at.template.segments), where)
            _check_route(spec, route, where, known, found)
            _check_schemas(route, where, found, checked_schemas)
        for at, group in enumerate(node.groups):
            where = (*path, "groups", at)
            claim(group.id, "group", where)
            if group.desk is not None:
                desk, at_desk = group.desk, (*where, "desk")
                if desk.keys is not None and desk.keys not in spec.signing_keys:
                    mend = did_you_mean(desk.keys, spec.signing_keys)
                    found.add((*at_desk, "keys"), f"there is no signing key '{desk.keys}'", mend)
                elif (
                    desk.keys is not None
                    and spec.signing_keys[desk.keys].algorithm != "HS256"
                    and "cookie" in desk.gives
                ):
                    found.add((*at_desk, "keys"), "a cookie is signed with a secret", "name an HS256 key")
                for action, route in desk_routes(group):
                    places[f"{group.id}.{action}"] = at_desk
                    place = prefix + _shape(group.prefix.segments + route.at.template.segments)
                    occupy(route, place, at_desk, f"the method and path of {action}")
            walk(group, where, prefix + _shape(group.prefix.segments))

    walk(spec, (), ())
    return places


def _shape(segments: Iterable[tuple[str, str]]) -> tuple[object, ...]:
    """Segments with parameters' names left out: what makes two templates the same."""
    return tuple((what, text if what == "literal" else "") for what, text in segments)


def _check_route(spec: PipelineSpec, route: RouteSpec, where: Path, known: list[str], found: Problems) -> None:
    handler: HandlerSpec = route.handler
    for at, name in enumerate(route.clears):
        if name not in known:
            found.add((*where, "clears", at), f"there is no route '{name}' to clear", did_you_mean(name, known))
    if handler.records is not None and handler.records not in spec.records:
        mend = did_you_mean(handler.records, spec.records)
        found.add((*where, "handler", "records"), f"there are no records '{handler.records}'", mend)


def _check_schemas(route: RouteSpec, where: Path, found: Problems, checked_schemas: dict[str, str]) -> None:
    schemas = route.input.schemas() if route.input is not None else {}
    told = repr(schemas)
    if not schemas or checked_schemas.get(route.id) == told:
        return
    problems = [
        ((*where, "input", name, *path), what, mend)
        for name, schema in schemas.items()
        for path, what, mend in schema_problems(schema)
    ]
    for problem in problems:
        found.add(*problem)
    if not problems:
        checked_schemas[route.id] = told


def check_errors(spec: PipelineSpec, found: Problems) -> None:
    errors = ErrorTypes(spec.errors)
    for name, error in spec.errors.items():
        path = ["errors", name, "is-a"]
        if error.is_a is not None and error.is_a not in errors:
            found.add(path, f"there is no error type '{error.is_a}'", type_hint(error.is_a, errors.names()))
        elif error.is_a is not None and (last := spec.errors.get(errors.lineage(name)[-1])) and last.is_a:
            found.add(path, f"'{name}' is a kind of itself", "end the chain at a built-in type")
    for name, records in spec.records.items():
        for field, type_ in records.unique.items():
            if type_ not in errors:
                mend = type_hint(type_, errors.names())
                found.add(["records", name, "unique", field], f"there is no error type '{type_}'", mend)


def check_accounts(spec: PipelineSpec, found: Problems) -> None:
    seen: dict[str, str] = {}
    for name, account in spec.accounts.items():
        for key in account.api_keys:
            if key in seen:
                what = f"{name} and {seen[key]} have the same key"
                found.add(["accounts", name, "api-keys"], what, "give each account keys of its own")
            seen[key] = name
