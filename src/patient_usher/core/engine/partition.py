"""What a replay's state hangs on: by which part of a request each stage, handler and spread keeps what it remembers.

Where all of it hangs on one part, requests that differ in that never meet: replayed apart they give the same.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterator
from typing import NamedTuple

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.plan.front_proxy import FORWARDING
from patient_usher.core.engine.plan.plan import Plan
from patient_usher.core.engine.plan.step import PlanStep
from patient_usher.core.http.messages import Request
from patient_usher.core.model.always import AlwaysSpec
from patient_usher.core.model.exchange import arriving

NOTHING = "nothing"
EVERYTHING = "everything"
_MADE = frozenset({"host", "content-length", "content-type", "authorization", "cookie"})
"""Header fields that a trace's line doesn't say as such: they are made of what else it says, or of what came before."""


def tells_apart(part: str) -> bool:
    """Whether requests can be told apart by this part before they run."""
    root, _, name = part.partition(".")
    named = root == "query" or (root == "header" and name not in _MADE | FORWARDING.keys())
    return named or part in ("address", "route", "identity")


class Tie(NamedTuple):
    """Who keeps state, and the parts on any one of which it hangs; ``everything``, where all requests meet."""

    who: str
    by: tuple[str, ...]

    @property
    def told(self) -> str:
        """In words."""
        return " and ".join(self.by)


def ties(compiled: CompiledPipeline) -> list[Tie]:
    """Whoever remembers anything from one request to the next."""
    return list(_ties(compiled))


def _ties(compiled: CompiledPipeline) -> Iterator[Tie]:
    deployment = compiled.spec.deployment
    if deployment.instances > 1:
        yield Tie(
            f"the spread ({deployment.spread})", ("address",) if deployment.spread == "by-address" else (EVERYTHING,)
        )
    for key, keeper in compiled.stateful.items():
        if isinstance(key, str) and key in compiled.options and not compiled.options[key].enabled:
            continue
        by: Collection[str] = getattr(keeper, "partition_keys", (EVERYTHING,))
        if by:
            yield Tie(
                key if isinstance(key, str) else " ".join(map(str, key)) if isinstance(key, tuple) else str(key),
                tuple(part.lower() if part.startswith("header.") else part for part in by),
            )
    for entry in compiled.spec.always:
        if not isinstance(entry, AlwaysSpec):
            yield Tie(f"the invariant {entry}", (EVERYTHING,))


def parted_by(compiled: CompiledPipeline) -> tuple[str | None, tuple[Tie, ...]]:
    """By which part requests may be replayed apart (``nothing``: as one likes), or None and who ties them."""
    found = ties(compiled)
    if not found:
        return NOTHING, ()
    parts = Counter(part for tie in found for part in dict.fromkeys(tie.by) if tells_apart(part))
    against: tuple[Tie, ...] = ()
    for part, count in sorted(parts.items(), key=lambda one: (-one[1], one[0] != "address")):
        tied = _changed(compiled, part) if count == len(found) else tuple(tie for tie in found if part not in tie.by)
        if not tied:
            return part, ()
        against = against or tied
    return None, against or tuple(found)


def _changed(compiled: CompiledPipeline, part: str) -> tuple[Tie, ...]:
    """Who shows those behind another such part than the request has."""
    deployment = compiled.spec.deployment
    front = deployment.in_front
    if part == "address" and (deployment.trusts_forwarded or front.ends_tls or front.sends != "nothing"):
        return (Tie("the front", ("the address that it tells",)),)
    root, _, name = part.partition(".")
    if root not in ("header", "identity"):
        return ()
    changing = [
        Tie(id_, (f"the {'credentials' if root == 'identity' else part} that it passes on",))
        for id_, options in compiled.options.items()
        if options.enabled and (options.changes_on_request() if not name else name in options.changes_on_request())
    ]
    return tuple(changing or (_too_early(compiled) if root == "identity" else ()))


def _identifying(compiled: CompiledPipeline, plan: Plan) -> list[PlanStep]:
    """The steps of a plan that find out who is calling, in their order."""
    options = compiled.options
    return [step for step in plan.steps if step.id in options and "identity" in options[step.id].leaves()]


def _too_early(compiled: CompiledPipeline) -> list[Tie]:
    """Who goes by the identity in front of a stage that finds it out: for them all requests are nobody's."""
    found: dict[str, Tie] = {}
    for plan in compiled.plans.values():
        ids = [step.id for step in plan.steps]
        behind = max((ids.index(step.id) for step in _identifying(compiled, plan)), default=len(ids))
        for tie in ties(compiled):
            if tie.who in ids[: behind + 1]:
                found[tie.who] = Tie(tie.who, ("the identity before it is known",))
    return list(found.values())


def identity_reader(compiled: CompiledPipeline) -> Callable[[Request], str]:
    """Who sends a request, as its stages find out of what it brings: for credentials that time doesn't change."""
    found = {key: _identifying(compiled, plan) for key, plan in compiled.plans.items()}

    def read(request: Request) -> str:
        x = arriving(0, "", request, 0)
        x.route, x.path_values, _ = compiled.router.find(request.method, request.url)
        x.environment, x.memory = compiled.setup.environment, {}
        for step in found[x.route.id if x.route is not None else None]:
            if step.way_in is None or (step.passes_over is not None and step.passes_over(x) is not None):
                continue
            step.way_in(x)
            if x.identity is not None:
                return x.identity.name
        return ""

    return read
