"""``nobody-gets-through``: no rightful caller reaches this route's handler."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.runner import ScenarioRun
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.handler_specs import DeskSpec
from patient_usher.core.model.overlays import named
from patient_usher.core.questions.check.mends import Document, Edit, Mend, append, drop, mend, option, put, setting
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows, status

_KNOWN = ("authenticate", "authorize", "rate-limit", "read-body", "timeout")
"""Kinds of which we know what they let through. What the developer's own logic wants may be more than was tried."""


def look(context: Context) -> Iterator[Suspicion]:
    """Routes at which everybody was refused for whom they are; and desks whose credential nothing takes."""
    calls: dict[str, list[ScenarioRun]] = {}
    for run in context.runs("call", "sample", "matched"):
        item = context.item(run.last)
        if item is not None and item.desk is None and context.words.is_for(item.route.access, run.scenario.by):
            calls.setdefault(item.route.id, []).append(run)
    for id_, runs in calls.items():
        if any(_came(run.last) for run in runs):
            continue
        refused = [run for run in runs if context.kind(run.last.refused_by or "") in _KNOWN]
        if not refused:
            continue
        run, x, item = refused[0], refused[0].last, context.by_id[id_]
        yield Suspicion(
            None,
            id_,
            context.at_route(id_),
            f"{x.refused_by} refuses everybody for whom {id_} is, with {status(x)}: {_why(context, x, item)}",
            tuple(_mends(context, x, item)),
            shows(lambda x: not _came(x), _came),
            (run.scenario,),
        )
    yield from _desks(context)


def _came(x: Exchange) -> bool:
    return x.handler_reached and x.why != "too-slow"


def _why(context: Context, x: Exchange, item: PlacedRoute) -> str:
    if x.why == "over-quota":
        return "one call costs more than the quota"
    if x.why == "media-type":
        return f"it takes no body of the sort that {item.route.id} wants"
    if x.why == "too-slow":
        return "the handler takes longer than that"
    return "none of the credentials that accounts have counts there"


def _mends(context: Context, x: Exchange, item: PlacedRoute) -> Iterator[Mend]:
    stage, route = x.refused_by or "", item.route.id
    limit = context.options[stage].limit() if stage in context.options else None
    if x.why == "over-quota" and limit is not None:
        yield mend(f"let one call of {route} cost {limit.quota}", setting(route, "cost", limit.quota))
        yield mend(f"let one call of {route} cost 1", setting(route, "cost", None))
    if x.why == "media-type":
        asked = item.spec.input
        media = "form" if asked is not None and asked.form is not None else "json"
        held = [*getattr(context.options[stage], "media", [])]
        yield mend(f"let {stage} take {media} too", option(stage, "media", [*held, media]))
    if x.why == "too-slow":
        enough = f"{(item.spec.handler.busy_for or 0) // 1_000_000 + 1}s"
        yield mend(f"let {stage} wait {enough}", option(stage, "after", enough))
    words = f"switch {stage} off"
    yield mend(words, option(stage, "enabled", False), left=f"what {stage} should let through at {route}")


# Desks.


def _desks(context: Context) -> Iterator[Suspicion]:
    """What a desk gives and no stage takes."""
    runs: dict[str, list[ScenarioRun]] = {}
    for run in context.runs("at-the-desk"):
        runs.setdefault(run.scenario.sort.partition(":")[2], []).append(run)
    for given, tried in runs.items():
        group, _, gift = given.partition(":")
        x = tried[0].last
        if any(run.last.handler_reached for run in tried) or context.kind(x.refused_by or "") != "authenticate":
            continue
        if x.refused_by is None or status(tried[0].exchanges[0]) >= 400:
            continue
        desk = context.words.desks[group]
        yield Suspicion(
            x.refused_by,
            None,
            context.at(x.refused_by),
            f"{x.refused_by} refuses the {gift} that the desk of {group} gives: {x.why or 'it counts for nothing'}",
            tuple(_agreeing(context, x.refused_by, desk)),
            shows(lambda x: x.refused_by is not None, lambda x: x.handler_reached),
            (tried[0].scenario,),
        )


def _agreeing(context: Context, stage: str, desk: DeskSpec) -> Iterator[Mend]:
    """Let the stage ask for what the desk gives."""
    for at, asked in enumerate(context.options[stage].credentials()):
        where = context.at(stage, "schemes", at)
        if asked.scheme == "bearer" and "token" in desk.gives:
            wanted = {"keys": desk.keys, "issuer": desk.issuer, "audience": desk.audience}
            held = {"keys": [*asked.keys], "issuer": asked.issuer, "audience": asked.audience}
            for name, value in wanted.items():
                if name == "keys" and value not in asked.keys:
                    yield mend(f"let {stage} take the key {value}", put((*where, name), [*asked.keys, value]))
                elif name != "keys" and held[name] is not None and held[name] != value:
                    edit = drop((*where, name)) if value is None else put((*where, name), value)
                    yield mend(f"let {stage} ask for the {name} {value or 'that there is'}", edit)
        if asked.scheme == "session-cookie" and "cookie" in desk.gives:
            yield mend(f"let {stage} read the cookie {desk.cookie}", put((*where, "cookie"), desk.cookie))
    if "cookie" in desk.gives and desk.keys is not None:
        for id_ in context.kinds("read-cookies"):
            yield mend(f"let {id_} check the cookie's signature", option(id_, "signed-with", desk.keys))
    if "cookie" in desk.gives and desk.path != "/":
        yield mend("let the cookie go to every path", _everywhere(context, desk))
    scheme = {"scheme": "session-cookie", "cookie": desk.cookie}
    if "cookie" in desk.gives and not any(
        one.scheme == "session-cookie" for one in context.options[stage].credentials()
    ):
        yield mend(f"let {stage} take the cookie {desk.cookie}", append(context.at(stage, "schemes"), scheme))


def _everywhere(context: Context, desk: DeskSpec) -> Edit:
    group = next(id_ for id_, one in context.words.desks.items() if one is desk)

    def edit(doc: Document) -> None:
        named(doc, "groups")[group]["desk"].pop("path")

    return edit


RULE = Rule(
    code="nobody-gets-through",
    level="error",
    says="no rightful caller reaches this route's handler",
    matters="The route is there, and nobody can use it: not even whoever shows the right credential.",
    mend="Let cost fit into the quota, the reader take the body that the route wants, the timeout outlast the work, "
    "and authenticate ask for what the desk gives.",
    example="""
patient-usher: pipeline/1
stages: [{id: fair, kind: rate-limit, quota: 5, window: 1m}]
routes:
  - {id: search, at: GET /search, access: everyone, cost: 20, handler: {answer: {text: three boats}}}
""",
    look=look,
)
