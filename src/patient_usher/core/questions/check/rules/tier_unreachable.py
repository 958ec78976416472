"""``tier-unreachable``: an earlier tier always fits."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.model.document import Path
from patient_usher.core.model.matcher import When
from patient_usher.core.questions.check.mends import Document, Edit, mend, value_at
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion


def look(context: Context) -> Iterator[Suspicion]:
    """By the conditions: what fits a later tier fits an earlier one too."""
    for id_ in context.kinds("rate-limit"):
        tiers = getattr(context.options[id_], "tiers", [])
        for late, tier in enumerate(tiers):
            early = next((at for at in range(late) if _covers(tiers[at].when, tier.when)), None)
            if early is not None:
                happens = f"whoever fits tier {late + 1} of {id_} fits tier {early + 1} too, which comes first"
                words = f"move tier {late + 1} in front of tier {early + 1}"
                mends = (mend(words, _moved(context.at(id_, "tiers"), late, early)),)
                yield Suspicion(id_, None, context.at(id_, "tiers", late), happens, mends)


def _covers(early: When | None, late: When | None) -> bool:
    """Whether everything that fits the later fits the earlier: it asks for no more, key by key."""
    if early is None or not early.model_fields_set:
        return True
    if late is None or early.model_fields_set & {"any_", "not_", "all_"}:
        return False
    return all(
        (name in late.model_fields_set and _wider(getattr(early, name), getattr(late, name)))
        or (name == "identity" and _is_known(early.identity) and _is_known(late.identity, late.role, late.scope))
        for name in early.model_fields_set
    )


def _is_known(*wanted: object) -> bool:
    """Whether any of these asks for a caller whose name is known: a role and a scope are an account's."""
    return any(one == "present" or _names(one) for one in wanted)


def _names(wanted: object) -> bool:
    held = wanted if isinstance(wanted, list) else [wanted]
    return all(isinstance(one, str) and one != "missing" for one in held)


def _wider(early: object, late: object) -> bool:
    if isinstance(early, dict) and isinstance(late, dict) and not {*early} & {"pattern", "contains", "not"}:
        return all(key in late and _wider(value, late[key]) for key, value in early.items())
    ours = early if isinstance(early, list) else [early]
    theirs = late if isinstance(late, list) else [late]
    return all(one in ours for one in theirs)


def _moved(path: Path, late: int, early: int) -> Edit:
    def edit(doc: Document) -> None:
        node = value_at(doc, path)
        tiers = list(node)
        tiers.insert(early, tiers.pop(late))
        node[:] = tiers

    return edit


RULE = Rule(
    code="tier-unreachable",
    level="warning",
    says="an earlier tier always fits",
    matters="The first tier that fits counts, so this one's quota is nobody's.",
    mend="Put the narrower tier first.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
  - id: fair
    kind: rate-limit
    quota: 5
    window: 10s
    per: [identity]
    tiers:
      - {when: {role: [skipper, harbour-master]}, quota: 8}
      - {when: {role: harbour-master}, quota: 50}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key], roles: [skipper, harbour-master]}}
""",
    look=look,
    notices="Callers for whom the tier is meant get the quota of an earlier one.",
)
