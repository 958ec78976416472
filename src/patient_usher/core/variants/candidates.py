"""Every change of a pipeline that is tried, by nearness: options, stages off, orders, routes, what runs how often."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from itertools import combinations

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.model.document import Json
from patient_usher.core.model.handler_specs import DeskSpec
from patient_usher.core.model.overlays import named
from patient_usher.core.model.text_types import DURATION_PATTERN
from patient_usher.core.variants.change import Change, said_of
from patient_usher.core.variants.options import durations, other_values
from patient_usher.core.variants.orders import Order, movable, one_move_away
from patient_usher.core.variants.seen import Seen

OPTION, STAGE, MOVE, PASSED_OVER, INVENTED = 1, 1, 2, 5, 1
"""What changes cost: a move its distance besides, and a value that nobody has shown one more."""


_ALSO: Mapping[str | int, str] = {
    "leeway": "or more, or expiry isn't checked",
    "allow-origins": "or by a pattern, or whatever origin asks",
}
"""What a value may stand for that a service shows on some requests only."""


def changes_of(compiled: CompiledPipeline, seen: Seen, first: Sequence[str] = ()) -> list[Change]:
    """Every change, the nearest first; of equally near ones those of the stages named ``first``."""
    found = [
        *_switched(compiled),
        *_options(compiled, seen),
        *_error_statuses(compiled, seen),
        *_routes(compiled, seen),
        *_desks(compiled, seen),
        *_deployment(compiled),
        *_orders(compiled),
        *_passed_over(compiled, seen),
    ]
    rank = {id_: at for at, id_ in enumerate(first)}
    return sorted(found, key=lambda one: (one.cost, rank.get(one.where, len(rank))))


def _switched(compiled: CompiledPipeline) -> Iterator[Change]:
    for id_, options in compiled.options.items():
        words = f"{id_} isn't there" if options.enabled else f"{id_} is switched on"
        switch = ("stages", id_, "enabled"), not options.enabled
        yield Change(id_, words, (switch,), cost=STAGE)
        if not options.enabled and options.refuse is None and compiled.spec.refuse == "raise":
            itself = ("stages", id_, "refuse"), "answer"
            yield Change(id_, f"{words}, and answers itself", (switch, itself), cost=STAGE + 1)


def _options(compiled: CompiledPipeline, seen: Seen) -> Iterator[Change]:
    stages = named(compiled.source.doc, "stages")
    for id_, options in compiled.options.items():
        for other in other_values(type(options), stages.get(id_, {}), seen):
            edits = ((("stages", id_, *other.path), other.value),)
            also = f" ({_ALSO[other.path[-1]]})" if other.path[-1] in _ALSO else ""
            yield Change(id_, f"{id_}: {other.words}{also}", edits, cost=OPTION + INVENTED * other.invented)


def _error_statuses(compiled: CompiledPipeline, seen: Seen) -> Iterator[Change]:
    """Another status for a type of error, where the service has shown one."""
    stages = named(compiled.source.doc, "stages")
    for id_, options in compiled.options.items():
        if options.kind != "error-handler":
            continue
        answers = stages.get(id_, {}).get("answers") or []
        for type_, status in seen.errors:
            if not any(type_ == one.get("raised") for one in answers if isinstance(one, Mapping)):
                value = {"raised": type_, "status": status}
                edits = ((("stages", id_, "answers", len(answers)), value),)
                yield Change(id_, f"{id_}: {type_} is answered with {status}", edits, cost=OPTION)


def _routes(compiled: CompiledPipeline, seen: Seen) -> Iterator[Change]:
    roles = sorted({role for account in compiled.spec.accounts.values() for role in account.roles})
    for part in ("routes", "groups"):
        for id_, entry in named(compiled.source.doc, part).items():
            now = entry.get("access")
            for other in (
                *(("signed-in", "everyone") if isinstance(now, Mapping) else ("everyone", "signed-in")),
                *({"role": role} for role in roles),
            ):
                if other != now and (part == "routes" or now is not None):
                    words = f"{part[:-1]} {id_}: access {said_of(other)}"
                    yield Change(id_, words, (((part, id_, "access"), other),))
    for id_, entry in named(compiled.source.doc, "routes").items():
        yield from _cached(id_, entry.get("cache"), seen)
        yield from _clearing(id_, entry.get("clears"))
        handler = entry.get("handler")
        if isinstance(handler, Mapping) and isinstance(handler.get("answer"), Mapping):
            for path, value in seen.routes.get(id_, ()):
                answers = f"answers {path[-1]} {said_of(value)}" if value is not None else f"answers without {path[-1]}"
                yield Change(
                    id_, f"route {id_}: its handler {answers}", ((("routes", id_, "handler", "answer", *path), value),)
                )


def _cached(id_: str, kept: Json, seen: Seen) -> Iterator[Change]:
    members = kept.items() if isinstance(kept, Mapping) else (("", kept),)
    for name, present in members:
        if isinstance(present, str) and re.fullmatch(DURATION_PATTERN, present):
            for value, invented in durations(present, seen):
                words = f"route {id_}: cache {f'{name} ' if name else ''}{value}, not {present}"
                path = ("routes", id_, "cache", *([name] if name else []))
                yield Change(id_, words, ((path, value),), cost=OPTION + INVENTED * invented)
    if kept is not None:
        yield Change(id_, f"route {id_}: no cache", ((("routes", id_, "cache"), None),))
    else:
        yield Change(id_, f"route {id_}: cache 60s", ((("routes", id_, "cache"), "60s"),), cost=OPTION + INVENTED)


def _clearing(id_: str, clears: Json) -> Iterator[Change]:
    present = list(clears) if isinstance(clears, list) else []
    for at, one in enumerate(present):
        words = f"route {id_}: doesn't clear {one}"
        yield Change(id_, words, ((("routes", id_, "clears"), present[:at] + present[at + 1 :]),))


def _desks(compiled: CompiledPipeline, seen: Seen) -> Iterator[Change]:
    for id_, entry in named(compiled.source.doc, "groups").items():
        desk = entry.get("desk")
        if isinstance(desk, Mapping):
            for other in other_values(DeskSpec, desk, seen, frozenset({"at", "keys"})):
                edits = ((("groups", id_, "desk", *other.path), other.value),)
                words = f"group {id_}: desk {other.words}"
                yield Change(id_, words, edits, cost=OPTION + INVENTED * other.invented)


def _deployment(compiled: CompiledPipeline) -> Iterator[Change]:
    """Another number of instances, and a stage's state that is shared or isn't."""
    spec = compiled.spec.deployment
    keeps = [id_ for id_ in compiled.options if id_ in compiled.stateful]
    if not compiled.stateful:
        return
    for count in (1, 2, 3, 4):
        if count != spec.instances:
            words = f"deployment: instances {count}, not {spec.instances}"
            yield Change("deployment", words, ((("deployment", "instances"), count),), cost=OPTION + INVENTED)
    for id_ in keeps if spec.instances > 1 else ():
        shared = [one for one in spec.shared_state if one != id_]
        if id_ not in spec.shared_state:
            shared = [*spec.shared_state, id_]
        words = f"deployment: the state of {id_} is {'shared' if id_ in shared else 'not shared'}"
        yield Change("deployment", words, ((("deployment", "shared-state"), shared),), cost=OPTION + INVENTED)


def _orders(compiled: CompiledPipeline) -> Iterator[Change]:
    present = movable(compiled)
    known = {present}
    for a, b in combinations(range(len(present)), 2):
        order = list(present)
        order[a], order[b] = order[b], order[a]
        if (made := tuple(order)) not in known:
            known.add(made)
            words = f"{present[a]} and {present[b]} have changed places"
            yield Change(present[a], words, order=made, cost=MOVE if b == a + 1 else MOVE + 2 * (b - a))
    for order_ in one_move_away(present):
        if order_ not in known:
            known.add(order_)
            yield _moved(present, order_)
    for at in range(len(present) - 1):  # two neighbours together
        block, rest = present[at : at + 2], (*present[:at], *present[at + 2 :])
        for to in range(len(rest) + 1):
            order_ = (*rest[:to], *block, *rest[to:])
            if order_ not in known:
                known.add(order_)
                place = f"behind {rest[to - 1]}" if to else f"in front of {rest[0]}"
                yield Change(
                    block[0], f"{block[0]} and {block[1]} stand {place}", order=order_, cost=MOVE + 1 + abs(to - at)
                )


def _moved(before: Order, after: Order) -> Change:
    for id_ in before:
        if [one for one in before if one != id_] == [one for one in after if one != id_]:
            at = after.index(id_)
            place = f"behind {after[at - 1]}" if at else f"in front of {after[1]}"
            return Change(id_, f"{id_} stands {place}", order=after, cost=MOVE + abs(before.index(id_) - at))
    return Change(before[0], "the stages stand in another order", order=after, cost=MOVE + len(before))


def _passed_over(compiled: CompiledPipeline, seen: Seen) -> Iterator[Change]:
    """A stage that isn't on the way of what was answered otherwise: of one path, or of all of them."""
    stages = named(compiled.source.doc, "stages")
    paths = seen.paths[:6]
    several: Collection[tuple[str, ...]] = [paths] if 1 < len(seen.paths) <= len(paths) else []
    for some in (*((path,) for path in paths), *several):
        for id_ in compiled.options:
            entry = stages.get(id_)
            if entry is None or "only" in entry or not all(re.fullmatch(r"/[\w./-]*", path) for path in some):
                continue
            rest: Json = [*entry.get("except", []), *some]
            words = f"{id_} passes over {' and '.join(some)}"
            yield Change(id_, words, ((("stages", id_, "except"), rest),), cost=PASSED_OVER + len(some) - 1)
