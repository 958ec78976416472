"""Changes the core at random, one place at a time, and counts how many of the changes the tests notice.

``make mutants`` or ``python tests/mutants.py [COUNT [SEED [FOLDER]]]``. Works on copies of the tree; prints what nobody
noticed. Which tests come to which lines is found out first, and kept in the folder, if there is one; run again with the
same folder it goes on, and tries once more what wasn't noticed.
"""

from __future__ import annotations

import ast
import gc
import json
import multiprocessing
import os
import random
import shutil
import signal
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from difflib import unified_diff
from importlib import import_module
from itertools import islice, pairwise, zip_longest
from pathlib import Path
from tempfile import TemporaryFile, mkdtemp
from types import CodeType, FunctionType
from typing import Any, NamedTuple, NoReturn
from xml.etree import ElementTree

import pytest
from cosmic_ray.ast import Visitor, get_ast
from cosmic_ray.mutating import mutate_code
from cosmic_ray.plugins import get_operator
from coverage import CoverageData

ROOT = Path(__file__).parent.parent
CORE = ROOT / "src" / "patient_usher" / "core"
FOLDERS = ("http", "stages", "engine")
TESTS = [
    "tests/core",
    "tests/test_points.py",
    "tests/test_corners.py",
    "tests/test_cases.py",
    "tests/output",
    "tests/use_cases",
    "tests/files",
    "tests/cli",
]
MOST = 120.0  # seconds of tests for one change, quick ones first; what then still isn't noticed isn't
OPTIONS = ["-q", "-p", "no:cacheprovider"]

SWAPS = ("Eq_NotEq", "NotEq_Eq", "Lt_LtE", "LtE_Lt", "Gt_GtE", "GtE_Gt", "Is_IsNot", "IsNot_Is")
SUMS = ("Add_Sub", "Sub_Add", "Mul_FloorDiv", "FloorDiv_Mul", "Mod_Add")
OTHERS = (
    "AddNot", "ReplaceTrueWithFalse", "ReplaceFalseWithTrue", "ReplaceAndWithOr", "ReplaceOrWithAnd", "ReplaceBreakWithContinue",
    "ReplaceContinueWithBreak", "NumberReplacer", "ZeroIterationForLoop", "ReplaceUnaryOperator_Delete_Not",
)  # fmt: skip
OPERATORS = [
    *(f"core/ReplaceComparisonOperator_{name}" for name in SWAPS),
    *(f"core/ReplaceBinaryOperator_{name}" for name in SUMS),
    *(f"core/{name}" for name in OTHERS),
]


class Mutant(NamedTuple):
    """One change: in which file, of which sort, and at which of the places where that sort fits."""

    path: Path
    operator: str
    place: int


class Places(Visitor):
    """Counts the places where an operator fits."""

    def __init__(self, operator: Any) -> None:
        self.operator, self.count = operator, 0

    def visit(self, node: Any) -> Any:
        """Nothing is changed."""
        self.count += len(list(self.operator.mutation_positions(node)))
        return node


def all_mutants() -> list[Mutant]:
    """Every change that there is."""
    found = []
    for folder in FOLDERS:
        for path in sorted((CORE / folder).rglob("*.py")):
            tree = get_ast(path.read_text())
            for name in OPERATORS:
                counter = Places(get_operator(name)())
                counter.walk(tree)
                found += [Mutant(path.relative_to(ROOT), name, at) for at in range(counter.count)]
    return found


class Covering(NamedTuple):
    """Which tests come to which lines (by file and line), how many seconds each takes, and to how many lines it comes."""

    tests: dict[str, dict[int, list[str]]]
    seconds: dict[str, float]
    lines: Counter[str]

    def of(self, mutant: Mutant, lines: range | None) -> list[str]:
        """The tests that come to any of these lines (None: to any of the module): those of the mirrored file first, then
        those of its folder, then those that come to little else.
        """
        by_line = self.tests.get(str(mutant.path), {})
        found = {test for line in lines or by_line for test in by_line.get(line, ())}
        folder = f"{Path('tests') / mutant.path.parent.relative_to('src/patient_usher')}/"
        near = (f"{folder}test_{mutant.path.stem}.py::", folder)
        own = Counter(test for tests in by_line.values() for test in tests)
        far = {test: sum(not test.startswith(one) for one in near) for test in found}
        return sorted(found, key=lambda test: (far[test], -own[test] / self.lines[test], test))


def covering(tree: Path, kept: Path | None) -> Covering:
    """Run all tests once and see to which lines each of them comes; or read it, where it is kept."""
    if kept is not None and kept.exists():
        tests, seconds = json.loads(kept.read_text())
        return _covering({name: {int(line): ids for line, ids in at.items()} for name, at in tests.items()}, seconds)
    (tree / "covering.ini").write_text("[run]\nparallel = true\npatch = _exit\n")  # commands are forked
    sources = ["--cov-config=covering.ini"] + [f"--cov=src/patient_usher/core/{folder}" for folder in FOLDERS]
    options = ["--cov-context=test", "--cov-report=", "--junitxml=times.xml", "-o", "junit_family=xunit1"]
    subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-n", str(_cores()), *sources, *options, *TESTS],
        cwd=tree,
        env=_environment(tree),
        capture_output=True,
        check=False,
    )
    data = CoverageData(basename=str(tree / ".coverage"))
    data.read()
    seconds = {
        f"{case.get('file')}::{case.get('name')}": float(case.get("time", "1"))
        for case in ElementTree.parse(tree / "times.xml").iter("testcase")
        if case.find("failure") is None and case.find("error") is None
    }
    tests = {
        str(Path(name).relative_to(tree)): {
            line: [test for context in contexts if (test := context.partition("|")[0]) in seconds]
            for line, contexts in data.contexts_by_lineno(name).items()
        }
        for name in data.measured_files()
    }
    if kept is not None:
        kept.write_text(json.dumps([tests, seconds]))
    return _covering(tests, seconds)


def _covering(tests: dict[str, dict[int, list[str]]], seconds: dict[str, float]) -> Covering:
    lines = Counter(test for by_line in tests.values() for found in by_line.values() for test in found)
    return Covering(tests, seconds, lines)


class Change(NamedTuple):
    """One change as it is tried: what the file is then, and the tests that come to the changed line."""

    path: str
    text: str
    tests: list[str]
    seconds: float


def changes(chosen: list[Mutant], known: Covering) -> Iterator[Change]:
    """Each change, with the quickest of its tests."""
    for mutant in chosen:
        plain = (ROOT / mutant.path).read_text()
        changed = _changed(mutant)
        at_import = _functions(compile(plain, "", "exec"), compile(changed, "", "exec")) is None
        tests, spent = [], 0.0
        for test in known.of(mutant, None if at_import else _changed_lines(plain, changed)):
            if spent > MOST:
                break
            tests.append(test)
            spent += known.seconds.get(test, 1.0)
        yield Change(str(mutant.path), changed, tests, spent)


class Trying:
    """In place of pytest's own loop: every change in a child of this process, which has collected all tests already."""

    def __init__(self, tree: Path, jobs: Any, found: Any) -> None:
        self.tree, self.jobs, self.found = tree, jobs, found
        self.sound: dict[str, bool] = {}

    def pytest_runtestloop(self, session: pytest.Session) -> bool:
        """Whether each change is noticed, as long as there are any."""
        self.items = {item.nodeid: item for item in session.items}
        while (job := self.jobs.get()) is not None:
            number, change = job
            try:
                noticed = self.noticed(change)
            except Exception as error:  # of this change nothing is known: it counts as not noticed
                print(f"{change.path}: {error!r}", file=sys.stderr)
                noticed = ""
            self.found.put((number, noticed))
        return True

    def noticed(self, change: Change) -> str:
        """The first test that fails where this change is made and doesn't where it isn't; nothing, where none does."""
        plain = (self.tree / change.path).read_text()
        pairs = _functions(compile(plain, change.path, "exec"), compile(change.text, change.path, "exec"))
        tests = [test for test in change.tests if test in self.items and self.sound.get(test, True)]
        while tests:
            if pairs is None:  # it shows when the module is run: in a process that imports it anew
                failed = self._anew(change, tests)
            else:
                failed = self._forked(change.path, pairs, tests, 30 + 1.5 * change.seconds)
            if not failed or self._is_sound(failed):
                return failed
            tests = tests[tests.index(failed) + 1 :]
        return ""

    def _is_sound(self, test: str) -> bool:
        if test not in self.sound:
            self.sound[test] = test not in self.items or not self._forked("", [], [test], 300)
        return self.sound[test]

    def _forked(self, path: str, pairs: list[tuple[CodeType, CodeType]], tests: list[str], most: float) -> str:
        with TemporaryFile() as told:  # the tests in the order that they began, and a blank line where all held
            child = os.fork()
            if not child:
                os.setsid()
                self._run_changed(path, pairs, tests, told.fileno())
            ends = time.monotonic() + most
            ended = 0
            while not ended and time.monotonic() < ends:
                ended, _ = os.waitpid(child, os.WNOHANG)
                if not ended:
                    time.sleep(0.02)
            with suppress(ProcessLookupError):
                os.killpg(child, signal.SIGKILL)
            if not ended:
                os.waitpid(child, 0)
            told.seek(0)
            begun = told.read().decode()
        return "" if begun.endswith("\n\n") else begun.split("\n")[-1]

    def _run_changed(self, path: str, pairs: list[tuple[CodeType, CodeType]], tests: list[str], told: int) -> NoReturn:
        try:
            for descriptor in (1, 2):
                os.dup2(os.open(os.devnull, os.O_WRONLY), descriptor)
            _exchange(str(self.tree / path), pairs)
            items = [self.items[test] for test in tests]
            session = items[0].session
            for at, (item, after) in enumerate(pairwise([*items, None])):
                os.write(told, f"{chr(10) * (at > 0)}{item.nodeid}".encode())
                item.config.hook.pytest_runtest_protocol(item=item, nextitem=after)
                if session.testsfailed:
                    os._exit(0)
            os.write(told, b"\n\n")
        finally:
            os._exit(0)

    def _anew(self, change: Change, tests: list[str]) -> str:
        path = self.tree / change.path
        plain = path.read_text()
        path.write_text(change.text)
        try:
            command = [sys.executable, "-m", "pytest", *OPTIONS, "-x", "-n0", "--junitxml=one.xml", *tests[:500]]
            (self.tree / "one.xml").unlink(missing_ok=True)
            done = subprocess.run(
                command,
                cwd=self.tree,
                env=_environment(self.tree),
                capture_output=True,
                timeout=30 + 1.5 * change.seconds,
                check=False,
            )
            if done.returncode == 0:
                return ""
            cases = (
                ElementTree.parse(self.tree / "one.xml").iter("testcase") if (self.tree / "one.xml").exists() else ()
            )
            failed = [case for case in cases if case.find("failure") is not None or case.find("error") is not None]
            named = f"::{failed[0].get('name')}" if failed else ""
            return next((test for test in tests if named and test.endswith(named)), "while the tests are collected")
        except subprocess.TimeoutExpired:
            return "in no time"
        finally:
            path.write_text(plain)


def _functions(plain: CodeType, changed: CodeType) -> list[tuple[CodeType, CodeType]] | None:
    """The functions that differ, as they were and are; None where what differs is run when the module is imported."""
    nested = list(zip(_nested(plain), _nested(changed), strict=False))
    if _own(plain) != _own(changed):
        return [(plain, changed), *nested] if plain.co_flags & 1 else None  # CO_OPTIMIZED: a function's
    pairs: list[tuple[CodeType, CodeType]] = []
    for a, b in nested:
        if a != b:
            below = _functions(a, b)
            if below is None:
                return None
            pairs += [(plain, changed)] * bool(plain.co_flags & 1) + below
    return pairs


def _nested(code: CodeType) -> list[CodeType]:
    return [value for value in code.co_consts if isinstance(value, CodeType)]


def _own(code: CodeType) -> tuple[object, ...]:
    consts = [repr(value) for value in code.co_consts if not isinstance(value, CodeType)]
    return code.co_code, code.co_names, code.co_varnames, tuple(consts)


def _exchange(path: str, pairs: list[tuple[CodeType, CodeType]]) -> None:
    """Every function that there is of these codes becomes the changed one."""
    if not pairs:
        return
    parts = Path(path.removesuffix("/__init__.py")).with_suffix("").parts
    import_module(".".join(parts[parts.index("patient_usher") :]))
    gc.unfreeze()
    codes = {(a.co_qualname, a.co_firstlineno): b for a, b in pairs}
    for function in gc.get_objects():
        if type(function) is FunctionType and function.__code__.co_filename == path:
            changed = codes.get((function.__code__.co_qualname, function.__code__.co_firstlineno))
            if changed is not None:
                function.__code__ = changed


def _serve(tree: str, jobs: Any, found: Any) -> None:
    """One process that tries changes."""
    os.chdir(tree)
    os.environ.update(_environment(Path(tree)))
    sys.path[:0] = [f"{tree}/src", f"{tree}/tests"]
    status = pytest.main(
        ["-p", "no:terminal", "-p", "no:xdist", "-p", "no:cacheprovider", "-o", "addopts=", *TESTS],
        plugins=[Trying(Path(tree), jobs, found)],
    )
    if status:
        raise SystemExit(f"trying changes ended with {status!r}")


def _environment(tree: Path) -> dict[str, str]:
    return {**os.environ, "PYTHONPATH": str(tree / "src"), "CI": "1", "PYTHONDONTWRITEBYTECODE": "1"}


def _cores() -> int:
    return len(os.sched_getaffinity(0))


def _changed(mutant: Mutant) -> str:
    plain = (ROOT / mutant.path).read_text()
    return mutate_code(plain, get_operator(mutant.operator)(), mutant.place) or plain


def _can_be_read(mutant: Mutant) -> bool:
    """Whether it is Python still: an asterisk that makes parameters keyword-only is no product."""
    try:
        compile(_changed(mutant), str(mutant.path), "exec")
    except SyntaxError:
        return False
    return True


def _changed_lines(plain: str, changed: str) -> range:
    """The lines of the statement in which something changes; of one that holds others, those of its head."""
    old, new = plain.splitlines(), changed.splitlines()
    first = next(at for at, (a, b) in enumerate(zip_longest(old, new), 1) if a != b)
    heads = [
        range(node.lineno, max(node.body[0].lineno, node.lineno + 1) if hasattr(node, "body") else node.end_lineno + 1)
        for node in ast.walk(ast.parse(plain))
        if isinstance(node, ast.stmt) and node.end_lineno is not None
    ]
    return min((head for head in heads if first in head), key=len, default=range(first, first + 1))


def _difference(mutant: Mutant) -> str:
    plain, changed = (ROOT / mutant.path).read_text().splitlines(), _changed(mutant).splitlines()
    lines = unified_diff(plain, changed, lineterm="", n=0)
    return "\n".join(line for line in lines if line[:2] not in ("--", "++"))


def run(count: int, seed: int, folder: Path | None) -> None:
    """Try so many changes, chosen by the seed."""
    every = all_mutants()
    chosen = list(islice(filter(_can_be_read, random.Random(seed).sample(every, len(every))), count))
    noticed: set[tuple[str, ...]] = set()
    if folder:
        folder.mkdir(parents=True, exist_ok=True)
    if folder and (folder / "tried.txt").exists():
        tried = [row.split(" ") for row in (folder / "tried.txt").read_text().splitlines()]
        noticed = {tuple(row[:3]) for row in tried if row[3]}
    chosen = [mutant for mutant in chosen if tuple(map(str, mutant)) not in noticed]
    context = multiprocessing.get_context("spawn")
    jobs, found = context.Queue(), context.Queue()
    trees = [Path(mkdtemp()) / "tree" for _ in range(_cores())]
    for tree in trees:
        ignore = shutil.ignore_patterns(".git", ".venv", "*.pyc", ".mypy_cache", ".hypothesis")
        shutil.copytree(ROOT, tree, ignore=ignore, symlinks=True)
    known = covering(trees[0], folder / "covering.json" if folder else None)
    for job in enumerate(changes(chosen, known)):
        jobs.put(job)
    workers = [context.Process(target=_serve, args=(str(tree), jobs, found)) for tree in trees]
    for worker in workers:
        worker.start()
        jobs.put(None)
    counted = len(noticed)
    for _ in chosen:
        number, test = found.get()
        counted += bool(test)
        mutant = chosen[number]
        if folder:
            with (folder / "tried.txt").open("a") as stream:
                print(*mutant, test, file=stream)
        if not test:
            print(f"not noticed: {' '.join(map(str, mutant))}\n{_difference(mutant)}", flush=True)
    for worker in workers:
        worker.join()
    for tree in trees:
        shutil.rmtree(tree.parent)
    print(f"{counted} of {count} changes noticed ({counted / count:.1%}), seed {seed}")


if __name__ == "__main__":
    count, seed, *kept = [*sys.argv[1:], *["300", "1"][len(sys.argv) - 1 :]]
    run(int(count), int(seed), Path(kept[0]) if kept else None)
