"""Where outputs go: through links, into pipes and devices, whole or not at all, and never over what isn't theirs."""

from __future__ import annotations

import json
import os
import signal
import stat
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import DEMO, STARTED, USHER

HARBOUR, STORY = str(DEMO / "harbour.yaml"), str(DEMO / "story.yaml")
MISTAKEN = str(DEMO / "mistaken.yaml")
IS_ROOT = os.geteuid() == 0
NOBODY = 65534
AS_NOBODY = (
    "setpriv", f"--reuid={NOBODY}", f"--regid={NOBODY}", "--clear-groups", "--inh-caps=+dac_read_search",
    "--ambient-caps=+dac_read_search",
)  # fmt: skip


def run(folder: Path, *words: str, user: int | None = None) -> subprocess.CompletedProcess[str]:
    """The installed command as a process of its own, perhaps as another user: who may read all, and write little."""
    command = [*(AS_NOBODY if user is not None else ()), str(USHER), *words]
    return subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=120, check=False)


def rows(folder: Path, name: str, user: int | None = None) -> subprocess.CompletedProcess[str]:
    return run(folder, "replay", HARBOUR, STORY, "-q", "--into", name, user=user)


@pytest.fixture
def shared(tmp_path: Path) -> Path:
    """A folder that everybody may write into, of this user's."""
    for folder in (tmp_path, *tmp_path.parents):
        if folder.stat().st_uid == os.geteuid() and folder != Path("/"):
            folder.chmod(folder.stat().st_mode | 0o755)
    tmp_path.chmod(0o777)
    return tmp_path


try:
    BOTH = (
        IS_ROOT
        and not subprocess.run([*AS_NOBODY, str(USHER), "--version"], capture_output=True, check=False).returncode
    )
except OSError:
    BOTH = False
USERS = [None, NOBODY] if BOTH else [None]


def left(folder: Path) -> list[str]:
    """What half-made files there are."""
    return [path.name for path in folder.iterdir() if path.name.startswith(".")]


@pytest.mark.parametrize("user", USERS)
def test_a_link_stays_one_and_what_it_leads_to_is_written(shared: Path, user: int | None) -> None:
    inner = shared / "inner"
    inner.mkdir(mode=0o777)
    inner.chmod(0o777)
    (inner / "rows.csv").write_text("old\n")
    (inner / "rows.csv").chmod(0o666)
    (shared / "link.csv").symlink_to("inner/rows.csv")
    (shared / "new.csv").symlink_to("inner/fresh.csv")
    for name, target in (("link.csv", "rows.csv"), ("new.csv", "fresh.csv")):
        assert rows(shared, name, user).returncode == 0
        assert (shared / name).is_symlink()
        assert (inner / target).read_text().startswith("id,")
    assert left(shared) == left(inner) == []


@pytest.mark.parametrize("user", USERS)
def test_devices_and_pipes_take_what_comes_and_stay(shared: Path, user: int | None) -> None:
    assert run(shared, "init", user=user).returncode == 0
    assert run(shared, "export", "nothing.json", "--into", "/dev/null", user=user).returncode == 2
    result = run(shared, "replay", HARBOUR, STORY, "--format", "json", user=user).stdout
    (shared / "result.json").write_text(result)
    pipe = shared / "pipe.har"
    os.mkfifo(pipe, 0o666)
    pipe.chmod(0o666)
    read: list[str] = []
    reader = threading.Thread(target=lambda: read.append(pipe.read_text()))
    reader.start()
    assert run(shared, "export", "result.json", "--into", "pipe.har", user=user).returncode == 0
    reader.join(120)
    assert json.loads(read[0])["log"]["version"] == "1.2"
    assert pipe.is_fifo()
    device = Path("/dev/null").stat()
    (shared / "null.har").symlink_to("/dev/null")
    assert run(shared, "export", "result.json", "--into", "null.har", user=user).returncode == 0
    assert Path("/dev/null").stat().st_rdev == device.st_rdev
    (shared / "full.har").symlink_to("/dev/full")
    full = run(shared, "export", "result.json", "--into", "full.har", user=user)
    assert (full.returncode, "No space left" in full.stderr) == (2, True)
    out = run(shared, "import", "trace.yaml", "--into", "/dev/stdout", user=user)
    assert (out.returncode, "requests:" in out.stdout) == (0, True)


def test_owner_and_mode_stay(shared: Path) -> None:
    table = shared / "rows.csv"
    table.write_text("old\n")
    table.chmod(0o640)
    if IS_ROOT:
        os.chown(table, NOBODY, NOBODY)
    before = table.stat()
    assert rows(shared, "rows.csv").returncode == 0
    after = table.stat()
    assert (after.st_uid, after.st_gid, stat.S_IMODE(after.st_mode)) == (before.st_uid, before.st_gid, 0o640)
    assert table.read_text().startswith("id,")


def test_another_name_of_the_same_file_has_the_new_content_too(shared: Path) -> None:
    (shared / "rows.csv").write_text("old and longer than what comes\n" * 9999)
    os.link(shared / "rows.csv", shared / "other.csv")
    assert rows(shared, "rows.csv").returncode == 0
    assert (shared / "other.csv").read_bytes() == (shared / "rows.csv").read_bytes()


def test_new_files_are_as_the_umask_says(shared: Path) -> None:
    mask = os.umask(0o027)
    try:
        assert rows(shared, "rows.csv").returncode == 0
    finally:
        os.umask(mask)
    assert stat.S_IMODE((shared / "rows.csv").stat().st_mode) == 0o640


REFUSED = [
    ("folder", "rows"),
    ("read-only folder", "shut/rows.csv"),
    ("no folder", "none/rows.csv"),
    ("read-only file", "fixed.csv"),
]


@pytest.mark.parametrize(("what", "name"), REFUSED)
def test_what_cannot_be_written_is_a_sentence_and_leaves_nothing(shared: Path, what: str, name: str) -> None:
    user = NOBODY if IS_ROOT and what.startswith("read-only") else None
    if user is not None and not BOTH:
        pytest.skip("root may write everywhere, and nobody else can be tried here")
    (shared / "rows.jsonl").mkdir()
    (shared / "shut").mkdir(mode=0o555)
    (shared / "fixed.csv").write_text("kept\n")
    (shared / "fixed.csv").chmod(0o444)
    done = rows(shared, name, user)
    assert (done.returncode, "Traceback" in done.stderr) == (2, False)
    assert done.stderr.count("\n") == 1
    assert left(shared) == left(shared / "shut") == []
    assert (shared / "fixed.csv").read_text() == "kept\n"


@pytest.fixture
def tiny(tmp_path: Path) -> Iterator[Path]:
    """A file system with next to no room."""
    place = tmp_path / "tiny"
    place.mkdir()
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=4k", "none", str(place)], capture_output=True, check=False
    )
    if mounted.returncode:
        pytest.skip("nothing may be mounted here")
    yield place
    subprocess.run(["umount", "-l", str(place)], check=True)


def test_a_full_disk_is_a_sentence_and_what_was_there_stays(tiny: Path) -> None:
    (tiny / "rows.csv").write_text("kept\n")
    done = run(tiny, "replay", HARBOUR, STORY, "-q", "--into", "rows.csv", "--seed", "1")
    assert (done.returncode, "No space left on device" in done.stderr) == (2, True)
    assert (left(tiny), (tiny / "rows.csv").read_text()) == ([], "kept\n")


def test_two_that_append_at_once_lose_nothing(tmp_path: Path) -> None:
    send = [str(USHER), "send", HARBOUR, "GET", "/health", "--append", "t.yaml", "--id"]
    running = [subprocess.Popen([*send, f"s{at}"], cwd=tmp_path, stdout=subprocess.DEVNULL) for at in range(6)]
    assert [one.wait(60) for one in running] == [0] * 6
    assert sorted(line.split()[-1] for line in (tmp_path / "t.yaml").read_text().splitlines() if "id:" in line) == [
        f"s{at}" for at in range(6)
    ]


@pytest.mark.parametrize("how", [signal.SIGTERM, signal.SIGINT, signal.SIGHUP])
def test_killed_in_the_middle_nothing_half_made_is_left(tmp_path: Path, how: signal.Signals) -> None:
    lines = "".join(f'{{"id": "r{at}", "send": "GET /health"}}\n' for at in range(200_000))
    (tmp_path / "t.jsonl").write_text('{"patient-usher": "trace/1"}\n' + lines)
    process = subprocess.Popen(
        [str(USHER), "replay", HARBOUR, "t.jsonl", "-q", "--into", "rows.csv"], cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
    )  # fmt: skip
    deadline = time.monotonic() + 120
    while not left(tmp_path) and time.monotonic() < deadline:
        time.sleep(0.02)
    assert left(tmp_path)
    process.send_signal(how)
    assert process.wait(120) == {signal.SIGTERM: 143, signal.SIGINT: 130, signal.SIGHUP: 129}[how]
    assert (left(tmp_path), (tmp_path / "rows.csv").exists()) == ([], False)


KILLED_ANYWHERE = """
import atexit, os, signal, sys
from pathlib import Path
from patient_usher.files import atomic_write

path, old = Path(sys.argv[1]), sys.argv[2].encode()

def at_line(last):
    lines = 0
    def traced(frame, event, _):
        nonlocal lines
        if frame.f_code.co_filename == atomic_write.__file__:
            lines += event == "line"
            if event == "line" and lines == last:
                os.kill(os.getpid(), signal.SIGINT)
            return traced
    sys.settrace(traced)
    with atomic_write.writing(path) as out:
        out.write(b"new")
    sys.settrace(None)
    return lines >= last

last, goes_on = 0, True
while goes_on:
    last += 1
    path.unlink(missing_ok=True)
    old and path.write_bytes(old)
    child = os.fork()
    if not child:
        try:
            goes_on = at_line(last)
        except KeyboardInterrupt:
            pass
        atexit._run_exitfuncs()
        os._exit(not goes_on)
    goes_on = not os.waitpid(child, 0)[1]
    content = path.read_bytes() if path.exists() else b""
    assert content in (old, b"new"), (last, content)
    assert set(os.listdir(path.parent)) <= {path.name}, (last, os.listdir(path.parent))
print(last)
"""


@pytest.mark.parametrize("old", ["", "old"])
def test_killed_at_any_line_of_the_writing_the_old_or_the_new_is_there_and_nothing_else(
    tmp_path: Path, old: str
) -> None:
    done = subprocess.run(
        [sys.executable, "-c", KILLED_ANYWHERE, str(tmp_path / "rows.csv"), old], capture_output=True, text=True, check=False
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert int(done.stdout) > 20


READERS: list[tuple[str, str, int]] = [
    (HARBOUR, "text", 0),
    (MISTAKEN, "text", 1),
    (MISTAKEN, "jsonl", 1),
    (MISTAKEN, "json", 1),
]


@pytest.mark.parametrize(("pipeline", "form", "status"), READERS)
def test_the_status_stays_though_nobody_reads_to_the_end(pipeline: str, form: str, status: int) -> None:
    process = subprocess.Popen(
        [str(USHER), "replay", pipeline, STORY, "--format", form], stdout=subprocess.PIPE, stderr=subprocess.PIPE
    )
    assert process.stdout is not None
    process.stdout.read(20)
    process.stdout.close()
    assert process.stderr is not None
    assert (process.stderr.read(), process.wait(60)) == (b"", status)


@pytest.mark.parametrize("redirect", [">/dev/full", "2>/dev/full"])
def test_where_nobody_can_be_told_the_status_still_says_it(redirect: str) -> None:
    name = "nothing.yaml" if redirect.startswith("2") else HARBOUR
    assert (
        subprocess.run(
            f"{USHER} replay {name} {STORY} {redirect}", shell=True, capture_output=True, check=False
        ).returncode
        == 2
    )


SWEEP = ["sweep", "p.yaml", "t.jsonl", "--try", "limit.quota=1..60", "--cores", "2"]
LIMITED = "patient-usher: pipeline/1\nstages: [{id: limit, kind: rate-limit, quota: 1, window: 1s}]\nroutes: [{id: a, at: GET /a, access: everyone, handler: {answer: {text: a}}}]\n"


def started_with(mark: str) -> list[str]:
    """Every process in whose environment a mark stands."""
    found = []
    for path in Path("/proc").glob("[0-9]*/environ"):
        try:
            found += [str(path)] if mark.encode() in path.read_bytes() else []
        except OSError:
            continue
    return found


@pytest.mark.skipif(not Path("/proc").exists(), reason="processes are listed nowhere here")
@pytest.mark.parametrize(
    ("how", "started"),
    [
        (signal.SIGTERM, "fork"),
        (signal.SIGKILL, "fork"),
        (signal.SIGINT, "fork"),
        (signal.SIGKILL, "forkserver"),
        (signal.SIGINT, "forkserver"),
        (signal.SIGKILL, "spawn"),
    ],
)
def test_workers_end_with_their_parent(tmp_path: Path, how: signal.Signals, started: str) -> None:
    (tmp_path / "p.yaml").write_text(LIMITED)
    (tmp_path / "started.py").write_text(STARTED)
    lines = "".join(f'{{"id": "r{at}", "at": "{at}ms", "send": "GET /a"}}\n' for at in range(20_000))
    (tmp_path / "t.jsonl").write_text('{"patient-usher": "trace/1"}\n' + lines)
    mark = f"USHER_MARK={tmp_path}"

    def workers() -> list[str]:
        return started_with(mark)

    process = subprocess.Popen(
        [sys.executable, "started.py", started, *SWEEP], cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        text=True, preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
        env={**os.environ, "USHER_MARK": str(tmp_path)},
    )  # fmt: skip
    deadline = time.monotonic() + 120
    most = {"fork": 3, "spawn": 4, "forkserver": 5}[started]  # the workers, their parent, and who starts and cleans up
    while len(workers()) < most and time.monotonic() < deadline:
        time.sleep(0.1)
    assert len(workers()) == most
    time.sleep(1.0)
    process.send_signal(how)
    began = time.monotonic()
    out, err = process.communicate(timeout=120)
    assert time.monotonic() - began < 10
    if how == signal.SIGINT:
        assert process.returncode == 130
        assert "of 60 combinations are done" in err
        assert ("quota" in out) is ("interrupted: 0" not in err)
    deadline = time.monotonic() + 60
    while workers() and time.monotonic() < deadline:
        time.sleep(0.1)
    assert workers() == []


@pytest.mark.parametrize("redirect", [">&-", "2>&-", "<&- >&- 2>&-", ">/dev/full", ">/dev/full 2>/dev/full"])
@pytest.mark.parametrize("command", ["--version", "show p.yaml"])
def test_streams_that_are_closed_or_full_end_with_a_status(tmp_path: Path, command: str, redirect: str) -> None:
    (tmp_path / "p.yaml").write_text("patient-usher: pipeline/1\n")
    words = f"{USHER} {command} 2>err.txt {redirect}" if "2>" not in redirect else f"{USHER} {command} {redirect}"
    done = subprocess.run(["bash", "-c", words], cwd=tmp_path, stdout=subprocess.PIPE, timeout=60, check=False)
    err = (tmp_path / "err.txt").read_text() if "2>" not in redirect else ""
    assert (done.returncode, "Traceback" in err) == (2 if ">/dev/full" in redirect else 0, False)
