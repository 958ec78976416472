"""Coverage: which branches of a pipeline a trace has taken, of all that there are."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.engine.replay import Send
from patient_usher.core.handlers import branches as handler_branches
from patient_usher.core.handlers import taken as handler_taken
from patient_usher.core.model.branches import Branch
from patient_usher.core.model.enumerations import OWN_LOGIC
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.patterns import fits_request, request_pattern
from patient_usher.core.model.pipeline import StageOptions

ROUTER = "router"
_UNROUTED = ("no such path", "no such method")


class Coverage:
    """The branches that there are, and how often each has been taken."""

    def __init__(self, compiled: CompiledPipeline) -> None:
        self.compiled = compiled
        self.hits: Counter[Branch] = Counter()
        self.possible = list(dict.fromkeys(branches(compiled)))
        self.impossible: list[Branch] = []
        """Those that no request can take: they don't count."""
        self._known = frozenset(self.possible)
        self._used_up: set[tuple[str, str]] = set()  # limits, and whom they have refused

    def add(self, send: Send) -> None:
        """Count what a send made happen. Its exchanges must have kept their journeys."""
        for x in send.exchanges:
            self.hits.update(branch for branch in taken(self.compiled, x) if branch in self._known)
            for use in x.rates:
                whose, again = (use.stage, str(use.for_)), ("stages", use.stage, "refilled")
                if x.refused_by == use.stage:
                    self._used_up.add(whose)
                elif whose in self._used_up and again in self._known:
                    self._used_up.discard(whose)
                    self.hits[again] += 1

    def forget(self) -> None:
        """What comes next comes to another run state, where no limit has refused anybody."""
        self._used_up.clear()

    def set_apart(self, impossible: Sequence[Branch]) -> None:
        """These can't be taken, and don't count."""
        self.impossible += impossible
        self.possible = [branch for branch in self.possible if branch not in impossible]

    @property
    def missing(self) -> list[Branch]:
        """What has not happened, in the order of the file."""
        return [branch for branch in self.possible if not self.hits[branch]]

    @property
    def percent(self) -> int:
        """How many of all branches are taken, in whole percent, rounded down."""
        return 100 * (len(self.possible) - len(self.missing)) // max(len(self.possible), 1)


def branches(compiled: CompiledPipeline) -> Iterator[Branch]:
    """All branches of a pipeline, in the order of the file: stages, then routes, then what no route fits."""
    for id_, options in compiled.options.items():
        behind = [item.spec for item in compiled.placed if id_ in compiled.on_way[item.route.id]]
        if options.enabled and any(id_ in on_way for on_way in compiled.on_way.values()):
            yield from (("stages", id_, name) for name in options.branches(behind))
            yield from (("stages", id_, name) for name in _patterns(options))
    for item in compiled.placed:
        refuses = (item.route.access is None or item.route.access.who != "everyone") and _is_guarded(compiled, item)
        names = ["handler ran", *["refused"] * refuses, *handler_branches(item.spec.handler, compiled.spec, item.desk)]
        yield from (("routes", item.route.id, name) for name in names)
    yield from (("routes", ROUTER, name) for name in _UNROUTED)


def _patterns(options: StageOptions) -> list[str]:
    """Which pattern of ``only`` or ``except`` decides; where there is one, whether the stage is passed over."""
    if options.only is None and not options.except_:
        return []
    lists = (("only", options.only or []), ("except", options.except_ or []))
    return ["passed over", *(f"{key} {one}" for key, texts in lists if len(texts) > 1 for one in texts)]


def _is_guarded(compiled: CompiledPipeline, item: PlacedRoute) -> bool:
    """Whether anything on the route's way may refuse a caller for who it is."""
    there = [compiled.options[id_] for id_ in compiled.on_way[item.route.id] if id_ in compiled.options]
    return any(one.guards() or list(one.credentials()) or one.kind in OWN_LOGIC for one in there if one.enabled)


def taken(compiled: CompiledPipeline, x: Exchange) -> Iterator[Branch]:
    """The branches that one exchange took."""
    yield from x.branches
    if x.route is not None:
        if x.handler_reached:
            yield "routes", x.route.id, "handler ran"
            item = next((item for item in compiled.placed if item.route.id == x.route.id), None)
            if item is not None:
                names = handler_taken(item.spec.handler, item.desk, x)
                yield from (("routes", x.route.id, name) for name in names)
        elif x.refused_by is not None:
            yield "routes", x.route.id, "refused"
    elif x.refused_by == ROUTER:
        yield "routes", ROUTER, _UNROUTED[bool(x.allowed)]
    for stage, way, did, _, note in x.journey or ():
        options = compiled.options.get(stage)
        if options is None:
            continue
        if did == "skipped":
            found: Iterable[str] = ("passed over",)
        else:
            found = options.taken(x, way, did, note or {})
        yield from (("stages", stage, name) for name in found)
        if way == "in":
            yield from (("stages", stage, name) for name in _pattern_taken(options, x))


def _pattern_taken(options: StageOptions, x: Exchange) -> Iterator[str]:
    """The one pattern of a list that fits the request, where no other does."""
    for key, texts in (("only", options.only or ()), ("except", options.except_ or ())):
        fitting = [text for text in texts if fits_request(request_pattern(text), x)]
        if len(fitting) == 1:
            yield f"{key} {fitting[0]}"
