"""Long traces replayed in parts at once: parts whose requests never meet, each in a run state of its own."""

from __future__ import annotations

import contextlib
import heapq
import json
import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import NamedTuple

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.run.run_state import RunState, savings_of
from patient_usher.core.model.document import Problem, Unusable, unusable
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.exchange_table import Row, rows_of
from patient_usher.core.verify.run import run
from patient_usher.core.verify.summary import Summary
from patient_usher.core.verify.totals import Totals
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.files.trace import Trace
from patient_usher.files.trust import NOTHING as NO_TRUST
from patient_usher.files.trust import Trust
from patient_usher.output.redactor import REDACTOR
from patient_usher.use_cases.cluster import OnCluster, on_cluster
from patient_usher.use_cases.parts import ParallelMap, Part, lines_of, parts_of
from patient_usher.use_cases.processes import OnCores
from patient_usher.use_cases.rows_file import RowsFile
from patient_usher.use_cases.session import Pipeline, collect_garbage


class PartResult(NamedTuple):
    """What came of a part. ``ends``: when each of its traces was over; ``states``: what stages may have saved;
    ``notes``: what there is to say of traces.
    """

    totals: Totals
    summary: Summary
    statements: Statements
    states: list[tuple[object, object]]
    ends: list[int]
    notes: list[str]


class Job(NamedTuple):
    """What every part is replayed with. ``rows``: the folder for its rows, to be put together; ``tables``: for a table
    of Parquet for each part; ``secrets``: what came from variables of the environment.
    """

    compiled: CompiledPipeline
    trust: Trust
    seed: int
    rows: Path | None
    tables: Path | None
    secrets: Mapping[str, str]

    def come(self, part: Part) -> PartResult:
        """Replay a part. Raises Unusable."""
        compiled = self.compiled
        REDACTOR.learn(compiled, self.secrets)
        came = PartResult(Totals(), Summary(), Statements(compiled), [], [], [])
        run_state = RunState(compiled, self.seed)
        if self.tables is not None:
            with RowsFile(self.tables / f"part-{part.number:04}.parquet") as table:
                self._replay(part, run_state, came, lambda _, row: table.put(row))
        elif self.rows is not None:
            with (self.rows / f"part-{part.number:04}").open("wb") as out:
                self._replay(
                    part, run_state, came,
                    lambda at, row: out.write(b"%d\t%d\t%s\n" % (*at, json.dumps(row).encode())),
                )  # fmt: skip
        else:
            self._replay(part, run_state, came, None)
        for key, state in run_state.cache_states():
            getattr(state, "remembered", {}).clear()
            came.states.append((key, state))
        return came

    def _replay(
        self, part: Part, run_state: RunState, came: PartResult, put: Callable[[tuple[int, int], Row], object] | None
    ) -> None:
        for number, path in enumerate(part.traces, part.first):
            lines = lines_of(path, self.trust)
            if part.lines:
                lines.ids_differ = True  # or it weren't in parts
                lines.picks = _picks(str(path), part.lines[number - part.first])
            trace = Trace(lines).bound(self.compiled)
            for judged in run(run_state, trace, statements=came.statements, journeys=False, release_sends=True):
                came.totals.add(judged)
                came.summary.add(judged)
                if put is not None:
                    line = judged.send.entry.spot.line
                    for row in rows_of(judged.send, judged.starts):
                        put((number, line), row)
            came.ends.append(run_state.now or 0)
            came.notes.extend(f"{trace.name}: {note}" for note in trace.notes)


class Parted(NamedTuple):
    """What came of a replay in parts: totals, statements, what stages saved, where rows are, and how many parts."""

    totals: Totals
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


def _picks(name: str, mine: bytes) -> Callable[[int, bytes], bool]:
    """Which lines are a part's."""

    def pick(number: int, raw: bytes) -> bool:
        try:
            return mine[number] == 1
        except IndexError:
            raise unusable("it grew while it was read", "replay it when it is whole", name) from None

    return pick


# All of them.


def parted(
    compiled: CompiledPipeline,
    parts: Sequence[Part],
    each: ParallelMap,
    *,
    seed: int = 0,
    trust: Trust = NO_TRUST,
    rows: Path | None = None,
    tables: Path | None = None,
    watch: Callable[[int], None] = lambda done: None,
) -> Parted:
    """Replay parts, as ``each`` does it. Raises Unusable."""
    found = Parted(Totals(), Summary(), Statements(compiled), [], [], [], len(parts))
    states: list[tuple[object, object]] = []
    problems: list[Problem] = []
    ends: dict[tuple[Path, ...], list[list[int]]] = {}
    files = list(dict.fromkeys(str(path) for part in parts for path in part.traces))
    job = Job(compiled, trust, seed, rows, tables, dict(ENVIRONMENT.taken))
    work: Callable[[Part], PartResult | Unusable] = partial(_come, job)
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
    return found._replace(savings=savings_of(compiled, states))


def _come(job: Job, part: Part) -> PartResult | Unusable:
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
    ``.parquet``), or a folder without parts, into which each writes one of Parquet. ``watch`` is told how many requests
    are over. Raises NotParted with what ties all requests together, Unusable.
    """
    paths = [Path(path).absolute() if cluster else Path(path) for path in traces]
    compiled = pipeline.compiled
    named = Path(into) if into is not None else None
    table, folder = (None, named.absolute()) if named is not None and not named.suffix else (named, None)
    out = RowsFile(table)
    if folder is not None and ((folder.exists() and not folder.is_dir()) or any(folder.glob("part-*"))):
        raise unusable(f"{named} is no folder without parts", "name a new one", "--into")
    REDACTOR.learn(compiled, ENVIRONMENT.taken)
    with contextlib.ExitStack() as stack:
        each: OnCores | OnCluster = stack.enter_context(on_cluster(cluster)) if cluster else OnCores(cores)
        parts = parts_of(compiled, paths, each, keeps_state=keep_state)
        rows = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="usher-parts-"))) if table else None
        if folder is not None:
            folder.mkdir(parents=True, exist_ok=True)
        found = parted(compiled, parts, each, seed=seed, trust=trust, rows=rows, tables=folder, watch=watch)
        with out:
            for row in found.all_rows():
                out.put(row)
    for left in folder.glob(".part-*") if folder is not None else ():  # of a worker that died
        left.unlink(missing_ok=True)
    return found
