"""Traces as JSON Lines: a header line, then one request a line, read as they are needed."""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from patient_usher.core.engine.replay import Change, Recipe
from patient_usher.core.http.messages import nests_too_deep
from patient_usher.core.model.document import Problem, Spot, Unusable, fill_from_environment
from patient_usher.core.model.invalid import problems_of
from patient_usher.core.model.trace import ChangeSpec, RequestSpec, TraceSpec
from patient_usher.traces.text import parse_yaml

MAX_LINE = 16 << 20
MAX_PROBLEMS = 50


def header_of(path: Path) -> dict[str, Any] | None:
    """The header line of a JSON Lines trace, None where the file is of another format."""
    try:
        with path.open("rb") as stream:
            first = stream.readline(MAX_LINE)
        header = json.loads(first)
    except (OSError, ValueError, RecursionError):
        return None
    if not isinstance(header, dict) or "patient-usher" not in header or "requests" in header:
        return None
    return header


def read_header(path: Path, header: dict[str, Any]) -> TraceSpec:
    """The header as a trace without requests. Raises Unusable."""
    problems = fill_from_environment(header, os.environ)
    try:
        spec = TraceSpec.model_validate(header)
    except ValidationError as error:
        doc = parse_yaml(json.dumps(header), str(path))
        raise Unusable(problems_of(error, doc, TraceSpec)) from None
    if problems:
        raise Unusable(problems)
    return spec


def raw_lines(path: Path) -> Iterator[tuple[int, bytes]]:
    """Every line behind the header that isn't blank, with its number; none is read further than ``MAX_LINE``."""
    with path.open("rb") as stream:
        stream.readline(MAX_LINE)
        for number, raw in enumerate(iter(lambda: stream.readline(MAX_LINE), b""), 2):
            if raw.strip():
                yield number, raw


def _moved(problems: Iterable[Problem], number: int) -> Unusable:
    """Complaints about one line, moved to where it stands in the file."""
    return Unusable(problem._replace(spot=problem.spot._replace(line=number)) for problem in problems)


def read_line(path: Path, number: int, raw: bytes, make: Any) -> Recipe | Change:
    """One line as an entry. Raises Unusable."""
    spot = Spot(str(path), number, 1)
    if len(raw) >= MAX_LINE:
        raise Unusable([Problem(spot, "this line is over 16 MiB", "cut the body short")])
    if nests_too_deep(raw.decode("utf-8", "replace")):
        raise Unusable([Problem(spot, "this is nested too deep", "flatten it")])
    try:
        doc = json.loads(raw)
        if b"\\ud" in raw.lower():
            parse_yaml(raw.decode(), str(path))  # for its complaint about half a character
    except Unusable as error:
        raise _moved(error.problems, number) from None
    except UnicodeDecodeError:
        raise Unusable([Problem(spot, "this is no UTF-8 text", "save the file as UTF-8")]) from None
    except ValueError as error:
        column = getattr(error, "colno", 1)
        raise Unusable(
            [Problem(spot._replace(column=column), "this line is no JSON", "write one request a line")]
        ) from None
    if b"${env:" in raw and (problems := fill_from_environment(doc, os.environ)):
        raise Unusable(problem._replace(spot=spot) for problem in problems)
    change = isinstance(doc, dict) and "change" in doc
    try:
        entry = ChangeSpec.model_validate(doc) if change else RequestSpec.model_validate(doc)
    except ValidationError as error:
        places = parse_yaml(raw.decode(), str(path))
        found = problems_of(error, places, ChangeSpec if change else RequestSpec)
        raise _moved(found, number) from None
    return make(entry, spot)  # type: ignore[no-any-return]
