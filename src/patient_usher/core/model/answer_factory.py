"""Made-up answers and errors: from what a file says to a function that makes them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from hashlib import shake_256
from typing import TypeVar

from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import JSON, TEXT, Answer
from patient_usher.core.model.errors import ErrorTypes, Raised
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.handler_specs import AnswerSpec, LogLineSpec, RaiseSpec
from patient_usher.core.model.header_rules import safe
from patient_usher.core.model.values import Reader, fill, filler, json_filler, plain

T = TypeVar("T")
Maker = Callable[[Exchange], Answer]
MOST_FILLER, LAZY_FROM = 256 << 20, 1 << 16
"""How much made-up content there may be, and from which size it is made when it is first wanted."""
ReadFile = Callable[[str], bytes]


_LINE = b"The tide turns at the harbour mouth, and the boats swing slowly round their moorings. "


def filler_content(size: int, of: str) -> bytes:
    """Made-up content of exactly ``size`` octets: of text that repeats, or of noise that no coding makes smaller."""
    if of == "noise":
        return shake_256(_LINE).digest(size)
    return (_LINE * (size // len(_LINE) + 1))[:size]


_BEGINNINGS = tuple(filler_content(32, of) for of in ("text", "noise"))


def is_filler(content: bytes) -> bool:
    """Whether content is made up by its size alone."""
    return content.startswith(_BEGINNINGS)


def answer_maker(spec: AnswerSpec, read_file: ReadFile, *, status: int = 200) -> Maker:
    """A function that makes the answer. What doesn't depend on the exchange is made once, here.

    Raises OSError or ValueError where the answer's file can't be read.
    """
    fields = Fields()
    live_fields: list[tuple[str, Reader]] = []
    for name, value in spec.lines:
        live, prepared = fill(value)
        if live:
            live_fields.append((name, prepared))
        else:
            fields.add(name, prepared)
    content: Callable[[Exchange], bytes] | None = None
    body = b""
    media = ""
    if "json_" in spec.model_fields_set:
        media, written = JSON, json_filler(spec.json_)
        if isinstance(written, bytes):
            body = written
        else:
            content = written
    elif spec.text is not None:
        live, prepared = fill(spec.text)
        media = TEXT
        if live:
            content = lambda x: plain(prepared(x)).encode()  # noqa: E731
        else:
            body = prepared.encode()
    elif spec.file is not None:
        body = read_file(spec.file)
        media = _MEDIA_BY_ENDING.get(spec.file.rpartition(".")[2], "application/octet-stream")
    elif spec.size is not None:
        if spec.size > MOST_FILLER:
            raise ValueError(f"{spec.size:,} octets are over {MOST_FILLER:,}; write a smaller size")
        media, size, of = TEXT if spec.of == "text" else "application/octet-stream", spec.size, spec.of
        made: list[bytes] = []

        def fill_up(x: Exchange) -> bytes:
            if not made:
                made.append(filler_content(size, of))
            return made[0]

        content = fill_up if size > LAZY_FROM else None
        body = b"" if content is not None else filler_content(size, of)
    if media and "content-type" not in fields:
        typed = Fields([("Content-Type", media)])
        typed.update(fields)
        fields = typed
    code = spec.status or status

    if content is None and not live_fields:
        return lambda x: Answer(code, fields.copy(), body)

    def make(x: Exchange) -> Answer:
        answer = Answer(code, fields.copy(), body if content is None else content(x))
        for name, value in live_fields:
            answer.fields.add(name, safe(name, plain(value(x))))
        return answer

    return make


def writer(who: str, lines: Sequence[LogLineSpec]) -> Callable[[Exchange], None]:
    """A function that writes lines into the log, in the name of ``who``."""
    ready = [(line.level, filler(line.message)) for line in lines]

    def write(x: Exchange) -> None:
        if x.log is not None:
            for level, message in ready:
                x.write_log(who, level, plain(message(x)))

    return write


def logging(who: str, lines: Sequence[LogLineSpec], work: Callable[[Exchange], T]) -> Callable[[Exchange], T]:
    """The work, with log lines in front."""
    write = writer(who, lines)

    def logged(x: Exchange) -> T:
        write(x)
        return work(x)

    return logged


def raiser(spec: RaiseSpec, errors: ErrorTypes, *, refuses: bool = False) -> Callable[[Exchange], Raised]:
    """A function that raises what the file says; of a built-in type it is a stage's refusal."""
    message = filler(spec.message)
    why = "decided" if refuses else None

    def make(x: Exchange) -> Raised:
        return errors.raised(
            spec.type, plain(message(x)), where=spec.where, cause=spec.cause, stack=spec.stack, why=why
        )

    return make


_MEDIA_BY_ENDING = {
    "json": JSON,
    "txt": TEXT,
    "html": "text/html; charset=utf-8",
    "css": "text/css; charset=utf-8",
    "js": "text/javascript; charset=utf-8",
    "csv": "text/csv; charset=utf-8",
    "svg": "image/svg+xml",
    "png": "image/png",
}
