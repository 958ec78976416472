"""How wide the terminal is. The standard library's own way imports archives and patterns: the help needs none."""

from __future__ import annotations

import os
import sys


def terminal_columns(otherwise: int) -> int:
    """What ``COLUMNS`` says, or else the terminal of standard output; ``otherwise`` where there is neither."""
    said = os.environ.get("COLUMNS", "")
    if said.isascii() and said.isdecimal() and int(said[:6]):
        return int(said[:6])
    try:
        return os.get_terminal_size(sys.__stdout__.fileno()).columns or otherwise  # type: ignore[union-attr]
    except (AttributeError, ValueError, OSError):
        return otherwise
