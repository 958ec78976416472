"""Statements held against every exchange of a replay: how often each was tried, held, and was broken."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, NamedTuple

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.replay import Send
from patient_usher.core.http.media import parse_media_type
from patient_usher.core.model.always import AlwaysSpec
from patient_usher.core.model.enumerations import OWN_LOGIC, SLIPS
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.matcher import compile_when
from patient_usher.core.model.words import counted
from patient_usher.core.verify.expectations import Check, compile_expect

Judge = Callable[[Exchange], list[Check] | None]
"""What an exchange says of a statement: None where it says nothing, else checks; all of them must be ok."""

MOST_CALLERS = 20_000
"""Of so many callers is counted apart how often they broke a statement."""
MOST_IDS = 1000
"""How many exchanges that break a statement are named."""


class Statement:
    """One statement, and what became of it so far."""

    def __init__(self, id_: str, judge: Judge) -> None:
        self.id, self.judge = id_, judge
        self.held = self.failed = 0
        self.broken: list[str] = []
        self.first: list[Check] = []
        """What the first exchange that broke it failed."""
        self.noticed = ""
        """What whoever sent that got."""
        self.places: list[tuple[str, int]] = []
        """Where in the traces those stand that are named: file and line."""
        self.callers: Counter[str] = Counter()
        """How often it was broken by requests from which address."""

    def __getstate__(self) -> dict[str, object]:
        """What it has come to; how it judges stays in its process."""
        return {name: value for name, value in self.__dict__.items() if name != "judge"}

    def add(self, x: Exchange) -> bool:
        """Hold it against one exchange. Whether that broke it."""
        checks = self.judge(x)
        if checks is None:
            return False
        if all(check.ok for check in checks):
            self.held += 1
            return False
        self.failed += 1
        self.first = self.first or [check for check in checks if not check.ok]
        self.noticed = self.noticed or _got(x)
        address = x.address or x.sent.peer
        self.callers[address if address in self.callers or len(self.callers) < MOST_CALLERS else "others"] += 1
        if len(self.broken) < MOST_IDS:
            self.broken.append(x.id)
            self.places.append(x.send.entry.spot[:2] if x.send is not None else ("", 0))
        return True

    def take(self, other: Statement, order: Mapping[str, int]) -> None:
        """Count what the same statement came to in another replay; ``order``: in which order files come, if it isn't
        all of what comes later.
        """
        self.held += other.held
        self.failed += other.failed
        self.callers.update(other.callers)
        named = [*zip(self.places, self.broken, strict=True), *zip(other.places, other.broken, strict=True)]
        if order:
            named.sort(key=lambda one: (order[one[0][0]], one[0][1]))
        if named and named[0][0] not in self.places[:1]:
            self.first, self.noticed = other.first, other.noticed
        self.places, self.broken = [place for place, _ in named[:MOST_IDS]], [id_ for _, id_ in named[:MOST_IDS]]


class Statements:
    """All statements of a pipeline, for one replay."""

    def __init__(self, compiled: CompiledPipeline) -> None:
        self.all: list[Statement] = []
        self.needs_journeys = False
        for entry in compiled.spec.always:
            if isinstance(entry, AlwaysSpec):
                self.all.append(Statement(entry.id, _own(entry)))
                self.needs_journeys |= bool(entry.expect.model_fields_set & {"order", "ran", "skipped", "log"})
            else:
                self.all.append(Statement(entry, READY[entry](compiled)))

    def add(self, send: Send) -> tuple[str, ...]:
        """Hold them against every exchange of a send. Returns the ids of those that it broke."""
        if not self.all:
            return ()
        sent = [x for x in send.exchanges if x.outcome != "not-sent"]
        # Every one is held against all of them, whatever the first says: some remember what they have seen.
        return tuple(one.id for one in self.all if sum(one.add(x) for x in sent))

    def hold(self, x: Exchange) -> tuple[str, ...]:
        """Hold them against an exchange that stands alone. Returns the ids of those that it broke."""
        return tuple([one.id for one in self.all if one.add(x)]) if self.all else ()

    def take(self, other: Statements, files: Sequence[str] = ()) -> None:
        """Count what the same statements came to in another replay, of ``files`` or of what comes after all before."""
        places = {file: number for number, file in enumerate(files)}
        for mine, theirs in zip(self.all, other.all, strict=True):
            mine.take(theirs, places)

    @property
    def broken(self) -> bool:
        """Whether any doesn't hold."""
        return any(statement.failed for statement in self.all)


def _got(x: Exchange) -> str:
    """What whoever sent it got, in a few words."""
    answer = f"gets {x.answer.status}" if x.answer is not None else "gets no answer"
    return f"{x.sent.method} {x.sent.url.path} {answer}"


def _own(spec: AlwaysSpec) -> Judge:
    fits, rules = compile_when(spec.when), compile_expect(spec.expect)

    def judge(x: Exchange) -> list[Check] | None:
        if fits is not None and not fits(x):
            return None
        return [check for rule in rules for check in rule(x)]

    return judge


def _judge(what: str, wanted: str, tried: Callable[[Exchange], bool], broken: Callable[[Exchange], object]) -> Judge:
    """A judge from two questions: whether the exchange says anything, and what of it breaks the statement."""

    def judge(x: Exchange) -> list[Check] | None:
        if not tried(x):
            return None
        found = broken(x)
        return [Check(what, wanted, found, not found)]

    return judge


# The ready-made ones.


def _errors_stay_private(compiled: CompiledPipeline) -> Judge:
    """Of messages only the author's count: what our own stages raise has words that are meant for callers."""
    production = "production" in compiled.environment
    public = [one.message for one in compiled.spec.errors.values() if one.message]
    public += [text for options in compiled.options.values() for text in options.tells()]
    own = {id_ for id_, options in compiled.options.items() if options.kind in OWN_LOGIC}

    def told(x: Exchange) -> list[str]:
        assert x.answer is not None
        text = x.answer.content.decode(errors="replace") + "\n".join(value for _, value in x.answer.fields)
        parts = (
            part
            for e in x.errors
            for part in (e.message if e.raised_by in {*own, "handler", ""} else "", e.where, e.cause, e.stack)
            if len(part) > 7 and part not in (e.public or "") and not any(part in words for words in public)
        )
        return [part for part in parts if part in text]

    return _judge("private parts", "none", lambda x: production and bool(x.errors) and x.answer is not None, told)


def _errors_have_one_shape(compiled: CompiledPipeline) -> Judge:
    media = {essence for options in compiled.options.values() if options.enabled for essence in options.error_media()}

    def tried(x: Exchange) -> bool:
        return bool(media) and x.answer is not None and x.answer.status >= 400 and bool(x.answer.body)

    def odd(x: Exchange) -> str | None:
        assert x.answer is not None
        essence = parse_media_type(x.answer.fields.get("content-type") or "")[0]
        return None if essence in media else essence or "no Content-Type"

    return _judge("form of the error", " or ".join(sorted(media)), tried, odd)


def _copies_stay_private(compiled: CompiledPipeline) -> Judge:
    """Whoever has made a copy may have it again; so may everybody, where nobody in particular has made it."""
    makers: dict[str, set[tuple[Any, ...]]] = {}
    fields = {"authorization", "cookie"}
    for options in compiled.options.values():
        fields |= {
            found.place[1].lower() for found in options.credentials() if found.place and found.place[0] == "header"
        }

    def shown(x: Exchange) -> tuple[object, ...]:
        return tuple((name, value) for name in sorted(fields) if (value := x.sent.fields.get(name)) is not None)

    def tried(x: Exchange) -> bool:
        use = x.caches[-1] if x.caches else None
        rule = x.route.settings.cache if x.route is not None else None
        if use is None or (rule is not None and rule.same_for == "everyone"):
            return False
        place = x.sent.url.text
        if use.stored and x.identity is not None:
            makers.setdefault(place, set()).update({("name", x.identity.name), shown(x)})
        return use.state == "hit" and place in makers

    def another(x: Exchange) -> str | None:
        known = makers[x.sent.url.text]
        if shown(x) in known or (x.identity is not None and ("name", x.identity.name) in known):
            return None
        return "a copy that was made for " + " or ".join(sorted(entry[1] for entry in known if entry[:1] == ("name",)))

    return _judge("copy", "one's own", tried, another)


def _one_content_type(compiled: CompiledPipeline) -> Judge:
    def lines(x: Exchange) -> str | None:
        assert x.answer is not None
        count = len(x.answer.fields.values("content-type"))
        return None if count == 1 else f"{count or 'none'}"

    return _judge("Content-Type", "one", lambda x: x.answer is not None and bool(x.answer.body), lines)


def _preflights_are_free(compiled: CompiledPipeline) -> Judge:
    def counted(x: Exchange) -> list[str]:
        return [use.stage for use in x.rates]

    def preflight(x: Exchange) -> bool:
        fields = x.sent.fields
        return x.sent.method == "OPTIONS" and "origin" in fields and "access-control-request-method" in fields

    return _judge("counted by", "nothing", preflight, counted)


def _strangers_stay_outside(compiled: CompiledPipeline) -> Judge:
    """Where nothing at all finds out who calls, everybody is a stranger: that is no breach of anything."""
    asks = any(options.enabled and list(options.credentials()) for options in compiled.options.values())

    def guarded(x: Exchange) -> bool:
        if not asks or x.route is None or x.identity is not None:
            return False
        return x.route.access is None or x.route.access.who != "everyone"

    return _judge("handler", "not-reached", guarded, lambda x: "reached" if x.handler_reached else None)


def _no_slips(compiled: CompiledPipeline) -> Judge:
    return _judge("outcome", "no slip", lambda x: True, lambda x: x.outcome if x.outcome in SLIPS else None)


READY: dict[str, Callable[[CompiledPipeline], Judge]] = {
    "errors-stay-private": _errors_stay_private,
    "errors-have-one-shape": _errors_have_one_shape,
    "copies-stay-private": _copies_stay_private,
    "one-content-type": _one_content_type,
    "preflights-are-free": _preflights_are_free,
    "strangers-stay-outside": _strangers_stay_outside,
    "no-slips": _no_slips,
}
"""By name, what makes the judge of a ready-made statement for a pipeline."""


class StatementTold(NamedTuple):
    """What became of a statement: ``held``, ``broken`` or ``never-tried``, and a sentence."""

    id: str
    verdict: str
    tried: int
    sentence: str


def told(statements: Iterable[Statement]) -> list[StatementTold]:
    """What became of each."""
    return [_told(statement) for statement in statements]


def _told(one: Statement) -> StatementTold:
    if one.failed:
        ids = ", ".join(one.broken[:6]) + (f" and {one.failed - 6:,} more" if one.failed > 6 else "")
        check = one.first[0]
        why = f"{one.noticed}; {check.what}: expected {check.expected}, got {check.actual}"
        most = sorted(one.callers.items(), key=lambda item: (-item[1], item[0]))
        who = ", ".join(f"{count:,} from {caller}" for caller, count in most[:3])
        more = f" and {len(most) - 3:,} more callers" if len(most) > 3 else ""
        by = f": {who}{more}" if one.failed > 6 else ""
        return StatementTold(
            one.id, "broken", one.held + one.failed, f"invariant {one.id}: broken by {ids}{by} ({why})"
        )
    if one.held:
        times = counted(one.held, "time")
        return StatementTold(one.id, "held", one.held, f"invariant {one.id}: held {times}")
    return StatementTold(one.id, "never-tried", 0, f"invariant {one.id}: never tried")
