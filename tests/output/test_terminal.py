"""What people see at a terminal: it fits, on every ground, in ASCII too; the same for files wherever they are made."""

from __future__ import annotations

import io
import re
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len
from rich.color import Color
from rich.style import Style

from conftest import DEMO, Outcome
from patient_usher.cli import QUESTIONS
from patient_usher.output.palette import DARK, LIGHT
from patient_usher.output.terminal import ASCII, STYLES, Painter, fit, ground_of, line, squeezed, wants_colour

Usher = Callable[..., Outcome]
VIEWS: dict[str, tuple[str, ...]] = {
    "replay": ("replay", "harbour.yaml", "story.yaml"), "failing": ("replay", "mistaken.yaml", "story.yaml"), "details": ("replay", "quay.yaml", "quay-story.yaml", "--details"),
    "limits": ("replay", "limits.yaml", "limits-story.yaml"), "blocked": ("replay", "boaters.yaml", "boaters-story.yaml"), "show": ("show", "harbour.yaml"), "one": ("show", "harbour.yaml", "GET", "/v1/harbour/ledger"),
    "state": ("show", "busy.yaml", "--state"), "send": ("send", "harbour.yaml", "GET", "/v1/harbour/ledger"), "check": ("check", "mistaken.yaml"), "explain": ("check", "--explain"), "page": ("check", "--explain", "stalls"),
    "compare": ("compare", "harbour.yaml", "mistaken.yaml", "story.yaml"), "reorder": ("reorder", "landing.yaml", "landing-story.yaml", "--all-pairs"), "explore": ("explore", "landing.yaml"),
    "coverage": ("replay", "harbour.yaml", "story.yaml", "--coverage"), "sweep": ("sweep", "limits.yaml", "limits-story.yaml", "--try", "throttle.quota=20,30", "--cores", "1"),
    "drift": ("drift", "landing.yaml", "landing-story.yaml", "--app", "landing_service:drifted", "--trust", "python"),
}  # fmt: skip
URL = re.compile(r"\S{30,}")


def run(usher: Usher, name: str, *more: str, **env: str) -> Outcome:
    """A view of the demo."""
    return usher(*(str(DEMO / part) if part.endswith(".yaml") else part for part in VIEWS[name]), *more, env=env)


FITTED = [
    *((name, wide) for name in VIEWS for wide in (60, 80)),
    ("replay", 100),
    ("check", 100),
    ("explore", 100),
    ("replay", 160),
]


@pytest.mark.parametrize(("name", "wide"), FITTED)
def test_every_view_fits(usher: Usher, name: str, wide: int) -> None:
    plain = ["--plain"] if wide == 60 else []
    done = run(usher, name, *plain, COLUMNS=str(wide))
    assert done.status in (0, 1), done.err
    assert not plain or (done.out.isascii() and "\\u" not in done.out)
    long = [text for text in done.out.splitlines() if cell_len(text) > wide and not URL.search(text)]
    assert long == []


NAMED = """patient-usher: pipeline/1
stages:
  - {id: LONG-fair, kind: rate-limit, quota: 2, window: 10s, algorithm: sliding-log}
  - {id: LONG-who, kind: authenticate, schemes: [{scheme: basic}]}
  - {id: LONG-may, kind: authorize}
routes: [{id: LONG-a, at: GET /a, access: signed-in, handler: {answer: {text: a}}}]
accounts: {LONG-ada: {password: not-a-real-password}}
"""
CALLED = """patient-usher: trace/1
requests:
  - {id: LONG-one, send: GET /a}
  - {id: LONG-two, send: GET /a, sign: {basic: LONG-ada}, expect: {status: 401}}
  - {id: LONG-three, send: GET /a}
"""
SERVED = """
def app(environ, start_response):
    start_response("200 OK", [("Content-Type", "text/plain")])
    return [b"a"]
"""
LONG_VIEWS = [
    ("show", "p.yaml"), ("show", "p.yaml", "--state"), ("send", "p.yaml", "GET", "/a"), ("replay", "p.yaml", "t.yaml", "--details"), ("replay", "p.yaml", "t.yaml", "--coverage"),
    ("check", "p.yaml"), ("compare", "p.yaml", "p.yaml", "t.yaml", "--b-set", "LONG-fair.quota=1", "--details"), ("reorder", "p.yaml", "t.yaml", "--all-pairs"), ("reorder", "p.yaml", "t.yaml", "--tell-apart"),
    ("explore", "p.yaml"), ("sweep", "p.yaml", "t.yaml", "--try", "LONG-fair.quota=1,2"), ("drift", "p.yaml", "t.yaml", "--app", "apps:app", "--trust", "python"),
]  # fmt: skip


@pytest.mark.parametrize("command", LONG_VIEWS, ids=" ".join)
def test_names_may_be_longer_than_the_terminal_is_wide(usher: Usher, command: tuple[str, ...]) -> None:
    name = "quay-" * 26
    files = {"p__yaml": NAMED.replace("LONG-", name), "t__yaml": CALLED.replace("LONG-", name), "apps__py": SERVED}
    done = usher(*(part.replace("LONG-", name) for part in command), **files, env={"COLUMNS": "60"})
    assert done.status in (0, 1), done.err
    assert [text for text in done.out.splitlines() if cell_len(text) > 60 and not URL.search(text)] == []


@pytest.mark.parametrize("name", ["replay", "check", "reorder"])
def test_plain_stands_as_the_other(usher: Usher, name: str) -> None:
    drawn, plain = run(usher, name).out.splitlines(), run(usher, name, "--plain").out.splitlines()
    assert [len(text) for text in plain] == [len(text) for text in drawn]
    assert run(usher, name, PYTHONIOENCODING="ascii").out.splitlines() == plain


def test_each_sign_has_one_of_its_own_in_ascii() -> None:
    drawn = "●○◆▲▼◇◈∞·◐✓✗•"
    assert len({ASCII[sign] for sign in drawn}) == len(drawn)
    source = "".join(path.read_text() for path in (Path(__file__).parents[2] / "src/patient_usher/output").glob("*.py"))
    signs = set(re.findall(r"[^\x00-\x7f]", source)) - {"\u00a0"}
    assert sorted(signs - ASCII.keys()) == []


@pytest.mark.parametrize("wide", [60, 80])
@pytest.mark.parametrize("name", ["", *QUESTIONS])
def test_every_page_of_help_fits(usher: Usher, name: str, wide: int) -> None:
    text = usher(*([name] if name else []), "--help", env={"COLUMNS": str(wide)}).out
    assert [one for one in text.splitlines() if len(one) > wide] == []


def luminance(style: str) -> float:
    """Relative luminance (WCAG 2.2)."""
    colour = Style.parse(style).color or Color.default()
    parts = [value / 255 for value in colour.get_truecolor()]
    red, green, blue = (part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def contrast(a: float, b: float) -> float:
    """The ratio of two luminances."""
    return (max(a, b) + 0.05) / (min(a, b) + 0.05)


GROUNDS = {"either": ("#000000", "#ffffff"), "dark": ("#000000", "#1e1e1e"), "light": ("#ffffff", "#fdf6e3")}


@pytest.mark.parametrize("ground", GROUNDS)
def test_colours_can_be_read_on_their_ground(ground: str) -> None:
    for name, style in STYLES[ground].items():
        for back in GROUNDS[ground]:
            assert contrast(luminance(style), luminance(back)) >= 4.5, (name, back)
    assert {*STYLES[ground]} == {*STYLES["either"]} == {*STYLES["few"]}
    assert all(Style.parse(style).color is None for style in STYLES["few"].values())


@pytest.mark.parametrize("colours", [LIGHT, DARK], ids=["light", "dark"])
def test_colours_of_pages_and_pictures_can_be_read(colours: dict[str, str]) -> None:
    for name in colours.keys() - {"ground", "rule", "raise"}:
        for back in ("ground", "raise"):
            assert contrast(luminance(colours[name]), luminance(colours[back])) >= 4.5, (name, back)
    assert LIGHT.keys() == DARK.keys()


class Terminal(io.StringIO):
    """A stream that is a terminal, or isn't."""

    def __init__(self, tty: bool) -> None:
        super().__init__()
        self.tty = tty

    def isatty(self) -> bool:
        return self.tty


ASKED = [
    (True, {}, "auto", True), (False, {}, "auto", False), (True, {"NO_COLOR": "1"}, "auto", False), (False, {"FORCE_COLOR": "1"}, "auto", True), (True, {"TERM": "dumb"}, "auto", False),
    (True, {"NO_COLOR": "1"}, "always", True), (False, {}, "always", True), (True, {}, "never", False), (True, {"NO_COLOR": "1", "FORCE_COLOR": "1"}, "auto", False),
]  # fmt: skip


@pytest.mark.parametrize(("tty", "environ", "asked", "colours"), ASKED)
def test_when_it_colours(tty: bool, environ: dict[str, str], asked: str, colours: bool) -> None:
    assert wants_colour(Terminal(tty), environ, asked) is colours


@pytest.mark.parametrize(
    ("told", "ground"),
    [
        ("15;0", "dark"),
        ("0;15", "light"),
        ("0;default;15", "light"),
        ("12;8", "dark"),
        ("", "either"),
        ("x", "either"),
        ("0;7", "light"),
    ],
)
def test_the_ground_is_told(told: str, ground: str) -> None:
    assert ground_of({"COLORFGBG": told}) == ground


def test_a_painter_in_ascii_keeps_its_colours(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TERM", "xterm-256color")
    out = Terminal(tty=True)
    Painter(out, colour=True, ascii_only=True).write([line(("✓ ", "good"), "fine")])
    assert "\x1b[" in out.getvalue()
    assert "v " in out.getvalue()


@given(st.text("abc-", max_size=30), st.integers(1, 30))
def test_squeezed_keeps_both_ends(name: str, wide: int) -> None:
    told = squeezed(name, wide)
    head, cut, tail = told.partition("…")
    assert len(told) == min(len(name), wide)
    assert (
        (told == name)
        if not cut
        else (name.startswith(head) and name.endswith(tail) and 0 <= len(head) - len(tail) < 2)
    )


@given(st.text(st.characters(codec="utf-8", exclude_categories=["C", "M"]), max_size=30), st.integers(1, 30))
def test_cut_and_padded_to_cells(text: str, wide: int) -> None:
    assert cell_len(fit(text, wide)) == wide


def test_a_report_is_the_same_wherever_it_is_made(usher: Usher, tmp_path: Path) -> None:
    made = []
    for wide in ("60", "160"):
        reports = [f"--report={form}=r{wide}.{form}" for form in ("md", "html", "junit")]
        run(usher, "failing", *reports, COLUMNS=wide)
        made.append([(tmp_path / f"r{wide}.{form}").read_text() for form in ("md", "html", "junit")])
    assert made[0] == made[1]
