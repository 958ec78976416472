"""Figures by Matplotlib: imported when one is drawn, the same octets every time."""

from __future__ import annotations

import os
from functools import cache
from io import BytesIO
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from patient_usher.core.model.document import JsonObject
from patient_usher.output.extras import needed

SIZE: JsonObject = {"figsize": (12.8, 8), "dpi": 100}


def drawing() -> Any:
    """The library, without a screen. Raises Unusable where it isn't installed."""
    needed("charts")
    matplotlib = _library()
    matplotlib.rcdefaults()
    matplotlib.use("Agg")
    # Names are names: a dollar sign in one begins no formula.
    matplotlib.rcParams.update({"svg.hashsalt": "usher", "text.parse_math": False})
    from matplotlib import pyplot

    return pyplot


@cache
def _library() -> Any:
    """Matplotlib, which reads no configuration of the folder that it is run in, nor of anybody else.

    Such a file may name modules and programs. An empty one in an empty folder is read in their place.
    """
    came_from, said = os.getcwd(), os.environ.get("MATPLOTLIBRC")
    with TemporaryDirectory() as folder:
        empty = Path(folder, "matplotlibrc")
        empty.touch()
        os.environ["MATPLOTLIBRC"] = str(empty)
        os.chdir(folder)
        try:
            import matplotlib
        finally:
            os.chdir(came_from)
            if said is None:
                del os.environ["MATPLOTLIBRC"]
            else:
                os.environ["MATPLOTLIBRC"] = said
    return matplotlib


def drawn(figure: Any, path: Path) -> bytes:
    """A figure as PNG or SVG, by the file's name, with nothing in it that differs from day to day."""
    form, out = path.suffix.lower()[1:], BytesIO()
    figure.savefig(out, format=form, metadata={"Date": None} if form == "svg" else {"Software": None})
    drawing().close(figure)
    return out.getvalue()
