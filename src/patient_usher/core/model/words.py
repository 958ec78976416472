"""Words with figures: the one place for their grammar."""

from __future__ import annotations


def counted(number: int, word: str, words: str = "") -> str:
    """``1 request``, ``2,000 requests``; ``words`` is the plural where it isn't made with an s."""
    return f"{number:,} {word if number == 1 else words or f'{word}s'}"
