"""``role-unknown``: no account has this role or scope."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.engine.compile.warnings import of_routes
from patient_usher.core.model.document import Path, did_you_mean
from patient_usher.core.model.matcher import When
from patient_usher.core.model.reads import within
from patient_usher.core.questions.check.mends import Mend, append, mend
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion
from patient_usher.core.questions.check.spelling import meant, owner, renamed


def look(context: Context) -> Iterator[Suspicion]:
    """By the names that accounts have."""
    for path, what, hint in of_routes(context.compiled):
        if path[-1] in ("role", "scope"):
            _, route = owner(context, path)
            yield Suspicion(None, route, path, what, tuple(_mends(context, path, what, hint)))
    yield from _in_matchers(context)


def _in_matchers(context: Context) -> Iterator[Suspicion]:
    """Tiers and cases for a role or scope that nobody has; tokens of others than the file's accounts aren't known."""
    accounts = context.spec.accounts.values()
    if not accounts or any(desk.signed_up_as for desk in context.words.desks.values()):
        return
    asked = {"role": "roles", "scope": "scopes"}
    held = {key: {name for account in accounts for name in getattr(account, part)} for key, part in asked.items()}
    for id_, options in context.options.items():
        for where, when in within(options, context.at(id_), When) if options.enabled else ():
            for key in asked if "not" not in where else ():
                for name in getattr(when, key) or ():
                    if name not in held[key]:
                        what, hint = f"no account has the {key} '{name}'", did_you_mean(name, sorted(held[key]))
                        yield Suspicion(
                            id_, None, (*where, key), what, tuple(_mends(context, (*where, key), what, hint))
                        )


def _mends(context: Context, path: Path, what: str, hint: str) -> Iterator[Mend]:
    name = what.rpartition("'")[0].rpartition("'")[2]
    if (other := meant(hint)) is not None:
        yield mend(f"write {other}", renamed(path, name, other))
    account = next(iter(context.spec.accounts))
    yield mend(f"give {name} to {account}", append(["accounts", account, f"{path[-1]}s"], name))


RULE = Rule(
    code="role-unknown",
    level="warning",
    says="no account has this role or scope",
    matters="Nobody gets what it is for: a slip of the pen, most often.",
    mend="Write the name as accounts have it, or give it to one of them.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
  - {id: may, kind: authorize}
routes:
  - {id: ledger, at: GET /ledger, access: {role: harbor-master}, handler: {answer: {text: owed}}}
accounts: {odile: {api-keys: [a-made-up-key], roles: [harbour-master]}}
""",
    look=look,
    notices="Every caller is treated as one who hasn't got it.",
)
