"""A compiled pipeline: what loading makes of a pipeline's files. Compiled, frozen, without any state.

It may be shared by every replay, variant, thread and process; a process gets it by pickling, which
carries the document and makes the rest again. What a pipeline has become is a ``RunState``'s.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, NamedTuple

from patient_usher.core.engine.plan.plan import Plan
from patient_usher.core.engine.plan.route_table import PlacedRoute, running_order
from patient_usher.core.engine.plan.router import Router
from patient_usher.core.model.answer_factory import ReadFile
from patient_usher.core.model.document import Path
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import PipelineSpec, StageOptions
from patient_usher.core.model.reads import within
from patient_usher.core.model.stage import Setup, Stage, Stateful
from patient_usher.core.model.text_types import Model


class Source(NamedTuple):
    """What a compiled pipeline is made of: all that it takes to make it again.

    ``doc`` is the document with environments and other overlays laid on. ``read_file`` reads a file
    that the document names; ``load_python`` finds the user's own code, None where it isn't allowed. ``checked_schemas``
    holds the schemas that have been looked through, by route: a variant looks only at those that it changes. ``plain``
    is the document before environments; None where it isn't kept, as in a variant.
    """

    doc: Any
    environment: tuple[str, ...]
    read_file: ReadFile
    load_python: Callable[[str], object] | None
    checked_schemas: dict[str, str]
    plain: Any = None


class BearerDefaults(NamedTuple):
    """What a token must say to count: for minting some that do."""

    keys: tuple[str, ...] = ()
    issuer: str | None = None
    audience: str | None = None
    typ: str | None = None


class CredentialDefaults(NamedTuple):
    """How the pipeline's callers show who they are, as its stages ask for it."""

    bearer: BearerDefaults
    key_place: tuple[str, str] | None


@dataclass(frozen=True, eq=False, repr=False)
class CompiledPipeline:
    """A pipeline ready to run.

    ``options``: each stage's, by id, in the order of the file. ``plans``: by route id, and under None
    the plan of what no route fits. ``keepers``: whatever has state; ``shared``: those of them whose
    state all instances share. ``stages_at`` and ``routes_at``: where in the document each stands, by id.
    ``changes``: what ``compiler.changed`` has made of it, for when the same change comes again.
    """

    source: Source
    spec: PipelineSpec
    options: Mapping[str, StageOptions]
    setup: Setup
    placed: Sequence[PlacedRoute]
    stages: Mapping[str, Stage]
    router: Router
    plans: Mapping[str | None, Plan]
    stateful: Mapping[Hashable, Stateful]
    shared: frozenset[Hashable]
    stages_at: Mapping[str, Path]
    routes_at: Mapping[str, Path]
    changes: dict[str, CompiledPipeline] = field(default_factory=dict)

    def __repr__(self) -> str:
        return f"<pipeline {self.name!r}: {len(self.options)} stages, {len(self.placed)} routes>"

    @property
    def name(self) -> str:
        """The pipeline's name."""
        return self.spec.name

    @property
    def environment(self) -> tuple[str, ...]:
        """The environments laid on; production where there is none."""
        return self.setup.environment

    @property
    def sequential(self) -> bool:
        """Whether stages run one after the other, and don't wrap what is behind them."""
        return self.spec.flow == "sequential"

    # Where stages stand.

    def order(self, item: PlacedRoute | None) -> list[str]:
        """The ids of everything on a route's way, in running order, switched-off stages included."""
        return running_order(self.spec, item)

    @cached_property
    def on_way(self) -> Mapping[str | None, frozenset[str]]:
        """The ids of everything on a route's way, by route id; under None what no route fits."""
        found: dict[str | None, frozenset[str]] = {item.route.id: frozenset(self.order(item)) for item in self.placed}
        found[None] = frozenset(self.order(None))
        return found

    @cached_property
    def unwatched(self) -> Mapping[str | None, Plan]:
        """The plans, for exchanges whose journey nobody keeps."""
        return {key: plan.unwatched(routed=key is not None) for key, plan in self.plans.items()}

    def columns(self, *, switched_off: bool = False) -> list[str]:
        """Every stage, the router and the handler, in an order that fits all routes.

        ``switched_off``: those too that are switched off.
        """
        ids: dict[str, None] = {}
        tail: dict[str, None] = {}
        for item in [*self.placed, None]:
            order = self.order(item)
            cut = order.index("handler") if "handler" in order else len(order)
            for part, target in ((order[:cut], ids), (order[cut:], tail)):
                for id_ in part:
                    if id_ in ("router", "handler") or switched_off or self.options[id_].enabled:
                        target[id_] = None
        return [*(id_ for id_ in ids if id_ not in tail), *tail]

    # What the file says.

    @cached_property
    def said(self) -> Sequence[tuple[Path, Model]]:
        """Every part of the stages' options and of the file's own routes, with its place."""
        whole: list[tuple[Path, Model]] = [(self.stages_at[id_], option) for id_, option in self.options.items()]
        whole += [(self.routes_at[item.route.id], item.spec) for item in self.placed if item.desk is None]
        return [(path, node) for where, part in whole for path, node in within(part, where, Model)]

    # Callers, and what stages leave.

    @cached_property
    def credential_defaults(self) -> CredentialDefaults:
        """How callers show who they are: as the first stage that asks for it says."""
        signing = [id_ for id_, key in self.setup.keys.items() if key.sign is not None]
        bearer, key_place = BearerDefaults(tuple(signing)), None
        for options in reversed(list(self.options.values())):
            for asked in options.credentials():
                if asked.scheme == "bearer":
                    keys = tuple(name for name in asked.keys if name in signing)
                    bearer = BearerDefaults(keys or bearer.keys, asked.issuer, asked.audience, asked.typ)
                elif asked.scheme == "api-key":
                    key_place = asked.place
        return CredentialDefaults(bearer, key_place)

    @cached_property
    def _setters(self) -> dict[str, str]:
        return {name: id_ for id_, options in self.options.items() if options.enabled for name in options.sets()}

    def missing(self, name: str, x: Exchange) -> str:
        """Words for a value that was never set: who should have set it."""
        text = f"{name} was never set"
        root, _, value = name.partition(".")
        if root != "context":
            return text
        setter = self._setters.get(value)
        if setter is None:
            return f"{text}, and no stage of the pipeline sets it"
        if any(step.id == setter for step in x.plan.steps):
            return f"{text}; {setter} sets it, but had not run, or its case did not fit"
        return f"{text}; {setter} sets it, but doesn't stand on the way of this route"
