"""What happened, written into a trace as what is expected: every other octet of the file stays as it is."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from patient_usher.core.http.messages import read_json
from patient_usher.core.model.document import Json, JsonMapping, Problem, Spot, Unusable
from patient_usher.files.lines import header_of
from patient_usher.files.yaml_reader import MAX_OCTETS, decoded, open_file, parse

Expects = Mapping[str, JsonMapping]
"""By request id, what to write as its ``expect``."""


def accepted(path: Path, expects: Expects, *, replace: bool) -> tuple[str, str, list[str]]:
    """The file as it is and as it would be, and the ids of the requests that get an ``expect``.

    One that is there already is left alone, unless it is to be replaced. Raises Unusable where the file
    is no trace, or of a form in which nothing can be written without changing the rest.
    """
    with open_file(path) as stream:
        raw = stream.read(MAX_OCTETS + 1)
    before = decoded(raw, str(path))
    if header_of(raw.partition(b"\n")[0]) is not None:
        after, ids = _in_lines(before, expects, replace=replace)
    else:
        after, ids = _in_document(before, str(path), expects, replace=replace)
    mark = "\ufeff" if raw.startswith(b"\xef\xbb\xbf") else ""
    return mark + before, mark + after, ids


# JSON Lines: a request a line.


def _in_lines(text: str, expects: Expects, *, replace: bool) -> tuple[str, list[str]]:
    ids, lines = [], text.splitlines(keepends=True)
    for number, whole in enumerate(lines):
        line = whole.rstrip()
        if not line.endswith("}") or number == 0:
            continue
        entry = read_json(line)
        wanted = expects.get(str(entry.get("id")))
        if wanted is None or ("expect" in entry and not replace):
            continue
        ids.append(entry["id"])
        said = json.dumps(wanted, ensure_ascii=False)
        if "expect" in entry:
            line = json.dumps({**entry, "expect": wanted}, ensure_ascii=False)
        else:
            line = f'{line[:-1].rstrip()}, "expect": {said}}}'
        lines[number] = line + whole[len(whole.rstrip()) :]
    return "".join(lines), ids


# YAML and JSON: by the places of nodes.


def _in_document(text: str, name: str, expects: Expects, *, replace: bool) -> tuple[str, list[str]]:
    root = _composed(text, name)
    as_json = text.lstrip()[:1] == "{"
    edits: list[tuple[int, int, str]] = []
    ids: list[str] = []
    for entry in _entries(root):
        pairs = {key.value: (key, value) for key, value in entry.value}
        id_ = pairs["id"][1].value if "id" in pairs else ""
        wanted = expects.get(id_)
        if wanted is None or ("expect" in pairs and not replace):
            continue
        said = json.dumps(wanted, ensure_ascii=False) if as_json else _flow(wanted)
        if "expect" in pairs:
            key, value = pairs["expect"]
            edits.append((key.end_mark.index, _end(value, text), f": {said}"))
        else:
            edits.append(_inserted(entry, text, said, as_json=as_json))
        ids.append(id_)
    edited = text
    for start, end, said in sorted(edits, reverse=True):
        edited = edited[:start] + said + edited[end:]
    _check(text, edited, name)
    return edited, ids


def _composed(text: str, name: str) -> Json:
    from ruamel.yaml import YAML
    from ruamel.yaml.error import YAMLError

    parse(text, name, places=True)  # for its words where something is wrong
    try:
        return YAML(typ="rt", pure=True).compose(text)
    except (YAMLError, ValueError, RecursionError):
        raise _unfit(name) from None


def _unfit(name: str) -> Unusable:
    what = "nothing can be written here without changing the rest"
    return Unusable([Problem(Spot(name, 1, 1), what, "write the requests as plain mappings, without anchors")])


def _entries(root: Json) -> Iterator[Any]:
    """The mappings under ``requests``."""
    for key, value in root.value if root is not None and root.id == "mapping" else ():
        if key.value == "requests" and value.id == "sequence":
            yield from (entry for entry in value.value if entry.id == "mapping")


def _end(node: Json, text: str) -> int:
    """Where a node's own text ends: not behind the comments and blank lines that follow it."""
    while node.id != "scalar" and not node.flow_style and node.value:
        last = node.value[-1]
        node = last[1] if isinstance(last, tuple) else last
    end: int = node.end_mark.index
    if node.id == "scalar" and node.style in ("|", ">"):
        end = len(text[:end].rstrip())
    return end


def _inserted(entry: Json, text: str, said: str, *, as_json: bool) -> tuple[int, int, str]:
    """Where a mapping's new entry goes, and how it is written there."""
    name = '"expect"' if as_json else "expect"
    ends = "\r\n" if "\r\n" in text else "\n"
    first, last = entry.value[0][0], entry.value[-1][1]
    end = _end(last, text)
    indent = " " * first.start_mark.column
    if not entry.flow_style:
        line_end = text.find("\n", end)
        at = len(text) if line_end < 0 else line_end - (text[line_end - 1] == "\r")
        return at, at, f"{ends}{indent}{name}: {said}"
    own_lines = first.start_mark.line > entry.start_mark.line
    comma = re.match(r"\s*,", text[end:])
    at = end + (comma.end() if comma is not None else 0)
    lead = f"{ends}{indent}" if own_lines else " "
    return at, at, f"{'' if comma is not None else ','}{lead}{name}: {said}"


def _check(before: str, after: str, name: str) -> None:
    """Nothing but what is expected may have changed: told by reading both."""

    def rest(text: str) -> Json:
        doc = json.loads(json.dumps(parse(text, name, places=False), default=str))
        for entry in doc.get("requests", []):
            entry.pop("expect", None)
        return doc

    try:
        same = rest(before) == rest(after)
    except (Unusable, AttributeError, TypeError, ValueError):
        same = False
    if not same:
        raise _unfit(name)


_PLAIN = re.compile(r"[A-Za-z][A-Za-z0-9_-]*(?:\.[A-Za-z0-9_-]+)*")
_SPECIAL = ("true", "false", "null", "yes", "no", "on", "off")


def _flow(value: Json) -> str:
    """A value as YAML on one line."""
    if isinstance(value, Mapping):
        return "{" + ", ".join(f"{_flow(key)}: {_flow(item)}" for key, item in value.items()) + "}"
    if isinstance(value, str) and _PLAIN.fullmatch(value) and value.lower() not in _SPECIAL:
        return value
    return json.dumps(value, ensure_ascii=False)
