"""``access-unenforced``: a route declares access and nothing on its way checks it."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.analysis.findings.mends import Mend, add, add_last, append, drop, free_id, mend
from patient_usher.core.analysis.findings.rule import Context, Rule, Suspicion, shows
from patient_usher.core.analysis.requests.schema_samples import as_pattern
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.patterns import fits_template, split_request


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
    order = context.order(item)
    known = [id_ for id_ in order if context.kind(id_) == "authenticate"]
    for id_ in [id_ for id_ in order if context.kind(id_) in ("authenticate", "authorize")]:
        for at, pattern in enumerate(context.options[id_].except_ or ()):
            methods, path = split_request(pattern)
            fits = fits_template(path, item.route.template.segments)
            if fits and (not methods or item.route.method in methods):
                yield mend(f"let {id_} meet {pattern} too", drop(context.at(id_, "except", at)))
        if context.options[id_].only is not None:
            wanted = f"{item.route.method} {as_pattern(item.route.template)}"
            yield mend(f"let {id_} meet {wanted} too", append(context.at(id_, "only"), wanted))
    name = free_id(context.doc, "may")
    if known:
        entry = {"id": name, "kind": "authorize"}
        yield mend(f"add an authorize stage, {name}, behind {known[-1]}", add(entry, "behind", known[-1]))
    schemes = _schemes(context)
    if not known:
        who = free_id(context.doc, "who")
        yield mend(
            f"add an authenticate stage, {who}, and an authorize stage, {name}",
            add_last({"id": who, "kind": "authenticate", "schemes": schemes}),
            add({"id": name, "kind": "authorize"}, "behind", who),
        )


def _schemes(context: Context) -> list[dict[str, object]]:
    """How the accounts can show who they are; where there are none yet, by name and password."""
    accounts = context.spec.accounts.values()
    found: list[dict[str, object]] = []
    if context.spec.signing_keys and accounts:
        found.append({"scheme": "bearer", "keys": next(iter(context.spec.signing_keys))})
    if any(account.api_keys for account in accounts):
        found.append({"scheme": "api-key"})
    if any(account.password for account in accounts):
        found.append({"scheme": "basic"})
    return found or [{"scheme": "basic"}]


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
