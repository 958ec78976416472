"""``cache``: stores and reuses answers as a shared cache (RFC 9111)."""

from __future__ import annotations

from collections import Counter, OrderedDict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any, Literal

from patient_usher.core.http.caching import (
    COVERED,
    Stored,
    bars_storing,
    directives,
    freshened,
    invalidates,
    may_cover_error,
    may_use,
    unshared_fields,
    validators,
    varies_alike,
    vary_of,
)
from patient_usher.core.http.conditional import CONDITIONS, as_not_modified, evaluate
from patient_usher.core.http.dates import MICROSECONDS, http_date, in_seconds
from patient_usher.core.http.messages import Answer, Request
from patient_usher.core.model import stage as base
from patient_usher.core.model.effects import AnswerAndPass, Effect, Hold
from patient_usher.core.model.errors import Raised, refusal
from patient_usher.core.model.exchange import CacheUse, Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.routes import CacheRule
from patient_usher.core.model.scalars import Size
from patient_usher.core.model.values import Reader, reader

Key = tuple[Any, ...]
"""Route, URL, what makes a copy of its own, and whose it is."""


class Options(StageOptions):
    """What is stored, how much, and what callers may say and are told."""

    stores: Literal["opted-in", "any-cacheable"] = "opted-in"
    capacity: Size = 64 << 20
    heuristic_freshness: bool = False
    honours_reload: bool = False
    collapse: bool = False
    status_field: bool = False


@dataclass
class _Work:
    """What the stage knows of an exchange on its way in, for its way out."""

    use: CacheUse
    key: Key | None = None
    rule: CacheRule | None = None
    stored: Stored | None = None
    asked: Request | None = None
    at: int = 0
    known: bool = False
    leads: bool = False
    waited: bool = False
    forward: str = "miss"


@dataclass
class _Flight:
    """A miss under way, and the exchanges that wait for it."""

    waiting: list[Callable[[], None]] = field(default_factory=list)


class Shelf:
    """The state: per key the variants, least recently used first out; and what became of look-ups."""

    def __init__(self) -> None:
        self.kept: OrderedDict[Key, list[Stored]] = OrderedDict()
        self.size = 0
        self.flights: dict[Key, _Flight] = {}
        self.ended: Counter[str] = Counter()


class Stage(base.Stage):
    """One store on each instance, unless its state is shared."""

    keeps_state = True
    out_work = "registered"

    def __init__(self, options: Options, setup: base.Setup) -> None:
        self.id = options.id
        self.any = options.stores == "any-cacheable"
        self.capacity, self.heuristic = options.capacity, options.heuristic_freshness
        self.honours, self.collapse, self.tells = options.honours_reload, options.collapse, options.status_field
        self.readers = lru_cache(maxsize=1024)(_readers)

    def fresh(self, seed: int) -> Shelf:
        """Nothing is stored."""
        return Shelf()

    @staticmethod
    def savings(states: Iterable[Shelf]) -> str | None:
        """How many look-ups were hits, in a sentence."""
        ended = sum((state.ended for state in states), Counter[str]())
        asked = sum(ended[state] for state in ("hit", "miss", "stale", "revalidated"))
        if not asked:
            return None
        ratio = 100 * ended["hit"] // asked
        return f"cache: {ended['hit']} of {asked} look-ups were hits ({ratio}%), as many handler runs saved"

    def _shelf(self, x: Exchange) -> Shelf:
        shelf: Shelf = x.memory[self.key]
        return shelf

    def _work(self, x: Exchange) -> _Work:
        work: _Work = x.work[self.key]
        return work

    # On the way in.

    def way_in(self, x: Exchange) -> Effect:
        """Answer from the store, or go on and remember what for."""
        work = x.work[self.key] = _Work(CacheUse(self.id))
        owner = x.shadow_of or x
        owner.caches += (work.use,)
        work.at, work.known = x.now, x.identity is not None
        work.rule = x.route.settings.cache if x.route is not None else None
        if x.request.method not in ("GET", "HEAD"):
            return self._pass_by(x, work, "bypass", "method")
        if not self.any:
            if work.rule is None:
                return self._pass_by(x, work, "not-opted-in", None)
            if work.rule.never:
                return self._pass_by(x, work, "bypass", "never")
            if work.rule.shared is None:
                return self._pass_by(x, work, "private-only", None)
        return self._look_up(x)

    def _pass_by(self, x: Exchange, work: _Work, state: str, why: str | None) -> Effect:
        work.use.state, work.use.why = state, why
        work.forward = "method" if why == "method" else "bypass"
        x.note = {"cache": state}
        return None

    def _key(self, x: Exchange, rule: CacheRule | None) -> Key:
        url = x.request.url
        if rule is None or self.any:
            return (x.route.id if x.route else None, url.text)
        own = x.identity.name if x.identity is not None and self._is_personal(x, rule) else None
        if rule.per is None:
            return (x.route.id, url.origin + url.path, url.query, own)
        values = tuple(read(x) for read in self.readers(tuple(rule.per)))
        return (x.route.id, url.origin + url.path, values, own)

    @staticmethod
    def _is_personal(x: Exchange, rule: CacheRule) -> bool:
        """Whether a copy belongs to one caller: nobody ever gets another's, unless the route says so."""
        if rule.same_for == "everyone":
            return False
        access = x.route.access
        return x.identity is not None or access is None or access.who != "everyone"

    def _look_up(self, x: Exchange) -> Effect:
        work = self._work(x)
        key = work.key = self._key(x, work.rule)
        fields, now = x.request.fields, x.now
        stored = self._variant(key, x)
        if stored is not None:
            honours = self.any or self.honours
            use = may_use(stored, fields, now, shared=True, heuristic=self.heuristic, honours_request=honours)
            work.use.age = use.age
            if use.how == "fresh" or use.why == "max-stale":
                return self._hit(x, work, stored, use.lifetime - use.age)
            if use.how == "stale":
                work.stored, work.use.why = stored, use.why
                answer = self._hit(x, work, stored, use.lifetime - use.age)
                return AnswerAndPass(answer, refreshes=True)
        if self.any and "only-if-cached" in directives(fields):  # RFC 9111 5.2.1.7
            work.use.state, work.use.why = "miss", "only-if-cached"
            return refusal("Timeout", "only-if-cached", public="Nothing is stored for this")
        if self.collapse and x.request.method == "GET" and not work.waited:
            flight = self._shelf(x).flights.get(key)
            if flight is not None:
                work.waited = True  # once: what could not be stored then is not waited for again
                x.note = {"cache": "waits for the same miss"}
                return Hold(flight.waiting, self._look_up)
            self._shelf(x).flights[key] = _Flight()
            work.leads = True
        return self._forward(x, work, stored)

    def _forward(self, x: Exchange, work: _Work, stored: Stored | None) -> Effect:
        work.stored, work.asked = stored, x.request
        work.use.state = "miss" if stored is None else "stale"
        work.forward = "uri-miss" if stored is None else "stale"
        asking = validators(stored) if stored is not None else []
        # What is stored must be the whole answer, not a 304 to somebody's own copy.
        if asking or any(name in x.request.fields for name in CONDITIONS):
            fields = x.request.fields.copy()
            for name in CONDITIONS:
                fields.drop(name)
            for name, value in asking:
                fields.put(name, value)
            x.request = x.request.with_fields(fields)
        x.note = {"cache": work.use.state}
        return None

    def _variant(self, key: Key, x: Exchange) -> Stored | None:
        shelf = self._shelf(x)
        variants = shelf.kept.get(key)
        if variants is None:
            return None
        shelf.kept.move_to_end(key)
        return next((stored for stored in reversed(variants) if varies_alike(stored, x.request.fields)), None)

    def _hit(self, x: Exchange, work: _Work, stored: Stored, ttl: int) -> Answer:
        work.use.state = "hit"
        answer = self._from_store(x, stored, work.use.age)
        if self.tells:
            answer.fields.add("Cache-Status", f"{_name(self.id)}; hit; ttl={ttl // MICROSECONDS}")
        x.note = {"cache": "hit", "age": in_seconds(work.use.age or 0)}
        return answer

    @staticmethod
    def _from_store(x: Exchange, stored: Stored, age: int | None) -> Answer:
        """The stored answer with its age; a 304 where the caller has it already (RFC 9111 4.3.2)."""
        answer = stored.answer.copy()
        answer.fields.put("Age", str((age or 0) // MICROSECONDS))
        asked = x.sent.fields
        status = evaluate(x.request.method, asked, answer.fields.get("etag"), answer.fields.get("last-modified"))
        return Answer(304, as_not_modified(answer.fields)) if status == 304 else answer

    # On the way out.

    def way_out(self, x: Exchange) -> Effect:
        """Store, refresh or invalidate; write Cache-Control where the route asks and the handler didn't."""
        work = self._work(x)
        answer = x.answer
        assert answer is not None
        if work.stored is not None and answer.status == 304 and work.asked is not None:
            self._revalidated(x, work, answer)
            return None
        if answer.status in COVERED and work.stored is not None and self._covers(work.stored, x.now):
            x.answer = self._cover(x, work)
            return None
        if invalidates(x.request.method, answer.status):
            self._invalidate(x)
        wrote = self._write_control(x, work, answer)
        if work.key is not None and x.request.method == "GET":
            why = self._bars(x, work, answer, wrote)
            if not why:
                self._put(x, work, answer)
            work.use.stored, work.use.why = not why, why or work.use.why
        if work.asked is not None and answer.status == 200:
            fields = answer.fields
            status = evaluate(x.request.method, work.asked.fields, fields.get("etag"), fields.get("last-modified"))
            if status == 304:
                x.answer = Answer(304, as_not_modified(fields))
        if self.tells:
            stored = "; stored" if work.use.stored else ""
            x.answer.fields.add("Cache-Status", f"{_name(self.id)}; fwd={work.forward}{stored}")  # type: ignore[union-attr]
        if work.use.stored:
            x.note = {"stored": True}
        return None

    def way_error(self, x: Exchange, error: Raised) -> Effect:
        """A stale copy may stand in for an error (RFC 5861 4)."""
        work = self._work(x)
        failed = error.status is None or error.status in COVERED
        if work.stored is None or not failed or not self._covers(work.stored, x.now):
            return None
        return self._cover(x, work)

    def _covers(self, stored: Stored, now: int) -> bool:
        return may_cover_error(stored, now, shared=True, heuristic=self.heuristic)

    def _cover(self, x: Exchange, work: _Work) -> Answer:
        assert work.stored is not None
        work.use.state, work.use.why = "hit", "stale-if-error"
        return self._from_store(x, work.stored, work.use.age)

    def _revalidated(self, x: Exchange, work: _Work, answer: Answer) -> None:
        assert work.stored is not None
        assert work.key is not None
        fresh = freshened(work.stored, answer.fields, work.at, x.now)
        self._replace(self._shelf(x), work.key, work.stored, fresh)
        work.use.state, work.use.stored, work.use.age = "revalidated", True, 0
        x.answer = self._from_store(x, fresh, 0)
        if self.tells:
            x.answer.fields.add("Cache-Status", f"{_name(self.id)}; fwd=stale; fwd-status=304; stored")
        x.note = {"cache": "revalidated"}

    def _write_control(self, x: Exchange, work: _Work, answer: Answer) -> bool:
        """Write what the route says, where the handler said nothing. Whether it was written."""
        rule = work.rule
        if rule is None or self.any or x.request.method not in ("GET", "HEAD") or "cache-control" in answer.fields:
            return False
        if not 200 <= answer.status < 400:
            return False
        answer.fields.put("Cache-Control", control(rule, self._is_personal(x, rule)))
        return True

    def _bars(self, x: Exchange, work: _Work, answer: Answer, wrote: bool) -> str:
        asked = (work.asked or x.request).fields
        if self.any:
            return bars_storing("GET", answer.status, asked, answer.fields, shared=True)
        if "set-cookie" in answer.fields:
            return "set-cookie"
        if not 200 <= answer.status < 400 or answer.status == 206:
            return "status"
        if "no-store" in directives(asked):  # RFC 9111 5.2.1.5
            return "request-no-store"
        if "authorization" in asked and not work.known:
            return "authorization"  # it is somebody's, and nobody knows yet whose
        if wrote:  # the route asked for it: only what no cache can do bars it
            return "vary-all" if "*" in (answer.fields.get("vary") or "") else ""
        return bars_storing("GET", answer.status, asked, answer.fields, shared=True)

    def _put(self, x: Exchange, work: _Work, answer: Answer) -> None:
        assert work.key is not None
        asked = (work.asked or x.request).fields
        copy = answer.copy()
        for name in unshared_fields(answer.fields):
            copy.fields.drop(name)
        if "date" not in copy.fields:
            copy.fields.put("Date", http_date(x.now))
        lifetime = work.rule.shared if work.rule is not None and not self.any else None
        stored = Stored(copy, work.at, x.now, vary_of(asked, answer.fields), lifetime)
        shelf = self._shelf(x)
        variants = shelf.kept.setdefault(work.key, [])
        for old in [old for old in variants if old.vary == stored.vary]:
            variants.remove(old)
            shelf.size -= _octets(old)
        variants.append(stored)
        shelf.size += _octets(stored)
        shelf.kept.move_to_end(work.key)
        while shelf.size > self.capacity and shelf.kept:
            _, gone = shelf.kept.popitem(last=False)
            shelf.size -= sum(map(_octets, gone))

    @staticmethod
    def _replace(shelf: Shelf, key: Key, old: Stored, new: Stored) -> None:
        variants = shelf.kept.get(key)
        if variants is not None and old in variants:
            variants[variants.index(old)] = new
            shelf.size += _octets(new) - _octets(old)

    def _invalidate(self, x: Exchange) -> None:
        """RFC 9111 4.4: the URL itself; and the routes that this one clears."""
        shelf, url = self._shelf(x), x.request.url
        clears = x.route.settings.clears if x.route is not None else ()
        gone = [key for key in shelf.kept if key[0] in clears or key[1] in (url.text, url.origin + url.path)]
        for key in gone:
            shelf.size -= sum(map(_octets, shelf.kept.pop(key)))
        if gone:
            x.note = {"cleared": len(gone)}

    def done(self, x: Exchange, how: str) -> None:
        """Whoever waits for this miss may look again."""
        work = x.work.get(self.key)
        if work is None:
            return
        shelf = self._shelf(x)
        shelf.ended[work.use.state] += 1
        if work.leads and work.key is not None:
            flight = shelf.flights.pop(work.key, None)
            for wake in flight.waiting if flight is not None else ():
                wake()


def _readers(per: tuple[str, ...]) -> list[Reader]:
    """What reads the values that make a copy of its own."""
    return [reader("identity.name" if name == "identity" else name) for name in per]


def control(rule: CacheRule, personal: bool) -> str:
    """Cache-Control as a route's two lifetimes ask for it, in whole seconds."""
    shared = rule.shared // MICROSECONDS if rule.shared is not None else None
    private = rule.private // MICROSECONDS if rule.private is not None else None
    if rule.never:
        return "no-store"
    if personal or shared is None:
        return f"private, max-age={private or 0}"
    if private is None:
        return f"max-age=0, s-maxage={shared}"
    return f"max-age={private}" if private == shared else f"max-age={private}, s-maxage={shared}"


def _octets(stored: Stored) -> int:
    fields: Iterable[tuple[str, str]] = stored.answer.fields
    return len(stored.answer.body) + sum(len(name) + len(value) + 4 for name, value in fields)


def _name(id_: str) -> str:
    """A structured field's name for the cache (RFC 9211 2): a token where it can be one."""
    return id_ if id_[0].isalpha() else f'"{id_}"'
