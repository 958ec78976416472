"""From a pipeline document to a compiled pipeline, or to everything that is wrong with it."""

from __future__ import annotations

import copyreg
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from typing import Any

from pydantic import ValidationError

from patient_usher.core.engine.compile.checks import (
    Problems,
    check_accounts,
    check_costs,
    check_errors,
    check_routes,
    check_stages,
)
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline, Source
from patient_usher.core.engine.plan import nested, sequential
from patient_usher.core.engine.plan.data_availability import DataAvailability
from patient_usher.core.engine.plan.front_proxy import FrontProxy
from patient_usher.core.engine.plan.plan import Plan
from patient_usher.core.engine.plan.route_table import PlacedRoute, all_groups, place_routes, running_order
from patient_usher.core.engine.plan.router import Router, RouterStage
from patient_usher.core.engine.plan.server_default import Uncaught
from patient_usher.core.engine.plan.step import PassesOver, PlanStep
from patient_usher.core.handlers import make_handler
from patient_usher.core.handlers.desk import Desk
from patient_usher.core.handlers.records import RecordStore, read_rows
from patient_usher.core.model.answer_factory import ReadFile
from patient_usher.core.model.document import (
    JsonMapping,
    JsonObject,
    Map,
    Path,
    Spot,
    Unusable,
    copy_tree,
    did_you_mean,
)
from patient_usher.core.model.errors import ErrorTypes
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.overlays import apply_environments, apply_overlay, named, same_as
from patient_usher.core.model.overlays import variant as laid_out
from patient_usher.core.model.patterns import fits_request, request_pattern
from patient_usher.core.model.pipeline import MARKER, PipelineSpec, StageOptions, spell_out, stage_lists
from patient_usher.core.model.stage import NotAllowed, Setup, Stage, Stateful
from patient_usher.core.model.tokens import SigningKey, load_key
from patient_usher.core.model.validation_messages import problems_of
from patient_usher.core.stages import called, kind, kinds


def compile_document(
    doc: Any,
    *,
    environments: Iterable[str] | None = None,
    overlays: Sequence[tuple[object, str]] = (),
    read_file: ReadFile,
    load_python: Callable[[str], object] | None = None,
) -> CompiledPipeline:
    """Make a compiled pipeline of a pipeline document, which stays as it is.

    ``environments``: names laid on, in order; None for those that the file names itself.
    ``overlays``: further overlays, each with what to call it in messages. ``load_python`` finds
    the user's own code, None where it isn't allowed. Raises Unusable with every problem that could
    be found.
    """
    doc = copy_tree(doc)
    found = Problems(doc)
    if not isinstance(doc, dict):
        found.add((), "a pipeline must be a mapping", "start with patient-usher: pipeline/1")
        found.stop()
    if str(doc.get("patient-usher", "")).startswith("trace/"):
        found.add(["patient-usher"], "this is a trace, no pipeline", "name the pipeline first, then the trace")
        found.stop()
    if "patient-usher" not in doc and (named := next((key for key in _IMPORTED if key in doc), None)) is not None:
        what = f"this is {_IMPORTED[named]}, no pipeline"
        found.add([named], what, "usher import FILE --into pipeline.yaml makes one of it")
        found.stop()
    plain = copy_tree(doc) if isinstance(doc.get("environments"), dict) else None
    chosen = _lay_on(doc, found, environments, overlays)
    compiled = None
    checked_schemas: dict[str, str] = {}
    if not found.problems:
        try:
            compiled = compile_source(Source(doc, tuple(chosen), read_file, load_python, checked_schemas, plain))
        except Unusable as error:
            found.problems += error.problems
    if plain is not None:
        _check_environments(plain, chosen, found, checked_schemas)
        spell_out(plain)
        for overlay, what in overlays:
            apply_overlay(plain, overlay, what)
    if compiled is None or found.problems:
        raise Unusable(found.problems)
    return compiled


def _check_environments(plain: Any, chosen: Sequence[str], found: Problems, checked_schemas: dict[str, str]) -> None:
    """Every environment that isn't laid on, by itself: none may wait with its mistakes until it is."""
    seen = {(problem.spot, problem.what) for problem in found.problems}
    for name in plain["environments"]:
        if not isinstance(name, str) or [name] == list(chosen):
            continue
        doc = copy_tree(plain)
        own = Problems(doc)
        spell_out(doc)
        own.problems += apply_environments(doc, [name])
        spell_out(doc)
        if not own.problems:
            options, places = _read_stages(own)
            try:
                spec = PipelineSpec.model_validate(doc)
                check_stages(spec, options, places, own)
                check_routes(spec, own, checked_schemas)
                check_errors(spec, own)
            except ValidationError as error:
                own.problems += problems_of(error, doc, PipelineSpec)
        for problem in own.problems:
            if (problem.spot, problem.what) not in seen:
                seen.add((problem.spot, problem.what))
                found.problems.append(problem)


def in_other_environments(compiled: CompiledPipeline) -> Iterator[tuple[str, CompiledPipeline]]:
    """The pipeline in each environment that its file has besides those it is in, by name; none of a variant."""
    source = compiled.source
    here = source.environment or ("production",)
    for name in dict.fromkeys([*source.plain["environments"], "production"] if source.plain is not None else ()):
        if name not in here:
            doc = copy_tree(source.plain)
            apply_environments(doc, [name])
            spell_out(doc)
            yield name, compile_source(source._replace(doc=doc, environment=(name,), plain=None))


def overlaid(source: Source, overlay: object, what: str) -> CompiledPipeline:
    """The compiled pipeline with a further overlay, called ``what`` in messages. Raises Unusable."""
    doc = copy_tree(source.doc)
    found = Problems(doc)
    found.problems += apply_overlay(doc, overlay, what)
    found.stop()
    spell_out(doc)
    return compile_source(source._replace(doc=doc, plain=None))


_IMPORTED = dict.fromkeys(("openapi", "swagger"), "an OpenAPI description")
"""Keys by which other documents are known."""

REMEMBERED = 256
"""How many changed compiled pipelines a compiled pipeline keeps."""


def changed(compiled: CompiledPipeline, overlay: JsonMapping) -> CompiledPipeline:
    """The pipeline with an overlay laid on: stages, groups and routes by id. Raises Unusable.

    The same change, made again, gives the same compiled pipeline.
    """
    key = repr(overlay)
    found = compiled.changes.get(key)
    if found is None:
        if len(compiled.changes) >= REMEMBERED:
            compiled.changes.clear()
        found = compiled.changes[key] = overlaid(compiled.source, overlay, "a change")
    return found


def variant(compiled: CompiledPipeline, **changes: object) -> CompiledPipeline:
    """The pipeline with another ``order`` of server-wide stages, another ``flow``, or overlays by key.

    Keys are the pipeline file's, with underscores for dashes. Raises Unusable, with no place in a file.
    """
    nowhere = Spot("variant", 1, 1)
    wanted = Map(nowhere, ((key.replace("_", "-"), value) for key, value in changes.items()))
    doc, problems = laid_out(compiled.source.doc, wanted)
    if problems:
        raise Unusable(problem._replace(spot=nowhere) for problem in problems)
    return compile_source(compiled.source._replace(doc=doc, plain=None))


def compile_source(source: Source) -> CompiledPipeline:
    """The compiled pipeline of a document with everything laid on. Raises Unusable."""
    found = Problems(source.doc)
    options, places = _read_stages(found)
    try:
        spec = PipelineSpec.model_validate(source.doc)
    except ValidationError as error:
        found.problems += problems_of(error, source.doc, PipelineSpec)
        raise Unusable(found.problems) from None
    keys = _load_keys(spec, found)
    check_stages(spec, options, places, found)
    routes = check_routes(spec, found, source.checked_schemas)
    check_errors(spec, found)
    check_accounts(spec, found)
    found.stop()

    placed = place_routes(spec)
    check_costs(placed, options, routes, found)
    setup = _set_up(spec, source, keys, options)
    stateful: dict[Hashable, Stateful] = {}
    for name, records in spec.records.items():
        try:
            stateful["records", name] = RecordStore(name, records, read_rows(records, source.read_file))
        except (OSError, ValueError) as error:
            found.add_error(["records", name, *(["from"] if records.from_ else ["rows"])], error)
    found.stop()
    stages = _make_stages(options, setup, places, found)
    handlers = _make_handlers(placed, setup, routes, found, stateful)
    found.stop()
    stateful.update({stage.key: stage for stage in (*stages.values(), *handlers.values()) if stage.remembers})
    own: set[Hashable] = {id_ for id_ in stages if id_ not in spec.deployment.shared_state}
    own |= {(sort, name) for sort in ("desk", "records") for name in spec.deployment.own_state}
    return CompiledPipeline(
        source=source,
        spec=spec,
        options=options,
        setup=setup,
        placed=placed,
        stages=stages,
        router=Router(item.route for item in placed),
        plans=_make_plans(spec, placed, options, stages, handlers),
        stateful=stateful,
        shared=frozenset(key for key in stateful if key not in own),
        stages_at=places,
        routes_at=routes,
    )


def _lay_on(
    doc: JsonObject, found: Problems, environments: Iterable[str] | None, overlays: Sequence[tuple[object, str]]
) -> list[str]:
    """Lay environments and overlays on the document. Returns the environments' names."""
    spell_out(doc)
    named = doc.get("environment", [])
    chosen = list(environments) if environments is not None else [named] if isinstance(named, str) else named
    if not isinstance(chosen, list) or not all(isinstance(name, str) for name in chosen):
        chosen = []  # the model says what is wrong with it
    if "environments" in doc:
        found.problems += apply_environments(doc, chosen)
        if environments is not None and isinstance(doc["environments"], dict):  # those of the file, all the same
            for name in [named] if isinstance(named, str) else named if isinstance(named, list) else []:
                if isinstance(name, str) and name not in (*doc["environments"], "production"):
                    what = f"there is no environment '{name}'"
                    found.add(["environment"], what, did_you_mean(name, doc["environments"]))
    elif environments is not None and (unknown := [name for name in chosen if name != "production"]):
        found.add((), f"there is no environment '{unknown[0]}'", "add it under environments")
    for overlay, what in overlays:
        found.problems += apply_overlay(doc, overlay, what)
    spell_out(doc)
    return chosen


_EVERY = ("id", "kind", "enabled", "refuse", "only", "except")
"""Keys that every stage may have."""


def _read_stages(found: Problems) -> tuple[dict[str, StageOptions], dict[str, Path]]:
    """Every stage's options and place by id, each read by its kind."""
    options: dict[str, StageOptions] = {}
    places: dict[str, Path] = {}
    known = named(found.doc, "stages")
    for stages, path in stage_lists(found.doc):
        for at, entry in enumerate(stages):
            where = (*path, at)
            if entry == MARKER:
                continue
            if not isinstance(entry, dict):
                found.add(where, "a stage is a kind or a mapping", "write - access-log, or - {id: NAME, kind: KIND}")
                continue
            if "same-as" in entry:
                if "kind" in entry or not isinstance(entry.get("id"), str):
                    what = "a stage that is the same as another has an id of its own, and no kind"
                    found.add((*where, "same-as"), what, "write {id: NAME, same-as: STAGE}", key=True)
                    continue
                try:
                    entry = same_as(known, entry)
                except ValueError as error:
                    found.add_error((*where, "same-as"), error)
                    continue
            name = entry.get("kind")
            if not isinstance(name, str) or name not in kinds():
                _add_kindless(entry, where, found)
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


def _add_kindless(entry: JsonObject, where: Path, found: Problems) -> None:
    """What is wrong with a stage whose kind is missing or is none."""
    if "kind" in entry and entry["kind"] is None:
        found.add((*where, "kind"), "the stage's kind is empty", did_you_mean("", kinds()))
        return
    if "kind" in entry:
        name = str(entry["kind"])
        likely = called(name)
        mend = f"did you mean '{likely}'?" if likely else did_you_mean(name, kinds())
        found.add((*where, "kind"), f"there is no kind '{name}'", mend)
        return
    for key in (str(key) for key in entry if key not in _EVERY):
        if did_you_mean(key, ["kind"]).startswith("did"):
            found.add((*where, key), f"unknown key '{key}'", "did you mean 'kind'?", key=True)
            return
        if (entry[key] is None or isinstance(entry[key], dict)) and (likely := called(key)):
            mend = f"write - {{kind: {likely}, OPTION: VALUE}}"
            found.add((*where, key), f"a stage's kind is no key of its own, as '{key}' is here", mend, key=True)
            return
    found.add(where, "the stage has no kind", did_you_mean("", kinds()))


def _load_keys(spec: PipelineSpec, found: Problems) -> dict[str, SigningKey]:
    keys: dict[str, SigningKey] = {}
    for id_, key in spec.signing_keys.items():
        try:
            keys[id_] = load_key(id_, key)
        except ValueError as error:
            what = f"the key '{id_}' can't be used: {str(error).splitlines()[0]}"
            found.add(["signing-keys", id_], what, f"give a PEM key that fits {key.algorithm}")
    return keys


def _set_up(
    spec: PipelineSpec, source: Source, keys: Mapping[str, SigningKey], options: Mapping[str, StageOptions]
) -> Setup:
    return Setup(
        spec=spec,
        environment=source.environment or ("production",),
        errors=ErrorTypes(spec.errors),
        keys=keys,
        read_file=source.read_file,
        load_python=source.load_python,
        options=options,
        desks=tuple(("desk", group.id) for group in all_groups(spec.groups) if group.desk is not None),
        by_api_key={key: name for name, account in spec.accounts.items() for key in account.api_keys},
    )


def _make_stages(
    options: Mapping[str, StageOptions], setup: Setup, places: Mapping[str, Path], found: Problems
) -> dict[str, Stage]:
    stages: dict[str, Stage] = {}
    for id_, option in options.items():
        try:
            stages[id_] = kind(option.kind).stage(option, setup)
        except (OSError, ValueError, NotAllowed) as error:
            found.add_error(places[id_], error)
            continue
        stages[id_].key = id_
    return stages


def _make_handlers(
    placed: Iterable[PlacedRoute],
    setup: Setup,
    places: Mapping[str, Path],
    found: Problems,
    stateful: dict[Hashable, Stateful],
) -> dict[str, Stage]:
    """Each route's handler; the desks that stand behind some of them join the keepers."""
    handlers: dict[str, Stage] = {}
    desks: dict[Hashable, Desk] = {}
    for item in placed:
        id_ = item.route.id
        try:
            if item.desk is not None:
                group = item.groups[-1]
                if ("desk", group.id) not in desks and group.desk is not None:
                    desks["desk", group.id] = Desk(group.id, group.desk, setup)
                handlers[id_] = desks["desk", group.id].handler(item.desk)
            else:
                handlers[id_] = make_handler(item.spec.handler, setup, ("handler", id_))
        except (OSError, ValueError, NotAllowed) as error:
            found.add_error((*places[id_], "handler"), error)
    stateful |= desks
    return handlers


# Plans.


def _make_plans(
    spec: PipelineSpec,
    placed: Sequence[PlacedRoute],
    options: Mapping[str, StageOptions],
    stages: Mapping[str, Stage],
    handlers: Mapping[str, Stage],
) -> dict[str | None, Plan]:
    """What is walked on each route; under None, what is walked where there is none."""
    in_order = spec.flow == "sequential"
    raises = spec.refuse == "raise"
    paths = [item.route.template.text for item in placed]
    router = RouterStage(paths, answers_options=spec.options == "answered")
    fixed = {"router": PlanStep("router", router, raises=raises, sequential=in_order, framed=False)}
    for id_, option in options.items():
        if option.enabled:
            stage = stages[id_]
            refuse = option.refuse or ("raise" if stage.always_raises else spec.refuse)
            over = _passes_over(option)
            fixed[id_] = PlanStep(id_, stage, raises=refuse == "raise", sequential=in_order, passes_over=over)

    front = FrontProxy(spec.deployment)
    uncaught = Uncaught(spec.uncaught)

    def plan(item: PlacedRoute | None) -> Plan:
        steps = dict(fixed)
        if item is not None:
            handler = handlers[item.route.id]
            steps["handler"] = PlanStep("handler", handler, raises=True, sequential=in_order, framed=False)
        order = [id_ for id_ in running_order(spec, item) if id_ in steps]
        inside = order.index("router")
        if in_order and item is None:  # what falls through was offered to the routes where they stand
            before = spec.stages[: spec.stages.index(MARKER)]
            inside = sum(entry["id"] in steps for entry in before)
        found = tuple(steps[id_] for id_ in order)
        return Plan(
            found, sequential if in_order else nested, inside, spec.refuse == "answer", uncaught, in_order,
            spec.deployment.caller_leaves == "cancels", DataAvailability(options, item, front),
        )  # fmt: skip

    plans: dict[str | None, Plan] = {item.route.id: plan(item) for item in placed}
    plans[None] = plan(None)
    return plans


def _passes_over(options: StageOptions) -> PassesOver | None:
    """Why the stage does not meet an exchange: ``only``, ``except``, or None where it does."""
    only = [request_pattern(text) for text in options.only] if options.only is not None else None
    excepted = [request_pattern(text) for text in options.except_ or ()]
    if only is None and not excepted:
        return None

    def reason(x: Exchange) -> str | None:
        if only is not None and not any(fits_request(pattern, x) for pattern in only):
            return "only"
        return "except" if any(fits_request(pattern, x) for pattern in excepted) else None

    return reason


def _unbound(compiled: CompiledPipeline) -> tuple[Callable[[Source], CompiledPipeline], tuple[Source]]:
    return compile_source, (compiled.source,)


# Bound methods and compiled patterns don't travel: another process compiles the same document again.
copyreg.pickle(CompiledPipeline, _unbound)
