"""``error-handler``: turns a raised error into an answer, and writes it to the log."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from functools import lru_cache
from typing import Annotated, ClassVar, Literal

from pydantic import AfterValidator, Field, WithJsonSchema

from patient_usher.core.http.fields import Fields, add_vary
from patient_usher.core.http.messages import JSON, TEXT, Answer, json_bytes, phrase
from patient_usher.core.http.negotiation import choose_media_type
from patient_usher.core.model import stage as base
from patient_usher.core.model.document import Json, JsonObject, Path
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.errors import ANY, Raised
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.header_rules import PutFields, safe
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.routes import RouteSpec
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.text_types import BuiltModel, Model, Names, Status, no_items, show
from patient_usher.core.model.values import ROOTS, FilledText, Reader, at_path, checker, fill, plain

PROBLEM = "application/problem+json"
HTML = "text/html; charset=utf-8"


_PARTS = ("status", "title", "message", "fields", "type", "detail", "where", "cause", "stack")


def _error(part: str) -> Reader:
    if part.partition(".")[0] not in _PARTS:
        known = f"an error has {', '.join(_PARTS[:4])} and, if revealed, {', '.join(_PARTS[4:])}"
        raise ValueError(f"{known}; not {show(part)}")
    return lambda x: at_path(x.error_view, part)


SHAPE_ROOTS = {**ROOTS, "error": _error}
ErrorText = Annotated[str, AfterValidator(checker(SHAPE_ROOTS))]
"""A message whose placeholders may read parts of the error, too."""


class Mapping(Model):
    """What an error type, or any kind of it, is answered with."""

    sentences: ClassVar[dict[str, str]] = {
        "raised": "The types that this entry is for, and kinds of them; any for all that no other entry is for.",
        "status": "The status, in place of the type's own.",
        "message": "The public message, in place of the type's own; ${path.x} and others fill in values, "
        "${error.detail} the private message.",
        "reveal": "What its answers tell of the error, in place of what the stage says.",
        "headers": "Header fields to add.",
        "log-level": "The level of its log line.",
    }

    raised: Names
    status: Status | None = None
    message: ErrorText | None = None
    reveal: Literal["nothing", "message", "everything"] | None = None
    headers: PutFields = Field(default_factory=dict)
    log_level: Literal["debug", "info", "warning", "error"] | None = None


class Otherwise(BuiltModel):
    """What an error is answered with whose type declares no status."""

    sentences: ClassVar[dict[str, str]] = {
        "status": "The status.",
        "message": "The public message; ${path.x} and others fill in values.",
    }

    status: Status = 500
    message: FilledText = "Something went wrong"


class Options(StageOptions):
    """How errors look outside and in the log."""

    trade_names: ClassVar[tuple[str, ...]] = (
        "catch",
        "error-handling",
        "errors",
        "exception-handler",
        "exceptions",
        "recover",
        "recovery",
    )
    sentences: ClassVar[dict[str, str]] = {
        "answers": "What error types are answered with.",
        "picks": "Whether the nearest kind counts, or the first entry that fits.",
        "otherwise": "What types without a status are answered with.",
        "write-as": "The form of error answers; accept: as the request asks.",
        "shape": "A JSON form of your own; ${error.NAME} fills in status, title, message, fields, and what is revealed "
        "of type, detail, where, cause, stack.",
        "reveal": "What answers tell of an error beside its public part.",
        "log": "What the log says of it.",
        "keeps-headers": "Sequential flow: whether error answers start from the draft's header fields.",
    }

    answers: list[Mapping] = Field(default_factory=no_items)
    picks: Literal["nearest", "first"] = "nearest"
    otherwise: Otherwise = Otherwise.model_construct()
    write_as: Literal["problem-json", "json", "html", "text", "accept"] = "problem-json"
    shape: Annotated[object, AfterValidator(checker(SHAPE_ROOTS)), WithJsonSchema({})] = None
    reveal: Literal["nothing", "message", "everything"] = "nothing"
    log: Literal["full", "message", "nothing"] = "full"
    keeps_headers: bool = True

    def doubtful(self) -> Iterable[tuple[Path, str, str]]:
        """Types that two entries name: one of them says nothing."""
        seen: set[str] = set()
        for at, entry in enumerate(self.answers):
            for name in entry.raised:
                if name in seen:
                    yield ("answers", at, "raised"), f"'{name}' has an entry further up, which counts", "keep one"
                seen.add(name)

    def classes(self, fact: str) -> Sequence[str | None] | None:
        """Each form that may be wanted, and one that there is not."""
        return (None, *_MEDIA.values(), "made/up") if fact == "header.accept" and self.write_as == "accept" else None

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """Every type that has an entry, and any other."""
        return [*dict.fromkeys(self.answers_errors()), "another type"]

    def taken(self, x: Exchange, way: str, did: str, note: Json) -> Iterable[str]:
        """By the last error that it caught."""
        caught = [error.type for error in x.errors if error.caught_by == self.id]
        if way != "error" or not caught:
            return ()
        return (caught[-1] if caught[-1] in self.branches() else "another type",)

    def tells(self) -> Collection[str]:
        """The messages of its entries, and the one of all others."""
        return [*(entry.message for entry in self.answers if entry.message is not None), self.otherwise.message]

    def error_media(self) -> Collection[str]:
        """By ``write-as``; a shape of one's own is JSON."""
        if self.shape is not None:
            return ("application/json", "application/problem+json")
        names = _MEDIA if self.write_as == "accept" else (self.write_as,)
        return [_MEDIA[name] for name in names]

    def answers_errors(self) -> Collection[str]:
        """What the file lists."""
        return [name for entry in self.answers for name in entry.raised if name != ANY]

    def starts_errors_anew(self) -> bool:
        """As the file says."""
        return not self.keeps_headers


_MEDIA = {
    "problem-json": "application/problem+json",
    "json": "application/json",
    "html": "text/html",
    "text": "text/plain",
}


def view(error: Raised, status: int, message: str, reveal: str) -> JsonObject:
    """What may be shown of an error: the one place that decides.

    The public part always: ``status``, ``title``, ``message`` and ``fields`` (field errors, without
    their values). ``reveal: message`` adds ``type`` and ``detail`` (the private message);
    ``everything`` adds ``where``, ``cause`` and ``stack``.
    """
    shown: JsonObject = {
        "status": status,
        "title": phrase(status),
        "message": message,
        "fields": list(error.invalid),
    }
    if reveal != "nothing":
        shown["type"], shown["detail"] = error.type, error.message
    if reveal == "everything":
        shown.update({name: text for name in ("where", "cause", "stack") if (text := getattr(error, name))})
    return shown


def _inside(shown: JsonObject) -> JsonObject:
    return {key: shown[key] for key in ("type", "detail", "where", "cause", "stack") if key in shown}


def write_problem(shown: JsonObject) -> tuple[str, bytes]:
    """RFC 9457 section 3; field errors and what is revealed are extension members (3.2)."""
    body: JsonObject = {"type": "about:blank", "title": shown["title"], "status": shown["status"]}
    if shown["message"] != shown["title"]:
        body["detail"] = shown["message"]
    if shown["fields"]:
        body["errors"] = [{"pointer": item["pointer"], "detail": item["message"]} for item in shown["fields"]]
    if inside := _inside(shown):
        body["raised"] = inside
    return PROBLEM, json_bytes(body)


def write_json(shown: JsonObject) -> tuple[str, bytes]:
    """Plain JSON with the same content."""
    body: JsonObject = {"status": shown["status"], "message": shown["message"]}
    if shown["fields"]:
        body["fields"] = shown["fields"]
    if inside := _inside(shown):
        body["raised"] = inside
    return JSON, json_bytes(body)


def write_html(shown: JsonObject) -> tuple[str, bytes]:
    """A small page; everything in it is escaped."""
    import html

    lines = [f"<!doctype html><title>{shown['status']} {html.escape(shown['title'])}</title>"]
    lines.append(f"<h1>{html.escape(shown['title'])}</h1>\n<p>{html.escape(shown['message'])}</p>")
    if shown["fields"]:
        items = "".join(
            f"<li><code>{html.escape(i['pointer'])}</code> {html.escape(i['message'])}</li>" for i in shown["fields"]
        )
        lines.append(f"<ul>{items}</ul>")
    if inside := _inside(shown):
        lines.append("<pre>" + html.escape("\n".join(f"{key}: {text}" for key, text in inside.items())) + "</pre>")
    return HTML, ("\n".join(lines) + "\n").encode()


def write_text(shown: JsonObject) -> tuple[str, bytes]:
    """Plain text, one thing a line."""
    lines = [shown["message"], *(f"{item['pointer']}: {item['message']}" for item in shown["fields"])]
    lines += [f"{key}: {text}" for key, text in _inside(shown).items()]
    return TEXT, "\n".join(lines).encode()


WRITERS: dict[str, Callable[[JsonObject], tuple[str, bytes]]] = {
    "problem-json": write_problem,
    "json": write_json,
    "html": write_html,
    "text": write_text,
}


_BY_TYPE = {media: name for name, media in _MEDIA.items()}


def _writer(accept: str | None) -> Callable[[JsonObject], tuple[str, bytes]]:
    """What writes as the request likes it best (RFC 9110 12.5.1); a problem where it likes nothing of what there is."""
    return WRITERS[_BY_TYPE[choose_media_type(accept, tuple(_BY_TYPE)) or PROBLEM]]


def _texts(entry: Mapping) -> Iterable[str]:
    yield from entry.headers.values()
    if entry.message is not None:
        yield entry.message


class Stage(base.Stage):
    """Catches every error that reaches it."""

    catches_errors = True

    def __init__(self, options: Options, setup: Setup) -> None:
        self.id = options.id
        self.entries, self.first = options.answers, options.picks == "first"
        self.by_type: dict[str, Mapping] = {}
        for one in options.answers:
            for name in one.raised:
                self.by_type.setdefault(name, one)
        self.otherwise, self.reveal, self.log = options.otherwise, options.reveal, options.log
        texts = [options.otherwise.message, *(text for one in options.answers for text in _texts(one))]
        self.live = {text: made for text in texts for is_live, made in [fill(text, SHAPE_ROOTS)] if is_live}
        self.lineage = setup.errors.lineage
        self.by_accept = options.write_as == "accept"
        self.write = WRITERS["problem-json" if self.by_accept else options.write_as]
        own_shape_is_problem = options.write_as == "problem-json" and "write_as" in options.model_fields_set
        self.media = PROBLEM if own_shape_is_problem else JSON
        self.shape = fill(options.shape, SHAPE_ROOTS) if options.shape is not None else None
        self.keeps_fields = options.keeps_headers
        # With nothing revealed, most answers are the same few: they are written once.
        self.plain = self.shape is None and not self.by_accept
        self.plainly = lru_cache(maxsize=256)(self._plainly)
        self.entry_of = lru_cache(maxsize=256)(self._entry_of)

    def _entry_of(self, type_: str) -> Mapping | None:
        """The entry of the nearest ancestor that has one; with ``picks: first``, the first that fits at all."""
        lineage = self.lineage(type_)
        if self.first:
            return next((entry for entry in self.entries if not set(entry.raised).isdisjoint((*lineage, ANY))), None)
        return next((self.by_type[name] for name in (*lineage, ANY) if name in self.by_type), None)

    def _plainly(self, status: int, message: str) -> tuple[Fields, bytes]:
        media, body = self.write(view(Raised(""), status, message, "nothing"))
        return Fields([("Content-Type", media)]), body

    def way_error(self, x: Exchange, error: Raised) -> Effect:
        """Log the error, then answer it."""
        entry = self.entry_of(error.type)
        status, message = error.status, error.public
        if status is None:
            status, message = self.otherwise.status, message or self.otherwise.message
        if entry is not None:
            status, message = entry.status or status, entry.message or message
        reveal = self.reveal if entry is None or entry.reveal is None else entry.reveal
        if message and "${error." in message:  # the author's own choice: whatever is revealed beside it
            x.error_view = view(error, status, error.public or phrase(status), "everything")
        message = self._filled(message, x) if message else phrase(status)
        if x.log is not None and self.log != "nothing":
            self._write_log(x, error, status, entry.log_level if entry is not None else None)
        if self.plain and reveal == "nothing" and not error.invalid:
            ready, body = self.plainly(status, message)
            fields = ready.copy()
        else:
            shown = view(error, status, message, reveal)
            if self.shape is None:
                write = _writer(x.request.fields.get("accept")) if self.by_accept else self.write
                media, body = write(shown)
            else:
                live, shape = self.shape
                x.error_view = shown
                media, body = self.media, json_bytes(shape(x) if live else shape)
            fields = Fields([("Content-Type", media)])
        if self.by_accept and self.shape is None:
            add_vary(fields, "Accept")  # 12.5.5: another request gets another form
        if error.fields is not None:
            fields.update(error.fields)
        if entry is not None:
            for name, value in entry.headers.items():
                fields.put(name, safe(name, self._filled(value, x)))
        return Answer(status, fields, body)

    def _filled(self, text: str, x: Exchange) -> str:
        made = self.live.get(text)
        return plain(made(x)) if made is not None else text

    def _write_log(self, x: Exchange, error: Raised, status: int, level: str | None) -> None:
        detail: JsonObject | None = None
        if self.log == "full":
            detail = {"raised_by": error.raised_by}
            if error.where or error.cause or error.stack:
                detail.update({name: text for name in ("where", "cause", "stack") if (text := getattr(error, name))})
            if error.invalid:
                detail["fields"] = list(error.invalid)
        level = level or ("error" if status >= 500 else "warning")
        x.write_log(self.id, level, f"{error.type}: {error.message}", detail)
