"""What all tests share: the installed command as a process, and pipelines walked in this process."""

from __future__ import annotations

import gc
import importlib
import json
import multiprocessing
import os
import pkgutil
import signal
import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from tempfile import TemporaryFile
from typing import Any, NamedTuple, NoReturn

import pytest
from hypothesis import HealthCheck, settings

import patient_usher.cli
import patient_usher.demo
from patient_usher import Pipeline, Trace, load
from patient_usher import replay as replayed
from patient_usher.cli import main
from patient_usher.files.pipeline import pipeline_of_text
from patient_usher.output.result import dump

DEMO = Path(patient_usher.demo.__file__).parent
STORIES = [
    *((name, "story") for name in ("harbour", "sequential", "mistaken", "sequential-mistaken")),
    *((f"boaters{which}", "boaters-story") for which in ("", *(f"-blocked-{at}" for at in range(1, 6)))),
    *((f"return{which}", "return-story") for which in ("", "-none", "-strict")),
    *((f"limits{which}", "limits-story") for which in ("", "-misplaced")),
    *((f"shelf{which}", "shelf-story") for which in ("", "-leaking")),
    *((f"workshop{which}", "workshop-story") for which in ("", "-looser")),
    *((f"front{which}", "front-story") for which in ("", "-believed")),
    ("landing", "landing-story"), ("quay", "quay-story"), ("leaking", "leaking-story"),
]  # fmt: skip
"""Every pipeline of the demo but one of bulk traffic, one of several instances and one of recorded calls."""
os.environ.pop("COLUMNS", None)  # of whoever runs the tests: what is printed would be as wide

ROOT = Path(__file__).parent.parent
VECTORS = Path(__file__).parent / "vectors"
USHER = Path(sys.executable).parent / "usher"

Record = dict[str, Any]

multiprocessing.set_start_method("fork", force=True)  # as what the tests fork must: other ways are tried by commands
for command in pkgutil.iter_modules(patient_usher.cli.__path__, "patient_usher.cli."):
    importlib.import_module(command.name)  # here once, and not in the child of every test that asks for it
importlib.import_module("patient_usher.core.engine.callers.browser")

# In CI the made-up cases are the same every time; at a desk they differ from run to run.
# How long making them up takes says something of the machine alone.
settings.register_profile("usual", suppress_health_check=[HealthCheck.too_slow])
settings.register_profile("repeatable", settings.get_profile("usual"), derandomize=True)
settings.load_profile("repeatable" if os.environ.get("CI") else "usual")


STARTED = """import multiprocessing, sys
from patient_usher.cli import main

if __name__ == "__main__":
    multiprocessing.set_start_method(sys.argv.pop(1))
    sys.exit(main())
"""
"""The command as a file: its first argument says how it starts processes."""


class Outcome(NamedTuple):
    """What a process said."""

    status: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        """Standard output as JSON."""
        return json.loads(self.out)


@pytest.fixture
def usher(tmp_path: Path) -> Callable[..., Outcome]:
    """Run the command in a folder of its own, with these files in it: a process of its own, forked from this one, which
    has imported already what every command needs.
    """

    def run(*arguments: str, env: dict[str, str] | None = None, **files: str | bytes) -> Outcome:
        for name, text in files.items():
            path = tmp_path / name.replace("__", ".")
            path.write_bytes(text if isinstance(text, bytes) else text.encode())
        with TemporaryFile() as out, TemporaryFile() as err:
            child = os.fork()
            if not child:
                _become_the_command(arguments, tmp_path, env or {}, out.fileno(), err.fileno())
            _, status = os.waitpid(child, 0)
            said = []
            for stream in (out, err):
                stream.seek(0)
                said.append(stream.read().decode())
            return Outcome(os.waitstatus_to_exitcode(status), *said)

    return run


def _become_the_command(arguments: Sequence[str], folder: Path, env: dict[str, str], out: int, err: int) -> NoReturn:
    """In the child: the command as its console script runs it."""
    status = 70
    try:
        os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
        os.dup2(out, 1)
        os.dup2(err, 2)
        sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115
        sys.stdout = open(1, "w", encoding=env.get("PYTHONIOENCODING", "utf-8"), closefd=False)  # noqa: SIM115
        sys.stderr = open(2, "w", encoding="utf-8", errors="backslashreplace", closefd=False)  # noqa: SIM115
        os.environ.update(env)
        os.chdir(folder)
        sys.path[:] = [entry for entry in sys.path if entry not in ("", str(Path(__file__).parent))]
        for module in [name for name in sys.modules if name in ("stages", "own", "landing_service")]:
            del sys.modules[module]
        signal.alarm(300)
        gc.freeze()  # what this process has is nothing for the command to look through
        gc.disable()
        status = main(list(arguments))
        sys.stdout.flush()
        sys.stderr.flush()
    finally:
        os._exit(status)


def make_pipeline(stages: list[Any], **more: Any) -> Pipeline:
    """A pipeline with these server-wide stages; the rest of the file as keywords, kebab-case with underscores."""
    doc: dict[str, Any] = {"patient-usher": "pipeline/1", "stages": stages}
    doc.update({key.replace("_", "-"): value for key, value in more.items()})
    doc.setdefault("routes", [{"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": {"text": "ok"}}}])
    return load(doc, environments=doc.pop("environments-on", None))


def described(text: str, name: str = "p.yaml") -> Pipeline:
    """The pipeline that a text describes."""
    return Pipeline(pipeline_of_text(text.lstrip("\n"), name))


def replay(pipeline: Pipeline, *requests: dict[str, Any], **more: Any) -> list[Record]:
    """The records of every exchange of these requests, in order; ids are made up where left out."""
    return records(pipeline, Trace.of(*requests, **{"base": "https://api.example", **more}))


def records(pipeline: Pipeline, trace: Trace, **more: Any) -> list[Record]:
    """The records of every exchange of a trace, as programs read them."""
    return [json.loads(dump(record)) for sent in replayed(pipeline, trace, **more) for record in sent.exchanges]


def walk(stages: list[Any], request: dict[str, Any] | str = "GET /", **more: Any) -> Record:
    """The record of one request through these stages."""
    entry = {"send": request} if isinstance(request, str) else request
    return replay(make_pipeline(stages, **more), entry)[-1]


def steps(record: Record, way: str | None = None) -> list[str]:
    """The journey as short text: ``in who continued``."""
    return [f"{s['way']} {s['stage']} {s['did']}" for s in record["journey"] if way in (None, s["way"])]


def header(record: Record, name: str) -> str | None:
    """A header field of the answer."""
    values = [value for key, value in record["response"]["headers"] if key.lower() == name.lower()]
    return ", ".join(values) if values else None


def text(**answer: Any) -> dict[str, Any]:
    """A handler that answers."""
    return {"answer": answer or {"text": "ok"}}
