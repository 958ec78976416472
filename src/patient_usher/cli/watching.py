"""``replay --watch``: run again when a file that was read changes, and show what became different."""

from __future__ import annotations

import os
import sys
from argparse import Namespace
from collections.abc import Callable, Iterable
from pathlib import Path
from time import sleep
from typing import Any

from patient_usher.cli.batch import Batch, report
from patient_usher.core.analysis.compare import compared
from patient_usher.core.model.document import Unusable
from patient_usher.core.verify.record import send_records
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.files.yaml_reader import Stamp, stamp, watched
from patient_usher.output import comparison
from patient_usher.output.terminal import Painter, shown, stdout_painter
from patient_usher.use_cases.session import sends, told

Record = dict[str, Any]
PAUSE = 0.25
"""How often files are looked at, in seconds."""
SETTLING = 0.1
"""How long nothing may change before a change counts as over, in seconds."""
PATIENCE = 10
"""After how many such looks a file is read though it is empty, gone or still being written."""


def watch(args: Namespace, batch_of: Callable[[], Batch]) -> int:
    """Replay, and again whenever a file changes, until the person has seen enough. Returns 0."""
    painter = stdout_painter(dict(os.environ))
    before: list[Record] | None = None
    files = {args.pipeline, *args.traces}
    try:
        while True:
            # Stamped before anything is read: what changes during the run is seen after it.
            stamps = _stamps(_code(files))
            with watched() as read:
                now = _once(args, batch_of, painter, before)
            sys.stdout.flush()
            files = {args.pipeline, *args.traces, *read}
            stamps = _stamps(files | _code(files)) | stamps | read
            before = now if now is not None else before
            print(f"watching {len(stamps)} file{'' if len(stamps) == 1 else 's'}; Ctrl-C ends it", file=sys.stderr)
            _wait(stamps)
    except KeyboardInterrupt:
        return 0


def _once(
    args: Namespace, batch_of: Callable[[], Batch], painter: Painter, before: list[Record] | None
) -> list[Record] | None:
    """One run: shown whole the first time, later only what is different. None where the files can't be used."""
    try:
        batch = batch_of()
        if before is None:
            report(args, batch)
        now = _records(batch)
    except Unusable as error:
        for problem in error.problems:
            print(shown(ENVIRONMENT.hidden(str(problem))), file=sys.stderr)
        return None
    if before is not None:
        failed = [record["id"] for record in now if any(not check["ok"] for check in record["checks"])]
        painter.write(comparison.compared(compared(before, now), comparison.Sides(("before", "now"), before, now)))
        words = f"{len(failed)} not as expected: {', '.join(failed[:8])}" if failed else "all as expected"
        print(shown(words))
    return now


def _records(batch: Batch) -> list[Record]:
    records: list[Record] = []
    for world, prepared in batch.worlds():
        mark = f"{Path(prepared.name).stem}: " if len(batch.traces) > 1 else ""
        for send, checks, starts in sends(world, prepared):
            records += [{**record, "id": mark + record["id"]} for record in send_records(send, starts, checks)]
    return told(records)


def _wait(stamps: dict[Path, Stamp]) -> None:
    """Until a file is different, and whoever writes it is done: editors empty or remove a file before they fill it."""
    while (now := _stamps(stamps)) == stamps:
        sleep(PAUSE)
    for _ in range(PATIENCE):
        sleep(SETTLING)
        then, now = now, _stamps(stamps)
        if then == now and not any(_filled(stamps[path]) and not _filled(now[path]) for path in stamps):
            return


def _filled(found: Stamp) -> bool:
    return found is not None and found[1] > 0


def _stamps(paths: Iterable[Path]) -> dict[Path, Stamp]:
    return {path: stamp(path) for path in paths}


def _code(read: set[Path]) -> set[Path]:
    """Python modules beside the files that were read: the user's own stages may stand there."""
    return {code for folder in {path.parent for path in read} for code in folder.glob("*.py")}
