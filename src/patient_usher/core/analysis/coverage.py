"""Coverage: which of the things that each stage and route can do a trace has made it do."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.engine.replay import Send
from patient_usher.core.model.enumerations import OWN_LOGIC
from patient_usher.core.model.exchange import Exchange

Outcome = tuple[str, str, str]
"""``stages`` or ``routes``, the id, and what it did."""


class Coverage:
    """What can happen, and how often each has."""

    def __init__(self, blueprint: Blueprint) -> None:
        self.blueprint = blueprint
        self.hits: Counter[Outcome] = Counter()
        self.possible: list[Outcome] = []
        for id_, options in blueprint.options.items():
            if options.enabled and any(id_ in on_way for on_way in blueprint.on_way.values()):
                routes = [item.spec for item in blueprint.placed if id_ in blueprint.on_way[item.route.id]]
                self.possible += [("stages", id_, name) for name in options.outcomes(routes)]
        for item in blueprint.placed:
            access = item.route.access
            refuses = (access is None or access.who != "everyone") and _is_guarded(blueprint, item.route.id)
            self.possible.append(("routes", item.route.id, "handler ran"))
            self.possible += [("routes", item.route.id, "refused")] if refuses else []
        self._known = frozenset(self.possible)
        self._used_up: set[tuple[str, str]] = set()  # limits, and whom they have refused

    def add(self, send: Send) -> None:
        """Count what a send made happen. Its exchanges must have kept their journeys."""
        for x in send.exchanges:
            self.hits.update(outcome for outcome in seen(self.blueprint, x) if outcome in self._known)
            for use in x.rates:
                whose, again = (use.stage, str(use.for_)), ("stages", use.stage, "refilled")
                if x.refused_by == use.stage:
                    self._used_up.add(whose)
                elif whose in self._used_up and again in self._known:
                    self._used_up.discard(whose)
                    self.hits[again] += 1

    def forget(self) -> None:
        """What comes next comes to another world, where no limit has refused anybody."""
        self._used_up.clear()

    @property
    def missing(self) -> list[Outcome]:
        """What has not happened, in the order of the file."""
        return [outcome for outcome in self.possible if not self.hits[outcome]]

    @property
    def percent(self) -> int:
        """How much of what can happen has, in whole percent, rounded down."""
        return 100 * (len(self.possible) - len(self.missing)) // max(len(self.possible), 1)


def _is_guarded(blueprint: Blueprint, route: str) -> bool:
    """Whether anything on the route's way may refuse a caller for who it is."""
    there = [blueprint.options[id_] for id_ in blueprint.on_way[route] if id_ in blueprint.options]
    return any(one.guards() or list(one.credentials()) or one.kind in OWN_LOGIC for one in there if one.enabled)


def seen(blueprint: Blueprint, x: Exchange) -> Iterator[Outcome]:
    """What stages and the route did in one exchange."""
    if x.route is not None:
        if x.handler_reached:
            yield "routes", x.route.id, "handler ran"
        elif x.refused_by is not None:
            yield "routes", x.route.id, "refused"
    for stage, way, did, _, note in x.journey or ():
        if did != "skipped" and stage in blueprint.options:
            name = blueprint.options[stage].outcome(x, way, did, note or {})
            if name is not None:
                yield "stages", stage, name
