"""Which files are meant where a folder or a pattern is named."""

from __future__ import annotations

import re
from collections.abc import Iterable
from glob import glob
from pathlib import Path

from patient_usher.core.model.document import Problem, Spot, Unusable

_BULK = re.compile(r"\.jsonl(\.gz|\.zst|\.bz2|\.xz)?\Z")
_TRACES = frozenset({".yaml", ".yml", ".json", ".jsonl", ".har", ".log"})
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


def default_pipeline() -> Path:
    """The pipeline that is meant where none is named. Raises Unusable where there is none."""
    path = Path("pipeline.yaml")
    if not path.is_file():
        raise _unusable(path, "no pipeline is named, and no file has this name", "name one, or run usher init")
    return path


def default_traces(pipeline: Path) -> list[Path]:
    """The traces that are meant where none is named: those in ``traces/`` beside the pipeline, or ``trace.yaml`` there.

    Raises Unusable where there is none.
    """
    folder, one = pipeline.parent / "traces", pipeline.parent / "trace.yaml"
    found = sorted(path for path in folder.glob("*") if path.suffix in _TRACES) if folder.is_dir() else []
    if not found and not one.is_file():
        raise _unusable(one, "no trace is named, and no file has this name, nor is there a folder traces", "name one")
    return found or [one]


def _unusable(path: Path, what: str, mend: str) -> Unusable:
    return Unusable([Problem(Spot(str(path), 1, 1), what, mend)])
