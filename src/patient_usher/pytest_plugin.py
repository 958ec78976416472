"""Traces as tests: one test a request, one a statement, failing with the sentences and the journey.

In the project's pytest configuration, each line a pipeline, a trace, and environments to lay on:

    usher_traces =
        pipeline.yaml traces/story.yaml
        pipeline.yaml traces/story.yaml development
    usher_strict = true        (a request that hangs, crashes or is answered twice unexpectedly fails, too)
    usher_service = service:app          (one more test a request: this application does what the model says;
                                          or http://127.0.0.1:8000; MODULE:NAME is looked for beside the pipeline)
    usher_service_writes = true          (requests that may change something are sent to it, too)
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import pytest


def pytest_addoption(parser: pytest.Parser) -> None:
    """The settings."""
    parser.addini("usher_traces", "lines of PIPELINE TRACE [ENVIRONMENT ...], to be run as tests", type="linelist")
    words = "fail also where a request hangs, crashes or is answered twice, and nobody expected that"
    parser.addini("usher_strict", words, type="bool", default=False)
    parser.addini("usher_service", "MODULE:NAME or URL of a service that is held against its model", default="")
    parser.addini("usher_service_writes", "send it requests that may change something, too", type="bool", default=False)


def _listed(config: pytest.Config) -> Iterable[tuple[Path, Path, list[str]]]:
    """Pipeline, trace and environments of each line."""
    for line in config.getini("usher_traces"):
        pipeline, *rest = line.split()
        if not rest:
            raise pytest.UsageError(f"usher_traces: '{line}' names no trace; write PIPELINE TRACE")
        root = config.inipath.parent if config.inipath is not None else config.rootpath
        yield root / pipeline, root / rest[0], rest[1:]


def pytest_collect_file(file_path: Path, parent: pytest.Collector) -> TraceFile | None:
    """A trace that the configuration lists, with the pipelines that it is to be replayed through."""
    found = [(pipeline, names) for pipeline, trace, names in _listed(parent.config) if trace == file_path]
    return TraceFile.of(parent, file_path, found) if found else None


class TraceFile(pytest.File):
    """A trace, with its pipelines and environments."""

    pipelines: list[tuple[Path, list[str]]]

    @classmethod
    def of(cls, parent: pytest.Collector, trace: Path, pipelines: list[tuple[Path, list[str]]]) -> TraceFile:
        """The collector of a trace."""
        made: TraceFile = cls.from_parent(parent, path=trace)
        made.pipelines = pipelines
        return made

    def collect(self) -> Iterable[pytest.Item]:
        """One test a request, in the order of the trace; then one a statement."""
        from patient_usher import Unusable

        for pipeline, environments in self.pipelines:
            try:
                requests, statements = self._outcome(pipeline, environments)
                service = self._of_service(pipeline, environments)
            except Unusable as error:
                raise self.CollectError("\n".join(map(str, error.problems))) from None
            which = [*([pipeline.stem] if len(self.pipelines) > 1 else []), *environments]
            mark = f"[{' '.join(which)}]" if which else ""
            for id_, complaint in requests.items():
                yield RequestTest.from_parent(self, name=f"{id_}{mark}", complaint=complaint)
            for name, complaint in statements.items():
                yield RequestTest.from_parent(self, name=f"invariant {name}{mark}", complaint=complaint)
            for id_, complaint in service.items():
                yield RequestTest.from_parent(self, name=f"service {id_}{mark}", complaint=complaint)

    def _outcome(self, path: Path, environments: list[str]) -> tuple[dict[str, str], dict[str, str]]:
        """By request, and by statement, what is wrong with it: nothing where all held. Raises Unusable."""
        from patient_usher import Trace, load
        from patient_usher.cli.common import admitted
        from patient_usher.core.verify.always import Statements, told
        from patient_usher.core.verify.run import run
        from patient_usher.core.verify.verdict import fails
        from patient_usher.output.journey import journeys
        from patient_usher.output.outcome import shown
        from patient_usher.output.redactor import REDACTOR, printable
        from patient_usher.output.replay_view import complaints
        from patient_usher.output.terminal import plain
        from patient_usher.use_cases.session import RunState

        strict = self.config.getini("usher_strict")
        pipeline = admitted(load(path, environments=environments or None).compiled)
        statements = Statements(pipeline.compiled)
        requests: dict[str, str] = {}
        trace = Trace.read(self.path).bound(pipeline.compiled)
        for judged in run(RunState(pipeline), trace, statements=statements):
            id_ = judged.send.entry.id
            requests.setdefault(id_, "")
            if not fails(judged.mark, strict=strict) or requests[id_]:
                continue
            send = shown(judged)
            sentences = [plain(pieces).strip() for pieces in complaints(send)]
            lines = [plain(pieces) for pieces in journeys(send.records)]
            requests[id_] = REDACTOR.text(printable("\n".join([*sentences, "", *lines]), lines=True))
        sentences_of = REDACTOR.redacted(told(statements.all))
        return requests, {
            one.id: printable(one.sentence, lines=True) if one.verdict == "broken" else "" for one in sentences_of
        }

    def _of_service(self, path: Path, environments: list[str]) -> dict[str, str]:
        """By request, in what the service differs from its model; empty where no service is named. Raises Unusable."""
        named = self.config.getini("usher_service")
        if not named:
            return {}
        from patient_usher import Trace, load
        from patient_usher.cli.common import admitted
        from patient_usher.files.python_code import PythonFrom
        from patient_usher.output.drift import complaints
        from patient_usher.output.redactor import REDACTOR, printable
        from patient_usher.output.terminal import plain
        from patient_usher.use_cases.drift import drift

        at = named if "://" in named else None
        try:
            app = PythonFrom(path.parent)(named) if at is None else None
        except ValueError as error:
            raise self.CollectError(f"usher_service: {error}") from None
        pipeline = admitted(load(path, environments=environments or None).compiled)
        writes = self.config.getini("usher_service_writes")
        found: dict[str, str] = {}
        for held in drift(pipeline, Trace.read(self.path), app=app, at=at, writes=writes):
            id_ = held.model.send.entry.id
            words = "" if held.same else "\n".join(plain(pieces).strip() for pieces in complaints(held))
            found[id_] = found.get(id_) or REDACTOR.text(printable(words, lines=True))
        return found


class NotAsExpected(Exception):
    """A request of which something expected doesn't hold."""


class RequestTest(pytest.Item):
    """One request, or one statement."""

    def __init__(self, *, complaint: str, **more: Any) -> None:
        super().__init__(**more)
        self.complaint = complaint

    def runtest(self) -> None:
        """Fail where something doesn't hold."""
        if self.complaint:
            raise NotAsExpected(self.complaint)

    def repr_failure(self, excinfo: pytest.ExceptionInfo[BaseException], style: Any = None) -> Any:
        """The sentences and the journey alone."""
        if isinstance(excinfo.value, NotAsExpected):
            return str(excinfo.value)
        return super().repr_failure(excinfo, style)

    def reportinfo(self) -> tuple[Path, int | None, str]:
        """Where it stands."""
        return self.path, None, self.name
