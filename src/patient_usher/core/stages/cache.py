"""``cache``: stores and reuses answers as a shared cache (RFC 9111)."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any, Literal

from patient_usher.core.http.caching import (
    Stored,
    bars_storing,
    directives,
    freshened,
    invalidates,
    may_cover_error,
    may_use,
    validators,
    varies_alike,
    vary_of,
)
from patient_usher.core.http.conditional import CONDITIONS, as_not_modified, evaluate
from patient_usher.core.http.dates import MICROSECONDS, http_date, in_seconds
from patient_usher.core.http.messages import Answer, Request
from patient_usher.core.model.errors import Raised, refusal
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import CacheRule, StageOptions
from patient_usher.core.model.scalars import Size
from patient_usher.core.model.values import Reader, reader
from patient_usher.core.stages import base


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

    record: dict[str, Any]
    key: tuple[Any, ...] | None = None
    rule: CacheRule | None = None
    stored: Stored | None = None
    asked: Request | None = None
    at: int = 0
    leads: bool = False
    waited: bool = False
    forward: str = "miss"


@dataclass
class _Flight:
    """A miss under way, and the exchanges that wait for it."""

    waiting: list[Callable[[], None]] = field(default_factory=list)


class Stage(base.Stage):
    """One store: per key the variants, least recently used first out."""

    keeps_state = True
    out_work = "registered"

    def __init__(self, options: Options, setup: base.Setup) -> None:
        self.id = options.id
        self.any = options.stores == "any-cacheable"
        self.capacity, self.heuristic = options.capacity, options.heuristic_freshness
        self.honours, self.collapse, self.tells = options.honours_reload, options.collapse, options.status_field
        self.store: OrderedDict[tuple[Any, ...], list[Stored]] = OrderedDict()
        self.size = 0
        self.work: dict[int, _Work] = {}
        self.flights: dict[tuple[Any, ...], _Flight] = {}
        self.per: dict[int, list[Reader]] = {}

    # On the way in.

    def way_in(self, x: Exchange) -> base.Effect:
        """Answer from the store, or go on and remember what for."""
        work = self.work[x.number] = _Work(
            {"stage": self.id, "state": "bypass", "stored": False, "why": None, "age": None}
        )
        owner = x.shadow_of or x
        owner.caches += (work.record,)
        work.at = x.now
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

    def _pass_by(self, x: Exchange, work: _Work, state: str, why: str | None) -> base.Effect:
        work.record.update(state=state, why=why)
        work.forward = "method" if why == "method" else "bypass"
        x.note = {"cache": state}
        return None

    def _key(self, x: Exchange, rule: CacheRule | None) -> tuple[Any, ...]:
        url = x.request.url
        if rule is None or self.any:
            return (x.route.id if x.route else None, url.text)
        own = x.identity.name if x.identity is not None and self._is_personal(x, rule) else None
        if rule.per is None:
            return (x.route.id, url.origin + url.path, url.query, own)
        readers = self.per.get(id(rule))
        if readers is None:
            readers = self.per[id(rule)] = [
                reader("identity.name" if name == "identity" else name) for name in rule.per
            ]
        return (x.route.id, url.origin + url.path, tuple(read(x) for read in readers), own)

    @staticmethod
    def _is_personal(x: Exchange, rule: CacheRule) -> bool:
        """Whether a copy belongs to one caller: nobody ever gets another's, unless the route says so."""
        if rule.same_for == "everyone":
            return False
        access = x.route.access
        return x.identity is not None or access is None or access.who != "everyone"

    def _look_up(self, x: Exchange) -> base.Effect:
        work = self.work[x.number]
        key = work.key = self._key(x, work.rule)
        fields, now = x.request.fields, x.now
        stored = self._variant(key, x)
        if stored is not None:
            honours = self.any or self.honours
            use = may_use(stored, fields, now, shared=True, heuristic=self.heuristic, honours_request=honours)
            work.record["age"] = in_seconds(use.age)
            if use.how == "fresh" or use.why == "max-stale":
                return self._hit(x, work, stored, use.lifetime - use.age)
            if use.how == "stale":
                work.stored, work.record["why"] = stored, use.why
                answer = self._hit(x, work, stored, use.lifetime - use.age)
                return base.AnswerAndPass(answer, refreshes=True)
        if self.any and "only-if-cached" in directives(fields):  # RFC 9111 5.2.1.7
            work.record.update(state="miss", why="only-if-cached")
            return refusal("Timeout", "only-if-cached", public="Nothing is stored for this")
        if self.collapse and x.request.method == "GET" and not work.waited:
            flight = self.flights.get(key)
            if flight is not None:
                work.waited = True  # once: what could not be stored then is not waited for again
                x.note = {"cache": "waits for the same miss"}
                return base.Hold(flight.waiting, self._look_up)
            self.flights[key] = _Flight()
            work.leads = True
        return self._forward(x, work, stored)

    def _forward(self, x: Exchange, work: _Work, stored: Stored | None) -> base.Effect:
        work.stored, work.asked = stored, x.request
        work.record["state"] = "miss" if stored is None else "stale"
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
        x.note = {"cache": work.record["state"]}
        return None

    def _variant(self, key: tuple[Any, ...], x: Exchange) -> Stored | None:
        variants = self.store.get(key)
        if variants is None:
            return None
        self.store.move_to_end(key)
        return next((stored for stored in reversed(variants) if varies_alike(stored, x.request.fields)), None)

    def _hit(self, x: Exchange, work: _Work, stored: Stored, ttl: int) -> Answer:
        work.record["state"] = "hit"
        answer = self._from_store(x, stored, work.record["age"])
        if self.tells:
            answer.fields.add("Cache-Status", f"{_name(self.id)}; hit; ttl={ttl // MICROSECONDS}")
        x.note = {"cache": "hit", "age": work.record["age"]}
        return answer

    @staticmethod
    def _from_store(x: Exchange, stored: Stored, age: float | None) -> Answer:
        """The stored answer with its age; a 304 where the caller has it already (RFC 9111 4.3.2)."""
        answer = stored.answer.copy()
        answer.fields.put("Age", str(int(age or 0)))
        asked = x.sent.fields
        status = evaluate(x.request.method, asked, answer.fields.get("etag"), answer.fields.get("last-modified"))
        return Answer(304, as_not_modified(answer.fields)) if status == 304 else answer

    # On the way out.

    def way_out(self, x: Exchange) -> base.Effect:
        """Store, refresh or invalidate; write Cache-Control where the route asks and the handler didn't."""
        work = self.work[x.number]
        answer = x.answer
        assert answer is not None
        if work.stored is not None and answer.status == 304 and work.asked is not None:
            self._revalidated(x, work, answer)
            return None
        if answer.status >= 500 and work.stored is not None and self._covers(work.stored, x.now):
            x.answer = self._cover(x, work)
            return None
        if invalidates(x.request.method, answer.status):
            self._invalidate(x)
        wrote = self._write_control(x, work, answer)
        if work.key is not None and x.request.method == "GET":
            why = self._bars(x, work, answer, wrote)
            if not why:
                self._put(x, work, answer)
            work.record.update(stored=not why, why=why or work.record["why"])
        if work.asked is not None and answer.status == 200:
            fields = answer.fields
            status = evaluate(x.request.method, work.asked.fields, fields.get("etag"), fields.get("last-modified"))
            if status == 304:
                x.answer = Answer(304, as_not_modified(fields))
        if self.tells:
            stored = "; stored" if work.record["stored"] else ""
            x.answer.fields.add("Cache-Status", f"{_name(self.id)}; fwd={work.forward}{stored}")  # type: ignore[union-attr]
        if work.record["stored"]:
            x.note = {"stored": True}
        return None

    def way_error(self, x: Exchange, error: Raised) -> base.Effect:
        """A stale copy may stand in for an error (RFC 5861 4)."""
        work = self.work[x.number]
        if work.stored is None or not self._covers(work.stored, x.now):
            return None
        return self._cover(x, work)

    def _covers(self, stored: Stored, now: int) -> bool:
        return may_cover_error(stored, now, shared=True, heuristic=self.heuristic)

    def _cover(self, x: Exchange, work: _Work) -> Answer:
        assert work.stored is not None
        work.record.update(state="hit", why="stale-if-error")
        return self._from_store(x, work.stored, work.record["age"])

    def _revalidated(self, x: Exchange, work: _Work, answer: Answer) -> None:
        assert work.stored is not None
        assert work.key is not None
        fresh = freshened(work.stored, answer.fields, work.at, x.now)
        self._replace(work.key, work.stored, fresh)
        work.record.update(state="revalidated", stored=True, age=0)
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
        if wrote:  # the route asked for it: only what no cache can do bars it
            return "vary-all" if "*" in (answer.fields.get("vary") or "") else ""
        return bars_storing("GET", answer.status, asked, answer.fields, shared=True)

    def _put(self, x: Exchange, work: _Work, answer: Answer) -> None:
        assert work.key is not None
        asked = (work.asked or x.request).fields
        copy = answer.copy()
        if "date" not in copy.fields:
            copy.fields.put("Date", http_date(x.now))
        lifetime = work.rule.shared if work.rule is not None and not self.any else None
        stored = Stored(copy, work.at, x.now, vary_of(asked, answer.fields), lifetime)
        variants = self.store.setdefault(work.key, [])
        for old in [old for old in variants if old.vary == stored.vary]:
            variants.remove(old)
            self.size -= _octets(old)
        variants.append(stored)
        self.size += _octets(stored)
        self.store.move_to_end(work.key)
        while self.size > self.capacity and self.store:
            _, gone = self.store.popitem(last=False)
            self.size -= sum(map(_octets, gone))

    def _replace(self, key: tuple[Any, ...], old: Stored, new: Stored) -> None:
        variants = self.store.get(key)
        if variants is not None and old in variants:
            variants[variants.index(old)] = new
            self.size += _octets(new) - _octets(old)

    def _invalidate(self, x: Exchange) -> None:
        """RFC 9111 4.4: the URL itself; and the routes that this one clears."""
        url = x.request.url
        clears = x.route.settings.clears if x.route is not None else ()
        gone = [key for key in self.store if key[0] in clears or key[1] in (url.text, url.origin + url.path)]
        for key in gone:
            self.size -= sum(map(_octets, self.store.pop(key)))
        if gone:
            x.note = {"cleared": len(gone)}

    def done(self, x: Exchange, how: str) -> None:
        """Whoever waits for this miss may look again."""
        work = self.work.pop(x.number, None)
        if work is not None and work.leads and work.key is not None:
            flight = self.flights.pop(work.key, None)
            for wake in flight.waiting if flight is not None else ():
                wake()

    def adopt(self, old: Any) -> None:
        """What is stored stays stored."""
        self.store, self.size, self.work, self.flights = old.store, old.size, old.work, old.flights


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
