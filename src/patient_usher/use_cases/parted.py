"""A long trace replayed on several cores: parts whose requests never meet, each in a world of its own."""

from __future__ import annotations

import heapq
import json
import os
import re
import tempfile
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path
from typing import Any, NamedTuple
from zlib import crc32

from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.engine.partition import NOTHING, parted_by
from patient_usher.core.engine.run.world import World
from patient_usher.core.model.document import Problem, Spot, Unusable, unusable
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.exchange_table import Row, rows_of
from patient_usher.core.verify.run import run
from patient_usher.core.verify.summary import Summary
from patient_usher.core.verify.totals import Bulk
from patient_usher.files.lines import Ids
from patient_usher.files.trace import Trace
from patient_usher.files.trust import NOTHING as NO_TRUST
from patient_usher.files.trust import Trust
from patient_usher.use_cases.processes import begin_apart, give_up

_HEAD = re.compile(rb'\s*\{\s*"id"\s*:\s*"([^"\\]*)"\s*,\s*"at"\s*:\s*"[0-9]{1,15}(?:us|ms|s|m|h|d)"\s*,')
_ADDRESS = re.compile(rb'(?<!\\)"address"\s*:\s*"([^"\\]*)"')
_CALLER = re.compile(rb'(?<!\\)"caller"\s*:\s*"([^"\\]*)"')
_TIES = (b'"keep"', b'"change"', b"${kept")
_PASSED = 5_000


class NotParted(Exception):
    """What ties the requests of a replay together, in a sentence."""


class Parted(NamedTuple):
    """What came of a replay in parts: totals, statements, what stages saved, and where rows are."""

    totals: Bulk
    summary: Summary
    statements: Statements
    savings: list[str]
    rows: list[Path]

    def all_rows(self) -> Iterator[Row]:
        """Every row, in the order of the trace."""
        for _, text in heapq.merge(*map(_numbered, self.rows), key=lambda pair: pair[0]):
            yield json.loads(text)


def _numbered(path: Path) -> Iterator[tuple[int, bytes]]:
    with path.open("rb") as stream:
        for raw in stream:
            number, _, text = raw.partition(b"\t")
            yield int(number), text


def part_of(blueprint: Blueprint, path: Path) -> str:
    """By which part of the requests a trace may be replayed apart. Raises NotParted with what ties them."""
    part, against = parted_by(blueprint)
    if part is None:
        told = "; ".join(f"{tie.who} keeps its state by {tie.told}" for tie in against[:3])
        raise NotParted(f"{told}, so that requests meet")
    lines = Trace.read(path).lines
    if lines is None:
        raise NotParted("only traces in JSON Lines are replayed in parts")
    for name, spec in (lines.header.get("callers") or {}).items():
        if isinstance(spec, dict) and (spec.get("kind") == "browser" or spec.get("cookies") == "keep"):
            raise NotParted(f"the caller {name} remembers what it was answered")
    ids = Ids()
    with path.open("rb") as stream:
        stream.readline()
        for number, raw in enumerate(stream, 2):
            if raw.isspace():
                continue
            head = _HEAD.match(raw)
            if head is None:
                raise NotParted(f"line {number} doesn't begin with its id and its time (at)")
            if any(word in raw for word in _TIES):
                raise NotParted(f"line {number} keeps a value, uses one, or changes the pipeline")
            if not ids.add(head[1].decode()):
                spot = Spot(str(path), number, 1)
                raise Unusable(
                    [Problem(spot, f"the id '{head[1].decode()}' is taken", "give each request an id of its own")]
                )
    return part


class _Picks:
    """Picks the lines of one part: by address, or in turn."""

    def __init__(self, part: str, index: int, count: int, callers: dict[str, Any]) -> None:
        self.part, self.index, self.count = part, index, count
        self._addresses = {
            name.encode(): str(spec.get("address", "192.0.2.1")).encode()
            for name, spec in callers.items()
            if isinstance(spec, dict)
        }

    def __call__(self, number: int, raw: bytes) -> bool:
        if self.part == NOTHING:
            return number % self.count == self.index
        found = _ADDRESS.search(raw)
        if found is not None:
            address = found[1]
        else:
            caller = _CALLER.search(raw)
            address = self._addresses.get(caller[1], b"192.0.2.1") if caller is not None else b"192.0.2.1"
        return crc32(address.lower()) % self.count == self.index


def parted(
    blueprint: Blueprint,
    path: Path,
    *,
    cores: int,
    part: str,
    seed: int = 0,
    trust: Trust = NO_TRUST,
    folder: Path | None = None,
    watch: Callable[[int], None] = lambda done: None,
) -> Parted:
    """Replay a trace in JSON Lines on several cores. ``part`` is what ``part_of`` says; with ``folder`` rows are kept
    there. Raises Unusable.
    """
    statements = Statements(blueprint)
    totals, summary = Bulk(), Summary()
    states: dict[Any, list[Any]] = {}
    problems: list[Problem] = []
    rows = [folder / f"part-{index}" for index in range(cores)] if folder is not None else []
    pool = ProcessPoolExecutor(cores, initializer=begin_apart, initargs=(os.getpid(),))
    try:
        jobs = [
            pool.submit(_replayed, blueprint, path, trust, seed, part, index, cores, rows[index] if rows else None)
            for index in range(cores)
        ]
        for job in jobs:  # in their order, whichever is done first
            try:
                found = job.result()
            except Unusable as error:
                problems += error.problems
                continue
            totals.take(found[0])
            summary.take(found[1])
            statements.take(found[2])
            watch(totals.requests)
            for key, state in found[3]:
                states.setdefault(key, []).append(state)
    except BrokenProcessPool:
        pool.shutdown(wait=False, cancel_futures=True)
        raise unusable("a process that replayed a part was ended from outside", "replay again", "--cores") from None
    except BaseException:
        give_up(pool)
        raise
    pool.shutdown()
    if problems:
        raise Unusable(sorted(problems, key=lambda problem: problem.spot.line)[:1])
    kinds: dict[type, list[Any]] = {}
    for key, each in states.items():
        kinds.setdefault(type(blueprint.stateful[key]), []).extend(each)
    lines = (kind.savings(each) for kind, each in kinds.items())  # type: ignore[attr-defined]
    return Parted(totals, summary, statements, sorted(line for line in lines if line), rows)


def _replayed(
    blueprint: Blueprint, path: Path, trust: Trust, seed: int, part: str, index: int, count: int, rows: Path | None
) -> tuple[Bulk, Summary, Statements, list[tuple[Any, Any]]]:
    """One part, in a process of the pool."""
    trace = Trace.read(path, trust=trust)
    assert trace.lines is not None
    trace.lines.picks = _Picks(part, index, count, trace.lines.header.get("callers") or {})
    totals, summary, statements = Bulk(), Summary(), Statements(blueprint)
    world = World(blueprint, seed)
    out = rows.open("wb") if rows is not None else None
    for judged in run(world, trace.bound(blueprint), statements=statements, journeys=False):
        totals.add(judged)
        summary.add(judged)
        if out is not None:
            line = judged.send.entry.spot.line
            for row in rows_of(judged.send, judged.starts):
                out.write(b"%d\t%s\n" % (line, json.dumps(row).encode()))
    if out is not None:
        out.close()
    states = []
    for key, keeper in blueprint.stateful.items():
        if hasattr(keeper, "savings"):
            for memory in world.memories:
                state = memory[key]
                getattr(state, "remembered", {}).clear()
                states.append((key, state))
    return totals, summary, statements, states


def kept_rows() -> tempfile.TemporaryDirectory[str]:
    """A folder for rows until they are put together."""
    return tempfile.TemporaryDirectory(prefix="usher-parts-")
