"""Pipeline files: from a path to a compiled pipeline."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.compile.compiler import compile_document
from patient_usher.core.engine.compile.warnings import warnings_of
from patient_usher.core.model.document import (
    Json,
    JsonMapping,
    Map,
    Problem,
    Seq,
    Spot,
    Unusable,
    fill_from_environment,
    locate,
)
from patient_usher.core.model.overlays import setting, variant
from patient_usher.core.model.text_types import show
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.files.trust import NOTHING, Trust
from patient_usher.files.yaml_reader import MAX_OCTETS, decoded, open_file, parse, parse_value, read_text


@dataclass(frozen=True)
class SiblingFiles:
    """A reader of files that a file names: only those in its own folder or below, unless ``anywhere``.

    It raises OSError with words for the user.
    """

    folder: Path
    anywhere: bool = False

    def __call__(self, name: str) -> bytes:
        """The file's octets."""
        root = Path(os.path.realpath(self.folder))
        path = Path(os.path.realpath(root / name)) if "\0" not in name else root
        if not self.anywhere and not path.is_relative_to(root):
            raise OSError(
                f"the file {name} lies outside the folder of the file that names it; move it, or give --trust files"
            )
        try:
            with open_file(path) as stream:
                octets = stream.read(MAX_OCTETS + 1)
        except Unusable as error:
            problem = error.problems[0]
            raise OSError(f"the file {name} can't be read: {problem.what}; {problem.mend}") from None
        if len(octets) > MAX_OCTETS:
            raise OSError(f"the file {name} is over 256 MiB; name a smaller one")
        return octets


def load_pipeline(
    source: Path | JsonMapping,
    *,
    environments: Sequence[str] | None = None,
    settings: Iterable[str] = (),
    trust: Trust = NOTHING,
    always: Path | None = None,
    places: bool = False,
) -> CompiledPipeline:
    """The pipeline that a file, or what a file would say, describes. Raises Unusable.

    ``always``: a file of statements that join the pipeline's own. ``places``: the pipeline knows where in the
    file its parts stand, also where nothing is wrong.
    """
    overlays: list[tuple[object, str]] = []
    problems: list[Problem] = []
    for text in settings:
        overlay, wrong = setting(text, parse_value)
        overlays.append((overlay, "--set"))
        problems += wrong
    if problems:
        raise Unusable(problems)
    load_python = None
    if trust.python:
        from patient_usher.files.python_code import PythonFrom  # most pipelines have no code

        load_python = PythonFrom(Path() if isinstance(source, Mapping) else source.parent)
    folder = source.parent if isinstance(source, Path) else Path()

    def compiled_from(doc: Json) -> CompiledPipeline:
        return compile_document(
            _with_statements(doc, always) if always is not None else doc,
            environments=environments,
            overlays=overlays,
            read_file=SiblingFiles(folder, trust.files),
            load_python=load_python,
        )

    if not isinstance(source, Path):
        return compiled_from(source)
    if str(source) == "-":  # which can be read once only: with places at once
        return compiled_from(_resolved(source, True, trust.files)[0])
    doc, placed = read_document(source, places=places, anywhere=trust.files)
    try:
        compiled = compiled_from(doc)
        if placed or not warnings_of(compiled):
            return compiled
    except Unusable:
        if placed:
            raise
    # JSON is read without places; where something is wrong, read again with them.
    return compiled_from(read_document(source, places=True, anywhere=trust.files)[0])


def pipeline_of_text(text: str, name: str) -> CompiledPipeline:
    """The pipeline that a text describes, which may name no files. Raises Unusable."""
    return compile_document(parse(text, name), read_file=SiblingFiles(Path(os.devnull)))


_MARK = "pipeline/1"


def read_document(path: Path, *, places: bool, anywhere: bool = False) -> tuple[Json, bool]:
    """A pipeline document, with ``like`` and the environment's variables resolved, and whether it knows its places."""
    try:
        return _resolved(path, places, anywhere)
    except Unusable:
        if places:
            raise
    return _resolved(path, True, anywhere)  # what is wrong is told with its place


def _resolved(path: Path, places: bool, anywhere: bool) -> tuple[Json, bool]:
    seen: list[Path] = []
    chain: list[Json] = []
    while True:
        name = os.path.relpath(path) if not path.is_absolute() else str(path)
        if name == "-" and not chain:  # of what the command line names alone
            name, text = "standard input", decoded(sys.stdin.buffer.read(MAX_OCTETS + 1), "standard input")
        else:
            text = read_text(path, name)
        doc = parse(text, name, places=places)
        if problems := fill_from_environment(doc, ENVIRONMENT):
            raise Unusable(problems)
        chain.append(doc)
        seen.append(Path(os.path.realpath(path)))
        if not isinstance(doc, dict) or "like" not in doc:
            break
        if (mark := doc.get("patient-usher", _MARK)) != _MARK:
            what = f"'patient-usher' can't be {show(mark)}"
            raise Unusable([Problem(locate(doc, ["patient-usher"]), what, f"did you mean '{_MARK}'?")])
        like = doc["like"]
        if not isinstance(like, str) or "\0" in like:
            raise Unusable(
                [Problem(locate(doc, ["like"]), "like must name a pipeline file", "write like: harbour.yaml")]
            )
        path = path.parent / like
        if not os.path.exists(path):  # a name that is too long is no file either
            raise Unusable([Problem(locate(doc, ["like"]), f"there is no file {like}", "check the path")])
        if Path(os.path.realpath(path)) in seen:
            raise Unusable([Problem(locate(doc, ["like"]), f"{like} is a variant of itself", "name another file")])
        if not anywhere and not Path(os.path.realpath(path)).is_relative_to(seen[0].parent):
            raise Unusable(
                [
                    Problem(
                        locate(doc, ["like"]),
                        f"{like} lies outside the folder of this file",
                        "move it there, or give --trust files",
                    )
                ]
            )
    placed = all(isinstance(part, Map) for part in chain)
    doc = chain.pop()
    while chain:
        doc, problems = variant(doc, chain.pop())
        if problems:
            raise Unusable(problems)
    return doc, placed


def _with_statements(doc: Json, path: Path) -> Json:
    """The document with the statements of a file behind its own. Raises Unusable."""
    given = parse(read_text(path, str(path)), str(path), places=True)
    if isinstance(given, dict) and [*given] == ["always"]:
        given = given["always"]
    if not isinstance(given, list | str):
        what = "this file holds no invariants"
        raise Unusable([Problem(Spot(str(path), 1, 1), what, "write always: [everyday], or a list of invariants")])
    own = doc.get("always", []) if isinstance(doc, dict) else []
    entries = Seq(
        locate(given, ()),
        [*(own if isinstance(own, list) else [own]), *(given if isinstance(given, list) else [given])],
    )
    spots = [*(own.spots if isinstance(own, Seq) else []), *(given.spots if isinstance(given, Seq) else [])]
    entries.spots = spots if len(spots) == len(entries) else []
    if not isinstance(doc, dict):
        return doc  # no pipeline at all: whoever reads it says so
    return {**doc, "always": entries} if not isinstance(doc, Map) else _laid(doc, entries)


def _laid(doc: Map, entries: Seq) -> Map:
    copy_tree = Map(doc.spot, {**doc, "always": entries}.items())
    copy_tree.spots = {**doc.spots, "always": (entries.spot, entries.spot)}
    return copy_tree
