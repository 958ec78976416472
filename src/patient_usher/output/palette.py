"""The colours of pages and pictures, by what they are for: on light ground and on dark, 4.5:1 on each."""

from __future__ import annotations

LIGHT: dict[str, str] = {
    "ground": "#fbfaf7", "ink": "#1d2a30", "soft": "#54636b", "rule": "#d5d9d6", "raise": "#f0f1ec",
    "good": "#17694a", "bad": "#a3123a", "odd": "#7a4a00", "told": "#1f5f7a", "caught": "#5b3f8c",
}  # fmt: skip
DARK: dict[str, str] = {
    "ground": "#12181b", "ink": "#e7ebe9", "soft": "#a5b2b3", "rule": "#3a464a", "raise": "#1b2327",
    "good": "#79cfa3", "bad": "#ff93a0", "odd": "#e8bd62", "told": "#8cc6dd", "caught": "#c7aef2",
}  # fmt: skip


def variables() -> str:
    """Both as variables of CSS, the dark ones where that is asked for."""
    light, dark = (" ".join(f"--{name}: {value};" for name, value in each.items()) for each in (LIGHT, DARK))
    return f":root {{ {light} }}\n@media (prefers-color-scheme: dark) {{ :root {{ {dark} }} }}"


def dark_fills() -> str:
    """What a picture's parts are filled with on dark ground, by their classes."""
    rules = " ".join(f".{name} {{ fill: {value}; }}" for name, value in DARK.items())
    return f"@media (prefers-color-scheme: dark) {{ {rules} .line {{ stroke: {DARK['rule']}; fill: none; }} }}"
