"""What all tests share: the installed command as a process, and pipelines walked in this process."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

import pytest
from hypothesis import settings

import patient_usher.demo
from patient_usher import Pipeline, Trace, load
from patient_usher.use_cases import session

DEMO = Path(patient_usher.demo.__file__).parent
VECTORS = Path(__file__).parent / "vectors"
USHER = Path(sys.executable).parent / "usher"

Record = dict[str, Any]

# In CI the made-up cases are the same every time; at a desk they differ from run to run.
settings.register_profile("repeatable", derandomize=True)
if os.environ.get("CI"):
    settings.load_profile("repeatable")


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
    """Run the installed command in a folder of its own, with these files in it."""

    def run(*arguments: str, env: dict[str, str] | None = None, **files: str | bytes) -> Outcome:
        for name, text in files.items():
            path = tmp_path / name.replace("__", ".")
            path.write_bytes(text if isinstance(text, bytes) else text.encode())
        environment = {**os.environ, "PYTHONIOENCODING": "utf-8", **(env or {})}
        done = subprocess.run(
            [str(USHER), *arguments], cwd=tmp_path, env=environment, capture_output=True, timeout=300, check=False
        )
        return Outcome(done.returncode, done.stdout.decode(), done.stderr.decode())

    return run


def make_pipeline(stages: list[Any], **more: Any) -> Pipeline:
    """A pipeline with these server-wide stages; the rest of the file as keywords, kebab-case with underscores."""
    doc: dict[str, Any] = {"patient-usher": "pipeline/1", "stages": stages}
    doc.update({key.replace("_", "-"): value for key, value in more.items()})
    doc.setdefault("routes", [{"id": "r", "at": "GET /", "access": "everyone", "handler": {"answer": {"text": "ok"}}}])
    return load(doc, environments=doc.pop("environments-on", None))


def replay(pipeline: Pipeline, *requests: dict[str, Any], **more: Any) -> list[Record]:
    """The records of every exchange of these requests, in order; ids are made up where left out."""
    trace = Trace.of(*requests, **{"base": "https://api.example", **more})
    return [record for sent in session.replay(pipeline, trace) for record in sent.exchanges]


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
