"""``replay --watch``: run again when a file that was read changes, and show what became different."""

from __future__ import annotations

import sys
from argparse import Namespace
from collections.abc import Callable, Iterable
from pathlib import Path
from time import sleep

from patient_usher.cli.replaying import report
from patient_usher.core.model.document import Unusable
from patient_usher.core.model.words import counted
from patient_usher.core.verify.record import Record
from patient_usher.files.yaml_reader import Stamp, stamp, watched
from patient_usher.output.comparison import compared_of, comparison_lines
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.terminal import Painter, line, say, stdout_painter
from patient_usher.use_cases.compare import records_of
from patient_usher.use_cases.session import Session

PAUSE = 0.25
"""How often files are looked at, in seconds."""
SETTLING = 0.1
"""How long nothing may change before a change counts as over, in seconds."""
PATIENCE = 10
"""After how many such looks a file is read though it is empty, gone or still being written."""


def watch(args: Namespace, session_of: Callable[[], Session]) -> int:
    """Replay, and again whenever a file changes, until the person has seen enough. Returns 0."""
    painter = stdout_painter()
    before: list[Record] | None = None
    files = {args.pipeline, *args.traces}
    try:
        while True:
            # Stamped before anything is read: what changes during the run is seen after it.
            stamps = _stamps(_code(files))
            with watched() as read:
                now = _once(args, session_of, painter, before)
            sys.stdout.flush()
            files = {args.pipeline, *args.traces, *read}
            stamps = _stamps(files | _code(files)) | stamps | read
            before = now if now is not None else before
            say(f"watching {counted(len(stamps), 'file')}; Ctrl-C ends it")
            _wait(stamps)
    except KeyboardInterrupt:
        return 0


def _once(
    args: Namespace, session_of: Callable[[], Session], painter: Painter, before: list[Record] | None
) -> list[Record] | None:
    """One run: shown whole the first time, later only what is different. None where the files can't be used."""
    try:
        session = session_of()
        if before is None:
            report(args, session)
        now = [REDACTOR.record(record) for record in records_of(session)]
    except Unusable as error:
        for problem in error.problems:
            say(str(problem))
        return None
    if before is not None:
        failed = list(dict.fromkeys(record.id.partition("/")[0] for record in now if record.failed))
        painter.write(comparison_lines(compared_of(("before", "now"), before, now)))
        more = f" and {len(failed) - 8} more" if len(failed) > 8 else ""
        words = f"{len(failed)} not as expected: {', '.join(failed[:8])}{more}" if failed else "all as expected"
        painter.write([line(words)])
    return now


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


class Watched:
    """The files of a pipeline: used while they are read, it knows from then on whether one has changed.

    A change counts when it has settled: editors empty or remove a file before they fill it.
    """

    def __init__(self, pipeline: Path) -> None:
        self._pipeline = pipeline
        self._stamps: dict[Path, Stamp] = {}
        self._then: dict[Path, Stamp] = {}

    def __enter__(self) -> None:
        self._before = _stamps({self._pipeline} | _code({self._pipeline}))
        self._reading = watched()
        self._read = self._reading.__enter__()

    def __exit__(self, *error: object) -> None:
        self._reading.__exit__(None, None, None)
        files = {self._pipeline, *self._read}
        self._stamps = _stamps(files | _code(files)) | self._before | self._read
        self._then = self._stamps

    def changed(self) -> bool:
        """Whether a file is another than when it was read, and whoever wrote it is done."""
        then, self._then = self._then, _stamps(self._stamps)
        settled = then == self._then and self._then != self._stamps
        return settled and all(_filled(now) or not _filled(self._stamps[path]) for path, now in self._then.items())
