"""Telling orders apart from outside: the fewest requests whose answers say in which order a service's stages stand."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import combinations, permutations
from typing import Any, NamedTuple

from patient_usher.core.decisions.request_factory import LONGEST_BURST
from patient_usher.core.decisions.request_generators import scenarios
from patient_usher.core.decisions.runner import BASE, BUDGET, prepared
from patient_usher.core.decisions.scenario import APART, Scenario, in_turn
from patient_usher.core.decisions.schema_samples import Request
from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.replay import Send
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.http.messages import SAFE_METHODS
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.variants.orders import Order, movable, one_move_away, reordered
from patient_usher.core.verify.run import run

EXACT = 6
"""Up to so many stages that move every order is looked at."""
_SENDABLE = ("call", "body", "matched", "unrouted", "plain-http", "preflight", "sample", "burst")
"""Sorts of probes that anybody can send to a service: without a change to it, and without a browser."""
_CHOICES = 20_000

Answer = tuple[Any, ...]


class Class(NamedTuple):
    """Orders that no request tells apart: how many, one of them, and what all of them have in common."""

    orders: int
    example: Order
    before: tuple[tuple[str, str], ...]
    answers: tuple[str, ...]


class Apart(NamedTuple):
    """The requests, and what each class of orders answers to them when they are sent as ``trace``, in one run state.

    ``notes``: for each request, in what answers differ that have one status.
    ``equal``: neighbours whose swap no request can see. ``exact``: whether every order was looked at.
    """

    requests: tuple[Scenario, ...]
    trace: Scenario
    notes: tuple[str, ...]
    classes: tuple[Class, ...]
    equal: tuple[tuple[str, str], ...]
    exact: bool
    orders: int
    tried: int


def orders_of(compiled: CompiledPipeline) -> tuple[list[Order], bool]:
    """The orders that are told apart: all of the stages that act, or those one move away; and whether that is all.

    Stages that only watch keep their places.
    """
    present = movable(compiled)
    acting = tuple(id_ for id_ in present if not _watches(compiled, id_))
    exact = len(acting) <= EXACT
    wanted = sorted(permutations(acting)) if exact else [acting, *one_move_away(acting)]
    return [_among(present, order) for order in wanted], exact


def distinguish_orders(
    compiled: CompiledPipeline,
    *,
    seed: int = 0,
    budget: int = BUDGET,
    reads_only: bool = False,
    waits: bool = True,
    watch: Callable[[int], None] = lambda done: None,
) -> Apart:
    """The fewest requests that tell apart whatever orders can be told apart.

    ``reads_only``: by requests that change nothing. Without ``waits`` they come one right after the other.
    """
    present = movable(compiled)
    orders, exact = orders_of(compiled)
    pipelines = {order: reordered(compiled, order) for order in orders}
    tries = list(_tries(compiled, seed, reads_only))
    columns: dict[tuple[Answer, ...], tuple[Scenario, list[Answer]]] = {}
    tried = 0
    for number, (scenario, ready, about) in enumerate(tries):
        if tried + len(orders) > budget * 50:
            exact = False
            break
        told_by = orders if about is None else [order for order in orders if _moves(present, order, about)]
        answers, replays = _answers(told_by, pipelines, ready, seed)
        if about is not None:  # of other orders nothing new is asked: the whole trace is run in each of them below
            known = dict(zip(told_by, answers, strict=True))
            answers = [known.get(order, known[present]) for order in orders]
        tried += replays
        watch(number)
        kinds = {answer: at for at, answer in enumerate(dict.fromkeys(answers))}
        if len(kinds) > 1:
            columns.setdefault(tuple((kinds[answer],) for answer in answers), (scenario, answers))
    chosen = _fewest(list(columns), len(orders))
    requests = tuple(columns[key][0] for key in chosen)
    whole = len({tuple(columns[key][1][at] for key in chosen) for at in range(len(orders))})
    for gap in (None, APART) if waits else (None,):  # nobody waits for hours where it makes no difference
        trace = Scenario("tells", tuple(_named(requests, gap)))
        told = _told(orders, pipelines, trace, len(requests), seed)
        if len({tuple(answers[at] for answers in told) for at in range(len(orders))}) == whole:
            break
    words = [_labels(dict.fromkeys(answers)) for answers in told]
    classes: dict[tuple[Answer, ...], list[int]] = {}
    for at in range(len(orders)):
        classes.setdefault(tuple(answers[at] for answers in told), []).append(at)
    always = in_common(orders)
    found = [
        Class(
            len(members),
            nearest(present, [orders[at] for at in members]),
            tuple(sorted(in_common([orders[at] for at in members]) - always)),
            tuple(labels[answer] for labels, answer in zip(words, answers, strict=True)),
        )
        for answers, members in classes.items()
    ]
    found.sort(key=lambda one: (one.example != present, one.answers))
    by_order = {orders[at]: number for number, members in enumerate(classes.values()) for at in members}
    notes = tuple(_note(labels) for labels in words)
    return Apart(requests, trace, notes, tuple(found), tuple(_equal(present, by_order)), exact, len(orders), tried)


class _Try(NamedTuple):
    """Requests that may tell orders apart. ``about``: the limit that lets fewer of them through."""

    scenario: Scenario
    ready: BoundTrace
    about: str | None = None


def _tries(compiled: CompiledPipeline, seed: int, reads_only: bool) -> Iterator[_Try]:
    """Of all that stages treat alike now one; and what each refuses, once more than each limit lets through."""
    refused: dict[str, Scenario] = {}
    seen: set[object] = set()
    for scenario in scenarios(compiled):
        ready = _ready(scenario, compiled)
        if ready is None or (reads_only and not _reads(ready)):
            continue
        sends = [judged.send for judged in run(RunState(compiled, seed), ready)]
        way: object = (
            *dict.fromkeys(_way(x) for send in sends for x in send.exchanges),
            scenario.by,
            _parts(scenario.requests[-1]),
        )
        if scenario.sort == "burst":  # of each limit one is enough, whatever it is sent to
            way = sends[-1].exchanges[-1].refused_by
        if way in seen:
            continue
        seen.add(way)
        last = sends[-1].final
        yield _Try(scenario, ready, last.refused_by if last is not None and scenario.sort == "burst" else None)
        if last is not None and last.refused_by is not None and scenario.sent == len(scenario.requests):
            refused.setdefault(last.refused_by, scenario)
    limits = {id_: limit for id_, option in compiled.options.items() if (limit := option.limit()) is not None}
    for scenario in refused.values():
        for id_, limit in limits.items():
            if limit.quota >= LONGEST_BURST:
                continue
            *first, last_one = scenario.requests
            many = scenario._replace(requests=(*first, {**last_one, "times": limit.quota + 1, "every": "1ms"}))
            if (ready := _ready(many, compiled)) is not None:
                yield _Try(many, ready, id_)


def _parts(request: Request) -> tuple[str, ...]:
    """The names of all that a request says: what a stage further back may look at when it comes first."""
    named = (f"{key}.{name}" for key in ("headers", "sign", "query") for name in request.get(key, {}))
    return tuple(sorted([*request, *named]))


def _way(x: Exchange) -> object:
    """What became of an exchange, stage by stage: requests of which it is the same are treated alike."""
    steps = tuple((stage, way, did) for stage, way, did, _, _ in x.journey or ())
    branches = frozenset((id_, name) for sort, id_, name in x.branches if sort == "stages")
    access = x.route.access if x.route is not None else bool(x.allowed)
    caches = tuple(use.state for use in x.caches)
    status = x.answer.status if x.answer is not None else None
    return x.request.method, status, x.outcome, x.refused_by, x.why, access, steps, branches, caches


def _named(requests: Sequence[Scenario], gap: str | None) -> Iterator[Request]:
    """The requests as they are sent, one probe after the other, with ids."""
    at = 0
    for number, final, request in in_turn(requests, gap):
        at = 0 if final else at + 1
        yield {"id": f"tells-{number}" if final else f"first-{number}-{at}", **request}


def _told(
    orders: Sequence[Order], pipelines: dict[Order, CompiledPipeline], trace: Scenario, count: int, seed: int
) -> list[list[Answer]]:
    """What each order answers to each of the requests, as they are sent: in one run state."""
    ready = prepared(trace, next(iter(pipelines.values())), BASE) if trace.requests else None
    found: list[list[Answer]] = [[] for _ in range(count)]
    for order in orders if ready is not None else ():
        parts: list[list[object]] = [[] for _ in range(count)]
        for judged in run(RunState(pipelines[order], seed), ready):  # type: ignore[arg-type]
            parts[int(judged.send.entry.id.split("-")[1]) - 1].append(_seen(judged.send))
        for number, part in enumerate(parts):
            found[number].append(tuple(part))
    return found


def _moves(present: Order, order: Order, id_: str) -> bool:
    """Whether other stages stand before this one than do now; the present order counts."""
    if id_ not in present or order == present:
        return True
    before, behind = set(present[: present.index(id_)]), set(order[: order.index(id_)])
    return before != behind


def _watches(compiled: CompiledPipeline, id_: str) -> bool:
    """Whether a stage only watches: wherever it stands, no answer tells."""
    return id_ in compiled.stages and compiled.stages[id_].only_watches


def _among(present: Order, acting: Sequence[str]) -> Order:
    """An order of the stages that act, with those that watch at their places."""
    rest = iter(acting)
    return tuple(next(rest) if id_ in acting else id_ for id_ in present)


def _reads(trace: BoundTrace) -> bool:
    return all(
        entry.request_template is None or entry.request_template.method in SAFE_METHODS for entry in trace.entries
    )


def _ready(scenario: Scenario, compiled: CompiledPipeline) -> BoundTrace | None:
    if scenario.sort not in _SENDABLE or scenario.callers or any("change" in request for request in scenario.requests):
        return None
    return prepared(scenario, compiled, BASE)


def _answers(
    orders: Sequence[Order], pipelines: dict[Order, CompiledPipeline], ready: BoundTrace, seed: int
) -> tuple[list[Answer], int]:
    """What each order answers. Orders that begin alike share the answer that their beginning gives."""
    known: dict[Order, Answer] = {}
    found: list[Answer] = []
    replays = 0
    for order in orders:
        answer = next((known[order[:n]] for n in range(1, len(order) + 1) if order[:n] in known), None)
        if answer is None:
            replays += 1
            sends = [judged.send for judged in run(RunState(pipelines[order], seed), ready)]
            answer = tuple(_seen(send) for send in sends)
            known[order[: _depth(sends, order)]] = answer
        found.append(answer)
    return found, replays


def _depth(sends: Sequence[Send], order: Order) -> int:
    """How much of the order the answers can depend on: as far as any exchange came, if no error skipped forward."""
    deepest = 0
    for send in sends:
        for x in send.exchanges:
            ids = {step[0] for step in x.journey or ()}
            if x.errors or "router" in ids:
                return len(order)
            deepest = max([deepest, *(order.index(id_) + 1 for id_ in ids if id_ in order)])
    return deepest or len(order)


def _seen(send: Send) -> Answer:
    """What a client sees of an answer, but for when it was given."""
    x = send.final
    if x is None or x.answer is None:
        return (None, "", ())
    fields = tuple(sorted((n.lower(), v) for n, v in x.answer.fields.pairs() if n.lower() not in ("date", "age")))
    body = x.answer.content
    return (x.answer.status, body, fields)


def _words(answer: Answer) -> str:
    """An answer, or several, in a word: statuses, each with how often."""
    statuses = [part[0] for part in answer]
    runs = dict.fromkeys(statuses)
    words = [f"{status or 'none'}{f' ×{statuses.count(status)}' if len(statuses) > 1 else ''}" for status in runs]
    return ", ".join(words)


def _labels(answers: Iterable[Answer]) -> dict[Answer, str]:
    """Each answer in a word; those that have one status by a letter more."""
    plain = {answer: _words(answer) for answer in answers}
    found: dict[Answer, str] = {}
    for answer, word in plain.items():
        alike = [other for other, known in plain.items() if known == word]
        found[answer] = word if len(alike) == 1 else word + "abcdefghijklmnopqrstuvwxyz"[alike.index(answer) % 26]
    return found


def _note(labels: dict[Answer, str]) -> str:
    """In what answers differ that have one status: header fields, or the content."""
    names: dict[str, None] = {}
    for one, other in combinations(labels, 2):
        if _words(one) == _words(other):
            for a, b in zip(one, other, strict=False):
                names.update({name: None for name, _ in {*a[2]} ^ {*b[2]} if name != "content-length"})
                names.update({"the content": None} if a[1] != b[1] else {})
    return ", ".join(sorted(names))


def _fewest(columns: Sequence[tuple[Answer, ...]], count: int) -> list[tuple[Answer, ...]]:
    """A smallest choice of columns that tells apart all that all of them do; by greed where there are too many."""
    whole = len(set(zip(*columns, strict=True))) if columns else 1
    for size in range(len(columns) + 1):
        number = 1
        for n in range(size):
            number = number * (len(columns) - n) // (n + 1)
        if number > _CHOICES:
            break
        for chosen in combinations(columns, size):
            if (len(set(zip(*chosen, strict=True))) if chosen else 1) == whole:
                return list(chosen)
    picked: list[tuple[Answer, ...]] = []
    while (len(set(zip(*picked, strict=True))) if picked else 1) < whole:
        picked.append(max(columns, key=lambda column: len(set(zip(*picked, column, strict=True)))))
    return picked


def nearest(present: Order, orders: Sequence[Order]) -> Order:
    """The present order where it is among these, else the first of them."""
    return present if present in orders else orders[0]


def in_common(orders: Sequence[Order]) -> set[tuple[str, str]]:
    """The pairs of which all of these orders have the one before the other."""
    found: set[tuple[str, str]] | None = None
    for order in orders:
        pairs = set(combinations(order, 2))
        found = pairs if found is None else found & pairs
    return found or set()


def _equal(present: Order, by_order: dict[Order, int]) -> Iterator[tuple[str, str]]:
    """Pairs whose swap, wherever they are neighbours, no request can see."""
    for a, b in combinations(present, 2):
        same = True
        for order, number in by_order.items():
            at = order.index(a)
            if at + 1 < len(order) and order[at + 1] == b:
                swapped = (*order[:at], b, a, *order[at + 2 :])
                same = by_order.get(swapped, number) == number
                if not same:
                    break
        if same:
            yield a, b
