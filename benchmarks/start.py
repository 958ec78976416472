"""How long it takes until anything happens: the whole command against ``python -c pass``.

Printed: the median of the ratios, pair by pair, of processor time. The third figure is what the story's
libraries take alone: importing them, one model of one number checked, one token signed. What a story can
be brought down to is that and no less.
"""

from __future__ import annotations

import resource
import statistics
import subprocess
import sys
from pathlib import Path

import patient_usher.demo

DEMO = Path(patient_usher.demo.__file__).parent
USHER = [sys.executable, "-m", "patient_usher"]

LIBRARIES = """
import os
os.environ["PYDANTIC_DISABLE_PLUGINS"] = "__all__"
import gc
gc.disable()
import argparse, jwt, ruamel.yaml
from pydantic import BaseModel, BeforeValidator, Field
class Model(BaseModel):
    number: int
Model.model_validate({"number": 1})
jwt.encode({}, "a-made-up-secret-for-this-benchmark", algorithm="HS256")
"""


def cost(command: list[str]) -> float:
    """The processor time of one process, in seconds."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(command, stdout=subprocess.DEVNULL, check=True)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def main() -> int:
    """Run in turn and print."""
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 15
    story = [*USHER, "replay", str(DEMO / "harbour.yaml"), str(DEMO / "story.yaml")]
    measured: list[tuple[str, list[str], str]] = [
        ("usher --help", [*USHER, "--help"], " (wanted: at most 2)"),
        ("the demo story", story, " (wanted: at most 15)"),
        ("its libraries", [sys.executable, "-c", LIBRARIES], ""),
    ]
    for name, command, wanted in measured:
        pairs = [(cost([sys.executable, "-c", "pass"]), cost(command)) for _ in range(runs)]
        ratio = statistics.median(mine / base for base, mine in pairs)
        print(f"{name + ':':<16}{ratio:.1f} times python -c pass{wanted}")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
