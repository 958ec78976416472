"""A run state: what a pipeline has become. Made fresh for every replay.

It owns all that one exchange leaves for the next: the state of stages, desks, records and handlers by
instance, the spread over instances, the callers' own memory, the time, and randomness. A change puts
another compiled pipeline into it and carries the states over; nothing else survives.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Iterator, Mapping
from typing import TYPE_CHECKING

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.compile.compiler import changed
from patient_usher.core.engine.plan.front_proxy import FrontProxy
from patient_usher.core.http.messages import Request
from patient_usher.core.http.urls import target_uri
from patient_usher.core.model.document import JsonMapping, JsonObject
from patient_usher.core.model.exchange import Exchange, Memory
from patient_usher.core.model.stage import Stateful

if TYPE_CHECKING:
    from random import Random


class RunState:
    """The state of a pipeline in the middle of a replay.

    ``memories`` holds each instance's states, by key. ``now`` is when the last replay in it ended, None
    before the first. ``callers`` are the trace's, with their cookies and caches; ``kept`` the values kept
    from answers. Everything random comes from ``seed``. ``lasts``: handlers are busy as long as the trace says.
    ``looks``: exchanges keep what matchers read.
    """

    def __init__(self, compiled: CompiledPipeline, seed: int = 0, *, lasts: bool = False) -> None:
        self.lasts = lasts
        self.seed = seed
        self.looks = False
        self.now: int | None = None
        self.exchanges = 0
        self.callers: JsonObject = {}
        self.kept: JsonObject = {}
        self._random: Random | None = None
        self._arrivals = 0
        self.memories: list[Memory] = []
        self.compiled = compiled
        self._take(compiled)

    def change(self, overlay: JsonMapping) -> None:
        """Later exchanges walk another compiled pipeline's plans; state stays. Raises Unusable."""
        self._take(changed(self.compiled, overlay))

    def go_on_as(self, compiled: CompiledPipeline) -> None:
        """Later exchanges walk another pipeline's plans; state stays, as by a change."""
        self._take(compiled)

    def _take(self, compiled: CompiledPipeline) -> None:
        """Go on with this compiled pipeline. Exchanges under way keep the memory that they came to."""
        before = self.memories
        old: Mapping[object, Stateful] = self.compiled.stateful if before else {}
        self.memories = []
        for instance in range(compiled.spec.deployment.instances):
            memory: Memory = {}
            for key, keeper in compiled.stateful.items():
                if instance and key in compiled.shared:
                    memory[key] = self.memories[0][key]
                elif instance < len(before) and type(old.get(key)) is type(keeper):
                    memory[key] = keeper.migrate(old[key], before[instance][key])
                else:
                    memory[key] = keeper.fresh(self.seed)
            self.memories.append(memory)
        self.compiled = compiled
        self._front = FrontProxy(compiled.spec.deployment)
        self._plain = self._front.plain
        self._find = compiled.router.find
        self._environment = compiled.setup.environment
        self._only = self.memories[0] if len(self.memories) == 1 else None

    def cache_states(self) -> Iterator[tuple[Hashable, object]]:
        """The states of what saves anything, each with its key."""
        for key, keeper in self.compiled.stateful.items():
            if hasattr(keeper, "savings"):
                for memory in self.memories[:1] if key in self.compiled.shared else self.memories:
                    yield key, memory[key]

    # Arrivals.

    def admit(self, id_: str, request: Request, at: int, *, watched: bool = True) -> Exchange:
        """A new exchange at its place in front of the first stage. Of one that isn't ``watched`` no journey is kept."""
        self.exchanges = number = self.exchanges + 1
        came, url = request, request.url
        address = request.peer
        if not self._plain:
            came, address = self._front.receive(request)
            url = came.url
        elif (named := request.fields.get("host")) != url.authority and named is not None:
            url = target_uri(url, named)
            came = Request(request.method, url, request.fields, request.body, address)
        scheme, host = url.scheme, url.host
        route, values, allowed = self._find(came.method, url)
        plans = self.compiled.plans if watched else self.compiled.unwatched
        plan = plans[route.id if route is not None else None]
        memory, instance = self._only, 0
        if memory is None:
            instance = self._instance(address)
            memory = self.memories[instance]
        return Exchange(
            number, id_, came, at, request, at, at, scheme, host, address, route, values, allowed, plan,
            self._environment, memory, instance, [] if watched else None, [] if watched else None,
            decided=[] if self.looks else None,
        )  # fmt: skip

    def _instance(self, address: str) -> int:
        count, spread = len(self.memories), self.compiled.spec.deployment.spread
        if spread == "by-address":
            import hashlib

            return int.from_bytes(hashlib.sha256(address.encode()).digest()[:4], "big") % count
        if spread == "random":
            if self._random is None:
                from random import Random

                self._random = Random(self.seed)
            return self._random.randrange(count)
        self._arrivals += 1
        return (self._arrivals - 1) % count


def savings_of(compiled: CompiledPipeline, states: Iterable[tuple[Hashable, object]]) -> list[str]:
    """What stages have saved, of one run state or of several, in a line for each sort."""
    by_kind: dict[type, list[object]] = {}
    for key, state in states:
        by_kind.setdefault(type(compiled.stateful[key]), []).append(state)
    lines = (kind.savings(found) for kind, found in by_kind.items())  # type: ignore[attr-defined]
    return sorted(line for line in lines if line)
