"""``handler-unreached``: nothing that can be sent reaches this handler."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.document import JsonObject
from patient_usher.core.model.enumerations import OWN_LOGIC
from patient_usher.core.questions.check.mends import Mend, add, free_id, mend, option, stand
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion


def look(context: Context) -> Iterator[Suspicion]:
    """Routes for known callers behind a stage that refuses strangers, where nothing finds out who calls."""
    routes: dict[str, list[str]] = {}
    for item, order in context.ways:
        access = item.route.access if item is not None else None
        if item is None or access is None or access.who not in ("signed-in", "role", "scope"):
            continue
        stages = [(id_, context.options[id_]) for id_ in order if id_ in context.options]
        finds = [id_ for id_, found in stages if list(found.credentials()) or found.kind in OWN_LOGIC]
        guards = [id_ for id_, found in stages if found.kind == "authorize" and access.who in found.guards()]
        if guards and not finds:
            routes.setdefault(guards[0], []).append(item.route.id)
    for guard, behind in routes.items():
        where = ", ".join(behind[:3]) + (f" and {len(behind) - 3} more" if len(behind) > 3 else "")
        happens = f"{guard} refuses everybody at {where}: no stage on the way finds out who calls"
        yield Suspicion(guard, None, context.at(guard), happens, tuple(_mends(context, guard)))


def _mends(context: Context, guard: str) -> Iterator[Mend]:
    """Switch on what is there and off; else a stage by what accounts have and desks give."""
    for id_, found in context.options.items():
        if not found.enabled and list(found.credentials()):
            orders = [context.compiled.order(item) for item in context.compiled.placed]
            behind = any({id_, guard} <= {*order} and order.index(guard) < order.index(id_) for order in orders)
            where = [stand(id_, "before", guard)] * behind
            words = f"switch {id_} on" + f", in front of {guard}" * behind
            yield mend(words, option(id_, "enabled", True), *where)
    schemes = list(_schemes(context))
    if schemes:
        entry = {"id": free_id(context.doc, "who"), "kind": "authenticate", "schemes": schemes}
        words = f"add an authenticate stage, {entry['id']}, in front of {guard}"
        yield mend(words, add(entry, "before", guard))


def _schemes(context: Context) -> Iterator[JsonObject]:
    desks = context.words.desks.values()
    for desk in desks:
        if "token" in desk.gives and desk.keys is not None:
            yield {"scheme": "bearer", "keys": desk.keys}
        if "cookie" in desk.gives and context.kinds("read-cookies"):
            yield {"scheme": "session-cookie", "cookie": desk.cookie}
    accounts = context.spec.accounts.values()
    if any(account.api_keys for account in accounts):
        yield {"scheme": "api-key"}
    elif not desks and any(account.password for account in accounts):
        yield {"scheme": "basic"}


RULE = Rule(
    code="handler-unreached",
    level="error",
    says="nothing that can be sent reaches this handler",
    matters="The route is there, and nobody can use it: a stage refuses strangers, and everybody is one.",
    mend="Let a stage in front find out who calls.",
    example="""
patient-usher: pipeline/1
stages: [{id: may, kind: authorize}]
routes:
  - {id: tides, at: GET /tides, access: signed-in, handler: {answer: {text: high at six}}}
accounts: {odile: {api-keys: [a-made-up-key]}}
""",
    look=look,
    notices="Every caller is refused there, whatever credential it shows.",
)
