"""``access-unenforced``: a route declares access and nothing on its way checks it."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.schema_samples import as_pattern
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.model.document import Json, copy_tree
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.overlays import named
from patient_usher.core.model.patterns import fits_template, split_request
from patient_usher.core.questions.check.mends import Edit, Mend, add, add_last, append, drop, free_id, mend
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows


def look(context: Context) -> Iterator[Suspicion]:
    """Callers who reached a handler that isn't for them."""
    for run, x in context.exchanges("call"):
        item = context.item(x)
        if item is None or item.desk is not None or item.route.access is None or not _intruded(x):
            continue
        if x.identity is None and any("sign" in request for request in run.scenario.requests):
            continue  # once it is enforced, that caller may be let in: those who show nothing prove it
        who = "nobody known" if x.identity is None else x.identity.name
        yield Suspicion(
            None,
            item.route.id,
            context.at_route(item.route.id, "access"),
            f"the route is for {item.route.access}, and {who} reached its handler",
            tuple(_mends(context, item)),
            shows(_intruded, lambda x: not x.handler_reached),
            (run.scenario,),
        )


def _intruded(x: Exchange) -> bool:
    """Whether the handler was reached by somebody for whom the route isn't."""
    access = x.route.access if x.route is not None else None
    if not x.handler_reached or access is None or access.who == "everyone":
        return False
    if x.identity is None or access.who == "nobody":
        return True
    held = x.identity.roles if access.who == "role" else x.identity.scopes if access.who == "scope" else ()
    return access.who != "signed-in" and not {*held} & {*access.names}


def _mends(context: Context, item: PlacedRoute) -> Iterator[Mend]:
    """Let the stages that pass the route over meet it: each, then all of them; then further stages."""
    order = context.order(item)
    known = [id_ for id_ in order if context.kind(id_) == "authenticate"]
    held = [id_ for id_ in order if context.kind(id_) == "authorize"]
    meeting = {id_: found for id_ in [*known, *held] if (found := _meeting(context, id_, item))}
    for id_, (words, edits) in meeting.items():
        yield mend(f"let {id_} meet {words} too", *edits)
    every = [edit for _, edits in meeting.values() for edit in edits]
    words = ", ".join(dict.fromkeys(words for words, _ in meeting.values()))
    if len(meeting) > 1:
        yield mend(f"let {' and '.join(meeting)} meet {words} too", *every)
    name = free_id(context.doc, "may")
    if known and not held:
        told = f"let {', '.join(meeting)} meet {words} too, and " if meeting else ""
        entry = {"id": name, "kind": "authorize"}
        words = f"{told}add an authorize stage, {name}, behind {known[-1]}"
        yield mend(words, *every, add(entry, "behind", known[-1]))
    if not known:
        yield _both(context, name)


def _meeting(context: Context, id_: str, item: PlacedRoute) -> tuple[str, list[Edit]] | None:
    """What a stage passes over, in words, and the edits after which it meets the route."""
    options = context.options[id_]
    words, edits = [], []
    for at, pattern in reversed([*enumerate(options.except_ or ())]):  # from behind: the places in front stay
        methods, path = split_request(pattern)
        if fits_template(path, item.route.template.segments) and (not methods or item.route.method in methods):
            words.append(pattern)
            edits.append(drop(context.at(id_, "except", at)))
    if options.only is not None:
        wanted = f"{item.route.method} {as_pattern(item.route.template)}"
        if wanted not in options.only:
            words.append(wanted)
            edits.append(append(context.at(id_, "only"), wanted))
    return (", ".join(words), edits) if edits else None


def _both(context: Context, name: str) -> Mend:
    """Add both stages, with the schemes that the file has, or that its accounts can use."""
    who = free_id(context.doc, "who")
    schemes, left = _schemes(context)
    return mend(
        f"add an authenticate stage, {who}, and an authorize stage, {name}",
        add_last({"id": who, "kind": "authenticate", "schemes": schemes}),
        add({"id": name, "kind": "authorize"}, "behind", who),
        left=left,
    )


def _schemes(context: Context) -> tuple[list[Json], str | None]:
    """How callers show who they are: as elsewhere in the file, or as its accounts can; and what it doesn't say."""
    stages = named(context.doc, "stages")
    for id_ in context.kinds("authenticate"):
        return copy_tree(stages[id_]["schemes"]), None
    accounts = context.spec.accounts.values()
    found: list[Json] = []
    if context.spec.signing_keys and accounts:
        found.append({"scheme": "bearer", "keys": next(iter(context.spec.signing_keys))})
    if any(account.api_keys for account in accounts):
        found.append({"scheme": "api-key"})
    if any(account.password for account in accounts):
        found.append({"scheme": "basic"})
    if found:
        return found, None
    left = "how callers show who they are is yours to say: declare accounts, or add an authenticate stage"
    return [{"scheme": "basic"}], left


RULE = Rule(
    code="access-unenforced",
    level="error",
    says="a route declares access and nothing on its way checks it",
    matters="The file says who may, and everybody can: access is a wish until a stage holds callers to it.",
    mend="Let authenticate and authorize stand on the route's way, and leave it out of neither.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
routes:
  - {id: ledger, at: GET /ledger, access: {role: harbour-master}, handler: {answer: {text: owed}}}
accounts: {maren: {api-keys: [a-made-up-key]}, odile: {roles: [harbour-master], api-keys: [another-made-up-key]}}
""",
    look=look,
)
