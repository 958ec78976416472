"""``rate-limit``: 429 for what is over the quota (RFC 6585 4)."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Hashable, Iterable, Sequence
from typing import Annotated, ClassVar, Literal

from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator

from patient_usher.core.http.cors import is_preflight
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.limits import (
    ALGORITHMS,
    NEVER,
    Assumed,
    AtOnce,
    Limiter,
    limit_item,
    policy_item,
    whole_seconds,
)
from patient_usher.core.model import stage as base
from patient_usher.core.model.branches import Cases
from patient_usher.core.model.document import Json, JsonMapping, Path
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.errors import Raised, refusal
from patient_usher.core.model.exchange import Exchange, RateUse
from patient_usher.core.model.matcher import When, compile_when
from patient_usher.core.model.pipeline import Limit, StageOptions
from patient_usher.core.model.routes import RouteSpec
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.text_types import Model, PositiveDuration, Status, no_items, one_or_more, show, wrong
from patient_usher.core.model.values import plain, reader

Quota = Annotated[int, Field(ge=1, le=1_000_000_000)]


_WHOM = ("address", "identity", "identity-or-address", "route")


def _check_per(value: Json) -> list[str]:
    names = one_or_more(value)
    if not isinstance(names, list) or not names:
        raise wrong(f"{show(value)} says not for whom", "write [address], say")
    for name in names:
        if name not in _WHOM and not (isinstance(name, str) and re.fullmatch(r"(header|query|body)\..+", name)):
            raise wrong(
                f"{show(name)} says not for whom", f"write {', '.join(_WHOM)}, header.NAME, query.NAME or body.NAME"
            )
    return names


class Tier(Model):
    """Another quota for those whom ``when`` fits."""

    sentences: ClassVar[dict[str, str]] = {
        "when": "Whose requests this quota is for.",
        "quota": "Their quota.",
    }

    when: When | None = None
    quota: Quota


_OLDER = ("x-ratelimit-limit", "x-ratelimit-remaining", "x-ratelimit-reset")


class Options(StageOptions):
    """How much, in which time, for whom."""

    trade_names: ClassVar[tuple[str, ...]] = (
        "limiter",
        "quota",
        "rate-limiter",
        "rate-limiting",
        "throttle",
        "throttling",
    )
    sentences: ClassVar[dict[str, str]] = {
        "algorithm": "How requests are counted.",
        "quota": "How many requests fit, or how much cost.",
        "window": "In which time.",
        "burst": "How many may come at once, where that differs from the quota.",
        "per": "What is counted apart: address, identity, route, header.NAME, query.NAME, body.NAME.",
        "cost": "How much a request takes, where the route doesn't say.",
        "counts": "Every request, or failures only.",
        "failures": "The statuses that count as failures.",
        "preflights": "Whether preflights take of the quota.",
        "tiers": "Other quotas for some callers; the first that fits counts.",
        "fields": "Which fields tell callers of the limit.",
    }

    algorithm: Literal["fixed-window", "sliding-log", "sliding-counter", "token-bucket", "leaky-bucket", "at-once"] = (
        "fixed-window"
    )
    quota: Quota
    window: PositiveDuration | None = None
    burst: Annotated[int, Field(ge=1)] | None = None
    per: Annotated[
        list[str],
        BeforeValidator(_check_per),
        WithJsonSchema({"type": ["string", "array"], "items": {"type": "string"}}),
    ] = Field(default=["address"])
    cost: Annotated[int, Field(ge=1)] = 1
    counts: Literal["everything", "failures"] = "everything"
    failures: list[Status] = Field(default=[401, 403])
    preflights: Literal["counted", "free"] = "counted"
    tiers: list[Tier] = Field(default_factory=no_items)
    fields: list[Literal["ratelimit", "x-ratelimit"]] = Field(default=["ratelimit"])

    @model_validator(mode="after")
    def _fits(self) -> Options:
        if self.algorithm == "at-once":
            if self.window is not None:
                raise wrong("at-once has no window", "leave it out: places come free when requests are done")
            if self.counts == "failures":
                raise wrong("at-once counts what is under way", "leave counts out")
        elif self.window is None:
            raise wrong(f"{self.algorithm} has no window", "say in which time, as in window: 60s")
        if self.counts == "everything" and "failures" in self.model_fields_set:
            raise wrong("failures says what counts: failures counts", "add counts: failures, or leave it out")
        if self.cost > self._most:
            raise wrong(f"the cost {self.cost} is over {self._most_said}: nothing can ever pass", "lower the cost")
        if self.burst is not None and self.algorithm not in ("token-bucket", "leaky-bucket"):
            raise wrong(f"{self.algorithm} has no burst", "a burst belongs to a bucket; leave it out")
        self._check_tiers()
        return self

    def _check_tiers(self) -> None:
        seen: list[When | None] = []
        for number, tier in enumerate(self.tiers, 1):
            if None in seen or tier.when in seen:
                raise wrong(f"tier {number} can never apply: one before it takes all that it fits", "put it further up")
            seen.append(tier.when if tier.when is not None and tier.when.model_fields_set else None)

    @property
    def _most(self) -> int:
        """What may be used at once, at most."""
        return self.quota if self.burst is None else self.burst

    @property
    def _most_said(self) -> str:
        return f"the {'quota' if self.burst is None else 'burst'} {self._most}"

    def writes(self) -> Collection[str]:
        """How long to wait, and the fields that it is told to write."""
        lists = {"ratelimit": ("ratelimit", "ratelimit-policy"), "x-ratelimit": _OLDER}
        return ("retry-after", *(name for one in self.fields for name in lists[one]))

    def limit(self) -> Limit:
        """The quota, for each of those that it counts apart."""
        window = None if self.algorithm == "at-once" else self.window
        return Limit(self.quota, tuple(self.per), window, self.counts)

    def needs(self, route: RouteSpec | None = None) -> Collection[str]:
        """What it counts by, and what its tiers go by."""
        found = {*super().needs(route)}
        if {"identity", "identity-or-address"} & {*self.per}:
            found.add("identity")
        if any(name.startswith("body.") for name in self.per):
            found.add("body")
        return found

    def route_warnings(self, route: RouteSpec) -> Iterable[tuple[Path, str, str]]:
        """A cost that no quota can ever hold."""
        cost = route.cost_for(self.id)
        if cost is not None and cost > self._most:
            what = f"the cost {cost} is over {self._most_said} of '{self.id}': the route can never pass"
            yield ("cost",), what, f"lower the cost or raise the {'quota' if self.burst is None else 'burst'}"

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """Below the quota, at its end, over it, by tier. Of failures the last one is known when it is over."""
        ways = ("under", "over") if self.counts == "failures" else ("under", "used up", "over")
        tiers = _tier_branches(self)
        free = ["preflight not counted"] if self.preflights == "free" else []
        ends = self.tiers and self.tiers[-1].when is None
        names = [f"tier {number} " for number in range(1, len(self.tiers) + 1)] + ([] if ends else [""])
        decided = [name for name in tiers.names if not re.fullmatch(r"tier \d+", name)]
        return [*(f"{name}{way}" for name in names for way in ways), *decided, "refilled", *free]

    def classes(self, fact: str) -> Sequence[str | None] | None:
        """What it counts by makes a key, and nothing else of it."""
        names = {f"header.{name[7:].lower()}" if name.startswith("header.") else name for name in self.per}
        return () if fact in names or (fact == "address" and "identity-or-address" in names) else None

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """By what is left."""
        if way != "in":
            return ()
        if "preflight" in note:
            return ("preflight not counted",)
        use = next((use for use in reversed(x.rates) if use.stage == self.id), None)
        if use is None:
            return ()
        how = "over" if did != "continued" else "under" if use.remaining or self.counts == "failures" else "used up"
        return (f"tier {note['tier']} {how}" if "tier" in note else how,)


def _tier_branches(options: Options) -> Cases:
    return Cases([tier.when for tier in options.tiers], "tier", "")


class Stage(base.Stage):
    """One limiter for each tier, and one for everybody else. Refusals cost nothing."""

    keeps_state = True

    def __init__(self, options: Options, setup: Setup) -> None:
        self.id = options.id
        self.algorithm, self.window, self.per = options.algorithm, options.window, options.per
        self.make = ALGORITHMS[options.algorithm]
        self.burst = options.burst
        # What makes a limiter the same after a change: how it counts, and for whom.
        same = (options.algorithm, options.window, tuple(options.per))
        names = ["everybody else", *(_name(tier.when) for tier in options.tiers)]
        quotas = [options.quota, *(tier.quota for tier in options.tiers)]
        self.tiers: list[tuple[Hashable, int, str]] = [
            ((*same, name), quota, policy_item(options.id, quota, options.window))
            for name, quota in zip(names, quotas, strict=True)
        ]
        self.branches = _tier_branches(options)
        self.choices = [(compile_when(tier.when), n) for n, tier in enumerate(options.tiers, 1)]
        self.read_key = _key_reader(options.per)
        self.cost = options.cost
        self.late = options.counts == "failures"
        self.failures = frozenset(options.failures)
        self.free_preflights = options.preflights == "free"
        self.asks_identity = any(name.startswith("identity") for name in options.per)
        self.fields = frozenset(options.fields)
        if self.late:  # what it counts must have been said when it looks
            self.out_work = "registered"
        unused = {"way_out": bool(options.fields) or self.late, "done": self.late or options.algorithm == "at-once"}
        self.unused = frozenset(name for name, used in unused.items() if not used)

    @property
    def partition_keys(self) -> Sequence[str]:
        """Each combination of these is counted apart."""
        return self.per

    def fresh(self, seed: int) -> dict[Hashable, Limiter]:
        """A limiter for each tier; nothing is counted yet."""
        return {name: self.make(quota, self.window or 1, self.burst) for name, quota, _ in self.tiers}

    def situations(self) -> Sequence[Callable[[], object]]:
        """For whomever it counts: one request more fits, and none does."""

        def made(fits: bool) -> dict[Hashable, Limiter]:
            return {name: Assumed(quota, self.window, self.burst, fits=fits) for name, quota, _ in self.tiers}

        return (lambda: made(True), lambda: made(False))

    def migrate(self, old: Stage, state: dict[Hashable, Limiter]) -> dict[Hashable, Limiter]:
        """Counts go on where algorithm, window, whom it counts and the tier's own condition are as before."""
        limiters = self.fresh(0)
        for name in limiters.keys() & state.keys():
            limiters[name].states = state[name].states
        return limiters

    def way_in(self, x: Exchange) -> Effect:
        """Count, or refuse."""
        if self.free_preflights and is_preflight(x.request):
            if x.journey is not None:
                x.note = {"preflight": "not counted"}
            return None
        if x.journey is not None and self.choices:
            self.branches.decide(x, "stages", self.id)
        name, quota, policy = self.tiers[0]
        tier = 0
        for fits, number in self.choices:
            if fits is None or fits(x):
                name, quota, policy = self.tiers[number]
                tier = number
                break
        key = self.read_key(x)
        cost = self.cost
        if x.route is not None and x.route.settings.cost is not None:
            cost = x.route.settings.cost_for(self.id) or cost
        now = x.now
        limiter: Limiter = x.memory[self.key][name]
        wait = limiter.peek(key, now, cost) if self.late else limiter.take(key, now, cost)
        remaining, reset = limiter.view(key, now)
        rate = RateUse(self.id, _label(key), quota, remaining, reset)
        x.recorded_on.rates += (rate,)
        if not wait:
            x.work[self.key] = (limiter, key, cost, rate, policy)
            x.note = {"for": rate.for_, "remaining": remaining}
        else:
            x.note = {"for": rate.for_, "quota": quota, "cost": cost}
        if tier:
            x.note["tier"] = tier
        if self.asks_identity and x.identity is None:
            x.note["identity"] = "nobody is known here yet"
        return self._refused(rate, policy, wait) if wait else None

    def _refused(self, rate: RateUse, policy: str, wait: int) -> Raised:
        fields = Fields()
        if wait != NEVER:
            fields.put("Retry-After", str(whole_seconds(wait)))
        self._mark(fields, rate, policy)
        if self.algorithm == "at-once":
            message = f"{rate.quota} are under way already for {rate.for_}"
            return refusal("TooManyRequests", "too-many-at-once", message, fields=fields)
        message = f"the quota of {rate.quota} is used up for {rate.for_}"
        return refusal("TooManyRequests", "over-quota", message, fields=fields)

    def _mark(self, fields: Fields, rate: RateUse, policy: str) -> None:
        if "ratelimit" in self.fields:
            fields.add("RateLimit-Policy", policy)
            fields.add("RateLimit", limit_item(self.id, rate.remaining, None if self.window is None else rate.reset))
        if "x-ratelimit" in self.fields:
            fields.put("X-RateLimit-Limit", str(rate.quota))
            fields.put("X-RateLimit-Remaining", str(rate.remaining))
            if self.window is not None:
                fields.put("X-RateLimit-Reset", str(whole_seconds(rate.reset)))

    def way_out(self, x: Exchange) -> Effect:
        """Tell the caller what is left, as it was when the request came."""
        entry = x.work.get(self.key)
        assert x.answer is not None
        if entry is None:
            return None
        *_, rate, policy = entry
        self._mark(x.answer.fields, rate, policy)
        if self.late:
            x.work[self] = x.answer.status
            if x.answer.status in self.failures:
                x.note = {"counted": f"the {x.answer.status}, a failure"}
        return None

    def done(self, x: Exchange, how: str) -> None:
        """Free the place, or count the failure: what passed this stage, whatever became of it further out."""
        entry = x.work.get(self.key)
        if entry is None:
            return
        limiter, key, cost, *_ = entry
        if isinstance(limiter, AtOnce):
            limiter.leave(key, cost)
        elif self._passed(x) in self.failures:
            limiter.charge(key, x.now, cost)
            limiter.tidy(x.now)

    def _passed(self, x: Exchange) -> int | None:
        """The status of the answer that passed; where an error did, the error's own."""
        if self in x.work:
            status: int = x.work[self]
            return status
        if x.errors:
            return x.errors[-1].status or 500
        return x.answer.status if x.answer is not None else None


def _name(when: When | None) -> str:
    """A tier's condition as a name: two that say the same are the same tier."""
    return "" if when is None else when.model_dump_json(exclude_unset=True)


def _name_of(x: Exchange) -> str:
    return x.identity.name if x.identity is not None else ""


_READ: dict[str, Callable[[Exchange], object]] = {
    "address": lambda x: x.address,
    "identity": _name_of,
    "identity-or-address": lambda x: _name_of(x) or x.address,
    "route": lambda x: x.route.id if x.route is not None else "",
}


def _reader(name: str) -> Callable[[Exchange], object]:
    if name in _READ:
        return _READ[name]
    read = reader(name)
    return lambda x: plain(read(x))


def _key_reader(names: list[str]) -> Callable[[Exchange], object]:
    if len(names) == 1:
        return _reader(names[0])
    readers = [_reader(name) for name in names]
    return lambda x: tuple(read(x) for read in readers)


def _label(key: Json) -> str:
    return ", ".join(part or "nobody" for part in (key if isinstance(key, tuple) else (key,)))
