"""Pipeline files: from a path to a service."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any

from patient_usher.core.engine.assemble import assemble
from patient_usher.core.engine.service import Service
from patient_usher.core.model.document import Problem, Unusable, fill_from_environment, locate
from patient_usher.core.model.overlays import setting, variant
from patient_usher.traces.python_code import python_from
from patient_usher.traces.text import parse, parse_value, read_text


def beside(folder: Path, anywhere: bool) -> Callable[[str], bytes]:
    """A reader of files that a file names: only those in its own folder or below, unless ``anywhere``.

    The reader raises OSError with words for the user.
    """
    root = folder.resolve()

    def read(name: str) -> bytes:
        path = (root / name).resolve()
        if not anywhere and not path.is_relative_to(root):
            raise OSError(
                f"the file {name} lies outside the folder of the file that names it; move it, or give --allow-files"
            )
        try:
            return path.read_bytes()
        except OSError as error:
            raise OSError(f"the file {name} can't be read: {error.strerror}; check the path") from None

    return read


def load_service(
    path: Path,
    *,
    environments: Sequence[str] | None = None,
    settings: Iterable[str] = (),
    allow_files: bool = False,
    allow_python: bool = False,
    seed: int = 0,
) -> Service:
    """The service that a pipeline file describes. Raises Unusable."""
    overlays: list[tuple[Any, str]] = []
    problems: list[Problem] = []
    for text in settings:
        overlay, wrong = setting(text, parse_value)
        overlays.append((overlay, "--set"))
        problems += wrong
    if problems:
        raise Unusable(problems)

    def load(places: bool) -> Service:
        return assemble(
            read_document(path, places=places),
            environments=environments,
            overlays=overlays,
            read_file=beside(path.parent, allow_files),
            load_python=python_from(path.parent) if allow_python else None,
            seed=seed,
        )

    try:
        service = load(False)
        return load(True) if service.warnings else service
    except Unusable:
        # JSON is read without places; where something is wrong, read again with them.
        return load(True)


def read_document(path: Path, *, places: bool) -> Any:
    """A pipeline document, with ``like`` and the environment's variables resolved."""
    seen: list[Path] = []
    chain: list[Any] = []
    while True:
        name = os.path.relpath(path) if not path.is_absolute() else str(path)
        doc = parse(read_text(path, name), name, places=places)
        if problems := fill_from_environment(doc, os.environ):
            raise Unusable(problems)
        chain.append(doc)
        seen.append(path.resolve())
        if not isinstance(doc, dict) or "like" not in doc:
            break
        like = doc["like"]
        if not isinstance(like, str):
            raise Unusable(
                [Problem(locate(doc, ["like"]), "like must name a pipeline file", "write like: harbour.yaml")]
            )
        path = path.parent / like
        if path.resolve() in seen:
            raise Unusable([Problem(locate(doc, ["like"]), f"{like} is a variant of itself", "name another file")])
        if not path.resolve().is_relative_to(seen[0].parent):
            raise Unusable(
                [Problem(locate(doc, ["like"]), f"{like} lies outside the folder of this file", "move it there")]
            )
    doc = chain.pop()
    while chain:
        doc, problems = variant(doc, chain.pop())
        if problems:
            raise Unusable(problems)
    return doc
