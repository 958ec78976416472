"""``secret-in-file``: a secret stands in plain text instead of ``${env:…}``."""

from __future__ import annotations

import re
from collections.abc import Iterator

from patient_usher.core.model.document import FromEnvironment, Path
from patient_usher.core.questions.check.mends import mend, put, value_at
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion

_SAYS_SO = re.compile("made-?up|not-a-real|fake|dummy|example|placeholder", re.IGNORECASE)
"""A secret that says of itself that it is none."""


def look(context: Context) -> Iterator[Suspicion]:
    """Passwords, keys and secrets, as they stand in the file."""
    for path, name in _secrets(context):
        node = value_at(context.doc, path)
        if not isinstance(node, str) or isinstance(node, FromEnvironment):
            continue
        if _SAYS_SO.search(node) or node.startswith("$argon2"):
            continue
        happens = f"{'.'.join(map(str, path))} is written out, for everybody who can read the file"
        value = FromEnvironment(node, f"${{env:{name}}}")
        yield Suspicion(None, None, path, happens, (mend(f"write ${{env:{name}}}", put(path, value)),))


def _secrets(context: Context) -> Iterator[tuple[Path, str]]:
    """Every place of a secret, and what to call the variable."""
    for name, account in context.spec.accounts.items():
        if account.password is not None:
            yield ("accounts", name, "password"), _variable(name, "password")
        for at in range(len(account.api_keys)):
            listed = isinstance(context.doc["accounts"][name]["api-keys"], list)
            yield ("accounts", name, "api-keys", *([at] if listed else [])), _variable(name, "api-key")
    for name, key in context.spec.signing_keys.items():
        if key.secret is not None:
            yield ("signing-keys", name, "secret"), _variable(name, "secret")


def _variable(name: str, what: str) -> str:
    return re.sub(r"[^A-Z0-9]+", "_", f"{name}_{what}".upper())


RULE = Rule(
    code="secret-in-file",
    level="advice",
    says="a secret stands in plain text instead of ${env:…}",
    matters="Whoever reads the repository has it, and its history keeps it. A secret that says that it is made up "
    "(made-up, not-a-real, fake, dummy, example) is passed over.",
    mend="Write ${env:NAME}, and change the secret.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: basic}]}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {password: kittiwake-1987}}
""",
    look=look,
    notices="Callers notice nothing: whoever reads the file can call in another's name.",
)
