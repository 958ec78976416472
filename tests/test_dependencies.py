"""What the sources import is what the package says it needs."""

from __future__ import annotations

import ast
import re
import sys
from importlib.metadata import packages_distributions, requires

from conftest import ROOT

BY_THEMSELVES = {"referencing": "jsonschema", "pydantic_core": "pydantic", "h11": "uvicorn", "google": "opentelemetry"}
"""What comes with a package that is named."""
BROUGHT_BY_USERS = {"pytest"}
"""The plugin is loaded by whoever has it."""


def test_every_package_that_is_imported_is_declared() -> None:
    imported: set[str] = set()
    for path in (ROOT / "src").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Import):
                imported.update(alias.name for alias in node.names)
            elif isinstance(node, ast.ImportFrom) and not node.level:
                imported.add(node.module or "")
    names = {name.partition(".")[0] for name in imported} - sys.stdlib_module_names - {"patient_usher"}
    assert len(names) > 15
    own = [line for line in requires("patient-usher") or [] if "extra == 'dev'" not in line.replace('"', "'")]
    declared = {_plain(re.split(r"[^\w.-]", line)[0]) for line in own}
    brings = packages_distributions()
    missing = {
        name
        for name in names - BROUGHT_BY_USERS
        if not {_plain(one) for one in brings.get(BY_THEMSELVES.get(name, name), [])} & declared
    }
    assert missing == set()


def _plain(name: str) -> str:
    return re.sub(r"[-_.]+", "-", name).lower()
