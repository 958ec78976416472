"""Proofs: statements held against one request of every class, so that what holds there holds for every request.

The engine runs a request and notes each fact that it reads. Only what was read can matter, so only that is varied: each
fact that a run read gets a value of every class, and each of these requests is run in its turn, until nothing new is
read. What cuts a fact into classes is what looks at it: matchers (``classes``), and the kinds, which say beside their
options what their own logic tells apart.

What a stage remembers is a fact too. It isn't brought about by other requests: each request meets every state that
stands for all that there may be (a limit with room, at its end, used up). So what is proved holds after any history; a
break in an assumed state is no break yet, since nothing may ever lead there.

Whatever a run read that can't be divided so is *left out*, by name: statements that such a run could break are not
proved.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import combinations
from typing import Any, NamedTuple
from urllib.parse import quote, urlencode

from patient_usher.core.decisions import classes
from patient_usher.core.decisions.coverage import taken
from patient_usher.core.decisions.reads import Read, WatchedWorld
from patient_usher.core.decisions.request_factory import HOST, RequestFactory
from patient_usher.core.decisions.runner import BASE, ScenarioRun, prepared
from patient_usher.core.decisions.scenario import Scenario
from patient_usher.core.decisions.schema_samples import MADE_UP, Request, path_of
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.handlers import classes as handler_classes
from patient_usher.core.handlers import contents as handler_contents
from patient_usher.core.http.urls import Url
from patient_usher.core.model.always import AlwaysSpec
from patient_usher.core.model.branches import Branch
from patient_usher.core.model.document import JsonObject
from patient_usher.core.model.enumerations import OWN_LOGIC
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.matcher import Atom, Condition, When, condition
from patient_usher.core.model.patterns import MANY, path_pattern, split_pattern, split_request
from patient_usher.core.model.pipeline import AskedCredential, StageOptions
from patient_usher.core.model.reads import nodes, within
from patient_usher.core.model.text_types import Model
from patient_usher.core.model.values import placeholders
from patient_usher.core.verify.always import Statement
from patient_usher.core.verify.run import run

BROKEN = "broken"
"""Why a statement is open that one of the cases breaks, in a state that there is from the start."""
MOST_CLASSES = 12_000
"""How many classes of requests are run at most."""
_MOST_VALUES, _MOST_REPEATED, _MOST_ACCOUNTS, _MOST_PLACES = 200, 5, 8, 3_000
_METHODS = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "MADE-UP")


class FactCase(NamedTuple):
    """One class of requests in one state, and what came of it.

    ``left_out``: what it read that was not divided. ``states``: those that were assumed, not brought about. ``open``:
    statements that this case doesn't settle, and why; ``tried``: those that say anything of it.
    """

    run: ScenarioRun
    left_out: tuple[str, ...]
    states: tuple[str, ...]
    open: Mapping[str, str]
    tried: tuple[str, ...]


class Proof:
    """What the cases so far come to: how many classes and states were run, and what was left out.

    ``open``: for each statement by id, why it isn't proved; nothing where it is. ``taken``: the branches of all cases.
    """

    def __init__(self, compiled: CompiledPipeline, ids: Iterable[str]) -> None:
        self.compiled = compiled
        self.open: dict[str, dict[str, None]] = {id_: {} for id_ in ids}
        self.left_out: dict[str, None] = {}
        self.classes = 0
        self.taken: set[Branch] = set()
        self._states: set[tuple[str, ...]] = set()

    @property
    def states(self) -> int:
        """In how many states requests were run, each of what one stage may remember."""
        return len(self._states)

    def add(self, case: FactCase) -> None:
        """Count a case."""
        self.classes += 1
        self._states.add(case.states)
        self.left_out |= dict.fromkeys(case.left_out)
        for id_, why in case.open.items():
            self.open[id_][why] = None
        for x in case.run.exchanges:
            self.taken.update(taken(self.compiled, x))

    def excludes(self, branch: Branch) -> bool:
        """Whether no request can take a branch: every class was run, nothing was left out, and none took it."""
        return not self.left_out and branch not in self.taken and bool(_OF_MATCHER.match(branch[2]))

    def give_up(self, why: str) -> None:
        """Nothing is proved."""
        self.left_out[why] = None
        for reasons in self.open.values():
            reasons[why] = None


_OF_MATCHER = re.compile(r"(case|way out) \d+$|no case$|no way out$")
"""Branches about which a whole matcher decides: its parts are finer than classes are."""


class _Undivided(Exception):
    """A fact can't be divided into classes; its text says why."""


class _Root(NamedTuple):
    """A method at some paths, and the route that it comes to; None where none fits.

    ``paths`` has one of each class, the plain one first; of those that can't be divided only that.
    """

    method: str
    paths: tuple[str, ...]
    divided: bool
    item: PlacedRoute | None


def cases(
    compiled: CompiledPipeline, statements: Sequence[Statement], seed: int = 0, most: int = MOST_CLASSES
) -> Iterator[FactCase]:
    """Every class of requests in every state that they read; ``most`` at most, of which the last says so."""
    return _Walk(compiled, statements, seed, most).cases()


def impossible(compiled: CompiledPipeline, branches: Iterable[Branch], seed: int = 0) -> list[Branch]:
    """Of these branches those that no request can take, as far as that can be proved."""
    asked = [branch for branch in branches if _OF_MATCHER.match(branch[2])]
    proof = Proof(compiled, ())
    for case in cases(compiled, (), seed) if asked else ():
        proof.add(case)
        if proof.left_out or proof.taken.issuperset(asked):
            break
    return [branch for branch in asked if proof.excludes(branch)]


class _Walk:
    """All classes of requests to one pipeline."""

    def __init__(self, compiled: CompiledPipeline, statements: Sequence[Statement], seed: int, most: int) -> None:
        self.compiled, self.statements, self.seed, self.most = compiled, statements, seed, most
        self.words = RequestFactory(compiled)
        stated = [one.when for one in compiled.spec.always if isinstance(one, AlwaysSpec) and one.when is not None]
        self.stated = [atom for when in stated for atom in _atoms(when)]
        self.specs = {one.id: one for one in compiled.spec.always if isinstance(one, AlwaysSpec)}
        own = (id_ for id_, options in compiled.options.items() if options.kind in OWN_LOGIC)
        self.authors = frozenset(["handler", "", *own])
        self.about = {id_: _about(spec) for id_, spec in self.specs.items()}
        self.unsure: list[str] = []
        self.unsayable: dict[str, None] = {}
        self.parts: dict[tuple[str | None, tuple[str, ...], str], list[Request]] = {}
        self.looks: dict[str, tuple[frozenset[str], list[Atom]]] = {}

    def cases(self) -> Iterator[FactCase]:
        """Breadth first for each root: the plain request, then what differs in ever more facts."""
        count = 0
        last: FactCase | None = None
        for root in self._roots():
            self.unsure = list(self._unsure(root))
            pending: list[dict[str, int]] = [{}]
            for assigned in pending:
                count += 1
                found = self._run(root, assigned, too_many=count >= self.most)
                if found is None:
                    continue
                case, facts = found
                last = case
                yield case
                if count >= self.most:
                    return
                taken = dict(assigned)
                for fact in facts:
                    if fact not in taken:
                        pending += [{**taken, fact: at} for at in range(1, len(self._parts_of(root, fact)))]
                        taken[fact] = 0
        if last is not None and self.unsayable:
            ids = (one.id for one in self.statements)
            yield last._replace(left_out=tuple(self.unsayable), open=dict.fromkeys(ids, next(iter(self.unsayable))))

    # One run.

    def _run(self, root: _Root, assigned: Mapping[str, int], *, too_many: bool) -> tuple[FactCase, list[str]] | None:
        """The case, and the facts that it read and that have classes; None where no request is so."""
        parts: Request = {}
        states: JsonObject = {}
        for fact, at in assigned.items():
            value = self._parts_of(root, fact)[at]
            if fact.startswith("state."):
                states.update(value)
            elif not _merge(parts, value):
                self.unsayable[f"requests that say {' and '.join(assigned)}"] = None
                return None
        scenario = Scenario("class", (_request(root, parts, self.compiled.credential_defaults.key_place),))
        ready = prepared(scenario, self.compiled, BASE)
        if ready is None:
            self.unsayable[f"requests that say {' and '.join(assigned)}"] = None
            return None
        run_state = WatchedWorld(self.compiled, self.seed)
        for key in [key for key in self.compiled.stateful if str(key) in states]:
            for memory in run_state.memories:
                memory[key] = states[str(key)]()
        done = ScenarioRun(scenario, tuple(judged.send for judged in run(run_state, ready)), ready.starts)
        x = done.last
        if root.item is not None and (x.route is None or x.route.id != root.item.route.id):
            return None  # its path belongs to another
        run_state.log.end()
        checks = {one.id: one.judge(x) for one in self.statements}
        reads = run_state.log.reads()
        run_state.log.on = False
        known: dict[str, None] = {}
        undivided = dict.fromkeys(self.unsure)
        for read in reads:
            try:
                if self._matters(root, read):
                    known[read.fact] = None
                    self._parts_of(root, read.fact)
            except _Undivided as why:
                known.pop(read.fact, None)
                undivided[str(why)] = None
        tried = tuple(id_ for id_, found in checks.items() if found is not None)
        if too_many:
            more = f"more than {self.most:,} classes of requests"
            return FactCase(done, (more,), tuple(map(str, states)), dict.fromkeys(list(checks), more), tried), []
        values = self._filled_in(root, x, assigned)
        open_: dict[str, str] = {}
        for one in self.statements:
            checked, spec = checks[one.id], self.specs.get(one.id)
            if any(not atom.test(x) for atom in self.about.get(one.id, ())):
                continue  # whatever becomes of it
            if undivided:
                open_[one.id] = next(iter(undivided))
            elif checked is not None and not all(check.ok for check in checked):
                open_[one.id] = "a state that nothing tried comes to" if states else BROKEN
            elif checked is not None and (reason := _unsettled(one.id, spec, x, self.authors, values)):
                open_[one.id] = reason
        return FactCase(done, tuple(undivided), tuple(map(str, states)), open_, tried), list(known)

    # What looks at a fact.

    def _options(self, root: _Root) -> list[StageOptions]:
        options = self.compiled.options
        return [options[id_] for id_ in self.words.order(root.item) if id_ in options]

    def _looks(self, part: Model, key: str) -> tuple[frozenset[str], list[Atom]]:
        """The facts that a part's matchers and placeholders name, and its atoms."""
        if key not in self.looks:
            atoms = [atom for _, when in _outermost(part) for atom in _atoms(when)]
            filled = [name for _, node in nodes(part, ()) if not isinstance(node, Model) for name in placeholders(node)]
            self.looks[key] = frozenset(map(_fact, (*filled, *(atom.fact for atom in atoms)))), atoms
        return self.looks[key]

    def _handler_looks(self, item: PlacedRoute) -> tuple[frozenset[str], list[Atom]]:
        return self._looks(item.spec.handler, f"handler of {item.route.id}")

    def _atoms_at(self, root: _Root) -> list[Atom]:
        own = [atom for options in self._options(root) for atom in self._looks(options, options.id)[1]]
        return [*self.stated, *own, *(self._handler_looks(root.item)[1] if root.item is not None else ())]

    def _unsure(self, root: _Root) -> Iterator[str]:
        """What can't be divided whatever was read: code of the user's, and facts that kinds write by themselves."""
        asked = {_fact(atom.fact) for atom in self._atoms_at(root)}
        for options in self._options(root):
            if options.kind == "python":
                yield f"the Python code of {options.id}"
            written = {f"context.{name}" for name in options.sets()}
            written |= {f"header.{name}" for name in options.changes_on_request()}
            for fact in sorted((written & asked) - {to for to, _, _ in options.copies()} - _dropped(options)):
                yield f"{options.id} writes {fact}"
        if root.item is not None and root.item.spec.handler.python is not None:
            yield f"the Python code of {root.item.route.id}"
        if not self._front_is_plain():
            yield "what fronts say of callers"

    def _front_is_plain(self) -> bool:
        deployment = self.compiled.spec.deployment
        front = deployment.in_front
        return not (front.ends_tls or front.sends != "nothing" or deployment.trusts_forwarded)

    def _matters(self, root: _Root, read: Read) -> bool:
        """Whether a read calls for the fact to be divided. Raises _Undivided where nobody says how it was read."""
        fact, by, how = read
        if by in ("front", "done") or fact in ("method", "header.host"):
            return False  # what is done when all is over writes into states and logs alone
        stage = self.compiled.stages.get(by)
        if stage is not None and stage.only_watches:
            return False
        if fact.startswith("state."):
            return True
        if how == "written":
            options = self.compiled.options.get(by)
            if options is not None and options.classes(fact) and self._is_copied(root, fact):
                raise _Undivided(f"{by} reads {fact}, which a stage fills in")
            return False
        if how == "presence" and fact.startswith("header."):
            return True
        if by == "always":
            known = fact in {_fact(atom.fact) for atom in self.stated}
        elif by == "router":
            return False  # the path is quoted, where no route has it
        elif by == "handler":
            item = root.item
            native = handler_classes(item.spec.handler, fact) if item is not None else None
            if native is not None:
                return bool(native)
            names = (
                self._looks(item.spec.handler, f"handler of {item.route.id}")[0] if item is not None else frozenset()
            )
            known = self._is_named(fact, names)
        elif by in self.compiled.options:
            options = self.compiled.options[by]
            native = options.classes(fact)
            if native is not None:
                return bool(native)
            if fact == "body" and options.kind == "read-body":
                return True
            known = fact == "path" or self._is_named(fact, self._looks(options, by)[0]) or self._shows(options, fact)
        else:
            known = False
        if not known and self.compiled.sequential:  # work on a draft is done beside another's step
            known = any(options.classes(fact) is not None for options in self._options(root))
        if not known:
            raise _Undivided(f"{by} reads {_WHOLE.get(fact, fact)}")
        return True

    @staticmethod
    def _is_named(fact: str, names: frozenset[str]) -> bool:
        return fact in names or (fact == "path" and any(name.partition(".")[0] == "path" for name in names))

    @staticmethod
    def _shows(options: StageOptions, fact: str) -> bool:
        """Whether callers show to this stage who they are there, in a way that is divided by accounts."""
        return any(_place(one) == fact for one in options.credentials() if one.scheme != "session-cookie")

    def _is_copied(self, root: _Root, fact: str) -> bool:
        texts = (text for options in self._options(root) for to, text, _ in options.copies() if to == fact)
        return any("${" in text for text in texts)

    # Classes.

    def _parts_of(self, root: _Root, fact: str) -> list[Request]:
        """What requests say for each class of a fact, the plain one first. Raises _Undivided."""
        key = (root.item.route.id if root.item is not None else None, root.paths if fact == "path" else (), fact)
        if key not in self.parts:
            found = self._divided(root, fact)
            if len(found) > _MOST_VALUES:
                raise _Undivided(f"{fact} has over {_MOST_VALUES} classes")
            self.parts[key] = found
        return self.parts[key]

    def _divided(self, root: _Root, fact: str) -> list[Request]:
        sort, _, name = fact.partition(".")
        if sort == "state":
            return self._situations(name)
        if sort == "path":
            if not root.divided:
                raise _Undivided("more patterns of paths than are told apart")
            return [{"path": path} for path in root.paths]
        if sort == "scheme":
            return [{"scheme": "https"}, {"scheme": "http"}]
        if sort == "body":
            return self._bodies(root)
        atoms = self._reached(root, fact)
        compared = any(atom.wanted not in ("missing", "present") for atom in atoms)
        own = [list(found) for options in self._options(root) if (found := options.classes(fact))]
        shown = [self._credentials(one) for o in self._options(root) for one in o.credentials() if _place(one) == fact]
        if (own or shown) and (compared or (own and shown)):
            raise _Undivided(f"{fact}, at which several look in ways of their own")
        if sort == "address":
            if not classes.are_networks(atoms):
                raise _Undivided("an address asked for by a pattern")
            return [{"address": value} for value in classes.addresses(atoms)]
        if sort == "host":
            values, _ = _texts(fact, atoms)
            return [{}, *({"headers": {"Host": value}} for value in values if value is not None)]
        if sort not in ("header", "query", "cookie") or name == "*" or fact == "header.cookie":
            raise _Undivided(_WHOLE.get(fact, fact))
        if shown:
            every = (one for several in shown for one in several)
            return list({repr(one): one for one in every}.values())
        if own:
            told = dict.fromkeys(text for value in own for one in value for text in _own_origins(one))
            return [_said(sort, name, value) for value in told]
        values, several = _texts(fact, atoms)
        parts = [_said(sort, name, value) for value in values]
        if sort == "query" and fact in self._names(root):
            parts.append(_said(sort, name, "made\nup"))
        return [*parts, *({"query": {name: [*many]}} for many in several)]

    def _bodies(self, root: _Root) -> list[Request]:
        """Bodies of each sort that whoever reads them tells apart."""
        readers = [options for options in self._options(root) if options.kind == "read-body"]
        route = root.item.spec if root.item is not None else None
        found = readers[0].bodies(route) if len(readers) == 1 else None
        if found is None or any(_fact(atom.fact) == "body.*" for atom in self._atoms_at(root)):
            raise _Undivided("the body")
        contents = handler_contents(route.handler, self.compiled.spec) if route is not None else []
        forms = [one for one in contents if isinstance(one, dict)]
        return [{}, *found, *({"json": one} for one in contents), *({"form": one} for one in forms)]

    def _filled_in(self, root: _Root, x: Exchange, assigned: Mapping[str, int]) -> list[str]:
        """Texts of the request and of its caller that a placeholder may have put anywhere."""
        names = self._names(root)
        said = (self._parts_of(root, fact)[at] for fact, at in assigned.items() if fact in names)
        found = [text for parts in said for text in _strings(parts)]
        if "path" in names:
            found += x.path_values.values()
        if x.identity is not None:
            own = x.identity._asdict()
            found += [
                text
                for key in own
                if any(name.startswith(f"identity.{key}") for name in names)
                for text in _strings(own[key])
            ]
        return found

    def _names(self, root: _Root) -> frozenset[str]:
        """The facts that placeholders of anything on the way name."""
        key = f"names of {root.item.route.id if root.item is not None else None}"
        if key not in self.looks:
            parts: list[Model] = [*self._options(root), *([root.item.spec.handler] if root.item is not None else [])]
            texts = (node for part in parts for _, node in nodes(part, ()) if isinstance(node, str))
            self.looks[key] = frozenset(_fact(name) for text in texts for name in placeholders(text)), []
        return self.looks[key][0]

    def _reached(self, root: _Root, fact: str) -> list[Atom]:
        """What is asked of a fact, and of all that stages copy it into. Raises _Undivided for other copies."""
        writes = [(to, text, o.id) for o in self._options(root) for to, text, _ in o.copies()]
        reached, pending = {fact}, [fact]
        for source in pending:
            for to, text, id_ in writes:
                if source not in map(_fact, placeholders(text)):
                    continue
                if text[2:-1].count("${") or _fact(text[2:-1]) != source:
                    if any(_fact(atom.fact) == to for atom in self._atoms_at(root)):
                        raise _Undivided(f"{id_} copies {source} into {to} with other text")
                    continue
                if to not in reached:
                    reached.add(to)
                    pending.append(to)
        return [atom for atom in self._atoms_at(root) if _fact(atom.fact) in reached]

    def _situations(self, key: str) -> list[Request]:
        for known, keeper in self.compiled.stateful.items():
            if str(known) == key:
                found = keeper.situations() if hasattr(keeper, "situations") else None
                if found is None:
                    break
                return [{}, *({key: make} for make in found)]
        name = key if key in self.compiled.options else re.sub(r"\W+", " ", key).strip()
        raise _Undivided(f"what {name} remembers")

    def _credentials(self, asked: AskedCredential) -> list[Request]:
        """What a caller may show in one place: nothing, who it is, and what doesn't count."""
        words = self.words
        accounts = words.people
        if len(accounts) > _MOST_ACCOUNTS:
            raise _Undivided(f"more than {_MOST_ACCOUNTS} accounts")
        if any(item.desk is not None for item in self.compiled.placed):
            raise _Undivided("what desks give")
        found: list[Request] = [{}]
        if asked.scheme == "api-key" and asked.place is not None:
            sort, name = asked.place
            found += [
                {"keys": {_place(asked): {"account": account, "text": key}}}
                for account, spec in accounts.items()
                for key in spec.api_keys[:1]
                if account in words.spec.accounts
            ]
            return [*found, _said(sort, name.lower() if sort == "header" else name, "a-made-up-key-of-nobody")]
        for account in words.spec.accounts:
            right = words.right_by(asked, account)
            if right is not None:
                found.append(dict(right.parts))
        if asked.scheme == "bearer" and (tokens := [one for one in found if one]):
            token = tokens[0]["sign"]
            found += [{"sign": {**token, "expires-in": "0s"}}, {"sign": {**token, "valid-in": "1h"}}]
            found += [{"sign": {**token, "issuer": "made-up"}}] * (asked.issuer is not None)
            found.append({"sign": {**token, "audience": "made-up"}})
            found.append({"sign": {**token, "claims": {"sub": "nobody-known"}}})
        wrong = {"bearer": "Bearer made-up.and.wrong", "basic": "Basic bm9ib2R5Ondyb25n"}[asked.scheme]
        return [*found, *({"headers": {"authorization": text}} for text in (wrong, "Made-Up made-up"))]

    # Where requests come to.

    def _roots(self) -> Iterator[_Root]:
        """Every method at every place that differs for somebody: routes, then what no route fits."""
        patterns, methods = self._patterns()
        placed = {item.route.id: item for item in self.compiled.placed}
        seen: set[object] = set()
        for item in self.compiled.placed:
            plain = path_of(item.route.template, {})
            paths = _paths(item, patterns)
            for method in dict.fromkeys([item.route.method, *methods]):
                route, _, allowed = self.compiled.router.find(method, _url(plain))
                if route is not None:
                    if placed[route.id] is item:
                        yield _Root(method, paths or (plain,), bool(paths), item)
                    continue
                for path in paths or (plain,):
                    alike = method, allowed, _fitting(path, patterns)
                    if alike not in seen:
                        seen.add(alike)
                        yield _Root(method, (path,), bool(paths), None)
        strange = _strange_paths(patterns)
        free = tuple(path for path in strange if not self._is_known(path, methods))
        for method in methods:
            yield _Root(method, free or ("/made-up/path",), bool(free), None)

    def _is_known(self, path: str, methods: Iterable[str]) -> bool:
        found = (self.compiled.router.find(method, _url(path)) for method in methods)
        return any(route is not None or allowed for route, _, allowed in found)

    def _patterns(self) -> tuple[list[str], list[str]]:
        """Every pattern of paths that anything goes by, and every method."""
        patterns: dict[str, None] = {}
        methods = dict.fromkeys(_METHODS)
        for options in self.compiled.options.values():
            for text in (*(options.only or ()), *(options.except_ or ())):
                named, path = split_request(text)
                patterns[path] = None
                methods |= dict.fromkeys(named)
        parts: list[Model] = [*self.compiled.options.values(), *(i.spec.handler for i in self.compiled.placed)]
        atoms = [*self.stated, *(atom for part in parts for _, when in _outermost(part) for atom in _atoms(when))]
        for atom in atoms:
            wanted = atom.wanted if isinstance(atom.wanted, list) else [atom.wanted]
            if atom.fact == "path":
                patterns |= dict.fromkeys(map(str, wanted))
            elif atom.fact == "method":
                methods |= dict.fromkeys(map(str, wanted))
        methods |= dict.fromkeys(item.route.method for item in self.compiled.placed)
        return list(patterns), list(methods)


_WHOLE = {"header.*": "all header fields", "query.*": "the whole query", "body": "the body", "body.*": "the body"}


def _fact(name: str) -> str:
    """A fact as reads name it: fields in lower case, bodies and paths whole."""
    root, _, rest = name.partition(".")
    if root == "header":
        return f"header.{rest.lower()}"
    return {"body": "body.*", "path": "path"}.get(root, name)


def _outermost(part: Model) -> Iterator[tuple[Any, When]]:
    """Matchers that stand in no other."""
    inner = {id(one) for _, when in within(part, (), When) for _, one in within(when, (), When) if one is not when}
    return ((path, when) for path, when in within(part, (), When) if id(when) not in inner)


def _atoms(when: When) -> Iterator[Atom]:
    pending: list[Atom | Condition] = [condition(when)]
    for part in pending:
        if isinstance(part, Atom):
            yield part
        else:
            pending += part.parts


def _dropped(options: StageOptions) -> set[str]:
    """Header fields that a stage only takes off requests: they are absent behind it."""
    puts = {to for to, _, _ in options.copies()}
    return {fact for name in options.changes_on_request() if (fact := f"header.{name}") not in puts}


def _place(asked: AskedCredential) -> str:
    """The fact in which a caller shows who it is."""
    if asked.place is None:
        return "header.authorization"
    sort, name = asked.place
    return f"{sort}.{name.lower() if sort == 'header' else name}"


def _texts(fact: str, atoms: Sequence[Atom]) -> tuple[list[str | None], list[tuple[str, ...]]]:
    """A text of each class, absent first; and of a parameter what it says where it is repeated. Raises _Undivided."""
    found = classes.text_classes(atoms)
    any_char = any("pattern" in repr(atom.wanted) and "." in repr(atom.wanted) for atom in atoms)
    if not found.whole or (fact.startswith("query.") and (found.blanks or any_char)):  # only there may lines end
        raise _Undivided(f"{fact}, whose patterns can't be told apart surely")
    several: list[tuple[str, ...]] = []
    if fact.startswith("query.") and atoms:
        texts = [value for value in found.values if value is not None]
        if len(texts) > _MOST_REPEATED:
            raise _Undivided(f"{fact}, repeated with several values")
        several = [many for size in range(2, len(texts) + 1) for many in combinations(texts, size)]
    return [None, *([value for value in found.values if value is not None] or [MADE_UP])], several


def _said(sort: str, name: str, value: str | None) -> Request:
    if value is None:
        return {}
    if sort == "cookie" and not _COOKIE.fullmatch(value):
        raise _Undivided(f"cookie.{name}, asked for a text that no cookie can hold")
    return {{"header": "headers", "query": "query", "cookie": "cookies"}[sort]: {name: value}}


_COOKIE = re.compile(r"[!#-+\x2d-:<-\[\]-~]*")
"""What a cookie's value may hold (RFC 6265 4.1.1)."""


def _merge(parts: Request, more: Request) -> bool:
    """Lay what one fact says onto what others say. Whether a request can say both."""
    for key, value in more.items():
        if key == "sign" and key in parts:
            return False
        if isinstance(value, dict) and key != "sign":
            parts[key] = {**parts.get(key, {}), **value}
        else:
            parts[key] = value
    return True


def _request(root: _Root, parts: Request, key_place: tuple[str, str] | None) -> Request:
    """The request to a root with these parts; a key is minted by the account's name where that can be said."""
    rest = dict(parts)
    for place, key in rest.pop("keys", {}).items():
        sort, _, name = place.partition(".")
        if (
            "sign" not in rest
            and key_place is not None
            and (key_place[0], key_place[1].lower()) == (sort, name.lower())
        ):
            rest["sign"] = {"api-key": key["account"]}
        else:
            _merge(rest, _said(sort, name, key["text"]))
    target = rest.pop("path", root.paths[0])
    query, cookies = rest.pop("query", {}), rest.pop("cookies", {})
    if query:
        target += "?" + urlencode(query, doseq=True)
    if (scheme := rest.pop("scheme", "https")) != "https":
        target = f"{scheme}://{HOST}{target}"
    if cookies:
        pairs = (f"{name}={value}" for name, value in cookies.items())
        rest["headers"] = {**rest.get("headers", {}), "Cookie": "; ".join(pairs)}
    return {"send": f"{root.method} {target}", **rest}


def _paths(item: PlacedRoute, patterns: Sequence[str]) -> tuple[str, ...]:
    """Paths of a route, one of each class that patterns tell apart, the plain one first; none if there are too many."""
    values, segments = ["1", *_spelled(patterns)], item.route.template.segments
    sizes = [values if sort != "literal" else [text] for sort, text in segments]
    return unlike_paths(sizes, values if segments[-1][0] == "tail" else [], patterns)


def _strange_paths(patterns: Sequence[str]) -> tuple[str, ...]:
    """Paths of each class, whatever their length; none if there are too many."""
    values = ["made-up", "", *_spelled(patterns)]
    return unlike_paths([values], values, patterns)


def _spelled(patterns: Sequence[str]) -> list[str]:
    return list(dict.fromkeys(part for pattern in patterns for part in split_pattern(pattern) if part and part != MANY))


_Places = tuple[frozenset[int], ...]
"""For each pattern, before which of its parts a path may stand."""


def unlike_paths(sizes: Sequence[Sequence[str]], more: Sequence[str], patterns: Sequence[str]) -> tuple[str, ...]:
    """A path for each set of patterns that fit: a segment of each of ``sizes``, then any number of ``more``."""
    parts = [split_pattern(pattern) for pattern in patterns]
    reached: dict[_Places, tuple[str, ...]] = {tuple(_closed(one, {0}) for one in parts): ()}
    for size in sizes:
        after: dict[_Places, tuple[str, ...]] = {}
        for places, path in reached.items():
            for text in size:
                after.setdefault(_stepped(parts, places, text), (*path, text))
        reached = after
    pending = list(reached) if more else []
    for places in pending:
        for text in more:
            beyond = _stepped(parts, places, text)
            if beyond not in reached:
                reached[beyond] = (*reached[places], text)
                pending.append(beyond)
        if len(reached) > _MOST_PLACES:
            return ()
    found: dict[tuple[bool, ...], str] = {}
    for path in reached.values():
        text = "/" + "/".join(quote(segment, safe="") for segment in path)
        found.setdefault(_fitting(text, patterns), text)
    return tuple(found.values())


def _closed(parts: Sequence[str | None], places: Iterable[int]) -> frozenset[int]:
    """The places, and those behind a ``**`` that takes nothing."""
    found = set(places)
    for place in sorted(found):
        while place < len(parts) and parts[place] == MANY:
            place += 1
            found.add(place)
    return frozenset(found)


def _stepped(parts: Sequence[Sequence[str | None]], places: _Places, text: str) -> _Places:
    """The places after one segment more."""

    def after(one: Sequence[str | None], place: int) -> Iterator[int]:
        if place < len(one):
            if one[place] == MANY:
                yield place
            elif one[place] == text or (one[place] is None and text):
                yield place + 1

    return tuple(
        _closed(one, (to for place in here for to in after(one, place)))
        for one, here in zip(parts, places, strict=True)
    )


def _fitting(path: str, patterns: Sequence[str]) -> tuple[bool, ...]:
    segments = _url(path).segments
    return tuple(path_pattern(pattern)(segments) for pattern in patterns)


def _url(path: str) -> Url:
    return Url("https", HOST, 443, path, "")


# Whether a statement is settled by one request of a class.

_SHAPE = {
    "status", "outcome", "answered_by", "refused_by", "raised_by", "why", "route", "raised", "handler", "order", "ran",
    "skipped", "role", "cache", "headers",
}  # fmt: skip
"""What no value of the request's goes into."""
_COUNTED = re.compile(
    r"(?i)date|age|etag|expires|last-modified|content-length|content-range|set-cookie|retry-after|x?-?ratelimit.*|"
    r"x-request-id|traceparent|.*digest|location|server-timing|access-control-allow-.*"
)
"""Fields of answers that hold times, counts, ids, or sums of what was asked."""


def _about(spec: AlwaysSpec) -> list[Atom]:
    """What a statement asks of the method, the path and the route: where that doesn't fit, it says nothing."""
    parts = condition(spec.when).parts if spec.when is not None else ()
    return [one for one in parts if isinstance(one, Atom) and one.fact in ("method", "path", "route", "environment")]


def _unsettled(
    id_: str, spec: AlwaysSpec | None, x: Exchange, authors: frozenset[str], values: Sequence[str]
) -> str | None:
    """Why a statement that holds for this request may not for others of its class; None where it does."""
    if spec is None:
        texts: list[str] = []
        if id_ == "errors-have-one-shape" and x.answer is not None:
            texts = [x.answer.fields.get("content-type") or ""]
        for error in x.errors if id_ == "errors-stay-private" else ():
            texts += [error.where, error.cause, error.stack]
            texts += [error.message] * (error.raised_by in authors)
        return "what it looks at holds parts of the request" if _holds_any(texts, values) else None
    for key in sorted(spec.expect.model_fields_set - _SHAPE):
        return f"its expectation reads {key.rstrip('_')}"
    for name, wanted in (spec.expect.headers or {}).items():
        if wanted in ("missing", "present"):
            continue
        shown = x.answer.fields.get(name.lower()) or "" if x.answer is not None else ""
        if _COUNTED.fullmatch(name) or _holds_any([shown], values):
            return f"its expectation reads the value of {name}"
    return None


def _holds_any(texts: Sequence[str], values: Sequence[str]) -> bool:
    """Whether a text holds one of these; header fields and messages hold what is filled in as it is."""
    return any(value in text for text in texts for value in values if value)


def _strings(part: object) -> Iterator[str]:
    """Every text within a part of a request, or of who sent it."""
    if isinstance(part, str):
        yield part
    elif isinstance(part, Mapping):
        for key, value in part.items():
            if key not in ("sign", "scheme"):
                yield from _strings(value)
    elif isinstance(part, list | tuple):
        for one in part:
            yield from _strings(one)


def _own_origins(value: str | None) -> Iterator[str | None]:
    """The service's own origin, as stages that compare with it name it, for both schemes."""
    yield from (f"http://{HOST}", f"https://{HOST}") if value == "${own}" else (value,)
