"""``value-matches-nothing``: a condition asks for a value that no request can have."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.document import Json, Path, did_you_mean
from patient_usher.core.model.matcher import When
from patient_usher.core.model.reads import within
from patient_usher.core.questions.check.mends import Mend, drop, mend
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion
from patient_usher.core.questions.check.spelling import meant, renamed


def look(context: Context) -> Iterator[Suspicion]:
    """By the values alone: of keys whose values are closed, and of keys that are asked for twice."""
    for path, when, stage, route in _conditions(context):
        for key, name, what, hint in (*_strange(context, when), *_contrary(when)):
            words = f"{name!r} is {what}, so this condition never holds" if name else what
            left = f"what it should fit{f'; {hint}' if hint else ''}"
            yield Suspicion(stage, route, (*path, key), words, tuple(_mends((*path, key), name, hint, left)))


def _conditions(context: Context) -> Iterator[tuple[Path, When, str | None, str | None]]:
    """Every condition of stages and handlers, with its place; what is denied may ask for whatever it likes."""
    for id_, options in context.options.items():
        for path, when in within(options, context.at(id_), When) if options.enabled else ():
            if "not" not in path:
                yield path, when, id_, None
    for item in context.compiled.placed:
        for path, when in within(item.spec.handler, context.at_route(item.route.id, "handler"), When):
            if "not" not in path:
                yield path, when, None, item.route.id


def _strange(context: Context, when: When) -> Iterator[tuple[str, str, str, str]]:
    """Values that a key never has: the key, the value, what it is not, and what may be meant."""
    spec = context.spec
    overlays = dict.fromkeys([*(context.doc.get("environments") or {}), "production"])
    closed = {
        "scheme": ("neither http nor https", ["http", "https"]),
        "route": ("no route of this pipeline", [item.route.id for item in context.compiled.placed]),
        "environment": ("no environment of this pipeline", overlays),
    }
    for key, (what, known) in closed.items():
        for name in _texts(getattr(when, key)):
            if name not in known and name not in ("missing", "present"):
                yield key, name, what, did_you_mean(name, list(known))
    for name in _texts(when.host):
        if "*" in name or name.rpartition(":")[2].isdigit():
            yield "host", name, "no host: it stands there without its port, and a star is a star", ""
    for name in _texts(when.identity):
        hint = did_you_mean(name, list(spec.accounts)) if name not in (*spec.accounts, "missing", "present") else ""
        if hint:
            yield "identity", name, "no account's name", hint


def _contrary(when: When) -> Iterator[tuple[str, str, str, str]]:
    """Keys of which two parts of one condition ask for different values."""
    parts = [when, *(when.all_ or ())] if when.all_ else []
    for key in ("method", "scheme", "host", "identity", "route"):
        asked = [held for part in parts if (held := set(_texts(getattr(part, key))))]
        vague = any(held & {"present", "missing"} for held in asked)
        if len(asked) > 1 and not vague and not set.intersection(*asked):
            yield "all", "", f"no request has two values of {key}, so this condition never holds", ""


def _texts(wanted: Json) -> list[str]:
    """The exact texts that a key asks for; none where it asks for anything else."""
    held = wanted if isinstance(wanted, list) else [wanted]
    return [one for one in held if isinstance(one, str)] if all(isinstance(one, str) for one in held) else []


def _mends(path: Path, name: str, hint: str, left: str) -> Iterator[Mend]:
    if (other := meant(hint)) is not None:
        yield mend(f"write {other}", renamed(path, name, other))
    yield mend(f"take {path[-1]} out of the condition", drop(path), left=left)


RULE = Rule(
    code="value-matches-nothing",
    level="warning",
    says="a condition asks for a value that no request can have",
    matters="What it guards or serves is never guarded or served: a slip of the pen, most often.",
    mend="Write a value that can come.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: gate, kind: decide, cases: [{when: {route: berth, header: {X-Pass: missing}}, then: {raise: Forbidden}}]}
routes:
  - {id: berths, at: GET /berths, access: everyone, handler: {answer: {text: seven}}}
""",
    look=look,
    notices="Nobody notices: the case is passed over.",
)
