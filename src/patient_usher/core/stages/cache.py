"""``cache``: stores and reuses answers as a shared cache (RFC 9111)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import ClassVar, Literal

from patient_usher.core.http.cache_store import CopyStore, InFlight, Key
from patient_usher.core.http.caching import (
    COVERED,
    Stored,
    Use,
    bars_storing,
    current_age,
    directives,
    freshened,
    invalidates,
    may_cover_error,
    may_use,
    says_freshness,
    unshared_fields,
    validators,
    vary_of,
)
from patient_usher.core.http.conditional import CONFIRMED, evaluate, not_modified, weak_match
from patient_usher.core.http.dates import MICROSECONDS, http_date, in_seconds
from patient_usher.core.http.fields import Fields, add_vary, laid_behind, list_items, merge_over
from patient_usher.core.http.messages import Answer, Request, text_answer
from patient_usher.core.http.ranges import is_range
from patient_usher.core.http.urls import Url, normal, same_origin
from patient_usher.core.model import stage as base
from patient_usher.core.model.document import JsonMapping
from patient_usher.core.model.effects import AnswerAndPass, Effect, Hold
from patient_usher.core.model.errors import Raised, refusal
from patient_usher.core.model.exchange import CacheUse, Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.routes import CacheRule, RouteSpec
from patient_usher.core.model.text_types import Size
from patient_usher.core.model.values import Reader, reader

_OF_COPIES = ("if-none-match", "if-modified-since")
"""Conditions about a copy, which a cache may judge (RFC 9111 4.3.2)."""


class Options(StageOptions):
    """What is stored, how much, and what callers may say and are told."""

    trade_names: ClassVar[tuple[str, ...]] = ("caching", "response-cache", "shared-cache")
    written: ClassVar[Collection[str]] = ("age",)
    sentences: ClassVar[dict[str, str]] = {
        "stores": "Answers of routes that opt in, or whatever may be stored by RFC 9111.",
        "capacity": "How much is kept; the least recently used goes first.",
        "heuristic-freshness": "Whether answers that say nothing of it are fresh for a tenth of their age.",
        "honours-reload": "Whether callers may ask for a fresh answer.",
        "collapse": "Whether requests for the same miss wait for the first of them.",
        "status-field": "Whether answers say in Cache-Status what the cache did (RFC 9211).",
    }

    stores: Literal["opted-in", "any-cacheable"] = "opted-in"
    capacity: Size = 64 << 20
    heuristic_freshness: bool = False
    honours_reload: bool = False
    collapse: bool = False
    status_field: bool = False

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """What look-ups can come to, and why there are none, as these routes ask for copies."""
        rules = [route.cache for route in routes]
        looks = self.stores == "any-cacheable" or any(rule is not None and rule.shared is not None for rule in rules)
        found = ["hit", "miss", "stale", "revalidated"] if looks else []
        reads = [route.cache for route in routes if route.at.method in ("GET", "HEAD")]
        if looks or len(reads) < len(rules) or any(rule is not None and rule.never for rule in reads):
            found.append("bypass")
        if None in reads and self.stores == "opted-in":
            found.append("not-opted-in")
        if any(rule is not None and rule.shared is None and not rule.never for rule in reads):
            found.append("private-only")
        return found

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """By the state of its last look-up."""
        return [use.state for use in reversed(x.caches) if use.stage == self.id and way == "in"][:1]


@dataclass
class _Work:
    """What the stage knows of an exchange on its way in, for its way out."""

    use: CacheUse
    key: Key | None = None
    rule: CacheRule | None = None
    stored: Stored | None = None
    asked: Request | None = None
    reached: Request | None = None
    at: int = 0
    draft: Fields | None = None
    known: bool = False
    leads: bool = False
    waited: bool = False
    forward: str = "miss"


class Stage(base.Stage):
    """One store on each instance, unless its state is shared."""

    keeps_state = rewrites = True
    out_work = "registered"

    def __init__(self, options: Options, setup: base.Setup) -> None:
        self.id = options.id
        self.any = options.stores == "any-cacheable"
        self.capacity, self.heuristic = options.capacity, options.heuristic_freshness
        self.honours, self.collapse, self.tells = options.honours_reload, options.collapse, options.status_field
        self.readers = lru_cache(maxsize=1024)(_readers)

    def fresh(self, seed: int) -> CopyStore:
        """Nothing is stored."""
        return CopyStore(self.capacity)

    def migrate(self, old: Stage, state: CopyStore) -> CopyStore:
        """What is stored stays, as far as there is room."""
        state.store.capacity = self.capacity
        state.store.fit()
        return state

    @staticmethod
    def savings(states: Iterable[CopyStore]) -> str | None:
        """How many look-ups were hits, in a sentence."""
        ended = sum((state.ended for state in states), Counter[str]())
        asked = sum(ended[state] for state in ("hit", "miss", "stale", "revalidated"))
        if not asked:
            return None
        ratio = 100 * ended["hit"] // asked
        return f"cache: {ended['hit']:,} of {asked:,} look-ups were hits ({ratio}%), as many handler runs saved"

    def _shelf(self, x: Exchange) -> CopyStore:
        shelf: CopyStore = x.memory[self.key]
        return shelf

    def _work(self, x: Exchange) -> _Work:
        work: _Work = x.work[self.key]
        return work

    # On the way in.

    def way_in(self, x: Exchange) -> Effect:
        """Answer from the store, or go on and remember what for."""
        work = x.work[self.key] = _Work(CacheUse(self.id))
        x.recorded_on.caches += (work.use,)
        work.at, work.known = x.now, x.identity is not None
        work.draft = x.answer.fields.copy() if x.answer is not None else None  # sequential flow: what stands in front
        work.rule = x.route.settings.cache if x.route is not None else None
        if x.request.method not in ("GET", "HEAD"):
            return self._pass_by(x, work, "bypass", "method")
        rule = work.rule
        if rule is not None and rule.shared is None:
            if _copy_or_504(x.request.fields):
                return self._nothing_stored(work)
            return self._pass_by(x, work, *(("bypass", "never") if rule.never else ("private-only", None)))
        if rule is None and not self.any:
            return self._pass_by(x, work, "not-opted-in", None)
        fields = x.request.fields
        asks = fields.get("range")
        if asks is not None and x.request.method == "GET" and is_range(asks) and not _copy_or_504(fields):
            return self._pass_by(x, work, "bypass", "range")  # RFC 9110 14.2: parts come from behind; none is stored
        if rule is not None and rule.same_for == "everyone" and not self._admits(x):
            return self._pass_by(x, work, "bypass", "access")  # a copy never passes access by
        work.reached = x.request
        return self._look_up(x)

    def _pass_by(self, x: Exchange, work: _Work, state: str, why: str | None) -> Effect:
        work.use.state, work.use.why = state, why
        work.forward = "method" if why == "method" else "bypass"
        x.note = {"cache": state}
        return None

    covers_errors = True

    def _key(self, x: Exchange, rule: CacheRule | None) -> Key:
        """What makes a copy of its own: the whole query, unless ``per`` narrows it, and what else ``per`` names."""
        place, query = _place(x.request.url)
        if rule is None:
            return (x.route.id if x.route else None, place, query)
        own = x.identity.name if x.identity is not None and self._is_personal(x, rule) else None
        if rule.per is None:
            return (x.route.id, place, query, own)
        narrows, readers = self.readers(tuple(rule.per))
        values = tuple(read(x) for read in readers)
        return (x.route.id, place, None if narrows else query, values, own)

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
        fields, shelf = x.request.fields, self._shelf(x)
        stored = shelf.store.find(key, fields)
        use = None
        if stored is not None:
            honours = self.any or self.honours
            use = may_use(stored, fields, x.now, shared=True, heuristic=self.heuristic, honours_request=honours)
            work.use.age = use.age
            if use.how == "fresh" or use.why == "max-stale":
                return self._hit(x, work, stored, use.lifetime - use.age)
            if use.how == "stale":
                return self._stale_hit(x, work, stored, use)
        if _copy_or_504(fields):
            return self._nothing_stored(work)
        if self.collapse and x.request.method == "GET" and not work.waited:
            flight = shelf.flights.get(key)
            if flight is not None:
                work.waited = True  # once: what could not be stored then is not waited for again
                x.note = {"cache": "waits for the same miss"}
                return Hold(flight.waiting, self._look_up)
            shelf.flights[key] = InFlight()
            work.leads = True
        return self._forward(x, work, stored, use)

    @staticmethod
    def _admits(x: Exchange) -> bool:
        access, identity = x.route.access, x.identity
        if access is None:
            return identity is not None
        return bool(access.admits(*((None, ()) if identity is None else (identity.roles, identity.scopes))))

    @staticmethod
    def _nothing_stored(work: _Work) -> Raised:
        work.use.state, work.use.why = "miss", "only-if-cached"
        return refusal("Timeout", "only-if-cached", public="Nothing is stored for this")

    def _stale_hit(self, x: Exchange, work: _Work, stored: Stored, use: Use) -> Effect:
        """A stale copy at once, while one exchange asks for a fresh one (RFC 5861 3)."""
        work.use.why = use.why
        answer = self._hit(x, work, stored, use.lifetime - use.age)
        flights = self._shelf(x).flights
        assert work.key is not None
        if work.key in flights or x.request.method == "HEAD":  # what a HEAD brings can't be stored
            return answer
        flights[work.key] = InFlight()
        work.leads, work.stored = True, stored
        work.asked = asking = self._asking(x.request, stored)
        return AnswerAndPass(answer, background_refresh=True, request=asking)

    def _forward(self, x: Exchange, work: _Work, stored: Stored | None, use: Use | None) -> Effect:
        work.at = x.now
        work.stored, work.asked = stored, x.request
        work.use.state = "miss" if stored is None else "stale"
        if stored is None:
            known = work.key is not None and self._shelf(x).store.knows(work.key)
            work.forward = "vary-miss" if known else "uri-miss"
        else:
            work.forward = "request" if use is not None and use.why.startswith("request-") else "stale"
        self.rewrite(x, self._asking(x.request, stored))
        x.note = {"cache": work.use.state}
        if use is not None and use.why == "no-stale-allowed":
            x.note["because"] = "s-maxage, must-revalidate or proxy-revalidate forbids stale copies"
        return None

    @staticmethod
    def _asking(request: Request, stored: Stored | None) -> Request:
        """What is asked behind the cache: for a whole answer, or whether the copy still holds.

        Conditions that only the origin can judge (If-Match, If-Unmodified-Since, If-Range) travel on.
        """
        asking = validators(stored) if stored is not None else []
        if not asking and not any(name in request.fields for name in _OF_COPIES):
            return request
        fields = request.fields.copy()
        for name in _OF_COPIES:
            fields.drop(name)
        for name, value in asking:
            fields.put(name, value)
        return request.with_fields(fields)

    def _hit(self, x: Exchange, work: _Work, stored: Stored, ttl: int) -> Answer:
        work.use.state = "hit"
        answer = self._from_store(x, work, stored, work.use.age)
        if self.tells:
            answer.fields.add("Cache-Status", f"{_name(self.id)}; hit; ttl={ttl // MICROSECONDS}")
        x.note = {"cache": "hit", "age": in_seconds(work.use.age or 0)}
        return answer

    @staticmethod
    def _from_store(x: Exchange, work: _Work, stored: Stored, age: int | None) -> Answer:
        """The stored answer with its age; a 304 where the caller has it already (RFC 9111 4.3.2)."""
        answer = stored.answer.copy()
        answer.fields.put("Age", str((age or 0) // MICROSECONDS))
        if work.draft is not None:
            answer.fields = merge_over(work.draft, answer.fields)
            if stored.answer.draft is not None:  # marks of those behind, which an answer in this one's place has too
                x.answer = Answer(200, merge_over(work.draft, stored.answer.draft))
        asked = (work.reached or x.request).fields
        modified = answer.fields.get("last-modified") or answer.fields.get("date")
        # A copy without a tag of its own can't say that the caller's still holds: whoever stands outside may.
        success = answer.status in CONFIRMED and ("etag" in answer.fields or "if-none-match" not in asked)
        status = evaluate(x.request.method, asked, answer.fields.get("etag"), modified, success=success, now=x.now)
        return not_modified(answer) if status == 304 else answer

    # On the way out.

    def way_out(self, x: Exchange) -> Effect:
        """Store, refresh or invalidate; write Cache-Control where the route asks and the handler didn't."""
        work = self._work(x)
        answer = x.answer
        assert answer is not None
        if work.stored is not None and answer.status == 304 and work.asked is not None:
            self._revalidated(x, work, answer)
            return None
        if x.request.method == "HEAD" and answer.status == 200 and work.stored is not None:
            self._compare_head(work, answer.fields, self._shelf(x))
        if answer.status in COVERED and work.stored is not None and self._covers(work, x):
            return None if x.background_refresh else self._cover(x, work)
        if invalidates(x.request.method, answer.status):
            self._invalidate(x, answer.fields)
        wrote = self._write_control(x, work, answer)
        for name in work.rule.per or () if work.rule is not None else ():
            if name.startswith("header."):
                add_vary(answer.fields, name.removeprefix("header."))
        if work.key is not None and x.request.method == "GET":
            why = self._bars(x, work, answer, wrote)
            if not why and not self._put(x, work, answer, wrote):
                why = "too-large"
            work.use.stored = not why
            if why and not x.background_refresh:  # otherwise it stays what the caller got
                work.use.why = why
        if work.asked is not None and answer.status in CONFIRMED:
            fields, asked = answer.fields, (work.reached or x.request).fields
            if evaluate(x.request.method, asked, fields.get("etag"), fields.get("last-modified"), now=x.now) == 304:
                x.answer = not_modified(answer)
        if self.tells:
            stored = "; stored" if work.use.stored else ""
            x.answer.fields.add("Cache-Status", f"{_name(self.id)}; fwd={work.forward}{stored}")  # type: ignore[union-attr]
        if work.use.stored:
            x.note = {"stored": True}
        return None

    @staticmethod
    def _compare_head(work: _Work, fields: Fields, shelf: CopyStore) -> None:
        """A copy that isn't what a HEAD now describes is let go of (RFC 9111 4.3.5)."""
        assert work.stored is not None
        assert work.key is not None
        ours = work.stored.answer
        length = fields.get("content-length") or str(len(ours.body))
        validators = ((fields.get(name), ours.fields.get(name)) for name in ("etag", "last-modified"))
        if length != str(len(ours.body)) or any(now and now != before for now, before in validators):
            shelf.store.let_go(work.key, work.stored)

    def way_error(self, x: Exchange, error: Raised) -> Effect:
        """A stale copy may stand in for an error (RFC 5861 4)."""
        work = self._work(x)
        failed = error.status is None or error.status in COVERED
        if work.stored is None or not failed or x.background_refresh or not self._covers(work, x):
            return None
        return self._cover(x, work)

    def _covers(self, work: _Work, x: Exchange) -> bool:
        assert work.stored is not None
        asked = (work.reached or x.request).fields if self.any or self.honours else None
        return may_cover_error(work.stored, x.now, shared=True, heuristic=self.heuristic, asked=asked)

    def _cover(self, x: Exchange, work: _Work) -> Answer:
        assert work.stored is not None
        work.use.state, work.use.why = "hit", "stale-if-error"
        answer = self._from_store(x, work, work.stored, work.use.age)
        if self.tells:
            answer.fields.add("Cache-Status", f"{_name(self.id)}; fwd={work.forward}; detail=stale-if-error")
        return answer

    def _revalidated(self, x: Exchange, work: _Work, answer: Answer) -> None:
        """A 304 confirms the copy: its fields are merged, and what comes of that is stored if it may be (4.3.4, 3)."""
        assert work.stored is not None
        assert work.key is not None
        own = _own_fields(work, answer.fields, answer.said)
        shelf, fresh = self._shelf(x), work.stored
        tag = own.get("etag")
        if tag is not None and not weak_match(tag, work.stored.answer.fields.get("etag") or tag):
            why = "another-tag"  # it confirms another representation: nothing may be updated from it
        else:
            fresh = freshened(work.stored, own, work.at, x.now)
            stored = fresh.answer.copy()
            why = self._bars(x, work, stored, wrote=work.stored.lifetime is not None and not says_freshness(own))
            for name in ("set-cookie", *unshared_fields(stored.fields)):
                stored.fields.drop(name)
            asked = (work.asked or x.request).fields
            kept = fresh._replace(answer=stored, vary=vary_of(asked, stored.fields))
        if why and why != "set-cookie":
            shelf.store.forget(lambda key: key == work.key)
        else:
            shelf.store.replace(work.key, work.stored, kept)
        work.use.stored, work.use.why = not why or why == "set-cookie", why or None
        if x.background_refresh:  # nobody waits for this one: the caller had its stale copy
            return
        if why == "another-tag":
            self._confirmed_another(x, work, answer, tag)
            return
        work.use.state, work.use.age = "revalidated", current_age(fresh, x.now)
        x.answer = self._from_store(x, work, fresh, work.use.age)
        if self.tells:
            stored_too = "; stored" if work.use.stored else ""
            x.answer.fields.add("Cache-Status", f"{_name(self.id)}; fwd=stale; fwd-status=304{stored_too}")
        x.note = {"cache": "revalidated"}

    def _confirmed_another(self, x: Exchange, work: _Work, answer: Answer, tag: str | None) -> None:
        """A 304 for what isn't stored here: the caller's copy may be meant, else there is nothing to give (4.3.3)."""
        asked = (work.reached or x.request).fields
        if tag is not None and any(weak_match(tag, one) for one in list_items(asked.get("if-none-match") or "")):
            x.note = {"cache": "the 304 confirms the caller's copy"}
            return
        x.answer = text_answer(502, "What was confirmed isn't stored here")
        x.answered_by = self.id
        x.note = {"cache": "the 304 confirms another representation"}

    def _write_control(self, x: Exchange, work: _Work, answer: Answer) -> bool:
        """Write what the route says, where the handler said nothing. Whether it was written."""
        rule = work.rule
        said = "cache-control" in answer.fields or "expires" in answer.fields
        if rule is None or x.request.method not in ("GET", "HEAD") or said:
            return False
        if not 200 <= answer.status < 400:
            return False
        answer.fields.put("Cache-Control", rule.control(personal=self._is_personal(x, rule)))
        return True

    def _bars(self, x: Exchange, work: _Work, answer: Answer, wrote: bool) -> str:
        asked = (work.asked or x.request).fields
        if work.rule is None:
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

    def _put(self, x: Exchange, work: _Work, answer: Answer, wrote: bool) -> bool:
        """Store a copy. What the handler says of freshness counts; the route's lifetime where it says nothing."""
        assert work.key is not None
        asked = (work.asked or x.request).fields
        copy = answer.copy()
        copy.fields = _own_fields(work, copy.fields, copy.said)
        if work.draft is not None and copy.draft is not None:
            copy.draft = laid_behind(copy.draft, work.draft)
        for name in unshared_fields(answer.fields):
            copy.fields.drop(name)
        if "date" not in copy.fields:
            copy.fields.put("Date", http_date(x.now))
        lifetime = None
        if work.rule is not None and (wrote or not says_freshness(answer.fields)):
            lifetime = work.rule.shared
        stored = Stored(copy, work.at, x.now, vary_of(asked, copy.fields), lifetime)
        return self._shelf(x).store.put(work.key, stored)

    def _invalidate(self, x: Exchange, fields: Fields) -> None:
        """RFC 9111 4.4: the URL itself, those of its origin that the answer names, and routes that this one clears."""
        url = x.request.url
        places = {_place(url)}
        for name in ("location", "content-location"):
            if (named := same_origin(url, fields.get(name))) is not None:
                places.add(_place(named))
        clears = x.route.settings.clears if x.route is not None else ()
        gone = self._shelf(x).store.forget(
            lambda key: key[0] in clears or any(key[1] == place and key[2] in (None, query) for place, query in places)
        )
        if gone:
            x.note = {"cleared": gone}

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


def _copy_or_504(fields: Fields) -> bool:
    """Whether the caller wants a stored answer or none (RFC 9111 5.2.1.7)."""
    return "cache-control" in fields and "only-if-cached" in directives(fields)


def _own_fields(work: _Work, fields: Fields, said: Fields | None) -> Fields:
    """What stood behind the cache: in a sequential flow the draft's fields came from in front of it."""
    return fields if work.draft is None else laid_behind(fields, work.draft, said)


def _readers(per: tuple[str, ...]) -> tuple[bool, list[Reader]]:
    """Whether the query is narrowed, and what reads the values that make a copy of its own."""
    narrows = any(name == "no-query" or name.startswith("query.") for name in per)
    names = ["identity.name" if name == "identity" else name for name in per if name != "no-query"]
    return narrows, [reader(name) for name in names]


def _name(id_: str) -> str:
    """A structured field's name for the cache (RFC 9211 2): a token where it can be one."""
    return id_ if id_[0].isalpha() else f'"{id_}"'


def _place(url: Url) -> tuple[str, str]:
    """Where a copy belongs, and the query: URLs that are equivalent share it (RFC 9111 4; RFC 3986 6.2.2.2)."""
    return url.origin + normal(url.path), normal(url.query)
