"""``error-type-unknown``: an answer or raise names a type that nothing declares or raises."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.engine.compile.warnings import of_errors
from patient_usher.core.model.document import Path
from patient_usher.core.questions.check.mends import Document, Mend, mend, value_at
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion
from patient_usher.core.questions.check.spelling import meant, owner, renamed


def look(context: Context) -> Iterator[Suspicion]:
    """By the names, which are all in the file."""
    for path, what, hint in of_errors(context.compiled):
        stage, route = owner(context, path)
        yield Suspicion(stage, route, path, what, (_mend(path, what, hint),))


def _mend(path: Path, what: str, hint: str) -> Mend:
    name = what.rpartition("'")[0].rpartition("'")[2]
    if (other := meant(hint)) is not None:
        return mend(f"write {other}", renamed(path, name, other))

    def edit(doc: Document) -> None:
        """The entry says nothing, so it goes."""
        node = value_at(doc, path[:-2])
        names = node[path[-2]]["raised"]
        if isinstance(names, list) and len(names) > 1:
            names.remove(name)
        else:
            del node[path[-2]]

    return mend(f"take {name} out", edit)


RULE = Rule(
    code="error-type-unknown",
    level="warning",
    says="an answer or raise names a type that nothing declares or raises",
    matters="A slip of the pen: the error that is meant gets the answer of an unknown one, a plain 500.",
    mend="Write the name as it is raised, or declare it under errors.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: safety-net, kind: error-handler, answers: [{raised: BerthTakn, status: 409}]}
routes:
  - {id: book, at: POST /berths, access: everyone, handler: {raise: BerthTaken}}
errors: {BerthTaken: {is-a: Conflict}}
""",
    look=look,
    notices="Callers get the status and the words of another entry, or a plain 500.",
)
