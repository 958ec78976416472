"""Regular expressions from files: by an engine whose time is linear in the text, so that none can run away."""

from __future__ import annotations

from collections.abc import Callable

Search = Callable[[str], bool]

_LONGEST = 2_000


def searcher(pattern: str) -> Search:
    """Whether the pattern is found somewhere in a text. Raises ValueError, in words, where it can't be used."""
    import re2  # most pipelines have no patterns

    if len(pattern) > _LONGEST:
        raise ValueError(f"this regular expression is over {_LONGEST:,} characters; write several")
    options = re2.Options()
    options.log_errors = False
    try:
        search = re2.compile(pattern, options).search
    except (re2.error, UnicodeError) as error:
        words = str(error.args[0].decode() if error.args and isinstance(error.args[0], bytes) else error)
        raise ValueError(
            f"'{pattern[:60]}' is no regular expression that is read here: {words}; "
            "look-around and back references are left out, since they can run away"
        ) from None

    def found(text: str) -> bool:
        return search(text.encode("utf-8", "replace").decode()) is not None

    return found
