"""Changes the core at random, one place at a time, and counts how many of the changes the tests notice.

``make mutants`` or ``python tests/mutants.py [COUNT [SEED]]``. Works on copies of the tree; prints what nobody noticed.
"""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from difflib import unified_diff
from pathlib import Path
from queue import SimpleQueue
from tempfile import mkdtemp
from typing import Any, NamedTuple
from xml.etree import ElementTree

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
]  # those that run the core in their own process, so that it is known which lines each of them comes to
MOST = 150.0  # seconds of tests for one change, quick ones first; what then still isn't noticed isn't

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


class Counter(Visitor):
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
                counter = Counter(get_operator(name)())
                counter.walk(tree)
                found += [Mutant(path.relative_to(ROOT), name, at) for at in range(counter.count)]
    return found


class Covering(NamedTuple):
    """Which tests come to which lines (by file and line), and how many seconds each takes."""

    tests: dict[str, dict[int, list[str]]]
    seconds: dict[str, float]

    def of(self, mutant: Mutant, lines: range) -> list[str]:
        """The tests of a change, the mirrored file's first, then the quick ones."""
        by_line = self.tests.get(str(mutant.path), {})
        found = {test for line in lines for test in by_line.get(line, ())}
        if not found:  # it stands at the top of a module, which is run where it is imported: any test of the module
            found = {test for tests in by_line.values() for test in tests}
        mirror = f"test_{mutant.path.stem}.py::"
        return sorted(found, key=lambda test: (mirror not in test, self.seconds.get(test, 1.0), test))


def covering(tree: Path) -> Covering:
    """Run all tests once and see to which lines each of them comes."""
    sources = [f"--cov=src/patient_usher/core/{folder}" for folder in FOLDERS]
    options = ["--cov-context=test", "--cov-report=", "--junitxml=times.xml", "-o", "junit_family=xunit1"]
    _pytest(tree, ["-n", str(len(os.sched_getaffinity(0))), *sources, *options, *TESTS], None)
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
    return Covering(tests, seconds)


def noticed(tree: Path, mutant: Mutant, covering: Covering) -> bool:
    """Whether any test that comes to the changed lines fails where this change is made."""
    path = tree / mutant.path
    plain = path.read_text()
    changed = mutate_code(plain, get_operator(mutant.operator)(), mutant.place) or plain
    tests = covering.of(mutant, _changed_lines(plain, changed))
    path.write_text(changed)
    try:
        at, spent = 0, 0.0
        while at < len(tests) and spent < MOST:
            some: list[str] = []
            expected = 0.0
            while at < len(tests) and len(some) < 300 and expected < 40:
                some.append(tests[at])
                expected += covering.seconds.get(tests[at], 1.0)
                at += 1
            if _pytest(tree, ["-x", "-n0", "-p", "no:cacheprovider", *some], 60 + 6 * expected) != 0:
                return True
            spent += expected
        return False
    finally:
        path.write_text(plain)


def _pytest(tree: Path, arguments: list[str], most: float | None) -> int:
    """The status; what takes six times as long as it should, and a minute, is taken for endless: noticed."""
    env = {**os.environ, "PYTHONPATH": str(tree / "src"), "CI": "1", "PYTHONDONTWRITEBYTECODE": "1"}
    command = [sys.executable, "-m", "pytest", "-q", *arguments]
    try:
        return subprocess.run(command, cwd=tree, env=env, capture_output=True, timeout=most, check=False).returncode
    except subprocess.TimeoutExpired:
        return 1


def _changed_lines(plain: str, changed: str) -> range:
    old, new = plain.splitlines(), changed.splitlines()
    first = next((at for at, (a, b) in enumerate(zip(old, new, strict=False)) if a != b), len(old) - 1)
    return range(first + 1, first + 2)


def _difference(mutant: Mutant) -> str:
    plain = (ROOT / mutant.path).read_text()
    changed = mutate_code(plain, get_operator(mutant.operator)(), mutant.place) or plain
    lines = [
        line
        for line in unified_diff(plain.splitlines(), changed.splitlines(), lineterm="", n=0)
        if line[:2] not in ("--", "++")
    ]
    return "\n".join(lines)


def run(count: int, seed: int) -> None:
    """Try so many changes, chosen by the seed."""
    chosen = random.Random(seed).sample(all_mutants(), count)
    trees: SimpleQueue[Path] = SimpleQueue()
    made = [Path(mkdtemp()) / "tree" for _ in range(len(os.sched_getaffinity(0)))]
    for tree in made:
        shutil.copytree(
            ROOT,
            tree,
            ignore=shutil.ignore_patterns(".git", ".venv", "*.pyc", ".mypy_cache", ".hypothesis"),
            symlinks=True,
        )
        trees.put(tree)

    known = covering(made[0])

    def one(mutant: Mutant) -> bool:
        tree = trees.get()
        try:
            found = noticed(tree, mutant, known)
        finally:
            trees.put(tree)
        if not found:
            print(f"not noticed: {mutant.path} {mutant.operator} {mutant.place}\n{_difference(mutant)}", flush=True)
        return found

    with ThreadPoolExecutor(len(made)) as pool:
        counted = sum(pool.map(one, chosen))
    for tree in made:
        shutil.rmtree(tree.parent)
    print(f"{counted} of {count} changes noticed ({counted / count:.1%}), seed {seed}")


if __name__ == "__main__":
    run(int((sys.argv[1:] or ["300"])[0]), int((sys.argv[2:] or ["1"])[0]))
