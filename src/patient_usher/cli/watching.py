"""``replay --watch``: run again when a file that was read changes, and show what became different."""

from __future__ import annotations

import os
import sys
from argparse import Namespace
from collections.abc import Callable
from pathlib import Path
from time import sleep
from typing import Any

from patient_usher.cli.common import Batch, report
from patient_usher.core.analysis.compare import compared
from patient_usher.core.model.document import Unusable
from patient_usher.core.verify.record import send_records
from patient_usher.files.environment import ENVIRONMENT
from patient_usher.files.text import watched
from patient_usher.lab import sends, told
from patient_usher.reports import compare
from patient_usher.reports.paint import Painter, shown, stdout_painter

Record = dict[str, Any]
PAUSE = 0.25
"""How often files are looked at, in seconds."""


def watch(args: Namespace, batch_of: Callable[[], Batch]) -> int:
    """Replay, and again whenever a file changes, until the person has seen enough. Returns 0."""
    painter = stdout_painter(dict(os.environ))
    before: list[Record] | None = None
    try:
        while True:
            with watched() as read:
                now = _once(args, batch_of, painter, before)
            sys.stdout.flush()
            stamps = {path: _stamp(path) for path in read | _code(read) | {args.pipeline, *args.traces}}
            before = now if now is not None else before
            print(f"watching {len(stamps)} file{'' if len(stamps) == 1 else 's'}; Ctrl-C ends it", file=sys.stderr)
            while all(_stamp(path) == stamp for path, stamp in stamps.items()):
                sleep(PAUSE)
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
            batch = batch_of()
        now = _records(batch)
    except Unusable as error:
        for problem in error.problems:
            print(shown(ENVIRONMENT.hidden(str(problem))), file=sys.stderr)
        return None
    if before is not None:
        failed = [record["id"] for record in now if any(not check["ok"] for check in record["checks"])]
        painter.write(compare.compared(compared(before, now), compare.Sides(("before", "now"), before, now)))
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


def _stamp(path: Path) -> tuple[int, int, int] | None:
    """What is different when a file has changed; None while it isn't there."""
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_mtime_ns, found.st_size, found.st_ino


def _code(read: set[Path]) -> set[Path]:
    """Python modules beside the files that were read: the user's own stages may stand there."""
    return {code for folder in {path.parent for path in read} for code in folder.glob("*.py")}
