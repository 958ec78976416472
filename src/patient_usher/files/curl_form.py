"""A form of curl's ``-F`` as a multipart body (RFC 7578)."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from typing import NamedTuple

BOUNDARY = "made-up-boundary-of-the-import"
_TYPES = {
    ".gif": "image/gif",
    ".jpg": "image/jpeg",
    ".jpeg": "image/jpeg",
    ".png": "image/png",
    ".svg": "image/svg+xml",
    ".txt": "text/plain",
    ".htm": "text/html",
    ".html": "text/html",
    ".pdf": "application/pdf",
    ".xml": "application/xml",
}
"""Those that curl knows by a file's name."""
_OPTION = re.compile(r"\s*(type|filename|headers|encoder)=", re.IGNORECASE)
_TYPE = re.compile(r"[^/ ]+/[^;, \n]+")
_STOP, _STOP_OF_FILE = re.compile("[^;]*"), re.compile("[^;,]*")
_BLANKS = re.compile(r"\s*")
_QUOTED = re.compile(r'"((?:[^"\\]|\\.)*+)"', re.DOTALL)


class FormPart(NamedTuple):
    """One part: its name, what of it is a file's, its content and its media type, perhaps none."""

    name: str
    filename: str | None
    content: bytes
    media: str | None


def multipart(
    pieces: Iterable[tuple[str, str]], read_file: Callable[[str], bytes], *, of_form: bool, backslashes: bool
) -> bytes:
    """The body of ``--form`` and ``--form-string`` in their order.

    ``of_form``: whether its media type is multipart/form-data. ``backslashes``: how names are escaped.

    Raises ValueError for what isn't read here.
    """
    parts = []
    for option, text in pieces:
        name, equals, value = text.partition("=")
        if not equals:
            raise ValueError(f"the part {text!r} has no value; write -F name=value")
        plain = FormPart(name, None, value.encode(errors="surrogateescape"), None)
        parts.append(plain if option == "form-string" else _part(name, value, read_file))
    return written(parts, BOUNDARY, disposition="form-data" if of_form else "attachment", backslashes=backslashes)


def written(
    parts: Iterable[FormPart], boundary: str, *, disposition: str = "form-data", backslashes: bool = False
) -> bytes:
    """Parts as a body (RFC 7578 4), names as browsers escape them or with backslashes."""
    whole = []
    for part in parts:
        named = {"name": part.name or None, "filename": part.filename}
        shown = "".join(
            f'; {key}="{_escaped(said, backslashes=backslashes)}"' for key, said in named.items() if said is not None
        )
        head = f"Content-Disposition: {disposition}{shown}\r\n" if disposition == "form-data" or shown else ""
        head += f"Content-Type: {part.media}\r\n" if part.media is not None else ""
        opened = f"--{boundary}\r\n{head}\r\n".encode(errors="surrogateescape")
        whole.append(opened + part.content + b"\r\n")
    return b"".join(whole) + f"--{boundary}--\r\n".encode()


def _escaped(text: str, *, backslashes: bool) -> str:
    """A name in its quotes: as forms of browsers have it (HTML, multipart/form-data), or with backslashes."""
    if backslashes:
        return text.replace("\\", "\\\\").replace('"', '\\"')
    return text.replace("\r", "%0D").replace("\n", "%0A").replace('"', "%22")


def _part(name: str, text: str, read_file: Callable[[str], bytes]) -> FormPart:
    if text[:1] == "(" or (not name and text == ")"):
        raise ValueError("a form within a form isn't read here; leave it out")
    sign = text[:1] if text[:1] in ("@", "<") else ""
    stop = _STOP_OF_FILE if sign == "@" else _STOP
    content, at = _word(text, _behind_blanks(text, len(sign)), stop)
    said: dict[str, str] = {}
    while text[at : at + 1] == ";":
        option = _OPTION.match(text, at + 1)
        if option is None:
            _, at = _word(text, at + 1, _STOP)
            continue
        which, begin = option[1].lower(), _behind_blanks(text, option.end())
        said[which], at = _media(text, begin) if which == "type" else _word(text, begin, stop)
    if text[at : at + 1] == ",":
        raise ValueError("several files in one part aren't read here; write one -F for each")
    if named := {"headers", "encoder"} & said.keys():
        raise ValueError(f"{min(named)}= of a part isn't read here; leave it out")
    octets = read_file(content) if sign else content.encode(errors="surrogateescape")
    filename = said.get("filename", content.rpartition("/")[2] if sign == "@" else None)
    media = said.get("type")
    if media is None and (sign or filename is not None):
        by_name = _by_name(filename) or (_by_name(content) if sign else None)
        media = by_name or ("application/octet-stream" if sign and filename is not None else None)
        if media == "text/plain" and filename is None:
            media = None
    return FormPart(name, filename, octets, media)


def _by_name(filename: str | None) -> str | None:
    if filename is None:
        return None
    return next((media for end, media in _TYPES.items() if filename.lower().endswith(end)), None)


# Each of these reads from an offset on, and gives the offset behind what it has read.


def _behind_blanks(text: str, at: int) -> int:
    return _end(_BLANKS, text, at)


def _end(pattern: re.Pattern[str], text: str, at: int) -> int:
    """Where a pattern that fits anywhere ends."""
    found = pattern.match(text, at)
    assert found is not None
    return found.end()


def _word(text: str, at: int, stop: re.Pattern[str]) -> tuple[str, int]:
    """A value up to what stops it, perhaps in quotes."""
    quoted = _QUOTED.match(text, at)
    if quoted is not None:
        return re.sub(r'\\(["\\])', r"\1", quoted[1]), _end(stop, text, quoted.end())
    end = _end(stop, text, at)
    return text[at:end].rstrip(), end


def _media(text: str, at: int) -> tuple[str, int]:
    """A media type with its parameters."""
    found = _TYPE.match(text, at)
    if found is None:
        raise ValueError(f"{text[at : at + 40]!r} is no media type; write one, as in type=text/csv")
    end = found.end()
    while text[end : end + 1] == ";" and _OPTION.match(text, end + 1) is None:
        end = _end(_STOP_OF_FILE, text, end + 1)
    return text[at:end].rstrip(), end
