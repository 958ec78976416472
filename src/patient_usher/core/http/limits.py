"""Rate-limit algorithms, exact to the microsecond, and the fields that tell of them.

Time is integer microseconds since the epoch; levels are integers scaled by the window, so nothing
is rounded and nothing drifts. Each algorithm keeps a small state for every live partition; what is
as good as new is swept out, so memory is bounded by the partitions that are live.

Fields: draft-ietf-httpapi-ratelimit-headers (RateLimit, RateLimit-Policy as structured fields,
RFC 9651); Retry-After: RFC 9110 10.2.3.
"""

from __future__ import annotations

from bisect import bisect_left
from typing import Any

from patient_usher.core.http.dates import MICROSECONDS

NEVER = -1
"""What ``take`` returns for a cost that can never pass."""
_SWEEP_AT_LEAST = 1024
_COST_BITS = 32
_COST_MASK = (1 << _COST_BITS) - 1


class Limiter:
    """One quota for every partition.

    ``take(key, now, cost)`` returns 0 and counts, or the microseconds to wait and counts nothing,
    or ``NEVER``. ``peek`` is ``take`` without counting, ``charge`` counts without asking.
    ``view`` is what is left and the microseconds until all of it is back.
    """

    def __init__(self, quota: int, window: int, burst: int | None = None) -> None:
        self.quota, self.window, self.burst = quota, window, burst or quota
        self.states: dict[Any, Any] = {}
        self.sweep_in = _SWEEP_AT_LEAST

    def take(self, key: object, now: int, cost: int = 1) -> int:
        """Ask and count."""
        raise NotImplementedError

    def peek(self, key: object, now: int, cost: int = 1) -> int:
        """Ask only."""
        raise NotImplementedError

    def charge(self, key: object, now: int, cost: int) -> None:
        """Count only."""
        raise NotImplementedError

    def view(self, key: object, now: int) -> tuple[int, int]:
        """What is left, and the time until all is back."""
        raise NotImplementedError

    def is_stale(self, state: object, now: int) -> bool:
        """Whether a state is as good as none."""
        raise NotImplementedError

    def tidy(self, now: int) -> None:
        """After a ``charge``: sweep now and then."""
        self.sweep_in -= 1
        if self.sweep_in <= 0:
            self.sweep(now)

    def sweep(self, now: int) -> None:
        """Forget partitions that are as good as new: often enough to bound memory, seldom enough to be free."""
        is_stale = self.is_stale
        stale = [key for key, state in self.states.items() if is_stale(state, now)]
        for key in stale:
            del self.states[key]
        self.sweep_in = max(len(self.states), _SWEEP_AT_LEAST)


class FixedWindow(Limiter):
    """Windows align to the epoch and are half-open. State: window number and what is used."""

    def take(self, key: object, now: int, cost: int = 1) -> int:
        """Count within the window that ``now`` lies in."""
        window = self.window
        number = now // window
        state = self.states.get(key)
        if state is None or state[0] != number:
            if cost > self.quota:
                return NEVER
            self.states[key] = (number, cost)
            self.sweep_in -= 1
            if not self.sweep_in:
                self.sweep(now)
            return 0
        used = state[1] + cost
        if used <= self.quota:
            self.states[key] = (number, used)
            return 0
        return NEVER if cost > self.quota else (number + 1) * window - now

    def peek(self, key: object, now: int, cost: int = 1) -> int:
        """As ``take``, counting nothing."""
        if cost > self.quota:
            return NEVER
        number = now // self.window
        return 0 if self._used(key, number) + cost <= self.quota else (number + 1) * self.window - now

    def charge(self, key: object, now: int, cost: int) -> None:
        """Count, over the quota too."""
        number = now // self.window
        self.states[key] = (number, self._used(key, number) + cost)

    def _used(self, key: object, number: int) -> int:
        state = self.states.get(key)
        return state[1] if state is not None and state[0] == number else 0

    def view(self, key: object, now: int) -> tuple[int, int]:
        """All is back when the window ends."""
        number = now // self.window
        return max(self.quota - self._used(key, number), 0), (number + 1) * self.window - now

    def is_stale(self, state: Any, now: int) -> bool:
        """Its window is over."""
        return bool(state[0] != now // self.window)


class SlidingLog(Limiter):
    """Every accepted arrival is kept for one window.

    State: a list with the sum of all costs, then for each arrival its time and cost in one integer,
    oldest first; a list of integers is small, and its old end is found by bisection.
    """

    def take(self, key: object, now: int, cost: int = 1) -> int:
        """Let go what is a window old, then see whether there is room."""
        state = self.states.get(key)
        if state is None:
            if cost > self.quota:
                return NEVER
            self.states[key] = [cost, now << _COST_BITS | cost]
            self.sweep_in -= 1
            if not self.sweep_in:
                self.sweep(now)
            return 0
        live = (now - self.window + 1) << _COST_BITS
        if len(state) > 1 and state[1] < live:
            self._let_go(state, live)
        if state[0] + cost <= self.quota:
            state[0] += cost
            state.append(now << _COST_BITS | cost)
            return 0
        return NEVER if cost > self.quota else self._wait(state, now, cost)

    def _let_go(self, state: list[int], live: int) -> None:
        cut = bisect_left(state, live, 1)
        for entry in state[1:cut]:
            state[0] -= entry & _COST_MASK
        del state[1:cut]

    def _wait(self, state: list[int], now: int, cost: int) -> int:
        surplus = state[0] + cost - self.quota
        for entry in state[1:]:
            surplus -= entry & _COST_MASK
            if surplus <= 0:
                return (entry >> _COST_BITS) + self.window - now
        return NEVER

    def _fresh(self, key: object, now: int) -> list[int]:
        """The state without what is a window old; one of its own where there is none yet."""
        state: list[int] = self.states.get(key) or [0]
        self._let_go(state, (now - self.window + 1) << _COST_BITS)
        return state

    def peek(self, key: object, now: int, cost: int = 1) -> int:
        """As ``take``, counting nothing."""
        if cost > self.quota:
            return NEVER
        state = self._fresh(key, now)
        return 0 if state[0] + cost <= self.quota else self._wait(state, now, cost)

    def charge(self, key: object, now: int, cost: int) -> None:
        """Count, over the quota too."""
        state = self.states[key] = self._fresh(key, now)
        state[0] += cost
        state.append(now << _COST_BITS | cost)

    def view(self, key: object, now: int) -> tuple[int, int]:
        """All is back when the last arrival is a window old."""
        state = self._fresh(key, now)
        reset = (state[-1] >> _COST_BITS) + self.window - now if len(state) > 1 else 0
        return max(self.quota - state[0], 0), reset

    def is_stale(self, state: Any, now: int) -> bool:
        """Nothing in it is younger than a window."""
        return len(state) == 1 or bool(state[-1] >> _COST_BITS <= now - self.window)


class SlidingCounter(Limiter):
    """Two fixed windows, the earlier weighted by how much of it is still in sight.

    State: window number, what is used in it, and in the one before.
    """

    def take(self, key: object, now: int, cost: int = 1) -> int:
        """Accept where the weighted sum stays within the quota; scaled by the window to stay exact."""
        window = self.window
        number, elapsed = divmod(now, window)
        state = self.states.get(key)
        if state is None:
            used = before = 0
        elif state[0] == number:
            _, used, before = state
        else:
            used, before = 0, state[1] if state[0] == number - 1 else 0
        if before * (window - elapsed) + (used + cost) * window <= self.quota * window:
            self.states[key] = (number, used + cost, before)
            if state is None:
                self.sweep_in -= 1
                if not self.sweep_in:
                    self.sweep(now)
            return 0
        return self._wait(used, before, elapsed, cost)

    def _wait(self, used: int, before: int, elapsed: int, cost: int) -> int:
        if cost > self.quota:
            return NEVER
        window = self.window
        room = self.quota - used - cost
        if room >= 0:  # enough of the earlier window goes out of sight in this one
            return window - room * window // before - elapsed
        room = self.quota - cost
        return window - elapsed + window - room * window // used  # more is used than room is left

    def _counts(self, key: object, number: int) -> tuple[int, int]:
        state = self.states.get(key)
        if state is None or state[0] < number - 1:
            return 0, 0
        return (state[1], state[2]) if state[0] == number else (0, state[1])

    def peek(self, key: object, now: int, cost: int = 1) -> int:
        """As ``take``, counting nothing."""
        number, elapsed = divmod(now, self.window)
        used, before = self._counts(key, number)
        fits = before * (self.window - elapsed) + (used + cost) * self.window <= self.quota * self.window
        return 0 if fits else self._wait(used, before, elapsed, cost)

    def charge(self, key: object, now: int, cost: int) -> None:
        """Count, over the quota too."""
        number = now // self.window
        used, before = self._counts(key, number)
        self.states[key] = (number, used + cost, before)

    def view(self, key: object, now: int) -> tuple[int, int]:
        """All is back when neither window is in sight."""
        number, elapsed = divmod(now, self.window)
        used, before = self._counts(key, number)
        weighted = -(-before * (self.window - elapsed) // self.window) + used
        reset = (2 if used else 1) * self.window - elapsed if used or before else 0
        return max(self.quota - weighted, 0), reset

    def is_stale(self, state: Any, now: int) -> bool:
        """Both of its windows are out of sight."""
        return bool(state[0] < now // self.window - 1)


class TokenBucket(Limiter):
    """``burst`` tokens at the start, ``quota`` more per window. State: level times window, and its time."""

    def take(self, key: object, now: int, cost: int = 1) -> int:
        """Fill up, then take ``cost`` tokens if they are there."""
        window = self.window
        full = self.burst * window
        need = cost * window
        state = self.states.get(key)
        if state is None:
            if need > full:
                return NEVER
            self.states[key] = (full - need, now)
            self.sweep_in -= 1
            if not self.sweep_in:
                self.sweep(now)
            return 0
        level = state[0] + self.quota * (now - state[1])
        if level > full:
            level = full
        if level >= need:
            self.states[key] = (level - need, now)
            return 0
        return NEVER if need > full else -((level - need) // self.quota)

    def _level(self, key: object, now: int) -> int:
        state = self.states.get(key)
        full = self.burst * self.window
        return full if state is None else min(full, state[0] + self.quota * (now - state[1]))

    def peek(self, key: object, now: int, cost: int = 1) -> int:
        """As ``take``, counting nothing."""
        if cost > self.burst:
            return NEVER
        missing = cost * self.window - self._level(key, now)
        return -(-missing // self.quota) if missing > 0 else 0

    def charge(self, key: object, now: int, cost: int) -> None:
        """Take, down below nothing too."""
        self.states[key] = (self._level(key, now) - cost * self.window, now)

    def view(self, key: object, now: int) -> tuple[int, int]:
        """All is back when the bucket is full."""
        level = self._level(key, now)
        return max(level // self.window, 0), -((level - self.burst * self.window) // self.quota)

    def is_stale(self, state: Any, now: int) -> bool:
        """The bucket is full again."""
        return bool(state[0] + self.quota * (now - state[1]) >= self.burst * self.window)


class LeakyBucket(TokenBucket):
    """The leaky bucket as a meter: it holds ``burst`` and leaks ``quota`` per window.

    What it still holds room for is what a token bucket holds, so the arithmetic is the same.
    """


class Assumed(Limiter):
    """A limit of which it is assumed that one request more ``fits``, or that none does, for every key.

    ``window`` None: of what is under way at once.
    """

    def __init__(self, quota: int, window: int | None, burst: int | None = None, *, fits: bool) -> None:
        super().__init__(quota, window or 0, burst)
        self.fits, self.wait = fits, window or NEVER

    def take(self, key: object, now: int, cost: int = 1) -> int:
        """As assumed."""
        return NEVER if cost > self.burst else 0 if self.fits else self.wait

    peek = take

    def charge(self, key: object, now: int, cost: int) -> None:
        """Nothing is counted."""

    def view(self, key: object, now: int) -> tuple[int, int]:
        """Nothing is left."""
        return 0, self.window

    def tidy(self, now: int) -> None:
        """There is nothing to let go."""


class AtOnce(Limiter):
    """How many may be under way together. State: how many are; ``leave`` ends one."""

    def take(self, key: object, now: int, cost: int = 1) -> int:
        """Take a place, if there is one; when one comes free, nobody can say."""
        used = self.states.get(key, 0) + cost
        if used > self.quota:
            return NEVER
        self.states[key] = used
        return 0

    def peek(self, key: object, now: int, cost: int = 1) -> int:
        """As ``take``, taking nothing."""
        return 0 if self.states.get(key, 0) + cost <= self.quota else NEVER

    def charge(self, key: object, now: int, cost: int) -> None:
        """Take a place without asking."""
        self.states[key] = self.states.get(key, 0) + cost

    def leave(self, key: object, cost: int = 1) -> None:
        """Free a place; a partition in which nobody is goes."""
        left = self.states[key] - cost
        if left:
            self.states[key] = left
        else:
            del self.states[key]

    def view(self, key: object, now: int) -> tuple[int, int]:
        """The free places."""
        return max(self.quota - self.states.get(key, 0), 0), 0

    def is_stale(self, state: object, now: int) -> bool:
        """Never: places are freed one by one."""
        return False


ALGORITHMS: dict[str, type[Limiter]] = {
    "fixed-window": FixedWindow,
    "sliding-log": SlidingLog,
    "sliding-counter": SlidingCounter,
    "token-bucket": TokenBucket,
    "leaky-bucket": LeakyBucket,
    "at-once": AtOnce,
}


def whole_seconds(micros: int) -> int:
    """Seconds, rounded up: whoever waits that long has waited long enough."""
    return -(-micros // MICROSECONDS)


def policy_item(name: str, quota: int, window: int | None) -> str:
    """One item of RateLimit-Policy: quota, and the window in seconds where it is whole ones."""
    whole = f";w={window // MICROSECONDS}" if window is not None and window % MICROSECONDS == 0 else ""
    return f'"{name}";q={quota}{whole}'


def limit_item(name: str, remaining: int, reset: int | None) -> str:
    """One item of RateLimit: what remains, and the seconds until it is back."""
    return f'"{name}";r={remaining}' + (f";t={whole_seconds(reset)}" if reset is not None else "")
