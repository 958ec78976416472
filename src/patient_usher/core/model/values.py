"""Reading values off an exchange, and filling them into what a file says: ``${query.station}``."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Annotated, Any

from pydantic import AfterValidator, WithJsonSchema

from patient_usher.core.http.dates import timestamp
from patient_usher.core.http.messages import json_bytes, json_string, json_text
from patient_usher.core.model.document import Json
from patient_usher.core.model.errors import Fault, MissingValue, Raised
from patient_usher.core.model.exchange import UNREAD, Exchange
from patient_usher.core.model.text_types import show, wrong

Reader = Callable[[Any], Any]

PLACEHOLDER = re.compile(r"(?<!\$)\$\{([^}]*)\}")
"""A value to be filled in; with a dollar more, ``$${`` stands for the characters ``${`` themselves."""


def literal(text: str) -> str:
    """Text that fills in as itself."""
    return text.replace("${", "$${")


def literal_tree(value: Json) -> Json:
    """A value whose texts all fill in as themselves, names of members too."""
    if isinstance(value, str):
        return literal(value)
    if isinstance(value, dict):
        return {literal(str(key)): literal_tree(part) for key, part in value.items()}
    return [literal_tree(part) for part in value] if isinstance(value, list) else value


def pointer(value: Json, path: str) -> Json:
    """The value at a JSON Pointer (RFC 6901). Raises LookupError where there is none."""
    if path == "":
        return value
    for raw in path[1:].split("/"):
        part = raw.replace("~1", "/").replace("~0", "~")
        if isinstance(value, list) and part.isdecimal() and int(part) < len(value):
            value = value[int(part)]
        elif isinstance(value, Mapping) and part in value:
            value = value[part]
        else:
            raise LookupError(path)
    return value


def at_path(value: Json, dotted: str) -> Json:
    """The value at ``a.b.c`` (or at a JSON Pointer), None where there is none."""
    try:
        return pointer(value, dotted if dotted.startswith("/") else "/" + dotted.replace(".", "/"))
    except LookupError:
        return None


def query_value(x: Exchange, name: str) -> str | None:
    """The first value of a query parameter."""
    values = x.request.url.params.get(name)
    return values[0] if values else None


def _identity(part: str) -> Reader:
    if part == "name":
        return lambda x: x.identity.name if x.identity else None
    if part in ("roles", "scopes"):
        return lambda x: list(getattr(x.identity, part)) if x.identity else []
    facts = part.removeprefix("facts.")
    if facts == part:
        raise ValueError(f"an identity has name, roles, scopes and facts.NAME, not {show(part)}")
    return lambda x: at_path(x.identity.facts, facts) if x.identity else None


def _path(part: str) -> Reader:
    def read(x: Exchange) -> str:
        try:
            return x.path_values[part]
        except KeyError:
            raise MissingValue(f"path.{part}") from None

    return read


def _query(part: str) -> Reader:
    return lambda x: query_value(x, part)


def _header(part: str) -> Reader:
    lower = part.lower()
    return lambda x: x.request.fields.get(lower)


def _cookie(part: str) -> Reader:
    return lambda x: None if x.cookies is UNREAD else x.cookies.get(part)


def _context(part: str) -> Reader:
    name, _, rest = part.partition(".")
    if not rest:
        return lambda x: x.context_value(name)
    return lambda x: at_path(x.context_value(name), rest)


def _body(part: str) -> Reader:
    return lambda x: None if x.body is UNREAD else at_path(x.body, part)


def _clock(part: str) -> Reader:
    if part != "now":
        raise ValueError("the clock has clock.now")
    return lambda x: timestamp(x.now)


ROOTS: dict[str, Callable[[str], Reader]] = {
    "path": _path,
    "query": _query,
    "header": _header,
    "cookie": _cookie,
    "identity": _identity,
    "context": _context,
    "body": _body,
    "clock": _clock,
}
"""What a placeholder in a pipeline may name, by its first word."""


def reader(name: str, roots: Mapping[str, Callable[[str], Reader]] = ROOTS) -> Reader:
    """A function from an exchange to the value called ``name``. Raises ValueError for no such name."""
    if name in ("body",) and name in roots:
        return lambda x: None if x.body is UNREAD else x.body
    root, _, part = name.partition(".")
    if root not in roots or not part:
        known = ", ".join(f"{key}.NAME" for key in roots)
        raise ValueError(f"there is no value {show(name)}; placeholders are {known}")
    return roots[root](part)


def placeholders(value: Json) -> list[str]:
    """The names of all placeholders in a value, in order."""
    found: list[str] = []
    pending = [value]
    while pending:
        node = pending.pop(0)
        if isinstance(node, str):
            found += PLACEHOLDER.findall(node)
        elif isinstance(node, Mapping):
            pending += [*node.keys(), *node.values()]
        elif isinstance(node, list):
            pending += node
    return found


def plain(value: Json) -> str:
    """A value as text stands in for it: nothing for null, true and false as in JSON."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    return value if isinstance(value, str) else str(value)


MOST_FILLED = 8 << 20
"""How many characters of text one exchange may fill in, in texts of some length: stages could double them for ever."""
_SMALL = 1 << 16


def spend(x: Any, text: str) -> str:
    """The text, counted against what its exchange may fill in. Raises Fault where that is used up."""
    if len(text) > _SMALL and isinstance(work := getattr(x, "work", None), dict):
        work[MOST_FILLED] = spent = work.get(MOST_FILLED, 0) + len(text)
        if spent > MOST_FILLED:
            raise Fault(Raised("TooMuchText", f"stages fill in over {MOST_FILLED:,} characters for one request"))
    return text


def fill(value: Json, roots: Mapping[str, Callable[[str], Reader]] = ROOTS) -> tuple[bool, Any]:
    """Prepare a value for filling, once.

    Returns ``(False, value)`` where nothing is to be filled, else ``(True, function)`` from an
    exchange to the filled value. A placeholder alone keeps its value's type; within text it
    becomes text. Raises ValueError for a placeholder that names nothing.
    """
    if isinstance(value, str):
        if "${" not in value:
            return False, value
        alone = PLACEHOLDER.fullmatch(value)
        if alone:
            return True, reader(alone.group(1), roots)
        parts: list[Json] = PLACEHOLDER.split(value)
        parts[::2] = [part.replace("$${", "${") for part in parts[::2]]
        if len(parts) == 1:
            return False, parts[0]
        for at in range(1, len(parts), 2):
            parts[at] = reader(parts[at], roots)
        return True, lambda x: spend(x, "".join(p if p.__class__ is str else plain(p(x)) for p in parts))
    if isinstance(value, Mapping):
        pairs = [(key, *fill(item, roots)) for key, item in value.items()]
        if not any(live for _, live, _ in pairs):
            return False, {key: item for key, _, item in pairs}
        return True, lambda x: {key: item(x) if live else item for key, live, item in pairs}
    if isinstance(value, list):
        items = [fill(item, roots) for item in value]
        if not any(live for live, _ in items):
            return False, [item for _, item in items]
        return True, lambda x: [item(x) if live else item for live, item in items]
    return False, value


def json_filler(value: Json) -> bytes | Callable[[Exchange], bytes]:
    """``fill``, to JSON octets: what stands fast is written once. Raises ValueError as ``fill`` does."""
    live, whole = fill(value)
    if not live:
        return json_bytes(whole)
    parts: list[Any] = [""]

    def put(item: Json) -> None:
        if isinstance(item, Mapping):
            for at, (key, inner) in enumerate(item.items()):
                parts[-1] += (", " if at else "{") + json_text({key: None})[1:-5]
                put(inner)
            parts[-1] += "}" if item else "{}"
        elif isinstance(item, list):
            for at, inner in enumerate(item):
                parts[-1] += ", " if at else "["
                put(inner)
            parts[-1] += "]" if item else "[]"
        else:
            live, prepared = fill(item)
            if live:
                parts.extend((prepared, ""))
            else:
                parts[-1] += json_text(prepared)

    put(value)

    def write(x: Exchange) -> bytes:
        whole = ""
        for part in parts:
            if part.__class__ is str:
                whole += part
            else:
                found = part(x)
                whole += json_string(found) if found.__class__ is str else json_text(found)
        return whole.encode()

    return write


def filler(value: Json, roots: Mapping[str, Callable[[str], Reader]] = ROOTS) -> Reader:
    """``fill`` as one function of the exchange."""
    live, prepared = fill(value, roots)
    return prepared if live else lambda x: prepared


def checker(roots: Mapping[str, Callable[[str], Reader]] = ROOTS) -> Callable[[object], object]:
    """A validator that refuses placeholders naming nothing."""

    def check(value: Json) -> Json:
        try:
            fill(value, roots)
        except ValueError as error:
            raise wrong(str(error)) from None
        return value

    return check


Filled = Annotated[Any, AfterValidator(checker()), WithJsonSchema({})]
FilledText = Annotated[str, AfterValidator(checker())]
