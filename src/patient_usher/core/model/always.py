"""What must hold for every exchange of every replay."""

from typing import Annotated, ClassVar

from pydantic import BeforeValidator, WithJsonSchema

from patient_usher.core.model.document import Json, did_you_mean
from patient_usher.core.model.expect import Expect
from patient_usher.core.model.matcher import When
from patient_usher.core.model.templates import Id
from patient_usher.core.model.text_types import Model, Or, show, wrong

EVERYDAY: dict[str, str] = {
    "errors-stay-private": "no answer in production tells a private part of an error",
    "errors-have-one-shape": "every error answer has the form that an error handler writes",
    "copies-stay-private": "no caller is given a copy that was made for another",
    "one-content-type": "every answer with content has one Content-Type",
    "preflights-are-free": "no preflight counts against a quota",
    "strangers-stay-outside": "nobody unknown reaches a handler that isn't open to everyone",
    "no-slips": "nothing stalls, crashes or is answered twice",
}
"""Ready-made statements by name; ``everyday`` stands for all of them."""


class AlwaysSpec(Model):
    """A statement of one's own: what must come of every exchange that fits."""

    sentences: ClassVar[dict[str, str]] = {
        "id": "What reports call the invariant.",
        "when": "Which exchanges it is about; all of them, if left out.",
        "expect": "What must come of them.",
    }

    id: Id
    when: When | None = None
    expect: Expect


def _spell_out(value: Json) -> object:
    entries: list[Json] = []
    for entry in [value] if isinstance(value, str) else value if isinstance(value, list) else [value]:
        if entry == "everyday":
            entries += EVERYDAY
        elif isinstance(entry, str) and entry not in EVERYDAY:
            raise wrong(f"nothing ready-made is called {show(entry)}", did_you_mean(entry, ["everyday", *EVERYDAY]))
        else:
            entries.append(entry)
    return entries


Name = Annotated[str, WithJsonSchema({"enum": ["everyday", *EVERYDAY]})]
Always = Annotated[list[Name | AlwaysSpec], BeforeValidator(_spell_out), Or({"const": "everyday"})]
