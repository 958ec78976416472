"""The tests with the lowest releases that are promised: of each range in pyproject.toml, where it begins.

``python tests/lowest.py`` (``make lowest``) makes an environment of its own with them, and runs the tests there. What
stands behind it goes to pytest. It ends with pytest's status.
"""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
import tomllib
from pathlib import Path

from packages import ROOT, run

RANGE = re.compile(r"([A-Za-z0-9._-]+)>=([0-9.]+)")


def lowest(project: dict[str, dict[str, object]]) -> list[str]:
    """Constraints: each requirement at its lower bound, the last release that begins so."""
    extras = project["optional-dependencies"]
    wanted = [*project["dependencies"], *(one for name in ("charts", "tables", "cluster") for one in extras[name])]
    found = [match.groups() for one in wanted if (match := RANGE.match(one)) is not None]
    assert len(found) == len(wanted), "every requirement says from which release on"
    return [f"{name}=={bound}" if bound.count(".") > 1 else f"{name}=={bound}.*" for name, bound in found]


def main() -> int:
    """Make it and run them."""
    constraints = lowest(tomllib.loads((ROOT / "pyproject.toml").read_text())["project"])
    with tempfile.TemporaryDirectory() as folder:
        low = Path(folder, "lowest.txt")
        low.write_text("\n".join(constraints) + "\n")
        run(sys.executable, "-m", "venv", Path(folder, "venv"))
        python = Path(folder, "venv/bin/python")
        install = ("-m", "pip", "install", "--quiet", "--disable-pip-version-check", "--constraint", low)
        run(python, *install, "--editable", f"{ROOT}[all,dev]")
        print("\n".join(constraints), flush=True)
        tests = [python, "-m", "pytest", "-p", "no:cacheprovider", *sys.argv[1:]]
        return subprocess.run(tests, cwd=ROOT, check=False).returncode


if __name__ == "__main__":
    sys.exit(main())
