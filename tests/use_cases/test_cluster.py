"""Replays on a cluster: the scheduler and its workers are this machine's; the same rows, whoever dies."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from random import Random
from typing import Any

import pytest

from conftest import Outcome
from use_cases.test_parted import MAREN, ROUTES, STAGES, several

parquet = pytest.importorskip("pyarrow.parquet")
distributed = pytest.importorskip("distributed")

Usher = Callable[..., Outcome]
PIPELINE = {"patient-usher": "pipeline/1", "stages": STAGES, "routes": ROUTES, "accounts": MAREN}
CODE = "import sys; from patient_usher.cli import main; sys.exit(main(sys.argv[1:]))"


@pytest.fixture(scope="module")
def cluster() -> Iterator[Any]:
    """A scheduler with two workers, processes of their own."""
    with distributed.LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None, host="127.0.0.1") as made:
        yield made


def rows(folder: Path) -> list[dict[str, Any]]:
    """The rows of all parts."""
    found = [row for part in sorted(folder.glob("part-*.parquet")) for row in parquet.read_table(part).to_pylist()]
    return sorted(found, key=lambda row: (row["time"], row["id"]))


def whole(usher: Usher, folder: Path, *more: str) -> tuple[Outcome, list[dict[str, Any]]]:
    """The same on one core."""
    done = usher("replay", "p.json", "logs", "--into", "whole.parquet", *more)
    found = parquet.read_table(folder / "whole.parquet").to_pylist()
    return done, sorted(found, key=lambda row: (row["time"], row["id"]))


@pytest.mark.parametrize("more", [[], ["--keep-state"]])
def test_a_cluster_gives_the_same_rows(usher: Usher, tmp_path: Path, cluster: Any, more: list[str]) -> None:
    several(Random(5), tmp_path, 3)
    (tmp_path / "p.json").write_text(json.dumps(PIPELINE))
    alone, expected = whole(usher, tmp_path, *more)
    done = usher("replay", "p.json", "logs", "--cluster", cluster.scheduler_address, "--into", "parts", *more)
    assert (done.status, done.out) == (alone.status, alone.out)
    assert done.err == f"wrote {2 if more else 3} parts to parts\n"
    assert rows(tmp_path / "parts") == expected
    again = usher("replay", "p.json", "logs", "--cluster", cluster.scheduler_address, "--into", "parts", *more)
    assert (again.status, "is no folder without parts" in again.err) == (2, True)


def test_a_worker_that_dies_is_replaced_and_its_part_is_replayed_again(
    usher: Usher, tmp_path: Path, cluster: Any
) -> None:
    several(Random(6), tmp_path, 4)
    (tmp_path / "p.json").write_text(json.dumps(PIPELINE))
    alone, expected = whole(usher, tmp_path)
    arguments = ["replay", "p.json", "logs", "--cluster", cluster.scheduler_address, "--into", "parts"]
    running = subprocess.Popen(
        [sys.executable, "-c", CODE, *arguments], cwd=tmp_path, stdout=subprocess.PIPE, text=True
    )
    before = {worker.pid for worker in cluster.workers.values()}
    while running.poll() is None and not list((tmp_path / "parts").glob("*")):
        time.sleep(0.005)  # until a part is being written
    os.kill(min(before), signal.SIGKILL)
    out, _ = running.communicate(timeout=120)
    assert (running.returncode, out) == (alone.status, alone.out)
    assert sorted(path.name for path in (tmp_path / "parts").iterdir()) == [f"part-000{n}.parquet" for n in range(4)]
    assert rows(tmp_path / "parts") == expected


WRONG: list[tuple[list[str], str]] = [
    (["--cluster", "tcp://127.0.0.1:9"], "no scheduler answers at tcp://127.0.0.1:9"),
    (["--cluster", "nonsense://x"], "no scheduler answers at nonsense://x"),
    (["--cluster", "2", "--into", "o.parquet"], "o.parquet is a file, and each part writes one; name a folder"),
    (["--cluster", ""], "'' is no cluster; write tcp://HOST:8786"),
    (["--cluster", "0"], "'0' is no cluster; write tcp://HOST:8786"),
    (["--cluster", "2", "--details"], "--cluster is for traces in JSON Lines"),
    (["--cluster", "2", "--trust", "files"], "what is trusted on this machine isn't on others"),
]


@pytest.mark.parametrize(("arguments", "words"), WRONG)
def test_what_is_no_cluster_or_not_for_one(
    usher: Usher, tmp_path: Path, arguments: list[str], words: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    several(Random(5), tmp_path, 1)
    done = usher("replay", "p.json", "logs", *arguments, p__json=json.dumps(PIPELINE))
    assert (done.status, words in done.err) == (2, True)
    assert len(done.err.splitlines()) == 1


def test_processes_are_started_for_it_and_end_with_it(usher: Usher, tmp_path: Path) -> None:
    several(Random(7), tmp_path, 2)
    (tmp_path / "p.json").write_text(json.dumps(PIPELINE))
    alone = usher("replay", "p.json", "logs")
    done = subprocess.run(
        [sys.executable, "-c", CODE, "replay", "p.json", "logs", "--cluster", "2"],
        cwd=tmp_path, capture_output=True, text=True, timeout=120,
    )  # fmt: skip
    assert (done.returncode, done.stderr, done.stdout) == (alone.status, alone.err, alone.out)
