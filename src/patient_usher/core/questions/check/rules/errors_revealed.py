"""``errors-revealed``: private parts of errors reach callers outside development."""

from __future__ import annotations

import re
from collections.abc import Iterator

from patient_usher.core.model.errors import ANY
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import mend, option, put
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows

DEVELOPERS = re.compile(r"(?i)\b(dev|local|test|debug|sandbox|playground)")
"""Names of environments in which developers may see everything."""


def look(context: Context) -> Iterator[Suspicion]:
    """What reveals more than nothing, but in an environment that is for developers, as its name says."""
    chosen = context.compiled.source.environment
    if chosen != tuple(context.spec.environment) and any(DEVELOPERS.search(name) for name in chosen):
        return
    proof = shows(lambda x: _tells(x) is not None, lambda x: _tells(x) is None)
    for id_ in context.kinds("error-handler"):
        options = context.options[id_]
        entries = getattr(options, "answers", ())
        if getattr(options, "reveal", "nothing") != "nothing":
            happens = f"{id_} tells callers what only the log should know: messages, places, stacks"
            mends = (mend(f"let {id_} reveal nothing", option(id_, "reveal", "nothing")),)
            yield Suspicion(id_, None, context.at(id_, "reveal"), happens, mends, proof)
        for at, entry in enumerate(entries):
            if ANY not in entry.raised:  # of a type of one's own it may be meant
                continue
            place, changes = context.at(id_, "answers", at), dict[str, str]()
            if entry.reveal not in (None, "nothing"):
                changes["reveal"] = "nothing"
            if "${error.detail}" in (entry.message or ""):
                changes["message"] = "Something went wrong"
            for key, value in changes.items():
                happens = f"{id_} writes private parts of every error into its answers"
                mends = (mend(f"write {key}: {value}", put([*place, key], value)),)
                yield Suspicion(id_, None, (*place, key), happens, mends, proof)
    if context.spec.uncaught.reveal != "nothing":
        happens = "the server tells callers what only the log should know of errors that nobody catches"
        mends = (mend("let the server reveal nothing", put(["uncaught", "reveal"], "nothing")),)
        yield Suspicion(None, None, ("uncaught", "reveal"), happens, mends, proof)


def _tells(x: Exchange) -> str | None:
    """A private part of an error that the answer tells."""
    if x.answer is None:
        return None
    text = x.answer.content.decode(errors="replace")
    parts = (part for error in x.errors for part in (error.message, error.where) if part != error.public)
    return next((part for part in parts if len(part) > 7 and part in text), None)


RULE = Rule(
    code="errors-revealed",
    level="error",
    says="private parts of errors reach callers outside development",
    matters="Messages, file names and stacks tell strangers how the service is built, and sometimes its passwords.",
    mend="Write reveal: nothing, and put reveal: everything into an environment for development.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: safety-net, kind: error-handler, reveal: everything}
routes:
  - {id: berths, at: GET /berths, access: everyone, handler: {answer: {text: seven}}}
""",
    look=look,
    own_cause=True,
)
