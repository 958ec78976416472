"""Reading files: YAML 1.2 and JSON as trees that remember their places.

Nothing in a file can make reading it run code, grow without bound or nest without end: aliases
are counted as what they stand for, depth is limited, tags are refused.
"""

from __future__ import annotations

import json
import math
import re
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path
from typing import Any, BinaryIO

from patient_usher.core.http.messages import MAX_NESTING, finite, nests_too_deep, no_constant, whole
from patient_usher.core.model.document import Json, JsonObject, Map, Problem, Seq, Spot, Unusable
from patient_usher.core.model.text_types import show

MAX_NODES = 2_000_000
MAX_OCTETS = 256 << 20

# YAML 1.2.2 section 10.3.2: the core schema.
_INT = re.compile(r"[-+]?[0-9]+")
_OTHER_INT = re.compile(r"0o[0-7]+|0x[0-9a-fA-F]+")
_FLOAT = re.compile(r"[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?")
SURROGATE = re.compile(r"\\u[dD][89a-fA-F]")
"""An escape of half a character (RFC 8259 section 7): it counts together with its other half only."""
_WORDS = {
    **dict.fromkeys(("null", "Null", "NULL", "~", ""), None),
    **dict.fromkeys(("true", "True", "TRUE"), True),
    **dict.fromkeys(("false", "False", "FALSE"), False),
}


Stamp = tuple[int, int, int] | None
_watchers: ContextVar[dict[Path, Stamp] | None] = ContextVar("watchers", default=None)


def stamp(path: Path) -> Stamp:
    """What is different when a file has changed: time, size, inode. None while it isn't there."""
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_mtime_ns, found.st_size, found.st_ino


@contextmanager
def watched() -> Iterator[dict[Path, Stamp]]:
    """The files that are read within, each as it was before it was first read."""
    read: dict[Path, Stamp] = {}
    token = _watchers.set(read)
    try:
        yield read
    finally:
        _watchers.reset(token)


def open_file(path: Path, name: str | None = None, *, pipes: bool = False) -> BinaryIO:
    """A file opened for reading; with ``pipes`` it may be a pipe as well. Raises Unusable where it can't be."""

    def unusable(what: str, mend: str) -> Unusable:
        return Unusable([Problem(Spot(name or str(path), 1, 1), what, mend)])

    if (read := _watchers.get()) is not None:
        read.setdefault(path, stamp(path))
    try:
        mode = path.stat().st_mode
        if stat.S_ISDIR(mode):
            raise unusable("this is a folder", "name a file")
        if not (stat.S_ISREG(mode) or (pipes and (stat.S_ISFIFO(mode) or stat.S_ISCHR(mode)))):
            raise unusable("this is no regular file", "name one")
        return path.open("rb")
    except (FileNotFoundError, ValueError):
        raise unusable("there is no such file", "check the path") from None
    except OSError as error:
        raise unusable(f"the file can't be read: {error.strerror}", "check its permissions") from None


def read_text(path: Path, name: str | None = None) -> str:
    """A file's text. Raises Unusable where it can't be read or isn't UTF-8."""
    with open_file(path, name) as stream:
        return decoded(stream.read(MAX_OCTETS + 1), name or str(path))


def decoded(raw: bytes, name: str) -> str:
    """Octets of a file as text. Raises Unusable where they are too many, or no UTF-8."""
    if len(raw) > MAX_OCTETS:
        raise Unusable([Problem(Spot(name, 1, 1), "the file is over 256 MiB", "for bulk, write a trace as JSON Lines")])
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = raw.count(b"\n", 0, error.start) + 1
        column = error.start - (raw.rfind(b"\n", 0, error.start) + 1) + 1
        raise Unusable([Problem(Spot(name, line, column), "this is no UTF-8 text", "save the file as UTF-8")]) from None


def parse(text: str, name: str, *, places: bool = False) -> Json:
    """The tree that a text holds. JSON is read fast, without places unless they are asked for.

    Raises Unusable where the text is neither JSON nor YAML.
    """
    if not places and text.lstrip()[:1] in ("{", "[") and not (SURROGATE.search(text) or nests_too_deep(text)):
        try:
            return _loads(text)
        except ValueError:
            pass  # the slow way says where, and reads YAML that begins like JSON
    try:
        tree = parse_yaml(text, name)
    except Unusable:
        _say_what_it_is(text, name)
        raise
    if not isinstance(tree, dict | list) or (isinstance(tree, dict) and "patient-usher" not in tree):
        _say_what_it_is(text, name)
    if not isinstance(tree, dict | list):
        what = f"the file holds {show(tree)} and nothing else" if tree is not None else "the file holds nothing"
        raise Unusable(
            [Problem(Spot(name, 1, 1), what, "write lines such as NAME: VALUE, the first one patient-usher:")]
        )
    return tree


_OTHERS = (
    (re.compile(r'[^\n]*"(?:GET|HEAD|POST|PUT|PATCH|DELETE|OPTIONS) \S+ HTTP/[\d.]+"'), "an access log"),
    (re.compile(r"[^\n]*#(?:Version|Fields|Date|Software):"), "a log in the extended format of the W3C"),
    (re.compile(r"\s*(?:\$ )?curl\s"), "curl commands"),
    (re.compile(r"\{[^\n]*\}\s*\n\{"), "a log in lines of JSON"),
)
"""How files begin that another command takes."""
_HEADLESS = re.compile(r'\{[^\n]*"send"[^\n]*\}\s*\n\{')
"""How a trace in lines of JSON begins that doesn't say so."""


def _say_what_it_is(text: str, name: str) -> None:
    """Raises Unusable, where a text is of a sort that is imported, or a trace without its first line."""
    head, spot = text[:4000], Spot(name, 1, 1)
    if _HEADLESS.match(head):
        mend = 'begin with one that does: {"patient-usher": "trace/1"}'
        raise Unusable([Problem(spot, "no line says what these lines of JSON are", mend)])
    for begins, sort in _OTHERS:
        if begins.match(head):
            file = "-" if name == "standard input" else Path(name).name
            mend = f"usher import {file} --into trace.jsonl makes a trace of it"
            raise Unusable([Problem(spot, f"this looks like {sort}", mend)])


class Twins(ValueError):
    """A key that stands twice in an object."""


def no_twins(pairs: list[tuple[str, object]]) -> JsonObject:
    """For ``json.loads``: an object, whose keys may stand once only. Raises Twins."""
    result = dict(pairs)
    if len(result) != len(pairs):
        raise Twins
    return result


_loads = json.JSONDecoder(
    object_pairs_hook=no_twins, parse_constant=no_constant, parse_float=finite, parse_int=whole
).decode


def parse_value(text: str) -> Json:
    """A short YAML value without places, as on the command line."""
    return parse_yaml(text, "--set")


def _compiled_events(text: str) -> Iterator[object]:
    from ruamel.yaml.cyaml import CParser  # type: ignore[attr-defined]

    parser = CParser(text)
    try:
        while parser.check_event():
            yield parser.get_event()
    finally:
        parser.dispose()


def _careful_events(text: str) -> Iterator[object]:
    from ruamel.yaml import YAML

    return iter(YAML(typ="safe", pure=True).parse(text))


def parse_yaml(text: str, name: str) -> Json:
    """A YAML document as Map, Seq and scalars by the core schema, with places.

    The compiled parser is fast but of an older YAML (no ``?`` in an unquoted value between braces);
    what it refuses is read again by the careful one, whose word is final.
    """
    from ruamel.yaml.error import MarkedYAMLError, YAMLError

    try:
        return _build(_compiled_events(text), name)
    except (ImportError, YAMLError):
        pass
    try:
        return _build(_careful_events(text), name)
    except MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        spot = Spot(name, mark.line + 1, mark.column + 1) if mark else Spot(name, 1, 1)
        raise Unusable([Problem(spot, *_explain(error, text, spot))]) from None
    except YAMLError as error:
        position = getattr(error, "position", None)
        spot = _spot_at(text, name, position) if isinstance(position, int) else Spot(name, 1, 1)
        raise Unusable(
            [Problem(spot, "there is a character here that text can't hold", "remove control characters")]
        ) from None


def _build(events: Iterator[Any], name: str) -> Json:
    """The tree of parser events, without recursion: the one loop that every written value passes."""
    root: Json = None
    complete = False
    nodes = 0
    key: str | None = None  # of the innermost mapping, while it waits for its value
    key_spot = Spot(name, 1, 1)
    node: Map | Seq | None = None  # the innermost collection that is open
    # What is open around it: each with the key that waits and its place, the inner one's first event, and nodes before.
    outer: list[tuple[Map | Seq | None, str | None, Spot, Any, int]] = []
    anchors: dict[str, tuple[Json, int]] = {}

    for event in events:
        kind = event.__class__.__name__
        size = 1
        value: Json
        if kind == "ScalarEvent":
            value = _scalar(event, name)
            if event.anchor:
                anchors[event.anchor] = (value, 1)
        elif kind in _STARTS:
            _refuse_tag(event, name)
            if len(outer) >= MAX_NESTING:
                raise _wrong(event, name, f"this is nested more than {MAX_NESTING} deep", "flatten it")
            outer.append((node, key, key_spot, event, nodes))
            node = _STARTS[kind](_spot(event, name))
            key = None
            continue
        elif kind in _ENDS:
            value = node
            node, key, key_spot, event, before = outer.pop()
            if event.anchor:
                anchors[event.anchor] = (value, nodes - before + 1)
        elif kind == "AliasEvent":
            if event.anchor not in anchors:
                raise _wrong(event, name, f"no anchor is called '{event.anchor}'", "define it further up")
            value, size = anchors[event.anchor]
        else:
            if kind == "DocumentStartEvent" and complete:
                raise _wrong(event, name, "a second document begins here", "put it into a file of its own")
            complete = complete or kind == "DocumentEndEvent"
            continue

        nodes += size
        if nodes > MAX_NODES:
            what = f"with its aliases the file holds over {MAX_NODES:,} values"
            raise _wrong(event, name, what, "use fewer aliases")
        mark = event.start_mark
        spot = Spot(name, mark.line + 1, mark.column + 1)
        if node is None:
            root = value
        elif isinstance(node, Seq):
            node.append(value)
            node.spots.append(spot)
        elif key is None:
            if isinstance(value, dict | list):
                mend = 'put it into quotes, as in "${query.day}"' if value else "write text"
                raise _wrong(event, name, "a key must be text, not a mapping or list", mend)
            key, key_spot = value if isinstance(value, str) else event.value, spot
            if key in node:
                raise _wrong(event, name, f"the key '{key}' stands here twice", "keep one of the two")
        else:
            node[key] = value
            stands = value is not None or kind != "ScalarEvent" or event.value  # what is empty stands by its key
            node.spots[key] = (key_spot, spot if stands else key_spot)
            key = None
    if not complete:
        raise Unusable([Problem(Spot(name, 1, 1), "the file is empty", "write something into it")])
    return root


_STARTS: dict[str, type[Map] | type[Seq]] = {"MappingStartEvent": Map, "SequenceStartEvent": Seq}
_ENDS = {"MappingEndEvent", "SequenceEndEvent"}


def _spot(event: Any, name: str) -> Spot:
    return Spot(name, event.start_mark.line + 1, event.start_mark.column + 1)


def _wrong(event: Any, name: str, what: str, mend: str) -> Unusable:
    return Unusable([Problem(_spot(event, name), what, mend)])


def _refuse_tag(event: Any, name: str) -> None:
    if event.tag is not None and event.tag != "!":
        raise _wrong(event, name, f"the tag {event.tag} is not read here", "leave it out")


def _scalar(event: Any, name: str) -> Json:
    """A scalar's value."""
    if event.tag is not None:
        _refuse_tag(event, name)
    text = event.value
    if not text.isascii() and _HALF.search(text):
        try:
            text = text.encode("utf-16", "surrogatepass").decode("utf-16")
        except UnicodeDecodeError:
            raise _wrong(event, name, "half a character is escaped here", "escape both halves") from None
    if event.style:  # quoted, or a block
        return text
    value = resolve(text)
    if isinstance(value, float) and math.isinf(value):
        raise _wrong(event, name, "this number is too large", "write a smaller one")
    return value


_HALF = re.compile("[\ud800-\udfff]")


def _spot_at(text: str, name: str, position: int) -> Spot:
    line = text.count("\n", 0, position) + 1
    return Spot(name, line, position - text.rfind("\n", 0, position))


def _explain(error: Any, text: str, spot: Spot) -> tuple[str, str]:
    lines = text.splitlines()
    line = lines[spot.line - 1] if spot.line <= len(lines) else ""
    line = line[: spot.column + 200][-1000:]  # what is looked for stands near
    if "\t" in line[: len(line) - len(line.lstrip())] or "'\\t'" in str(error.problem):
        return "a tab stands here where only spaces may", "indent with spaces"
    around = line[: spot.column]
    if "${" in line and re.search(r"[\[{,:]\s*[^\"'\[{,]*\$\{", line) and ("'}'" in str(error) or "{" in around):
        return (
            "a placeholder stands unquoted between braces",
            'put the value into quotes, as in "${path.berth}"',
        )
    if re.search(r"/[^\s\"']*\{", line):
        return "a brace stands unquoted here", 'put the value into quotes, as in "GET /berths/{berth}"'
    told = f"{error.context or ''} {error.problem or ''}"
    for words, what, mend in _JARGON:
        if words in told:
            return what, mend
    problem = str(error.problem or "this can't be read").replace("did not find expected", "there should be")
    return f"this is not YAML: {problem}", "check brackets, quotes and indentation"


_JARGON = (
    ("while scanning a quoted scalar", "a quoted text has no end", "close its quote"),
    (
        "mapping values are not allowed",
        "a colon stands where none can",
        "quote the text that holds it, or indent the line like its neighbours",
    ),
    ("cannot start any token", "no text starts with this character", "put the text into quotes"),
    ("flow sequence", "a list that begins with [ has no end, or an item no comma", "close it with ], or add the comma"),
    (
        "flow mapping",
        "a mapping that begins with { has no end, or an entry no comma",
        "close it with }, or add the comma",
    ),
    ("<block mapping start>", "this line stands further in than the one above allows", "indent it like its neighbours"),
    ("block collection", "this line's indentation fits none of the lines above", "indent it like its neighbours"),
    ("block mapping", "this line's indentation fits none of the lines above", "indent it like its neighbours"),
    ("<stream end>", "the file ends in the middle of something", "close what is still open"),
    ("could not find expected ':'", "a key has no colon", "write KEY: VALUE"),
)
"""What the parser says, in words of whoever writes files: what is looked for, what is wrong, the mend."""


def resolve(text: str) -> Json:
    """A plain scalar's value by the core schema."""
    if text in _WORDS:
        return _WORDS[text]
    first = text[0]
    if first in "0123456789+-.":
        if _INT.fullmatch(text) and len(text) < 400:
            return int(text)
        if _FLOAT.fullmatch(text):
            return float(text)
        if _OTHER_INT.fullmatch(text) and len(text) < 400:
            return int(text, 0)
    return text
