"""Long traces replayed in parts at once: parts whose requests never meet, each in a world of its own."""

from __future__ import annotations

import contextlib
import heapq
import json
import re
import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import NamedTuple, Protocol, TypeVar

from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.engine.partition import NOTHING, parted_by
from patient_usher.core.engine.run.world import World, savings_of
from patient_usher.core.model.document import JsonObject, Problem, Spot, Unusable, unusable
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.exchange_table import Row, rows_of
from patient_usher.core.verify.run import run
from patient_usher.core.verify.summary import Summary
from patient_usher.core.verify.totals import Bulk
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.files.lines import Ids, Lines
from patient_usher.files.trace import Trace
from patient_usher.files.trust import NOTHING as NO_TRUST
from patient_usher.files.trust import Trust
from patient_usher.output.door import DOOR
from patient_usher.use_cases.cluster import OnCluster, on_cluster
from patient_usher.use_cases.line_keys import BUCKETS, key_reader
from patient_usher.use_cases.processes import OnCores
from patient_usher.use_cases.rows_file import RowsFile
from patient_usher.use_cases.session import Pipeline, collect_garbage

_TIMED = re.compile(rb"bearer|\\u00", re.IGNORECASE)
"""What a token stands behind, as it is or written in escapes."""
A = TypeVar("A")
B = TypeVar("B")

_HEAD = re.compile(rb'\s*\{\s*"id"\s*:\s*"([^"\\]*)"\s*,\s*"at"\s*:\s*"[0-9]{1,15}(?:us|ms|s|m|h|d)"\s*,')


class Each(Protocol):
    """Does the same to many things at once and gives what comes of each, in their order. Raises what one raises."""

    def __call__(self, work: Callable[[A], B], things: Sequence[A], /) -> Iterator[B]:
        """Do it."""


class NotParted(Exception):
    """What ties the requests of a replay together, in a sentence."""


class Part(NamedTuple):
    """What is replayed in one world: traces one after the other, or of each only lines that belong to some buckets."""

    traces: tuple[Path, ...]
    number: int
    first: int
    """Which of all traces its first is."""
    by: str = ""
    """By which part of the requests; empty, where it has every line."""
    buckets: bytes = b""
    """Whether a bucket is this part's, an octet each."""


class Came(NamedTuple):
    """What came of a part. ``ends``: when each of its traces was over; ``states``: what stages may have saved;
    ``notes``: what there is to say of traces.
    """

    totals: Bulk
    summary: Summary
    statements: Statements
    states: list[tuple[object, object]]
    ends: list[int]
    notes: list[str]


class Job(NamedTuple):
    """What every part is replayed with. ``rows``: the folder for its rows, to be put together; ``tables``: for a table
    of Parquet for each part; ``secrets``: what came from variables of the environment.
    """

    blueprint: Blueprint
    trust: Trust
    seed: int
    rows: Path | None
    tables: Path | None
    secrets: Mapping[str, str]

    def come(self, part: Part) -> Came:
        """Replay a part. Raises Unusable."""
        blueprint = self.blueprint
        DOOR.admit(blueprint, self.secrets)
        came = Came(Bulk(), Summary(), Statements(blueprint), [], [], [])
        world = World(blueprint, self.seed)
        if self.tables is not None:
            with RowsFile(self.tables / f"part-{part.number:04}.parquet") as table:
                self._replay(part, world, came, lambda _, row: table.put(row))
        elif self.rows is not None:
            with (self.rows / f"part-{part.number:04}").open("wb") as out:
                self._replay(
                    part, world, came,
                    lambda at, row: out.write(b"%d\t%d\t%s\n" % (*at, json.dumps(row).encode())),
                )  # fmt: skip
        else:
            self._replay(part, world, came, None)
        for key, state in world.savers():
            getattr(state, "remembered", {}).clear()
            came.states.append((key, state))
        return came

    def _replay(
        self, part: Part, world: World, came: Came, put: Callable[[tuple[int, int], Row], object] | None
    ) -> None:
        for number, path in enumerate(part.traces, part.first):
            lines = lines_of(path, self.trust)
            if part.by:
                lines.ids_differ = True  # or it weren't in parts
                lines.picks = _Picks(part, lines.header, self.blueprint)
            trace = Trace(lines).bound(self.blueprint)
            for judged in run(world, trace, statements=came.statements, journeys=False, forgets=True):
                came.totals.add(judged)
                came.summary.add(judged)
                if put is not None:
                    line = judged.send.entry.spot.line
                    for row in rows_of(judged.send, judged.starts):
                        put((number, line), row)
            came.ends.append(world.now or 0)
            came.notes.extend(f"{trace.name}: {note}" for note in trace.notes)


class Parted(NamedTuple):
    """What came of a replay in parts: totals, statements, what stages saved, where rows are, and how many parts."""

    totals: Bulk
    summary: Summary
    statements: Statements
    savings: list[str]
    rows: list[Path]
    notes: list[str]
    parts: int

    def all_rows(self) -> Iterator[Row]:
        """Every row, in the order of the traces."""
        for *_, text in heapq.merge(*map(_numbered, self.rows), key=lambda row: row[:2]):
            yield json.loads(text)


def _numbered(path: Path) -> Iterator[tuple[int, int, bytes]]:
    with path.open("rb") as stream:
        for raw in stream:
            file, line, text = raw.split(b"\t", 2)
            yield int(file), int(line), text


def lines_of(path: Path, trust: Trust) -> Lines:
    """The lines of a trace. Raises Unusable, NotParted where it isn't one in JSON Lines."""
    lines = Trace.read(path, trust=trust).lines
    if lines is None:
        raise NotParted(f"{path.name} is no trace in JSON Lines")
    return lines


# Whether, and into which parts.


def parts_of(
    blueprint: Blueprint, traces: Sequence[Path], each: Each, *, count: int, keeps_state: bool = False
) -> list[Part]:
    """The parts in which traces can be replayed, about ``count`` of them. Raises NotParted with what ties all requests
    together, Unusable for a trace that can't be read.

    Each trace begins in a fresh world, so that traces never meet; with ``keeps_state`` each goes on in what the one
    before has left, and only requests that have nothing in common can be told apart.
    """
    whole = [Part((path,), number, number) for number, path in enumerate(traces)]
    for path in traces:
        lines_of(path, NO_TRUST)
    if len(traces) >= count and not keeps_state:
        return whole
    try:
        by = _tied(blueprint)
        look: Callable[[Path], list[int]] = partial(_weighed, by, blueprint)
        found = list(each(look, traces))
    except NotParted:
        if len(traces) > 1 and not keeps_state:
            return whole
        raise
    weights = [[sum(column) for column in zip(*found, strict=True)]] if keeps_state else found
    together = [tuple(traces)] if keeps_state else [(path,) for path in traces]
    shares = -(-count // len(together))
    parts: list[Part] = []
    for first, (paths, weighed) in enumerate(zip(together, weights, strict=True)):
        for buckets in _shared_out(weighed, shares):
            parts.append(Part(paths, len(parts), first, by, buckets))
    return parts


def _tied(blueprint: Blueprint) -> str:
    part, against = parted_by(blueprint)
    if part is None:
        told = "; ".join(f"{tie.who} keeps its state by {tie.told}" for tie in against[:3])
        raise NotParted(f"{told}, so that requests meet")
    return part


def _shared_out(weights: Sequence[int], count: int) -> list[bytes]:
    """Buckets for so many parts, each about as heavy: the heaviest first, each to the lightest part."""
    parts = [(0, index) for index in range(count)]
    of = [bytearray(BUCKETS) for _ in range(count)]
    for bucket in sorted(range(BUCKETS), key=lambda bucket: -weights[bucket]):
        weight, index = heapq.heappop(parts)
        of[index][bucket] = 1
        heapq.heappush(parts, (weight + weights[bucket] + (not weights[bucket]), index))
    return [bytes(one) for one in of]


def _weighed(by: str, blueprint: Blueprint, path: Path) -> list[int]:
    """How many lines of a trace fall into each bucket. Raises NotParted for what ties them, Unusable."""
    lines = lines_of(path, NO_TRUST)
    for name, spec in (lines.header.get("callers") or {}).items():
        if isinstance(spec, dict) and (spec.get("kind") == "browser" or spec.get("cookies") == "keep"):
            raise NotParted(f"the caller {name} remembers what it was answered")
        if isinstance(spec, dict) and by not in (NOTHING, "address") and spec.get("redirects") == "follow":
            raise NotParted(f"the caller {name} follows redirects, and what it then sends may belong to others")
    ids, key_of = Ids(), key_reader(by, lines.header, blueprint) if by != NOTHING else lambda raw: 0
    filled = b"${kept" if by in (NOTHING, "address") else b"${"
    weights = [0] * BUCKETS
    for number, raw in lines.numbered():
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
        weights[(number if by == NOTHING else key_of(raw)) % BUCKETS] += 1
    return weights


class _Picks:
    """Picks the lines of one part."""

    def __init__(self, part: Part, header: JsonObject, blueprint: Blueprint) -> None:
        self.buckets, self.free = part.buckets, part.by == NOTHING
        self.key_of = key_reader(part.by, header, blueprint) if not self.free else lambda raw: 0

    def __call__(self, number: int, raw: bytes) -> bool:
        return bool(self.buckets[(number if self.free else self.key_of(raw)) % BUCKETS])


# All of them.


def parted(
    blueprint: Blueprint,
    parts: Sequence[Part],
    each: Each,
    *,
    seed: int = 0,
    trust: Trust = NO_TRUST,
    rows: Path | None = None,
    tables: Path | None = None,
    watch: Callable[[int], None] = lambda done: None,
) -> Parted:
    """Replay parts, as ``each`` does it. Raises Unusable."""
    found = Parted(Bulk(), Summary(), Statements(blueprint), [], [], [], len(parts))
    states: list[tuple[object, object]] = []
    problems: list[Problem] = []
    ends: dict[tuple[Path, ...], list[list[int]]] = {}
    files = list(dict.fromkeys(str(path) for part in parts for path in part.traces))
    job = Job(blueprint, trust, seed, rows, tables, dict(ENVIRONMENT.taken))
    work: Callable[[Part], Came | Unusable] = partial(_come, job)
    for part, came in zip(parts, each(work, parts), strict=True):
        if isinstance(came, Unusable):
            problems += came.problems
            continue
        found.totals.take(came.totals)
        found.summary.take(came.summary)
        found.statements.take(came.statements, files)
        states += came.states
        found.notes.extend(came.notes)
        ends.setdefault(part.traces, []).append(came.ends)
        watch(found.totals.requests)
    if problems:
        raise Unusable(sorted(problems, key=lambda one: (files.index(one.spot.file), one.spot.line))[:1])
    for traces, each_end in ends.items():
        _one_after_the_other(traces, each_end, trust)
    if rows is not None:
        found.rows.extend(rows / f"part-{part.number:04}" for part in parts)
    return found._replace(savings=savings_of(blueprint, states))


def _come(job: Job, part: Part) -> Came | Unusable:
    """A part replayed, or what is wrong with it: of several the first is to be told."""
    collect_garbage()  # not among what came with the job
    try:
        return job.come(part)
    except Unusable as error:
        return Unusable(error.problems)


def _one_after_the_other(traces: Sequence[Path], ends: Sequence[Sequence[int]], trust: Trust) -> None:
    """Traces that go on in one another begin when all before is over: then it is the same for all parts."""
    for before, path, over in zip(traces, traces[1:], zip(*ends, strict=True), strict=False):
        if lines_of(path, trust).starts < max(over):
            what = f"it starts before all requests of {before.name} are over"
            raise unusable(what, "give its header later starts, or replay on one core", str(path))


def replay_in_parts(
    pipeline: Pipeline,
    traces: Iterable[str | Path],
    *,
    cores: int = 1,
    cluster: str = "",
    seed: int = 0,
    keep_state: bool = False,
    into: str | Path | None = None,
    trust: Trust = NO_TRUST,
    watch: Callable[[int], None] = lambda done: None,
) -> Parted:
    """Replay long traces in parts whose requests never meet, at once: what comes of it is that of the whole.

    On so many ``cores`` of this machine, or on the ``cluster`` of a Dask scheduler (``tcp://host:8786``; a number:
    so many processes started for it). ``into``: a table for the rows of all exchanges (``.jsonl``, ``.csv``,
    ``.parquet``), or a folder, into which each part writes one of Parquet. ``watch`` is told how many requests are
    over. Raises NotParted with what ties all requests together, Unusable.
    """
    paths = [Path(path).absolute() if cluster else Path(path) for path in traces]
    blueprint = pipeline.blueprint
    named = Path(into) if into is not None else None
    table, folder = (None, named.absolute()) if named is not None and not named.suffix else (named, None)
    out = RowsFile(table)
    DOOR.admit(blueprint, ENVIRONMENT.taken)
    with contextlib.ExitStack() as stack:
        each: OnCores | OnCluster = stack.enter_context(on_cluster(cluster)) if cluster else OnCores(cores)
        parts = parts_of(blueprint, paths, each, count=each.size, keeps_state=keep_state)
        rows = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="usher-parts-"))) if table else None
        if folder is not None:
            folder.mkdir(parents=True, exist_ok=True)
        found = parted(blueprint, parts, each, seed=seed, trust=trust, rows=rows, tables=folder, watch=watch)
        with out:
            for row in found.all_rows():
                out.put(row)
    for left in folder.glob(".part-*") if folder is not None else ():  # of a worker that died
        left.unlink(missing_ok=True)
    return found
