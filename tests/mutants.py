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

from cosmic_ray.ast import Visitor, get_ast
from cosmic_ray.mutating import mutate_code
from cosmic_ray.plugins import get_operator

ROOT = Path(__file__).parent.parent
CORE = ROOT / "src" / "patient_usher" / "core"
FOLDERS = ("http", "stages", "engine")
FIRST = [
    "tests/core/http",
    "tests/core/stages",
    "tests/core/engine",
    "tests/core/test_standards.py",
    "tests/test_points.py",
]
THEN = [
    "tests/test_corners.py",
    "tests/test_cases.py",
    "tests/core/verify",
    "tests/core/analysis",
    "tests/cli",
    "tests/files",
    "tests/output",
]
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


def noticed(tree: Path, mutant: Mutant) -> bool:
    """Whether any test fails where this change is made."""
    path = tree / mutant.path
    plain = path.read_text()
    path.write_text(mutate_code(plain, get_operator(mutant.operator)(), mutant.place) or plain)
    try:
        return any(_fails(tree, tests) for tests in (FIRST, THEN))
    finally:
        path.write_text(plain)


def _fails(tree: Path, tests: list[str]) -> bool:
    env = {**os.environ, "PYTHONPATH": str(tree / "src"), "CI": "1", "PYTHONDONTWRITEBYTECODE": "1"}
    command = [sys.executable, "-m", "pytest", "-x", "-q", "-n0", "-p", "no:cacheprovider", *tests]
    try:
        return subprocess.run(command, cwd=tree, env=env, capture_output=True, timeout=600, check=False).returncode != 0
    except subprocess.TimeoutExpired:
        return True


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
    made = [Path(mkdtemp()) / "tree" for _ in range(os.cpu_count() or 1)]
    for tree in made:
        shutil.copytree(
            ROOT,
            tree,
            ignore=shutil.ignore_patterns(".git", ".venv", "*.pyc", ".mypy_cache", ".hypothesis"),
            symlinks=True,
        )
        trees.put(tree)

    def one(mutant: Mutant) -> bool:
        tree = trees.get()
        try:
            found = noticed(tree, mutant)
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
