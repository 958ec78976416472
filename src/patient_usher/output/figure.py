"""Figures by Matplotlib: imported when one is drawn, the same octets every time."""

from __future__ import annotations

from io import BytesIO
from pathlib import Path
from typing import Any

from patient_usher.core.model.document import JsonObject
from patient_usher.output.extras import needed

SIZE: JsonObject = {"figsize": (12.8, 8), "dpi": 100}


def drawing() -> Any:
    """The library, without a screen. Raises Unusable where it isn't installed."""
    needed("charts")
    import matplotlib

    matplotlib.use("Agg")
    matplotlib.rcParams["svg.hashsalt"] = "usher"
    from matplotlib import pyplot

    return pyplot


def drawn(figure: Any, path: Path) -> bytes:
    """A figure as PNG or SVG, by the file's name, with nothing in it that differs from day to day."""
    form, out = path.suffix.lower()[1:], BytesIO()
    figure.savefig(out, format=form, metadata={"Date": None} if form == "svg" else {"Software": None})
    drawing().close(figure)
    return out.getvalue()
