"""Text as XML, HTML and Markdown may hold it: nothing that was sent is taken for a mark."""

from __future__ import annotations

import re
from html import escape

_ILLEGAL = re.compile("[^\t\n\r\x20-\x7e\xa0-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def legal(text: str) -> str:
    """Text as XML may hold it (XML 1.0 section 2.2), and no terminal obeys: controls are seen as escapes."""
    return _ILLEGAL.sub(lambda match: match[0].encode("unicode_escape", "surrogatepass").decode(), text)


def cell(text: str) -> str:
    """Text in a Markdown table: what Markdown or HTML would take for a mark is escaped."""
    return "".join(f"\\{char}" if char in "\\`*_[]|#~" else char for char in escape(text)).replace("\n", " ")


def fence(text: str) -> str:
    """What begins and ends a block of code, longer than any run of its marks within."""
    return "`" * max([3, *(len(run) + 1 for run in re.findall("`{3,}", text))])
