"""``rate-limit``: 429 for what is over the quota (RFC 6585 4)."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator

from patient_usher.core.http.dates import MICROSECONDS, in_seconds
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.limits import ALGORITHMS, NEVER, AtOnce, Limiter, limit_item, policy_item, whole_seconds
from patient_usher.core.model.errors import Raised, refusal
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.matcher import When, compile_when
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.scalars import Model, PositiveDuration, one_or_more, show, wrong
from patient_usher.core.stages import base

Quota = Annotated[int, Field(ge=1, le=1_000_000_000)]


def _check_partition(value: Any) -> list[str]:
    names = one_or_more(value)
    if not isinstance(names, list) or not names:
        raise wrong(f"{show(value)} is no partition", "write [address], say")
    for name in names:
        if name not in ("address", "identity", "route") and not (
            isinstance(name, str) and name.startswith("header:") and name[7:]
        ):
            raise wrong(f"{show(name)} is no partition", "write address, identity, route or header:NAME")
    return names


class Tier(Model):
    """Another quota for those whom ``when`` fits."""

    when: When | None = None
    quota: Quota


class Options(StageOptions):
    """How much, in which time, for whom."""

    algorithm: Literal["fixed-window", "sliding-log", "sliding-counter", "token-bucket", "leaky-bucket", "at-once"] = (
        "fixed-window"
    )
    quota: Quota
    window: PositiveDuration | None = None
    burst: Annotated[int, Field(ge=1)] | None = None
    partition: Annotated[
        list[str],
        BeforeValidator(_check_partition),
        WithJsonSchema({"type": ["string", "array"], "items": {"type": "string"}}),
    ] = Field(default=["address"])
    cost: Annotated[int, Field(ge=1)] = 1
    counts: Literal["everything", "failures"] = "everything"
    tiers: list[Tier] = Field(default_factory=list)
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
        if self.burst is not None and self.algorithm not in ("token-bucket", "leaky-bucket"):
            raise wrong(f"{self.algorithm} has no burst", "a burst belongs to a bucket; leave it out")
        seen: list[When | None] = []
        for number, tier in enumerate(self.tiers, 1):
            if None in seen or tier.when in seen:
                raise wrong(f"tier {number} can never apply: one before it takes all that it fits", "put it further up")
            seen.append(tier.when if tier.when is not None and tier.when.model_fields_set else None)
        return self


class Stage(base.Stage):
    """One limiter for each tier, and one for everybody else. Refusals cost nothing."""

    keeps_state = True

    def __init__(self, options: Options, setup: base.Setup) -> None:
        self.id = options.id
        self.algorithm, self.window, self.partition = options.algorithm, options.window, options.partition
        make = ALGORITHMS[options.algorithm]
        self.limiters: list[Limiter] = [
            make(quota, options.window or 1, options.burst)
            for quota in (options.quota, *(t.quota for t in options.tiers))
        ]
        self.tiers = [(compile_when(tier.when), number) for number, tier in enumerate(options.tiers, 1)]
        self.key = _key_reader(options.partition)
        self.cost = options.cost
        self.late = options.counts == "failures"
        self.fields = frozenset(options.fields)
        self.under_way: dict[int, tuple[Limiter, Any, int]] = {}
        unused = {"way_out": bool(options.fields), "done": self.late or options.algorithm == "at-once"}
        self.unused = frozenset(name for name, used in unused.items() if not used)
        self.policies = [policy_item(options.id, limiter.quota, options.window) for limiter in self.limiters]

    def way_in(self, x: Exchange) -> base.Effect:
        """Count, or refuse."""
        limiter = self.limiters[0]
        for fits, number in self.tiers:
            if fits is None or fits(x):
                limiter = self.limiters[number]
                break
        key = self.key(x)
        cost = self.cost
        if x.route is not None and x.route.settings.cost is not None:
            cost = x.route.settings.cost
        now = x.now
        wait = limiter.peek(key, now, cost) if self.late else limiter.take(key, now, cost)
        remaining, reset = limiter.view(key, now)
        rate = {
            "stage": self.id,
            "partition": _label(key),
            "quota": limiter.quota,
            "remaining": remaining,
            "reset": in_seconds(reset),
        }
        owner = x.shadow_of or x
        owner.rates += (rate,)
        if not wait:
            if "done" not in self.unused:
                self.under_way[x.number] = (limiter, key, cost)
            x.note = {"partition": rate["partition"], "remaining": remaining}
            return None
        x.note = {"partition": rate["partition"], "quota": limiter.quota, "cost": cost}
        return self._refused(limiter, rate, reset, wait)

    def _refused(self, limiter: Limiter, rate: dict[str, Any], reset: int, wait: int) -> Raised:
        fields = Fields()
        if wait != NEVER:
            fields.put("Retry-After", str(whole_seconds(wait)))
        self._mark(fields, limiter, rate["remaining"], reset)
        if self.algorithm == "at-once":
            message = f"{limiter.quota} are under way already for {rate['partition']}"
            return refusal("TooManyRequests", "too-many-at-once", message, fields=fields)
        message = f"the quota of {limiter.quota} is used up for {rate['partition']}"
        return refusal("TooManyRequests", "over-quota", message, fields=fields)

    def _mark(self, fields: Fields, limiter: Limiter, remaining: int, reset: int) -> None:
        if "ratelimit" in self.fields:
            fields.add("RateLimit-Policy", self.policies[self.limiters.index(limiter)])
            fields.add("RateLimit", limit_item(self.id, remaining, None if self.window is None else reset))
        if "x-ratelimit" in self.fields:
            fields.put("X-RateLimit-Limit", str(limiter.quota))
            fields.put("X-RateLimit-Remaining", str(remaining))
            if self.window is not None:
                fields.put("X-RateLimit-Reset", str(whole_seconds(reset)))

    def way_out(self, x: Exchange) -> base.Effect:
        """Tell the caller what is left, as it was when the request came."""
        rate = next(rate for rate in reversed((x.shadow_of or x).rates) if rate["stage"] == self.id)
        limiter = next(limiter for limiter in self.limiters if limiter.quota == rate["quota"])
        assert x.answer is not None
        self._mark(x.answer.fields, limiter, rate["remaining"], round(rate["reset"] * MICROSECONDS))
        return None

    def done(self, x: Exchange, how: str) -> None:
        """Free the place, or count the failure."""
        entry = self.under_way.pop(x.number, None)
        if entry is None:
            return
        limiter, key, cost = entry
        if isinstance(limiter, AtOnce):
            limiter.leave(key, cost)
        elif x.answer is None or x.answer.status >= 400:
            limiter.charge(key, x.now, cost)

    def adopt(self, old: Any) -> None:
        """Counts go on where algorithm, window and partition are as before."""
        if (self.algorithm, self.window, self.partition) == (old.algorithm, old.window, old.partition):
            for mine, its in zip(self.limiters, old.limiters, strict=False):
                mine.states = its.states
            self.under_way = old.under_way


def _reader(name: str) -> Callable[[Exchange], Any]:
    if name == "address":
        return lambda x: x.address
    if name == "identity":
        return lambda x: x.identity.name if x.identity is not None else ""
    if name == "route":
        return lambda x: x.route.id if x.route is not None else ""
    lower = name[7:].lower()
    return lambda x: x.request.fields.get(lower) or ""


def _key_reader(names: list[str]) -> Callable[[Exchange], Any]:
    if len(names) == 1:
        return _reader(names[0])
    readers = [_reader(name) for name in names]
    return lambda x: tuple(read(x) for read in readers)


def _label(key: Any) -> str:
    return ", ".join(part or "nobody" for part in (key if isinstance(key, tuple) else (key,)))
