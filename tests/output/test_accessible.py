"""Pages that people read, looked through by axe-core in a real browser: light, dark and narrow, without a violation.

Skipped where there is no Chromium, or where axe-core can't be had from the npm registry.
"""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import tarfile
from collections.abc import Callable
from pathlib import Path

import pytest

from browsers import CHROMIUM
from conftest import DEMO, Outcome

Usher = Callable[..., Outcome]
PAGES = {
    "replay": ("replay", "mistaken.yaml", "story.yaml", "--quiet"), "compare": ("compare", "harbour.yaml", "mistaken.yaml", "story.yaml"),
    "drift": ("drift", "landing.yaml", "landing-story.yaml", "--app", "landing_service:drifted", "--trust", "python"),
}  # fmt: skip
LOOKS = {"light": [], "dark": ["--force-dark-mode", "--blink-settings=preferredColorScheme=0"], "narrow": ["--window-size=400,800"]}  # fmt: skip
ASKS = """<script>
document.querySelectorAll("details").forEach((part, at) => { if (at < 3) part.open = true; });
setTimeout(() => axe.run().then((found) => {
  document.body.innerHTML = "";
  const out = document.createElement("pre");
  out.id = "out";
  out.textContent = JSON.stringify({ran: found.passes.length, broken: found.violations.map((one) => [one.id, one.nodes[0].html])});
  document.body.append(out);
}), 300);
</script>"""


@pytest.fixture(scope="module")
def axe(tmp_path_factory: pytest.TempPathFactory) -> str:
    """The library's text."""
    npm = shutil.which("npm")
    if CHROMIUM is None or npm is None:
        pytest.skip("no Chromium, or no npm")
    folder = tmp_path_factory.mktemp("axe")
    done = subprocess.run([npm, "pack", "axe-core@4"], cwd=folder, capture_output=True, timeout=60, check=False)
    packed = next(folder.glob("axe-core-*.tgz"), None)
    if done.returncode or packed is None:
        pytest.skip("axe-core can't be had")
    with tarfile.open(packed) as archive:
        member = archive.extractfile("package/axe.min.js")
        assert member is not None
        return member.read().decode().replace("</script", "<\\/script")


@pytest.mark.parametrize(
    ("name", "look"),
    [
        *((name, "light") for name in PAGES),
        *((name, "narrow") for name in PAGES),
        ("replay", "dark"),
        ("compare", "dark"),
    ],
)
def test_nothing_keeps_anybody_out(usher: Usher, tmp_path: Path, axe: str, name: str, look: str) -> None:
    for path in DEMO.glob("landing*"):
        (tmp_path / path.name).write_bytes(path.read_bytes())
    arguments = (str(DEMO / part) if part.endswith(".yaml") and name != "drift" else part for part in PAGES[name])
    usher(*arguments, "--report", "html=r.html")
    page = re.sub(r'<meta http-equiv="Content-Security-Policy"[^>]*>', "", (tmp_path / "r.html").read_text())
    (tmp_path / "asks.html").write_text(page.replace("</body>", f"<script>{axe}</script>{ASKS}</body>"))
    command = [str(CHROMIUM), "--headless", "--no-sandbox", "--disable-gpu", "--virtual-time-budget=15000"]
    done = subprocess.run(
        [*command, *LOOKS[look], "--dump-dom", f"file://{tmp_path}/asks.html"],
        capture_output=True,
        text=True,
        timeout=90,
    )
    found = re.search(r'<pre id="out">(.*?)</pre>', done.stdout, re.DOTALL)
    assert found is not None, done.stderr[-400:]
    told = json.loads(found[1].replace("&lt;", "<").replace("&gt;", ">").replace("&amp;", "&"))
    assert told["ran"] > 15
    assert told["broken"] == []
