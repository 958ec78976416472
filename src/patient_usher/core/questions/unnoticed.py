"""Which changes of one option change an answer of a trace, and nothing that is expected notices?

Every value of the pipeline's document is changed, left out or, in a list, taken away, one at a time; what the schemas
allow in the place of defaults comes on top. A change that loads is run with the whole trace. What answers otherwise
while every expectation and invariant holds is unnoticed; the expectation that would notice is the cheapest that tells
the two answers apart: a status, a header field or its absence, a member of the body.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from copy import deepcopy
from typing import Any, NamedTuple

from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.compile.compiler import compile_source
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.http.messages import read_json
from patient_usher.core.model.document import Json, JsonObject, Path, Unusable, copy_tree
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.values import plain
from patient_usher.core.variants.candidates import changes_of
from patient_usher.core.variants.change import changed_by
from patient_usher.core.variants.seen import Seen
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.run import run

MOST, MOST_REQUESTS = 1_500, 200_000
"""How many changes are tried at most, and how many requests are run for them."""
MOST_MEMBERS = 40
"""How many members of a body are compared one by one."""
MOST_VALUES = 4
"""How many values of a header field are expected of the repetitions of a request."""
_NULL = ("null",)
"""Stands for JSON's null, where None is what isn't there."""
_LONGEST = 120
"""A text up to so long is expected as a whole."""
_MISSING = "missing"

Views = dict[str, list[dict[str, Json]]]
"""By request, what callers see of each repetition: by name of what it is."""


class Edit(NamedTuple):
    """A change of one option, in words, and the pipeline that comes of it; None where there is none."""

    words: str
    made: Callable[[], CompiledPipeline | None]


class Gap(NamedTuple):
    """A change that nothing notices: the requests that answer otherwise, and by request what would notice.

    ``expectations`` is empty where the answers differ in what no expectation can say.
    """

    words: str
    ids: tuple[str, ...]
    expectations: Mapping[str, JsonObject]


class Unnoticed(NamedTuple):
    """What came of it: how many changes were tried and change an answer, how many are noticed, and the others.

    ``whole``: whether all changes were tried. ``expects``: by request everything that would notice, put together.
    """

    changes: int
    changing: int
    noticed: int
    gaps: tuple[Gap, ...]
    expects: Mapping[str, JsonObject]
    whole: bool


def unnoticed(
    compiled: CompiledPipeline,
    traces: Sequence[BoundTrace],
    *,
    seed: int = 0,
    pinned: Mapping[str, Collection[str]] | None = None,
    watch: Callable[[int], None] = lambda tried: None,
) -> Unnoticed:
    """Try the changes. ``pinned``: by request what is going to be expected of it, in the place of what is."""
    fixed = {id_: set(names) for id_, names in (pinned or {}).items()}
    anew = frozenset(fixed)
    before, _ = _views(compiled, traces, seed, anew)
    most = min(MOST, MOST_REQUESTS // max(sum(map(len, before.values())), 1))
    other, _ = _views(compiled, traces, seed + 1, anew)
    tried = changing = noticed = 0
    gaps: list[Gap] = []
    expects: dict[str, JsonObject] = {}
    whole = True
    for edit in edits(compiled):
        if tried >= most:
            whole = False
            break
        variant = edit.made()
        if variant is None:
            continue
        tried += 1
        watch(tried)
        after, failed = _views(variant, traces, seed, anew)
        differing = [id_ for id_, seen in before.items() if after.get(id_) != seen]
        if not differing:
            continue
        changing += 1
        if failed or any(_sees(before[id_], after.get(id_, []), fixed.get(id_, ())) for id_ in differing):
            noticed += 1
            continue
        found: dict[str, JsonObject] = {}
        for id_ in differing:
            name = _cheapest(before[id_], other.get(id_, []), after.get(id_, []))
            if name is not None:
                found[id_] = _expectation(name, before[id_], other.get(id_, []))
                merge_expectations(expects.setdefault(id_, {}), deepcopy(found[id_]))
                fixed.setdefault(id_, set()).add(name)
                break
        gaps.append(Gap(edit.words, tuple(differing), found))
    return Unnoticed(tried, changing, noticed, tuple(gaps), expects, whole)


# What callers see.


def _views(
    compiled: CompiledPipeline, traces: Sequence[BoundTrace], seed: int, anew: Collection[str]
) -> tuple[Views, bool]:
    """What callers see of every request, and whether an expectation or an invariant notices something.

    ``anew``: requests whose expectations are written anew, so that those that they have don't count.
    """
    found: Views = {}
    failed = False
    for trace in traces:
        statements = Statements(compiled)
        try:
            for judged in run(RunState(compiled, seed), trace, statements=statements, release_sends=True):
                id_ = judged.send.entry.id
                failed |= bool(judged.broken) or (id_ not in anew and judged.mark == "failed")
                found.setdefault(id_, []).append(seen_of(judged.send.exchanges))
        except Unusable:  # a change in the trace that this pipeline can't have
            failed = True
    return found, failed


def seen_of(exchanges: Sequence[Exchange]) -> dict[str, Json]:
    """What a caller sees of a request: of the last exchange, and of a preflight."""
    found: dict[str, Json] = {}
    for x in exchanges:
        prefix = "preflight." if x.kind == "preflight" else ""
        if x.kind == "preflight" or x is exchanges[-1]:
            found |= {f"{prefix}{name}": value for name, value in _seen(x)}
    return found


def _seen(x: Exchange) -> Iterator[tuple[str, Json]]:
    answer = x.answer
    yield "status", answer.status if answer is not None else None
    yield "outcome", x.outcome
    if x.browser is not None:
        yield "browser", x.browser.verdict
        yield "reads", sorted(x.browser.readable_headers)
    if answer is None:
        return
    lines: dict[str, list[str]] = {}
    for name, value in answer.fields.pairs():
        if name.lower() not in ("date", "content-length"):  # what the content says, it says itself
            lines.setdefault(name, []).append(value)
    yield from ((f"header.{name}", ", ".join(values)) for name, values in lines.items())
    try:
        members = [*_members(read_json(answer.content.decode()), "")]
        yield from members[:MOST_MEMBERS]
        yield "rest", repr(members[MOST_MEMBERS:])
    except ValueError:
        yield "text", answer.content.decode(errors="replace")


def _members(value: Json, place: str) -> Iterator[tuple[str, Json]]:
    """The plain values of a JSON document, by pointer; those within lists belong to the list."""
    if isinstance(value, dict) and value:
        for name, part in value.items():
            yield from _members(part, f"{place}/{str(name).replace('~', '~0').replace('/', '~1')}")
    else:
        yield f"body.{place}", _NULL if value is None else value


def _sees(before: list[dict[str, Json]], after: list[dict[str, Json]], names: Collection[str]) -> bool:
    """Whether something of what is expected has become another."""
    if "tally" in names and _tally(before) != _tally(after):
        return True
    return any(_differ(before, after, name) for name in names)


def _differ(before: list[dict[str, Json]], after: list[dict[str, Json]], name: str) -> bool:
    return [one.get(name) for one in before] != [one.get(name) for one in after]


def _tally(views: list[dict[str, Json]]) -> Counter[Json]:
    return Counter(one.get("status") for one in views)


_ORDER = ("status", "outcome", "browser", "header", "preflight", "body", "text")
"""What is expected sooner."""


def _cheapest(before: list[dict[str, Json]], other: list[dict[str, Json]], after: list[dict[str, Json]]) -> str | None:
    """The first thing that tells the answers apart, and that an expectation can say. ``other``: with another seed."""
    if len(before) > 1 and _tally(before) != _tally(after):
        return "tally"
    names = dict.fromkeys(name for one in (*before, *after) for name in one if name not in ("reads", "rest"))
    for name in sorted(names, key=lambda name: _ORDER.index(re.split("[.]", name)[0])):
        values = [one.get(name) for one in before]
        unlike = {repr(value) for value in values}
        if len(unlike) > (MOST_VALUES if name.startswith("header.") else 1) or not _differ(before, after, name):
            continue
        if len(unlike) > 1 and {repr(one.get(name)) for one in after} <= unlike:
            continue  # each value is one that is expected of some repetition
        if values[0] is None and name.partition(".")[0] in ("body", "text"):
            continue  # that a member is absent can't be expected
        if _steady(name, before, other):
            return name
        if values[0] is not None and any(one.get(name) is None for one in after):
            return name  # an id, say: that it is there can be expected
    return None


def _steady(name: str, before: list[dict[str, Json]], other: list[dict[str, Json]]) -> bool:
    """Whether it is the same with another seed."""
    return not _differ(before, other, name)


def _expectation(name: str, before: list[dict[str, Json]], other: list[dict[str, Json]]) -> JsonObject:
    """The expectation that says it."""
    if name == "tally":
        return {"tally": {status: count for status, count in _tally(before).items() if status is not None}}
    value = before[0].get(name)
    if name.startswith("preflight."):
        plain = [{key.removeprefix("preflight."): part for key, part in one.items()} for one in before]
        return {"preflight": _expectation(name.removeprefix("preflight."), plain, plain)}
    root, _, rest = name.partition(".")
    if root == "header":
        values = dict.fromkeys(_MISSING if one.get(name) is None else one[name] for one in before)
        if not _steady(name, before, other):
            values = {"present": None}
        return {"headers": {rest: next(iter(values)) if len(values) == 1 else [*values]}}
    if root == "body":
        return {"body": {"json": _nested(rest, None if value is _NULL else value)}}
    if root == "text":
        text = str(value)
        return {"body": {"exact": text} if len(text) <= _LONGEST else {"contains": text[:_LONGEST]}}
    return {root: value}


def _nested(pointer: str, value: Json) -> Json:
    """A document that has the value at the pointer, and nothing else."""
    for part in reversed(pointer.split("/")[1:]):
        value = {part.replace("~1", "/").replace("~0", "~"): value}
    return value


def merge_expectations(into: JsonObject, more: Mapping[str, Any]) -> None:
    """Put expectations of one request together."""
    for key, value in more.items():
        if isinstance(value, Mapping) and isinstance(into.get(key), dict):
            merge_expectations(into[key], value)
        else:
            into[key] = value


# Changes.

_FIXED = frozenset({
    "patient-usher", "name", "id", "kind", "like", "file", "from", "call", "known", "always", "environments", "same-as",
    "listed", "environment", "password", "secret", "api-keys",
})  # fmt: skip
"""Keys whose values are names, places or other files, or say nothing of answers."""
_NUMBERED = re.compile(r"(\d+)(ms|s|m|h|d|KiB|MiB|GiB)?")


def edits(compiled: CompiledPipeline) -> Iterator[Edit]:
    """All changes of one option, those of the document first, then other words in the place of defaults."""
    said: set[str] = set()
    for path, words, value in _document_edits(compiled.source.doc, (), ""):
        if words not in said:
            said.add(words)
            yield Edit(words, lambda path=path, value=value: _edited(compiled, path, value))  # type: ignore[misc]
    for change in changes_of(compiled, Seen()):
        if change.order is None:
            yield Edit(change.words, lambda change=change: changed_by(compiled, [change]))  # type: ignore[misc]


_GONE: Any = object()


def _document_edits(node: Json, path: Path, label: str) -> Iterator[tuple[Path, str, Json]]:
    """Every value with another in its place; every member of a mapping, every item of a list, taken away.

    ``label``: the node as people name it: the stage or route that it is of, and its keys from there.
    """
    entries = node.items() if isinstance(node, dict) else enumerate(node) if isinstance(node, list) else ()
    for key, value in entries:
        if key in _FIXED:
            continue
        here, named = (*path, key), value.get("id") if isinstance(value, dict) else None
        own = f"{key + 1}" if isinstance(key, int) else str(key)
        words = str(named) if named is not None else f"{label}.{own}" if label else own
        for other in _others(value):
            yield here, f"{words}: {_short(other)}, not {_short(value)}", other
        yield here, f"{words}: left out", _GONE
        yield from _document_edits(value, here, words)


def _short(value: Json) -> str:
    text = plain(value) if isinstance(value, str | bool | None) else str(value)
    return text if len(text) <= 40 else f"{text[:39]}…"


def _others(value: Json) -> Iterator[Json]:
    if isinstance(value, bool):
        yield not value
    elif isinstance(value, int):
        yield from (value + 1, value * 10)
    elif isinstance(value, str):
        numbered = _NUMBERED.fullmatch(value)
        if numbered is not None:
            yield f"{int(numbered[1]) + 1}{numbered[2] or ''}"
            yield f"{int(numbered[1]) * 10}{numbered[2] or ''}"
        else:
            yield f"{value}-changed"


def _edited(compiled: CompiledPipeline, path: Path, value: Json) -> CompiledPipeline | None:
    """The pipeline with one value of its document another; None where it doesn't load."""
    doc: Any = copy_tree(compiled.source.doc)
    node = doc
    for part in path[:-1]:
        node = node[part]
    if value is _GONE:
        del node[path[-1]]
    else:
        node[path[-1]] = value
    try:
        return compile_source(compiled.source._replace(doc=doc, plain=None))
    except (Unusable, LookupError, TypeError, AttributeError):
        return None
