"""The packages, as users get them: built, installed in environments of their own, and tried there.

``python tests/packages.py`` (``make packages``) builds the wheel and the source distribution, installs the one bare and
the other with all extras, and tries the hooks in a repository of their own. It ends with the first thing that isn't so.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tarfile
import tempfile
import venv
from pathlib import Path
from xml.etree import ElementTree
from zipfile import ZipFile

ROOT = Path(__file__).parents[1]
MOST = 120
"""How many MB a bare installation may take, without what makes the environment."""
WITHIN = ("cli/__init__.py", "output/page.html", "demo/harbour.yaml", "starter/nested.yaml", "py.typed")
BESIDE = ("tests/conftest.py", "docs/conf.py", "README.md", "CHANGELOG.md", "Makefile", "pyproject.toml")


SWITCHED_OFF = ("    kind: authorize\n", "    kind: authorize\n    enabled: false\n")
"""A mistake in the pipeline that init writes: nothing holds callers against what a route asks of them."""


def run(*command: object, cwd: Path = ROOT, status: int | None = 0, **env: str) -> str:
    """A command's output; it ends as it should."""
    done = subprocess.run(
        list(map(str, command)), cwd=cwd, env={**os.environ, **env}, text=True,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
    )  # fmt: skip
    assert status is None or done.returncode == status, f"{command} ended with {done.returncode}:\n{done.stdout}"
    return done.stdout


def environment(folder: Path, what: str, *how: str) -> Path:
    """An environment with this installed. Returns its commands' folder."""
    venv.create(folder)
    pip = (sys.executable, "-m", "pip", "--python", folder / "bin/python")
    run(*pip, "install", "--quiet", "--disable-pip-version-check", *how, what)
    return folder / "bin"


def weight(folder: Path) -> float:
    """How many MB of packages there are."""
    return float(run("du", "-sk", next(folder.glob("lib/python*/site-packages"))).split()[0]) / 1024


def bare(folder: Path, wheel: Path) -> None:
    """What works with nothing else, and what says what it takes."""
    usher = environment(folder, str(wheel)) / "usher"
    size = weight(folder)
    assert size <= MOST, f"a bare installation takes {size:.0f} MB, and may take {MOST}"
    assert run(usher, "--version").count("not installed") == 3
    assert "requests" in run(usher, "demo", "story", status=None)
    run(usher, "demo", "--copy", folder / "demo")
    demo = folder / "demo"
    run(usher, "check", "harbour.yaml", cwd=demo)
    run(usher, "import", "busy.log", "--into", "day.jsonl", cwd=demo)
    for wants, arguments in {
        "charts": ("chart", "harbour.yaml", "story.yaml", "--picture", "o.png"),
        "tables": ("replay", "harbour.yaml", "story.yaml", "--into", "o.parquet"),
        "cluster": ("replay", "busy.yaml", "day.jsonl", "--cluster", "2"),
    }.items():
        said = run(usher, *arguments, cwd=demo, status=2)
        assert f"pip install 'patient-usher[{wants}]'" in said, said
    print(f"bare: {size:.0f} MB, and says what it lacks")


def whole(folder: Path, source: Path) -> None:
    """With all extras."""
    usher = environment(folder, f"{source}[all]", "--no-compile") / "usher"
    assert "not installed" not in run(usher, "--version")
    run(usher, "demo", "--copy", folder / "demo")
    demo = folder / "demo"
    run(usher, "chart", "harbour.yaml", "story.yaml", "--picture", "o.png", cwd=demo)
    run(usher, "replay", "harbour.yaml", "story.yaml", "--into", "o.parquet", cwd=demo)
    assert (demo / "o.png").read_bytes()[:4] == b"\x89PNG"
    assert (demo / "o.parquet").read_bytes()[:4] == b"PAR1"
    print(f"all extras: {weight(folder):.0f} MB, not compiled")


def hooks(folder: Path, usher: Path) -> None:
    """The hooks, in a repository that has a pipeline: they hold, and then they don't."""
    folder.mkdir()
    run("git", "init", "--quiet", cwd=folder)
    run(usher, "init", cwd=folder)
    rev = run("git", "rev-parse", "HEAD").strip()
    config = f"repos: [{{repo: {ROOT}, rev: {rev}, hooks: [{{id: usher-check}}, {{id: usher-replay}}]}}]\n"
    (folder / ".pre-commit-config.yaml").write_text(config)
    run("git", "add", ".", cwd=folder)
    once = (sys.executable, "-m", "pre_commit", "run", "--all-files")
    home = str(folder.parent / "pre-commit")
    assert run(*once, cwd=folder, PRE_COMMIT_HOME=home).count("Passed") == 2
    pipeline = folder / "pipeline.yaml"
    pipeline.write_text(pipeline.read_text().replace(*SWITCHED_OFF))
    run("git", "add", ".", cwd=folder)
    said = run(*once, cwd=folder, PRE_COMMIT_HOME=home, status=1)
    assert said.count("Failed") == 2, said
    assert "access-unenforced@" in said, said
    print("hooks: hold, and notice a stage that is switched off")


def snippet(folder: Path, usher: Path) -> None:
    """The commands that the manual gives for CI, in a repository of their own, as its shell runs them."""
    page = (ROOT / "docs/howto/ci.md").read_text()
    install, *commands = page.split("```")[1].strip().splitlines()
    assert install == "pip install patient-usher"
    (folder / "traces").mkdir(parents=True)
    run(usher, "init", cwd=folder)
    (folder / "trace.yaml").rename(folder / "traces/trace.yaml")
    pipeline = (folder / "pipeline.yaml").read_text()
    for text, status in (
        (pipeline, 0),
        (pipeline.replace(*SWITCHED_OFF), 1),
    ):
        (folder / "pipeline.yaml").write_text(text)
        for command in commands:
            run("bash", "-c", command, cwd=folder, status=status, PATH=f"{usher.parent}:{os.environ['PATH']}")
        found = json.loads((folder / "findings.sarif").read_text())["runs"][0]["results"]
        failed = len(list(ElementTree.parse(folder / "replay.xml").iter("failure")))
        assert (found != [], failed > 0) == (status == 1, status == 1), (found, failed)
    print(f"CI: {len(commands)} commands hold, and notice it; {len(found)} results, {failed} failures")


def main() -> int:
    """Build and try."""
    with tempfile.TemporaryDirectory() as name:
        made = Path(name)
        run(sys.executable, "-m", "build", "--outdir", made / "dist", ROOT)
        wheel, source = next(made.glob("dist/*.whl")), next(made.glob("dist/*.tar.gz"))
        inside = ZipFile(wheel).namelist()
        assert [part for part in WITHIN if f"patient_usher/{part}" not in inside] == []
        page = ZipFile(wheel).read(next(name for name in inside if name.endswith("METADATA"))).decode()
        beside = re.findall(r"\]\((?!https?://|#)[^)]*\)", page)  # an index shows the page alone
        assert (beside, page.count("/docs/screenshots/") >= 4) == ([], True), beside
        with tarfile.open(source) as packed:
            names = {member.partition("/")[2] for member in packed.getnames()}
        assert [part for part in BESIDE if part not in names] == []
        print(f"built {wheel.name} ({wheel.stat().st_size // 1024} KiB) and {source.name}")
        bare(made / "bare", wheel)
        hooks(made / "repository", made / "bare/bin/usher")
        snippet(made / "ci", made / "bare/bin/usher")
        whole(made / "all", source)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
