"""What stands at the end of a pipeline: made-up answers, raised errors, handlers, records, desks."""

from typing import Annotated, Any, ClassVar, Literal

from pydantic import AfterValidator, BeforeValidator, Field, WithJsonSchema, model_validator

from patient_usher.core.model.document import JsonObject
from patient_usher.core.model.header_rules import AnswerFields, CookieName
from patient_usher.core.model.matcher import When
from patient_usher.core.model.templates import parse_prefix
from patient_usher.core.model.text_types import (
    Duration,
    Model,
    Names,
    Or,
    Size,
    Status,
    exactly_one,
    no_items,
    show,
    wrong,
)
from patient_usher.core.model.values import Filled, FilledText


class AnswerSpec(Model):
    """A made-up answer. At most one of json, text, file, size is its content."""

    sentences: ClassVar[dict[str, str]] = {
        "status": "The answer's status code.",
        "headers": "Header fields of the answer; a list for several lines of one name.",
        "json": "The answer's content, as JSON; ${query.x} and others fill in values.",
        "text": "The answer's content, as plain text; ${query.x} and others fill in values.",
        "file": "A file beside the pipeline whose octets are the answer's content.",
        "size": "Made-up content of this size.",
        "of": "What made-up content is like: text compresses as repeated prose does, noise not at all.",
    }

    BODIES: ClassVar[tuple[str, ...]] = ("json_", "text", "file", "size")

    status: Status | None = None
    headers: AnswerFields = Field(default_factory=dict)
    json_: Filled = Field(default=None, alias="json")
    text: FilledText | None = None
    file: str | None = None
    size: Size | None = None
    of: Literal["text", "noise"] = "text"

    @model_validator(mode="after")
    def _one_body(self) -> "AnswerSpec":
        if "of" in self.model_fields_set and self.size is None:
            raise wrong("of says what made-up content is like, and there is none", "write size: 20KiB beside it")
        exactly_one(self, self.BODIES, "the answer's content", at_most=True)
        return self

    @property
    def lines(self) -> list[tuple[str, str]]:
        """Header fields as lines, one value each."""
        every = {name: values if isinstance(values, list) else [values] for name, values in self.headers.items()}
        return [(name, value) for name, values in every.items() for value in values]

    @property
    def has_body(self) -> bool:
        """Whether any content is given."""
        return any(name in self.model_fields_set for name in self.BODIES)


class RaiseSpec(Model):
    """An error to raise. ``message``, ``where`` and ``cause`` are its private part."""

    sentences: ClassVar[dict[str, str]] = {
        "type": "The error's type.",
        "message": "The private message, for the log.",
        "where": "Where in the code it was raised; private.",
        "cause": "What caused it; private.",
        "stack": "The stack; private.",
    }

    type: str
    message: FilledText = ""
    where: str = ""
    cause: str = ""
    stack: str = ""


RaiseOf = Annotated[
    RaiseSpec,
    BeforeValidator(lambda value: {"type": value} if isinstance(value, str) else value),
    Or({"type": "string"}),
]


class LogLineSpec(Model):
    """A line that goes into the log; a bare text is one of level info."""

    sentences: ClassVar[dict[str, str]] = {
        "level": "The line's level.",
        "message": "The line; ${query.x} and others fill in values.",
    }

    level: Literal["debug", "info", "warning", "error"] = "info"
    message: FilledText


LogLineOf = Annotated[
    LogLineSpec,
    BeforeValidator(lambda value: {"message": value} if isinstance(value, str) else value),
    Or({"type": "string"}),
]
LogLines = Annotated[
    list[LogLineOf],
    BeforeValidator(lambda value: value if isinstance(value, list) else [value]),
    Or({"type": "string"}),
]
"""Lines of a log, or a single one."""


class HandlerCase(Model):
    """What a handler does where ``when`` fits."""

    sentences: ClassVar[dict[str, str]] = {
        "when": "When this case fits; always, if left out.",
        "answer": "The answer in this case.",
        "raise": "The error in this case.",
        "busy-for": "How much longer the handler takes in this case.",
        "log": "Lines that the handler writes into the log in this case, before it answers or raises.",
    }

    when: When | None = None
    answer: AnswerSpec | None = None
    raise_: RaiseOf | None = None
    busy_for: Duration = 0
    log: LogLines = Field(default_factory=no_items)

    @model_validator(mode="after")
    def _one(self) -> "HandlerCase":
        exactly_one(self, ("answer", "raise_"), "the case")
        return self


class HandlerSpec(Model):
    """The stand-in for the code at the end of the pipeline."""

    sentences: ClassVar[dict[str, str]] = {
        "answer": "A made-up answer.",
        "raise": "An error to raise.",
        "cases": "What to do in which case; the first that fits counts.",
        "echo": "Answer with what arrived here, as JSON.",
        "python": "A function of your own, as module:function; needs --trust python.",
        "records": "The stand-in data store to work on.",
        "do": "What to do with the records.",
        "busy-for": "How long the handler takes.",
        "log": "Lines that the handler writes into the log, before it answers or fails.",
        "fails-every": "Every so manieth run fails.",
        "ranges": "Whether a GET may ask for a part of the answer (206, 416).",
    }

    DOES: ClassVar[tuple[str, ...]] = ("answer", "raise_", "cases", "echo", "python", "records")

    answer: AnswerSpec | None = None
    raise_: RaiseOf | None = None
    cases: list[HandlerCase] | None = None
    echo: Literal[True] | None = None
    python: str | None = None
    records: str | None = None
    do: Literal["list", "read", "create", "replace", "remove"] | None = None
    busy_for: Duration = 0
    log: LogLines = Field(default_factory=no_items)
    fails_every: Annotated[int, Field(ge=1)] | None = None
    ranges: bool = False

    @model_validator(mode="after")
    def _one(self) -> "HandlerSpec":
        names = self.DOES
        if self.cases is not None or self.fails_every is not None:  # answer is then what else happens
            others = ("raise_",) if self.cases is not None else ("answer", "cases", "echo", "python", "records")
            exactly_one(self, ("cases", *others) if self.cases is not None else others, "the handler")
        else:
            exactly_one(self, names, "the handler")
        if (self.records is None) != (self.do is None):
            raise wrong("records and do belong together", "write {records: NAME, do: list}, say")
        if self.ranges and self.answer is None and self.do not in ("list", "read"):
            raise wrong("ranges are of what can be read", "give the handler an answer, or records to list or read")
        return self


def _check_gives(value: list[str]) -> list[str]:
    if not value or len(set(value)) < len(value):
        raise wrong("the desk gives a token, a cookie, or one of each", "write gives: [token, cookie], say")
    return value


Gift = Literal["token", "cookie"]
Gives = Annotated[
    list[Gift],
    BeforeValidator(lambda value: value if isinstance(value, list) else [value]),
    AfterValidator(_check_gives),
    Or({"enum": ["token", "cookie"]}),
]


class DeskSpec(Model):
    """Sign-up, sign-in, refresh and sign-out under a group's prefix."""

    sentences: ClassVar[dict[str, str]] = {
        "at": "The path of sign-in, under the group's prefix.",
        "gives": "What proves from then on who is calling: a token, a session cookie, or both.",
        "keys": "The signing key of tokens, or of the cookie.",
        "lasts": "How long the token or the session counts.",
        "renewable-for": "How long after signing in it can be refreshed.",
        "issuer": "The issuer that tokens name.",
        "audience": "The audience that tokens name.",
        "cookie": "The cookie's name.",
        "same-site": "The cookie's SameSite.",
        "path": "The cookie's Path.",
        "domain": "The cookie's Domain; without, only the host that set it gets it.",
        "max-age": "How long the client keeps the cookie; until it closes, if left out.",
        "signed-up-as": "The roles of accounts that sign up here.",
    }

    at: Annotated[Any, BeforeValidator(parse_prefix), WithJsonSchema({"type": "string"})]
    gives: Gives = Field(default_factory=lambda: list[Gift](["token"]))
    keys: str | None = None
    lasts: Duration = 15 * 60_000_000
    renewable_for: Duration = 7 * 86_400_000_000
    issuer: str | None = None
    audience: str | None = None
    cookie: CookieName = "session"
    same_site: Literal["Lax", "Strict", "None"] = "Lax"
    path: str = "/"
    domain: str | None = None
    max_age: Duration | None = None
    signed_up_as: Names = Field(default_factory=no_items)

    @model_validator(mode="after")
    def _has_keys(self) -> "DeskSpec":
        if "token" in self.gives and self.keys is None:
            raise wrong(
                "the desk gives tokens but names no keys to sign them with",
                "add keys: NAME, from signing-keys",
            )
        return self


class RecordsSpec(Model):
    """A stand-in data store."""

    sentences: ClassVar[dict[str, str]] = {
        "key": "The member by which records are found.",
        "ids": "How new ids are made; {n} counts.",
        "unique": "Members whose values may stand once only, each with the error type raised otherwise.",
        "rows": "The records at the start.",
        "from": "A CSV or JSON file with the records at the start.",
    }

    key: str = "id"
    ids: str = "{n}"
    unique: dict[str, str] = Field(default_factory=dict)
    rows: list[JsonObject] = Field(default_factory=no_items)
    from_: str | None = Field(default=None, alias="from")

    @model_validator(mode="after")
    def _shape(self) -> "RecordsSpec":
        if "{n}" not in self.ids:
            raise wrong(
                f"the id pattern {show(self.ids)} gives every record the same id",
                "put {n} where the number goes",
            )
        return self
