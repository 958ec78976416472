"""Whether, and into which parts, long traces can be replayed at once: parts whose requests never meet.

One look through the traces finds by which part of its request each line is told apart, and that nothing ties lines
together. A file that isn't packed is looked through in stretches, as many at once as there are processes.
"""

from __future__ import annotations

import heapq
import re
from array import array
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from itertools import chain
from pathlib import Path
from typing import NamedTuple, Protocol, TypeVar

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.partition import NOTHING, parted_by
from patient_usher.core.model.document import Problem, Spot, Unusable
from patient_usher.files.ids import Ids, disjoint
from patient_usher.files.lines import Lines
from patient_usher.files.trace import Trace
from patient_usher.files.trust import NOTHING as NO_TRUST
from patient_usher.files.trust import Trust
from patient_usher.use_cases.line_keys import BUCKETS, key_reader

MOST = 255
"""Into so many parts a trace is cut."""
_TIMED = re.compile(rb"bearer|\\u00", re.IGNORECASE)
"""What a token stands behind, as it is or written in escapes."""
A = TypeVar("A")
B = TypeVar("B")

_HEAD = re.compile(rb'\s*\{\s*"id"\s*:\s*"([^"\\]*)"\s*,\s*"at"\s*:\s*"[0-9]{1,15}(?:us|ms|s|m|h|d)"\s*,')


class ParallelMap(Protocol):
    """Does the same to many things at once, ``size`` of them, and gives what comes of each, in their order. Raises what
    one raises.
    """

    size: int

    def __call__(self, work: Callable[[A], B], things: Sequence[A], /) -> Iterator[B]:
        """Do it."""


class NotParted(Exception):
    """What ties the requests of a replay together, in a sentence."""


class Part(NamedTuple):
    """What is replayed in one run state: traces one after the other, or of each only some lines."""

    traces: tuple[Path, ...]
    number: int
    first: int
    """Which of all traces its first is."""
    lines: tuple[bytes, ...] = ()
    """Of each trace whether a line is this part's, an octet each, by their numbers; empty, where it has every line."""


class Stretch(NamedTuple):
    """A trace, or those of its lines that stand between two octets."""

    path: Path
    octets: tuple[int, int] | None = None


class ScanResult(NamedTuple):
    """What a look through lines has found: the bucket of each, by their numbers, and their ids."""

    buckets: array[int]
    ids: Ids


def lines_of(path: Path, trust: Trust) -> Lines:
    """The lines of a trace. Raises Unusable, NotParted where it isn't one in JSON Lines."""
    lines = Trace.read(path, trust=trust).lines
    if lines is None:
        raise NotParted(f"{path.name} is no trace in JSON Lines")
    return lines


def parts_of(
    compiled: CompiledPipeline, traces: Sequence[Path], each: ParallelMap, *, keeps_state: bool = False
) -> list[Part]:
    """The parts in which traces can be replayed, about as many as ``each`` does at once. Raises NotParted with what
    ties all requests together, Unusable for a trace that can't be read.

    Each trace begins in a fresh run state, so that traces never meet; with ``keeps_state`` each goes on in what the one
    before has left, and only requests that have nothing in common can be told apart.
    """
    whole = [Part((path,), number, number) for number, path in enumerate(traces)]
    stretches = [_stretches(path, -(-each.size // len(traces))) for path in traces]
    if len(traces) >= each.size and not keeps_state:
        return whole
    try:
        buckets = _buckets(_tied(compiled), compiled, stretches, each)
    except NotParted:
        if len(traces) > 1 and not keeps_state:
            return whole
        raise
    together = [range(len(traces))] if keeps_state else [range(at, at + 1) for at in range(len(traces))]
    shares = min(-(-each.size // len(together)), MOST)
    parts: list[Part] = []
    for some in together:
        weights = sum((Counter(buckets[at]) for at in some), Counter[int]())
        of_bucket = _shared_out([weights[bucket] for bucket in range(BUCKETS)], shares)
        owners = [bytes(map(of_bucket.__getitem__, buckets[at])) for at in some]
        for share in range(shares):
            mine = bytes(owner == share for owner in range(MOST + 1))
            lines = tuple(owner.translate(mine) for owner in owners)
            parts.append(Part(tuple(traces[at] for at in some), len(parts), some[0], lines))
    return parts


def _stretches(path: Path, count: int) -> list[Stretch]:
    cut = lines_of(path, NO_TRUST).stretches(count)
    return [Stretch(path, octets) for octets in cut] if len(cut) > 1 else [Stretch(path)]


def _tied(compiled: CompiledPipeline) -> str:
    part, against = parted_by(compiled)
    if part is None:
        told = "; ".join(f"{tie.who} keeps its state by {tie.told}" for tie in against[:3])
        raise NotParted(f"{told}, so that requests meet")
    return part


def _shared_out(weights: Sequence[int], count: int) -> bytes:
    """For each bucket which of so many parts has it, each about as heavy: the heaviest first, each to the lightest."""
    parts = [(0, index) for index in range(count)]
    owners = bytearray(BUCKETS)
    for bucket in sorted(range(BUCKETS), key=lambda bucket: -weights[bucket]):
        weight, index = heapq.heappop(parts)
        owners[bucket] = index
        heapq.heappush(parts, (weight + weights[bucket] + (not weights[bucket]), index))
    return bytes(owners)


def _buckets(
    by: str, compiled: CompiledPipeline, traces: Sequence[Sequence[Stretch]], each: ParallelMap
) -> list[array[int]]:
    """The bucket of each line of each trace. Raises NotParted for what ties them, Unusable."""
    look: Callable[[Stretch], ScanResult | None] = partial(_looked, by, compiled)
    found = iter(list(each(look, list(chain.from_iterable(traces)))))  # to the end: its processes are free then
    looked = [[next(found) for _ in stretches] for stretches in traces]
    made: list[array[int]] = []
    for stretches, several in zip(traces, looked, strict=True):
        whole = [one for one in several if one is not None]
        if len(whole) < len(several) or not disjoint([one.ids for one in whole]):
            # Something is in the way: a look at all of it, in order, says what and where.
            whole = [one for one in each(look, [Stretch(stretches[0].path)]) if one is not None]
        made.append(sum((one.buckets for one in whole), array("H")))
    return made


def _looked(by: str, compiled: CompiledPipeline, stretch: Stretch) -> ScanResult | None:
    """Look through lines. Raises NotParted and Unusable for all of a trace; of a part of it None stands for both."""
    try:
        return _look(by, compiled, stretch)
    except (NotParted, Unusable):
        if stretch.octets is None:
            raise
        return None


def _look(by: str, compiled: CompiledPipeline, stretch: Stretch) -> ScanResult:
    path = stretch.path
    lines = lines_of(path, NO_TRUST)
    for name, spec in (lines.header.get("callers") or {}).items():
        if isinstance(spec, dict) and (spec.get("kind") == "browser" or spec.get("cookies") == "keep"):
            raise NotParted(f"the caller {name} remembers what it was answered")
        if isinstance(spec, dict) and by not in (NOTHING, "address") and spec.get("redirects") == "follow":
            raise NotParted(f"the caller {name} follows redirects, and what it then sends may belong to others")
    ids, key_of = Ids(), key_reader(by, lines.header, compiled) if by != NOTHING else None
    filled = b"${kept" if by in (NOTHING, "address") else b"${"
    buckets = array("H")
    for number, raw in lines.numbered() if stretch.octets is None else lines.within(*stretch.octets):
        while len(buckets) < number:
            buckets.append(0)
        if raw.isspace():
            buckets.append(0)
            continue
        head = _HEAD.match(raw)
        if head is None:
            raise NotParted(f"line {number} of {path.name} doesn't begin with its id and its time (at)")
        if b'"keep"' in raw or b'"change"' in raw or filled in raw:
            raise NotParted(f"line {number} of {path.name} keeps a value, fills one in, or changes the pipeline")
        if by == "identity" and _TIMED.search(raw):
            raise NotParted(f"line {number} of {path.name} brings a token: whom it names hangs on the time")
        if not ids.add(head[1].decode()):
            what, spot = f"the id '{head[1].decode()}' is taken", Spot(str(path), number, 1)
            raise Unusable([Problem(spot, what, "give each request an id of its own")])
        buckets.append((number if key_of is None else key_of(raw)) % BUCKETS)
    return ScanResult(buckets, ids)
