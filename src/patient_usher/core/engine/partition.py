"""What a replay's state hangs on: by which part of a request each stage, handler and spread keeps what it remembers.

Where all of it hangs on one part, requests that differ in that never meet: replayed apart they give the same.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import NamedTuple

from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.model.always import AlwaysSpec

NOTHING = "nothing"
EVERYTHING = "everything"
SPLITTABLE = ("address",)
"""Parts by which requests can be told apart before they run."""


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
                tuple(by),
            )
    for entry in blueprint.spec.always:
        if not isinstance(entry, AlwaysSpec):
            yield Tie(f"the invariant {entry}", (EVERYTHING,))


def parted_by(blueprint: Blueprint) -> tuple[str | None, tuple[Tie, ...]]:
    """By which part requests may be replayed apart (``nothing``: as one likes), or None and who ties them."""
    found = ties(blueprint)
    front = blueprint.spec.deployment.in_front
    believed = bool(blueprint.spec.deployment.trusts_forwarded or front.ends_tls or front.sends != "nothing")
    for part in (NOTHING, *SPLITTABLE):
        against = tuple(tie for tie in found if part not in tie.by)
        if not against and not (part == "address" and believed):
            return part, ()
    if believed and all("address" in tie.by for tie in found):
        return None, (Tie("the front", ("the address that it tells",)),)
    return None, tuple(tie for tie in found if not {*SPLITTABLE} & {*tie.by})
