"""Which files are meant where a folder or a pattern is named."""

from __future__ import annotations

import re
from collections.abc import Iterable
from glob import glob
from pathlib import Path

from patient_usher.core.model.document import Problem, Spot, Unusable

_BULK = re.compile(r"\.jsonl(\.gz|\.zst|\.bz2|\.xz)?\Z")
_WILD = re.compile(r"[*?\[]")


def expanded(paths: Iterable[Path]) -> list[Path]:
    """The files that are named: of a folder its traces in JSON Lines, packed or not, of a pattern what fits it, both
    in the order of their names. Raises Unusable where there is none.
    """
    found: list[Path] = []
    for path in paths:
        if path.is_dir():
            files = sorted(one for one in path.iterdir() if _BULK.search(one.name) and one.is_file())
            if not files:
                raise _unusable(path, "this folder has no trace in JSON Lines", "name one that has .jsonl files")
            found += files
        elif _WILD.search(str(path)) and not path.exists():
            fitting = sorted(Path(one) for one in glob(str(path), recursive=True))
            if not fitting:
                raise _unusable(path, "no file fits this pattern", "check it, in quotation marks")
            found += fitting
        else:
            found.append(path)
    return found


def _unusable(path: Path, what: str, mend: str) -> Unusable:
    return Unusable([Problem(Spot(str(path), 1, 1), what, mend)])
