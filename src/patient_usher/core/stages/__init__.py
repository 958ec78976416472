"""One module a kind; the table of kinds is this folder's listing.

A kind's module has two names: ``Options``, what the pipeline file may say (a ``StageOptions``),
and ``Stage``, what it does (made from its options and the ``Setup``). The kind ``rate-limit``
lives in ``rate_limit.py``. Modules are imported when a pipeline first uses their kind.
"""

from __future__ import annotations

from functools import cache
from importlib import import_module
from pkgutil import iter_modules
from typing import Any, NamedTuple

from patient_usher.core.model.pipeline import StageOptions


class Kind(NamedTuple):
    """A kind of stage: its options, and its class."""

    options: type[StageOptions]
    stage: Any


@cache
def kinds() -> tuple[str, ...]:
    """The names of all kinds."""
    names = (module.name for module in iter_modules(__path__))
    return tuple(sorted(name.replace("_", "-") for name in names))


@cache
def kind(name: str) -> Kind:
    """The kind called ``name``, which must be one of ``kinds()``."""
    module = import_module(f"{__name__}.{name.replace('-', '_')}")
    return Kind(module.Options, module.Stage)


def called(word: str) -> str | None:
    """The kind that people mean by a word: its name, in another spelling, or another name of it."""
    plain = word.lower().replace("_", "-")
    return next((name for name in kinds() if plain == name or plain in kind(name).options.trade_names), None)
