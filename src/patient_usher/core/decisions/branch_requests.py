"""Requests that take a branch, found forwards.

The engine runs a request and keeps what its matchers read. For each branch that nothing has taken yet, what the matcher
asks is turned round into demands on facts, the facts get values of the classes that fit, and the request with these
values is run in its turn: only the run says that a branch is taken. What a stage copies (``${…}`` alone, or between two
texts) leads back to the fact that it copies.
"""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Iterator, Sequence
from copy import deepcopy
from itertools import islice, product
from typing import Any, NamedTuple

from patient_usher.core.decisions import classes
from patient_usher.core.decisions.request_factory import RequestFactory
from patient_usher.core.decisions.runner import Runner
from patient_usher.core.decisions.scenario import Credential
from patient_usher.core.decisions.schema_samples import Request, path_of
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.model.branches import Branch, Cases, Decided, Fork, Node
from patient_usher.core.model.document import Json
from patient_usher.core.model.matcher import Atom
from patient_usher.core.model.patterns import MANY, fits_template, split_pattern

MOST_RUNS = 300
"""How many requests are run for one route and caller."""
MOST_ITEMS = 9
"""How many items a list in a body gets at most."""
MOST_COPIES = 4
"""Over how many copies of copies a fact is followed."""
_WAYS, _ASSIGNMENTS, _TRIES = 24, 400, 3
"""How many ways to meet a demand are looked at, how many of them all together, and how many of these are run."""


class Demand(NamedTuple):
    """What must be so of one fact: the atom, whether it must hold, and the fact's value where the atom looked at it."""

    atom: Atom
    truth: bool
    now: Any

    @property
    def met(self) -> bool:
        """Whether it is so already."""
        return self.atom.fits(self.now) is self.truth


_CALLER = ("identity", "role", "scope")
_COPY = re.compile(r"([^$]*)\$\{(header|query|cookie|body|context)\.([^}|]+)\}([^$]*)")


class Solved(NamedTuple):
    """A request that takes branches which none before it takes: what it says beside what every request says."""

    parts: Request
    credential: Credential
    branches: frozenset[Branch]


def branch_requests(words: RequestFactory, item: PlacedRoute) -> list[Solved]:
    """Requests to a route that take the branches of matchers on its way: of whom it is for, then of strangers."""
    key = f"requests to {item.route.id}"
    if key not in words.remembered:
        may = words.may(item)
        callers = [may] if may.sort == "absent" else [may, words.callers[0]]
        found = [one for credential in callers for one in solved(words, item, credential)[1:]]
        words.remembered[key] = list({repr((one.parts, one.credential)): one for one in found}.values())
    return words.remembered[key]


def branch_parts(words: RequestFactory, item: PlacedRoute) -> list[Request]:
    """What these requests say, each once."""
    parts = (one.parts for one in branch_requests(words, item) if one.parts)
    return list({repr(one): one for one in parts}.values())


def _stated(words: RequestFactory) -> list[tuple[str, Cases]]:
    """The matchers of the file's statements."""
    given = (one for one in words.spec.always if not isinstance(one, str))
    return [(one.id, Cases([one.when])) for one in given if one.when is not None]


def solved(words: RequestFactory, item: PlacedRoute, credential: Credential) -> list[Solved]:
    """Requests to a route, by this caller or others, one for each branch that could be found: the plain one first."""
    trials, statements = Runner(MOST_RUNS, looks=True), _stated(words)
    found: list[Solved] = []
    seen: set[Branch] = set()
    tried: set[str] = set()
    pending: deque[tuple[Request, Credential]] = deque([({}, credential)])
    attempts: dict[Branch, int] = {}
    while pending and not trials.spent:
        parts, by = pending.popleft()
        run = trials.run(words.scenario("matched", item, by, **deepcopy(parts)), words.compiled)
        if run is None or not run.sends[-1].exchanges:
            continue
        x = run.last
        stated = [Decided("always", id_, cases, cases.read(x)) for id_, cases in statements]
        decided = [*(x.decided or ()), *stated]
        branches = {*x.branches, *((one.sort, one.id, name) for one in stated for name in one.cases.taken(x))}
        if branches <= seen and found:
            continue
        found.append(Solved(parts, by, frozenset(branches - seen)))
        seen |= branches
        for one in decided:
            for branch in ((one.sort, one.id, name) for name in one.cases.names):
                if branch not in seen and attempts.get(branch, 0) < 4 * _TRIES:
                    for other in _requests(words, item, decided, one, branch[2], parts, by):
                        key = repr(other)
                        if key not in tried:
                            tried.add(key)
                            attempts[branch] = attempts.get(branch, 0) + 1
                            pending.append(other)
    return found


def _requests(
    words: RequestFactory,
    item: PlacedRoute,
    decided: Sequence[Decided],
    one: Decided,
    name: str,
    parts: Request,
    by: Credential,
) -> Iterator[tuple[Request, Credential]]:
    """Requests that may take a branch of one decision, those first that differ in the fewest facts."""
    asked: dict[str, list[Atom]] = {}
    for atom in (atom for other in decided for atom in other.cases.atoms):
        asked.setdefault(_group(atom.fact), []).append(atom)
    found: dict[str, dict[str, Any]] = {}
    ways = (other for demands in _demands_of(one, name) for other in _produced(words, item, decided, demands))
    for demands in islice(ways, _ASSIGNMENTS):
        assignment = _assignment(words, item, demands, asked)
        if assignment is not None:
            found.setdefault(repr(assignment), assignment)
    for assignment in sorted(found.values(), key=len)[:_TRIES]:
        yield from _written(words, item, assignment, parts, by)


# What a branch demands.


def _demands_of(one: Decided, name: str) -> Iterator[list[Demand]]:
    """Ways to take a branch, as what must be so of facts: the cases in front of it don't fit."""
    now, before = one.values, list[list[list[Demand]]]()
    for label, _, fork in one.cases.parts:
        if name == label or name.startswith(f"{label} "):
            if fork is None:
                wanted: list[list[Demand]] = [[]]
            elif name == label:
                wanted = _nearest(_demands(fork.root, now, True))
            else:
                wanted = _nearest(_deciding(fork, now, name.removeprefix(f"{label} ")))
            yield from _joined([*before, wanted])
            return
        if fork is not None:
            before.append(_nearest(_demands(fork.root, now, False)))
    yield from _joined(before)


def _nearest(ways: Iterator[list[Demand]]) -> list[list[Demand]]:
    """Some ways, those first of which most is so already."""
    return sorted(islice(ways, _WAYS), key=lambda demands: sum(not demand.met for demand in demands))


def _produced(
    words: RequestFactory, item: PlacedRoute, decided: Sequence[Decided], demands: list[Demand]
) -> Iterator[list[Demand]]:
    """The same demands; and with those of a case in front in the place of what that case would write."""
    ways: list[list[list[Demand]]] = []
    for demand in demands:
        others: list[list[Demand]] = [[demand]]
        if not demand.met:
            for id_, _, text, case in _writers(words, item, demand.atom.fact):
                if case and "${" not in text and demand.atom.fits(text) is demand.truth:
                    cases = [one for one in decided if one.id == id_ and case in one.cases.names]
                    others += [way for one in cases[:1] for way in islice(_demands_of(one, case), _TRIES)]
        ways.append(others)
    yield from _joined(ways)


def _writers(words: RequestFactory, item: PlacedRoute, fact: str) -> Iterator[tuple[str, str, str, str]]:
    """Stages on the way that write a fact: the stage, the fact, the text, and the case that writes it."""
    name = fact.lower() if fact.startswith("header.") else fact
    for id_ in words.order(item):
        options = words.compiled.options.get(id_)
        for to, text, case in options.copies() if options is not None else ():
            if to == name:
                yield id_, to, text, case


def _joined(parts: Sequence[Sequence[list[Demand]]]) -> Iterator[list[Demand]]:
    for each in product(*parts):
        yield [demand for one in each for demand in one]


def _demands(node: Node, now: dict[str, Any], truth: bool) -> Iterator[list[Demand]]:
    """Ways for a part of a matcher to hold, or not to."""
    if node.atom is not None:
        yield [Demand(node.atom, truth, now[node.atom.fact])]
    elif node.how == "not":
        yield from _demands(node.parts[0], now, not truth)
    elif (node.how == "all") is truth:
        yield from _joined([_nearest(_demands(part, now, truth)) for part in node.parts])
    else:
        for part in node.parts:
            yield from _demands(part, now, truth)


def _deciding(fork: Fork, now: dict[str, Any], name: str) -> Iterator[list[Demand]]:
    """Ways for one part alone to decide: whatever stands around it leaves it to that part."""
    target = next(node for node in fork.named if name in (node.fits, node.misses))

    def within(node: Node, truth: bool) -> Iterator[list[Demand]]:
        """``truth``: how the node must turn out. Nothing where the part isn't in it."""
        if node is target:
            yield from _demands(node, now, truth)
        for at, part in enumerate(node.parts):
            if node is target or not _holds_part(part, target):
                continue
            if node.how == "not":
                yield from within(part, not truth)
            else:
                siblings = [one for place, one in enumerate(node.parts) if place != at]
                others = [_nearest(_demands(one, now, node.how == "all")) for one in siblings]
                yield from _joined([*others, _nearest(within(part, truth))])

    yield from within(fork.root, name == target.fits)


def _holds_part(node: Node, target: Node) -> bool:
    return node is target or any(_holds_part(part, target) for part in node.parts)


# Facts and their values.


def _group(fact: str) -> str:
    """The thing in a request that a fact is of: who calls has a name, roles and scopes."""
    return "caller" if fact in _CALLER else fact


def _assignment(
    words: RequestFactory, item: PlacedRoute, demands: list[Demand], asked: dict[str, list[Atom]]
) -> dict[str, Any] | None:
    """Values for the facts that must change; None where there are none."""
    by_group: dict[str, list[Demand]] = {}
    for demand in demands:
        by_group.setdefault(_group(demand.atom.fact), []).append(demand)
    found: dict[str, Any] = {}
    for group, wanted in by_group.items():
        if all(demand.met for demand in wanted):
            continue
        for value in _values(words, item, group, asked[group]):
            if all(atom.fits(_as_read(words, atom.fact, value)) is truth for atom, truth, _ in wanted):
                found[group] = value
                break
        else:
            return None
    return found


def _values(words: RequestFactory, item: PlacedRoute, group: str, atoms: list[Atom]) -> Sequence[Any]:
    """What a fact can be made to be in a request to this route."""
    root = group.partition(".")[0]
    if root in ("header", "query", "cookie", "body", "context", "host"):
        key = f"texts of {[atom.wanted for atom in atoms]!r}"
        if key not in words.remembered:
            words.remembered[key] = classes.texts(atoms)
        found = words.remembered[key]
        return [value for value in found if value is not None] if root == "host" else found
    if root == "caller":
        return words.callers
    if root == "address":
        return classes.addresses(atoms)
    if root == "scheme":
        return ("http", "https")
    if root == "method":
        return ["HEAD"] if item.route.method == "GET" else []
    if root == "path":
        patterns = [one for atom in atoms for one in (atom.wanted if isinstance(atom.wanted, list) else [atom.wanted])]
        paths = (_path_of(item, str(pattern)) for pattern in patterns)
        return [path for path in dict.fromkeys([path_of(item.route.template, {}), *paths]) if path is not None]
    return ()


def _as_read(words: RequestFactory, fact: str, value: Any) -> Any:
    """A value as the atom would read it."""
    if fact == "path":
        return tuple(value[1:].split("/"))
    if fact in _CALLER:
        known = words.people.get(value.account or "")
        if known is None or value.sort != "right":
            return None
        return value.account if fact == "identity" else known.roles if fact == "role" else known.scopes
    return value


def _path_of(item: PlacedRoute, pattern: str) -> str | None:
    """A path of the route that fits a pattern of paths; None where none does."""
    template, wanted = item.route.template, split_pattern(pattern)
    if not fits_template(pattern, template.segments):
        return None
    if MANY in wanted or any(sort == "tail" for sort, _ in template.segments):
        return pattern.replace("**", "1").replace("*", "1")
    parts = zip(template.segments, wanted, strict=True)
    return path_of(template, {text: str(part) for (sort, text), part in parts if sort != "literal" and part})


# Values as a request says them.


def _written(
    words: RequestFactory, item: PlacedRoute, assignment: dict[str, Any], parts: Request, by: Credential
) -> Iterator[tuple[Request, Credential]]:
    """The request with these values, and in other ways where a stage copies a fact from another."""
    ways: list[list[tuple[str, Any]]] = [
        [(group, value), *(_sources(words, item, group, value) if isinstance(value, str) else ())]
        for group, value in assignment.items()
    ]
    for chosen in islice(product(*ways), _WAYS):
        made, caller = deepcopy(parts), by
        possible = True
        for group, value in chosen:
            if group == "caller":
                caller = value
            else:
                possible &= _put(made, item, group, value)
        if possible:
            yield made, caller


def _sources(
    words: RequestFactory, item: PlacedRoute, fact: str, value: str, depth: int = 0
) -> Iterator[tuple[str, str]]:
    """Facts that a stage on the way copies into this one, with the values that make it so."""
    for _, _, text, _ in _writers(words, item, fact):
        copied = _COPY.fullmatch(text)
        if copied is None:
            continue
        before, root, inner, after = copied.groups()
        if len(value) >= len(before) + len(after) and value.startswith(before) and value.endswith(after):
            source = f"{root}.{inner}", value[len(before) : len(value) - len(after)]
            yield source
            if depth < MOST_COPIES:
                yield from _sources(words, item, *source, depth + 1)


def _put(parts: Request, item: PlacedRoute, fact: str, value: Json) -> bool:
    """Write a fact into the parts of a request. Whether a request can say it."""
    root, _, name = fact.partition(".")
    if root in ("header", "query"):
        _set(parts, "headers" if root == "header" else "query", name, value)
    elif root == "cookie":
        cookies = parts.setdefault("cookies", {})
        cookies[name] = value
    elif root == "host":
        _set(parts, "headers", "Host", value)
    elif root == "body":
        return _put_member(parts, name, value)
    elif root in ("address", "path", "scheme", "method"):
        parts[root] = value
    else:
        return False
    return True


def _set(parts: Request, key: str, name: str, value: Json) -> None:
    values = parts.setdefault(key, {})
    for known in [known for known in values if known.lower() == name.lower()]:
        del values[known]
    values[name] = value


def _put_member(parts: Request, name: str, value: Json) -> bool:
    """Write one member of a JSON body, at a pointer or at a dotted name. Whether there is such a place."""
    pointer = name if name.startswith("/") else f"/{name.replace('.', '/')}"
    keys = [part.replace("~1", "/").replace("~0", "~") for part in pointer[1:].split("/")]
    here: Any = parts.setdefault("json", {})
    for key, after in zip(keys, [*keys[1:], None], strict=True):
        if isinstance(here, list):
            if not key.isdigit() or int(key) > MOST_ITEMS:
                return False
            here += [None] * (int(key) + 1 - len(here))
        place: Any = int(key) if isinstance(here, list) else key
        if after is None:
            here[place] = value
        else:
            below = here[place] if isinstance(here, list) else here.get(place)
            if not isinstance(below, dict | list):
                below = here[place] = [] if after.isdigit() else {}
            here = below
    return True
