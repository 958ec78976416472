"""What a replay's state hangs on: by which part of a request each stage, handler and spread keeps what it remembers.

Where all of it hangs on one part, requests that differ in that never meet: replayed apart they give the same.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator
from typing import NamedTuple

from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.model.always import AlwaysSpec

NOTHING = "nothing"
EVERYTHING = "everything"
_MADE = frozenset({"host", "content-length", "content-type", "authorization", "cookie"})
"""Header fields that a trace's line doesn't say as such: they are made of what else it says, or of what came before."""
_FORWARDED = frozenset({"forwarded", "x-forwarded-for", "x-forwarded-proto", "x-forwarded-host"})


def tells_apart(part: str) -> bool:
    """Whether requests can be told apart by this part before they run."""
    root, _, name = part.partition(".")
    return part in ("address", "route") or root == "query" or (root == "header" and name not in _MADE | _FORWARDED)


class Tie(NamedTuple):
    """Who keeps state, and the parts on any one of which it hangs; ``everything``, where all requests meet."""

    who: str
    by: tuple[str, ...]

    @property
    def told(self) -> str:
        """In words."""
        return " and ".join(self.by)


def ties(blueprint: Blueprint) -> list[Tie]:
    """Whoever remembers anything from one request to the next."""
    return list(_ties(blueprint))


def _ties(blueprint: Blueprint) -> Iterator[Tie]:
    deployment = blueprint.spec.deployment
    if deployment.instances > 1:
        yield Tie(
            f"the spread ({deployment.spread})", ("address",) if deployment.spread == "by-address" else (EVERYTHING,)
        )
    for key, keeper in blueprint.stateful.items():
        if isinstance(key, str) and key in blueprint.options and not blueprint.options[key].enabled:
            continue
        by: Collection[str] = getattr(keeper, "hangs_on", (EVERYTHING,))
        if by:
            yield Tie(
                key if isinstance(key, str) else " ".join(map(str, key)) if isinstance(key, tuple) else str(key),
                tuple(part.lower() if part.startswith("header.") else part for part in by),
            )
    for entry in blueprint.spec.always:
        if not isinstance(entry, AlwaysSpec):
            yield Tie(f"the invariant {entry}", (EVERYTHING,))


def parted_by(blueprint: Blueprint) -> tuple[str | None, tuple[Tie, ...]]:
    """By which part requests may be replayed apart (``nothing``: as one likes), or None and who ties them."""
    found = ties(blueprint)
    if not found:
        return NOTHING, ()
    parts = Counter(part for tie in found for part in dict.fromkeys(tie.by) if tells_apart(part))
    against: tuple[Tie, ...] = ()
    for part, count in sorted(parts.items(), key=lambda one: (-one[1], one[0] != "address")):
        tied = _changed(blueprint, part) if count == len(found) else tuple(tie for tie in found if part not in tie.by)
        if not tied:
            return part, ()
        against = against or tied
    return None, against or tuple(found)


def _changed(blueprint: Blueprint, part: str) -> tuple[Tie, ...]:
    """Who shows those behind another such part than the request has."""
    deployment = blueprint.spec.deployment
    front = deployment.in_front
    if part == "address" and (deployment.trusts_forwarded or front.ends_tls or front.sends != "nothing"):
        return (Tie("the front", ("the address that it tells",)),)
    root, _, name = part.partition(".")
    return tuple(
        Tie(id_, (f"the {part} that it passes on",))
        for id_, options in blueprint.options.items()
        if options.enabled and root == "header" and name in options.changes_on_request()
    )
