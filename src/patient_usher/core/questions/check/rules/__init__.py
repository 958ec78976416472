"""One file a finding; this folder's listing is their table.

A finding's module has one name, ``RULE``: its page of the manual, and what looks for it. The finding
``preflight-refused`` lives in ``preflight_refused.py``.
"""

from __future__ import annotations

from functools import cache
from importlib import import_module
from pkgutil import iter_modules

from patient_usher.core.questions.check.rule import LEVELS, Rule


@cache
def rules() -> tuple[Rule, ...]:
    """Every sort of finding, the gravest first."""
    found: list[Rule] = [import_module(f"{__name__}.{module.name}").RULE for module in iter_modules(__path__)]
    return tuple(sorted(found, key=lambda rule: (LEVELS.index(rule.level), rule.code in _SYMPTOMS, rule.code)))


_SYMPTOMS = ("errors-without-cors", "call-unlisted", "identity-too-late", "nobody-gets-through")
"""What a mistake that has a name of its own may also look like: of one cause, the other name is told."""


def rule(code: str) -> Rule:
    """The sort of finding with this code, which must be one of ``rules()``."""
    found: Rule = import_module(f"{__name__}.{code.replace('-', '_')}").RULE
    return found
