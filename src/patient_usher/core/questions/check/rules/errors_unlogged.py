"""``errors-unlogged``: it answers 5xx and logs nothing."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import mend, option, put
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows, status


def look(context: Context) -> Iterator[Suspicion]:
    """Error handlers, and the server itself, that are told to log nothing."""
    for id_ in context.kinds("error-handler"):
        if getattr(context.options[id_], "log", "") == "nothing":
            yield Suspicion(
                id_,
                None,
                context.at(id_, "log"),
                f"{id_} answers errors with 5xx, and the log has nothing of them",
                (mend(f"let {id_} log everything", option(id_, "log", "full")),),
                shows(lambda x, by=id_: _answered(x, by) and not _logged(x, by), lambda x, by=id_: _logged(x, by)),  # type: ignore[misc]
            )
    if context.spec.uncaught.log == "nothing":
        yield Suspicion(
            None,
            None,
            ("uncaught", "log"),
            "errors that nobody catches leave as a 500, and the log has nothing of them",
            (mend("let the server log everything", put(["uncaught", "log"], "full")),),
            shows(lambda x: x.outcome == "crashed" and not _logged(x, "server"), lambda x: _logged(x, "server")),
        )


def _answered(x: Exchange, by: str) -> bool:
    return status(x) >= 500 and any(error.caught_by == by for error in x.errors)


def _logged(x: Exchange, by: str) -> bool:
    return any(line[1] == by for line in x.log or ())


RULE = Rule(
    code="errors-unlogged",
    level="warning",
    says="it answers 5xx and logs nothing",
    matters="The caller sees that something failed, and nobody can find out what.",
    mend="Write log: full, or log: message; what callers are told is up to reveal.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: safety-net, kind: error-handler, log: nothing}
routes:
  - {id: berths, at: GET /berths, access: everyone, handler: {answer: {text: seven}}}
""",
    look=look,
)
