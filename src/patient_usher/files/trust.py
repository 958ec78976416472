"""What files may do here: read the environment, name files anywhere, run code. Only the command line says so."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import NamedTuple

_ENV = re.compile(r"env:([A-Za-z_][A-Za-z0-9_]*)")


class Trust(NamedTuple):
    """``python``: pipelines may run code of their own; ``files``: files may name other files anywhere, not only beside
    them; ``env``: the variables of the environment that traces may read.
    """

    python: bool = False
    files: bool = False
    env: frozenset[str] = frozenset()


NOTHING = Trust()
"""What nobody has said."""


def trust_of(words: Iterable[str]) -> Trust:
    """``python``, ``files``, ``env:NAME``, as ``--trust`` has them. Raises ValueError for any other."""
    found = list(words)
    for word in found:
        if word not in ("python", "files") and not _ENV.fullmatch(word):
            raise ValueError(f"'{word}' is nothing that can be trusted; write python, files or env:NAME")
    return Trust("python" in found, "files" in found, frozenset(m[1] for word in found if (m := _ENV.fullmatch(word))))
